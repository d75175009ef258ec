"""The rules of a world: what wins, what loses, for how many, and what players are told."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.rows import ONLY, Collection, Key, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.sites.play.aims import SORTS, SortText

MOST_WAYS = 12


class Said(BaseModel):
    """A part of a rule or a cue: one of several sorts."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Done(Said):
    """An objective is done by a team: held, brought, kept safe, or reached."""

    sort: Literal["done"] = "done"
    objective: Annotated[Key, Names("objectives")]


class Every(Said):
    """Every objective of a sort is done by one team."""

    sort: Literal["every"] = "every"
    of: Annotated[Literal["hold", "take", "guard", "reach"], Say("Every", called=SORTS)]


class Gathered(Said):
    """So much of a resource is gathered by one team."""

    sort: Literal["gathered"] = "gathered"
    of: Annotated[SortText, Say("Of", hint="such as peat")]
    amount: Annotated[float, Field(gt=0, le=1e9), Say("Amount")]


class Last(Said):
    """One team alone, with those that it is allied with, is left."""

    sort: Literal["last"] = "last"


class Over(Said):
    """The time is over."""

    sort: Literal["over"] = "over"


Condition = Annotated[Done | Every | Gathered | Last | Over, Field(discriminator="sort")]
Ways = Annotated[
    tuple[Annotated[tuple[Condition, ...], Field(min_length=1, max_length=8)], ...],
    Field(max_length=MOST_WAYS),
    UNASKED,
]
"""Any of these is enough; of each, all its conditions together."""

Language = Annotated[str, StringConstraints(pattern=r"^[a-z]{2,3}(-[A-Z][a-z]{3})?(-[A-Z]{2})?$")]
"""A language by its tag, as BCP 47 has them: en, de-CH."""
Briefing = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=2_000)]


class Rules(Row):
    """Collection "rules", key "world".

    wins, loses : what ends a round well for a team, and what ends it badly
    time_s : how long a round lasts; until somebody has won when left out [s]
    may_change : what players choose before a round
    each_harder : whether each player chooses how hard it is, or all have the same
    briefing : what players are told before a round, by language
    """

    wins: Ways = ()
    loses: Ways = ()
    time_s: Annotated[
        Annotated[float, Field(ge=10, le=360_000)] | None, Say("A round lasts", "s", left_out="until it is won")
    ] = None
    players_least: Annotated[int, Field(ge=1, le=512), Say("Players, least")] = 1
    players_most: Annotated[int, Field(ge=1, le=512), Say("Players, most")] = 8
    may_change: Annotated[tuple[Literal["team", "mood", "time"], ...], Field(max_length=3), UNASKED] = ()
    each_harder: Annotated[bool, Say("Each chooses how hard it is")] = False
    briefing: Annotated[dict[Language, Briefing], Field(max_length=40), UNASKED] = Field(default_factory=dict)

    @property
    def title(self) -> str:
        return "the rules"

    @model_validator(mode="after")
    def _order(self) -> Rules:
        if self.players_least > self.players_most:
            raise InvalidInput(
                f"players_most must be {self.players_least} or more, not {self.players_most}", "players_most"
            )
        return self


RULES = Collection("rules", Rules, "rules", only=ONLY, first=Rules(), words=lambda _: "Rules of the world")


def condition_words(one: Condition, names: dict[str, str]) -> str:
    """A condition as a person says it. names : of objectives by their keys"""
    if isinstance(one, Done):
        return f"{names.get(one.objective, one.objective)} is done"
    if isinstance(one, Every):
        return f"every {SORTS[one.of].partition(' ')[2]} is done"
    if isinstance(one, Gathered):
        return f"{one.amount:g} of {one.of} is gathered"
    return "no other team is left" if isinstance(one, Last) else "the time is over"


def ways_words(ways: Ways, names: dict[str, str]) -> str:
    """Several ways as a sentence."""
    return ", or ".join(" and ".join(condition_words(one, names) for one in way) for way in ways)
