"""Cues: when something happens at a place, then something is done. They are kept as data; no code is run."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, StringConstraints, model_validator
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.rows import Collection, Key, Name
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted
from fernfield.work.sites.images import with_images
from fernfield.work.sites.play.aims import Reach, Seconds, SortText
from fernfield.work.sites.play.rules import Said
from fernfield.work.sites.play.teams import Number, of_team

Counter = Annotated[str, StringConstraints(strip_whitespace=True, to_lower=True, pattern=r"^[a-z0-9 _-]{1,40}$")]
"""What a cue counts, by name."""
Text = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=400)]
Whole = Annotated[int, Field(ge=1, le=100_000)]


class Where(Said):
    """A plot, or the surroundings of a thing. [m]"""

    plot: Annotated[Key | None, Names("plots")] = None
    thing: Annotated[Key | None, Names("things")] = None
    reach_m: Reach = 5.0

    @model_validator(mode="after")
    def _one(self) -> Where:
        if (self.plot is None) == (self.thing is None):
            raise InvalidInput("a place is a plot or a thing, and one of the two", "plot")
        return self


class Who(Said):
    """Anyone, those of a team, or who walks in some way."""

    team: Annotated[Number | None, of_team("Of team", "anybody")] = None
    walker: Annotated[Key | None, UNASKED] = None


class Comes(Said):
    """Somebody enters a place, leaves it, or stays in it for so long. [s]"""

    sort: Literal["enters", "leaves", "stays"]
    where: Where
    who: Who = Who()
    seconds: Annotated[Seconds, Say("For so long", "s")] = 0.0


class Counted(Said):
    """What is counted reaches a number."""

    sort: Literal["counted"] = "counted"
    counter: Annotated[Counter, Say("What is counted")]
    number: Annotated[Whole, Say("Reaches")]


class After(Said):
    """So long after the round began. [s]"""

    sort: Literal["after"] = "after"
    seconds: Annotated[Seconds, Say("After", "s")]


class Changes(Said):
    """An objective comes to another team."""

    sort: Literal["changes"] = "changes"
    objective: Annotated[Key, Names("objectives")]


class Cued(Said):
    """Another cue goes off."""

    sort: Literal["cued"] = "cued"
    cue: Annotated[Key, Names("cues")]


When = Annotated[Comes | Counted | After | Changes | Cued, Field(discriminator="sort")]


class Tell(Said):
    """A message."""

    sort: Literal["tell"] = "tell"
    text: Annotated[Text, Say("Words", long=True)]
    who: Who = Who()


class Give(Said):
    """Something of a resource is given to who set the cue off, or taken from them."""

    sort: Literal["give", "take"]
    of: Annotated[SortText, Say("Of", hint="such as peat")]
    amount: Annotated[float, Field(gt=0, le=1e9), Say("Amount")]


class Turn(Said):
    """A thing opens or closes, its lamp goes on or off, or it is there from now on or not any more."""

    sort: Literal["open", "close", "light", "dark", "appear", "vanish"]
    thing: Annotated[Key, Names("things")]


class Spawn(Said):
    """So many of the guards of a camp come."""

    sort: Literal["spawn"] = "spawn"
    camp: Annotated[Key, Names("camps")]
    count: Annotated[int, Field(ge=1, le=1_000), Say("How many")] = 1


class MoveTo(Said):
    """Who set the cue off is at the place of a thing."""

    sort: Literal["move"] = "move"
    thing: Annotated[Key, Names("things")]


class ToMood(Said):
    """The light becomes that of a mood."""

    sort: Literal["mood"] = "mood"
    mood: Annotated[Key, Names("moods")]


class Sound(Said):
    """A sound by name."""

    sort: Literal["sound"] = "sound"
    name: Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=80), Say("Sound")]


class Count(Said):
    """Something is counted on."""

    sort: Literal["count"] = "count"
    counter: Annotated[Counter, Say("What is counted")]
    by: Annotated[int, Field(ge=-1_000, le=1_000), Say("By")] = 1


class End(Said):
    """The round ends; a team has won, or nobody."""

    sort: Literal["end"] = "end"
    team: Annotated[Number | None, of_team("Who has won", "nobody")] = None


Then = Annotated[Tell | Give | Turn | Spawn | MoveTo | ToMood | Sound | Count | End, Field(discriminator="sort")]
JOINED = {"any": "any of them", "all": "all of them"}
REPEATS = {"once": "once", "each": "each time", "every": "at most every so long"}


class Cue(Parted):
    """Collection "cues": when one of several things happens (or all of them have), others follow, in their order.

    repeats : whether it goes off once, each time, or at most every `every_s` [s]; off : it is left out for now
    """

    name: Annotated[Name, Say("Name")]
    when: Annotated[tuple[When, ...], Field(min_length=1, max_length=8), UNASKED]
    joined: Annotated[Literal["any", "all"], Say("It takes", called={"any": "any of them", "all": "all of them"})] = (
        "any"
    )
    then: Annotated[tuple[Then, ...], Field(min_length=1, max_length=16), UNASKED]
    repeats: Annotated[Literal["once", "each", "every"], Say("It goes off", called=REPEATS)] = "once"
    every_s: Annotated[float, Field(ge=0.1, le=36_000), Say("Every", "s", when="repeats=every")] = 10.0
    off: Annotated[bool, Say("Left out for now")] = False


class CueTold(Cue):
    """With its key, and as a sentence."""

    key: str
    sentence: str


def _shown(world: OpenWorld, key: str, row: Cue) -> Annotated[dict[str, Any], CueTold]:
    return {"key": key, **row.model_dump(mode="json"), "sentence": sentence(row, called_in(world))}


CUES: Collection[Cue] = Collection(
    "cues", Cue, "cue", most=2_000, shown=_shown, plan=lambda change, look: with_images(CUES, change, look)
)


# As a sentence

Called = Callable[[str, str], str]
"""What a row of a collection is called, by the collection and its key."""


def called_in(world: OpenWorld) -> Called:
    """What rows of a world are called now; by their keys where they have gone."""

    def called(collection: str, key: str) -> str:
        row = world.rows[collection].get(key)
        return row.title or key if row is not None else key

    return called


def _who(who: Who) -> str:
    walker = f" on foot as {who.walker}" if who.walker else ""
    return (f"somebody of team {who.team}" if who.team else "somebody") + walker


def _at(where: Where, called: Called) -> str:
    if where.plot is not None:
        return called("plots", where.plot)
    return f"within {where.reach_m:g} m of {called('things', where.thing or '')}"


def when_words(one: When, called: Called) -> str:
    if isinstance(one, Comes):
        at = _at(one.where, called)
        if one.sort == "stays":
            return f"{_who(one.who)} stays {'in ' if one.where.plot else ''}{at} for {one.seconds:g} s"
        inside = "" if one.where.plot else "comes " if one.sort == "enters" else "is no longer "
        return f"{_who(one.who)} {inside or one.sort + ' '}{at}"
    if isinstance(one, Counted):
        return f"{one.counter} reaches {one.number}"
    if isinstance(one, After):
        return f"{one.seconds:g} s have passed"
    if isinstance(one, Changes):
        return f"{called('objectives', one.objective)} changes hands"
    return f"{called('cues', one.cue)} goes off"


TURNS = {"open": "{} opens", "close": "{} closes", "light": "the lamp of {} goes on", "dark": "the lamp of {} goes out",
         "appear": "{} appears", "vanish": "{} vanishes"}  # fmt: skip


def then_words(one: Then, called: Called) -> str:
    if isinstance(one, Tell):
        to = f" to team {one.who.team}" if one.who.team else ""
        return f"“{one.text}” is said{to}"
    if isinstance(one, Give):
        return f"{one.amount:g} of {one.of} is {'given' if one.sort == 'give' else 'taken'}"
    if isinstance(one, Turn):
        return TURNS[one.sort].format(called("things", one.thing))
    if isinstance(one, Spawn):
        return f"{one.count} of {called('camps', one.camp)} come"
    if isinstance(one, MoveTo):
        return f"they are at {called('things', one.thing)}"
    if isinstance(one, ToMood):
        return f"the light is that of {called('moods', one.mood)}"
    if isinstance(one, Sound):
        return f"the sound {one.name} is heard"
    if isinstance(one, Count):
        return f"{one.counter} counts {'up' if one.by >= 0 else 'down'} by {abs(one.by)}"
    return f"the round ends and {f'team {one.team} has won' if one.team else 'nobody has won'}"


def sentence(cue: Cue, called: Called) -> str:
    """A cue as a person reads it."""
    when = f" {'or' if cue.joined == 'any' else 'and'} ".join(when_words(one, called) for one in cue.when)
    then = ", ".join(then_words(one, called) for one in cue.then)
    often = {"once": " Once.", "each": "", "every": f" At most every {cue.every_s:g} s."}[cue.repeats]
    return f"When {when}: {then}.{often}"


# What sets off what


COUNTED = "#"
"""Before the name of what is counted, among cues by their keys."""


def sets_off(cues: Mapping[str, Cue]) -> dict[str, set[str]]:
    """What each cue sets off: the cues that wait for it, and what it counts; and what that sets off in its turn."""
    found: dict[str, set[str]] = {key: set() for key in cues}
    for key, cue in cues.items():
        found[key] |= {COUNTED + then.counter for then in cue.then if isinstance(then, Count)}
        for when in cue.when:
            if isinstance(when, Counted):
                found.setdefault(COUNTED + when.counter, set()).add(key)
            elif isinstance(when, Cued) and when.cue in found:
                found[when.cue].add(key)
    return found


def circles(links: Mapping[str, Iterable[str]]) -> list[list[str]]:
    """Cues that set each other off in a circle, and those that set themselves off."""
    keys = {key: at for at, key in enumerate(links)}
    pairs = [(keys[key], keys[to]) for key, every in links.items() for to in every if to in keys]
    if not pairs:
        return []
    froms, tos = np.array(pairs).T
    graph = coo_array((np.ones(len(pairs)), (froms, tos)), shape=(len(keys), len(keys)))
    _, part = connected_components(graph, connection="strong")
    often, itself = np.bincount(part), set(froms[froms == tos].tolist())
    parts: dict[int, list[str]] = {}
    for key, at in keys.items():
        if often[part[at]] > 1 or at in itself:
            parts.setdefault(int(part[at]), []).append(key)
    return sorted(sorted(one) for one in parts.values())
