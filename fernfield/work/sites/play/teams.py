"""Teams, and how each stands to each."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.sites.teams import COLOURS, MARKS
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Change, Collection, Colour, Key, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted

MOST_TEAMS = len(MARKS)
Number = Annotated[int, Field(ge=1, le=MOST_TEAMS)]
"""Of a team. What is owned says this number, whether or not the team has a name yet."""

_CALLED = {str(n): f"{n} {mark}" for n, mark in enumerate(MARKS, 1)}


def of_team(label: str, left_out: str) -> Say:
    """What a form says of a field that holds a team's number or nobody's."""
    return Say(label, called=_CALLED, left_out=left_out)


Owner = Annotated[Number | None, of_team("Team", "none")]
Mark = Literal["triangle", "square", "ring", "cross", "bar", "diamond", "chevron", "dot"]
STANDS = {
    "allied": "allied", "peace": "at peace", "neutral": "neutral", "war": "at war", "unmet": "not met",
}  # fmt: skip
Stands = Literal["allied", "peace", "neutral", "war", "unmet"]


class Team(Parted):
    """Collection "teams": one of those who play against each other. Its starts and all that it owns say its number.

    players_least, players_most : how many play in it
    """

    name: Annotated[Name, Say("Name")]
    number: Annotated[Number, UNASKED]
    colour: Annotated[Colour, Say("Colour")]
    mark: Annotated[Mark, Say("Mark")]
    players_least: Annotated[int, Field(ge=0, le=64), Say("Players, least")] = 1
    players_most: Annotated[int, Field(ge=1, le=64), Say("Players, most")] = 4

    @model_validator(mode="after")
    def _order(self) -> Team:
        if self.players_least > self.players_most:
            raise InvalidInput(f"players_most must be {self.players_least} or more, not {self.players_most}",
                               "players_most")  # fmt: skip
        return self


def _plan(change: Change[Team], look: Look) -> Plan:
    """No number, colour or mark twice."""
    new = change.new
    others = [(key, row) for key, row in look.each(TEAMS) if key != change.key]
    for name in ("number", "mark", "colour") if new is not None else ():
        for _, other in others:
            if getattr(other, name) == getattr(new, name):
                raise Conflict(f"{other.name} has the {name} {getattr(new, name)} already: choose another")
    return plainly(TEAMS, change)


def _completed(world: OpenWorld, said: dict[str, Any], number: int = 0) -> dict[str, Any]:
    """The first number that no team has, with its colour and mark, as far as they are free."""
    own = {name: value for name, value in said.items() if value is not None}
    rows = [row for _, row in world.each(TEAMS)]
    used = {row.number for row in rows}
    free = [n for n in range(1, MOST_TEAMS + 1) if n not in used]
    if "number" not in own and len(free) <= number:
        raise InvalidInput(f"a world has {MOST_TEAMS} teams at most", "number")
    at = own.setdefault("number", free[number] if "number" not in own else own.get("number"))
    n = at if isinstance(at, int) and 1 <= at <= MOST_TEAMS else 1
    for name, every in (("colour", COLOURS), ("mark", MARKS)):
        taken = {getattr(row, name) for row in rows}
        own.setdefault(name, next((one for one in (every[n - 1], *every) if one not in taken), every[n - 1]))
    own.setdefault("name", f"Team {n}")
    return own


TEAMS = Collection(
    "teams", Team, "team", most=MOST_TEAMS, plan=_plan, completes=_completed,
    order=lambda pair: (pair[1].number, pair[0]),
)  # fmt: skip


class Relation(Row):
    """Collection "relations": how two teams stand to each other; neutral where nothing is said.

    stands : how `one` stands to `other`; back : how `other` stands to `one`, the same when left out
    fixed : it stays so while a round lasts
    """

    one: Annotated[Key, Names("teams", gone="delete"), UNASKED]
    other: Annotated[Key, Names("teams", gone="delete"), UNASKED]
    stands: Annotated[Stands, Say("Stands", called=STANDS)] = "neutral"
    back: Annotated[Stands | None, Say("The other way", called=STANDS, left_out="the same")] = None
    fixed: Annotated[bool, Say("Stays so")] = True

    @property
    def title(self) -> str:
        return f"how {self.one} stands to {self.other}"


def _plan_relation(change: Change[Relation], look: Look) -> Plan:
    new = change.new
    if new is not None:
        if new.one == new.other:
            raise InvalidInput(f"a team stands to another, not to itself ({new.one})", "other")
        for key, row in look.each(RELATIONS):
            if key != change.key and {row.one, row.other} == {new.one, new.other}:
                raise Conflict(
                    f"how {new.one} and {new.other} stand to each other is said already, as {key}: change that"
                )
    return plainly(RELATIONS, change)


RELATIONS = Collection(
    "relations", Relation, "relation", most=MOST_TEAMS * (MOST_TEAMS - 1) // 2, plan=_plan_relation
)  # fmt: skip


def stands_to(world: OpenWorld, one: str, other: str) -> Stands:
    """How a team stands to another, by their keys."""
    if one == other:
        return "allied"
    for _, row in world.each(RELATIONS):
        if (row.one, row.other) == (one, other):
            return row.stands
        if (row.other, row.one) == (one, other):
            return row.back or row.stands
    return "neutral"


def teams_by_number(world: OpenWorld) -> dict[int, tuple[str, Team]]:
    return {row.number: (key, row) for key, row in world.each(TEAMS)}


def looks_of_teams(world: OpenWorld) -> Iterator[tuple[int, str, str, str]]:
    """Number, name, mark and colour of every team that there can be: as it was said, or as it comes."""
    said = teams_by_number(world)
    for n, (mark, colour) in enumerate(zip(MARKS, COLOURS, strict=True), 1):
        row = said[n][1] if n in said else None
        yield (n, row.name, row.mark, row.colour) if row else (n, f"Team {n}", mark, colour)
