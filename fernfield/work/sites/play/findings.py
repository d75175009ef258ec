"""What the checks ask of a round, and the totals of what is gathered."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Set
from typing import Any
from weakref import WeakKeyDictionary

from typing_extensions import TypedDict

from fernfield.core.checks.play import CueFound, DoorFound, Owned, Round, Stated, TeamFound
from fernfield.core.checks.starts import WADE_M
from fernfield.core.sites.teams import alike
from fernfield.work.kernel.declared import spots_of
from fernfield.work.kernel.rows import Collection
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.images import without_image
from fernfield.work.sites.play.aims import CAMPS, OBJECTIVES, RESOURCES, Camp, Objective, Resource
from fernfield.work.sites.play.cues import CUES, After, Changes, Count, Counted, Cue, Cued, circles, sets_off
from fernfield.work.sites.play.doors import DOORS, Launch, place_led_to, thrown_by
from fernfield.work.sites.play.rules import (
    RULES,
    Condition,
    Done,
    Every,
    Gathered,
    Last,
    Rules,
    condition_words,
)
from fernfield.work.sites.play.teams import TEAMS, teams_by_number
from fernfield.work.sites.roads import ROADS
from fernfield.work.sites.rows import THINGS, Start
from fernfield.work.sites.standing import water_at

_KNOWN: WeakKeyDictionary[OpenWorld, tuple[int, Round]] = WeakKeyDictionary()
"""Of each world the round of its newest revision: several checks ask for the same."""


def play_of(world: OpenWorld) -> Round:
    """A round as the map and the rules have it."""
    with world.lock:
        known = _KNOWN.get(world)
        if known is None or known[0] != world.revision:
            known = _KNOWN[world] = world.revision, _read(world)
        return known[1]


def _read(world: OpenWorld) -> Round:
    if not any(world.rows[one.name] for one in (TEAMS, OBJECTIVES, CUES, RULES)):
        return Round()
    teams = teams_by_number(world)
    rules = world.only(RULES)
    starts = [row for _, row in world.each(THINGS) if isinstance(row, Start) and not row.holding]
    objectives = dict(world.each(OBJECTIVES))
    there = {of: math.inf if endless else amount for of, (amount, endless) in _amounts(world).items()}
    cues = {key: cue for key, cue in world.each(CUES) if not cue.off}
    ends = {then.team for cue in cues.values() for then in cue.then if then.sort == "end"}
    found = [
        TeamFound(
            number, row.name, sum(one.team == number for one in starts),
            not rules.wins or number in ends
            or any(all(_meets(one, number, objectives, there, len(teams)) for one in way) for way in rules.wins),
        )
        for number, (_, row) in sorted(teams.items())
    ]  # fmt: skip
    rows = [row for _, (_, row) in sorted(teams.items())]
    pairs = [(rows[i].name, rows[j].name, who) for i, j, who in alike([row.colour for row in rows])]
    links = sets_off({key: cue for key, cue in cues.items() if cue.repeats == "each"})
    turns = [[cues[key].name for key in part if key in cues] for part in circles(links)]
    counted = {then.counter for cue in cues.values() for then in cue.then if isinstance(then, Count) and then.by > 0}
    return Round(
        found, pairs, list(_owned(world)) if teams else [],
        Stated(rules.players_most, len(starts), bool(rules.wins or ends - {None}),
               tuple(_idle(rules, objectives, there, len(teams)))),
        [CueFound(cue.name, _never(cue, cues, counted, world, rules)) for cue in cues.values()],
        turns,
        dict(_drowned(world, objectives)),
    )  # fmt: skip


def _meets(
    one: Condition, team: int | None, objectives: Mapping[str, Objective], there: Mapping[str, float], teams: int
) -> bool:
    """Whether a team (any, where that is None) can meet a condition."""
    mine = [row for row in objectives.values() if team is None or row.for_team in (None, team)]
    if isinstance(one, Done):
        row = objectives.get(one.objective)
        return row is not None and row in mine
    if isinstance(one, Every):
        every = [row for row in objectives.values() if row.sort == one.of]
        return bool(every) and any(row.sort == one.of for row in mine)
    if isinstance(one, Gathered):
        return there.get(one.of, 0.0) >= one.amount
    return not isinstance(one, Last) or teams > 1


def _idle(
    rules: Rules, objectives: Mapping[str, Objective], there: Mapping[str, float], teams: int
) -> Iterator[str]:  # fmt: skip
    names = {key: row.name for key, row in objectives.items()}
    for what, ways in (("wins", rules.wins), ("loses", rules.loses)):
        for one in dict.fromkeys(one for way in ways for one in way):
            if _meets(one, None, objectives, there, teams):
                continue
            has = f"; there is {there.get(one.of, 0):g}" if isinstance(one, Gathered) else ""
            yield f"What {what} asks that {condition_words(one, names)}, which cannot be{has}."


def _never(cue: Cue, cues: Mapping[str, Cue], counted: Set[str], world: OpenWorld, rules: Rules) -> str:
    """Why a cue can never go off; "" where it can. counted : what some cue counts up"""
    why = [_why_not(one, cue, cues, counted, world, rules) for one in cue.when]
    barred = [one for one in why if one]
    return barred[0] if barred and (cue.joined == "all" or len(barred) == len(why)) else ""


def _why_not(
    one: object, own: Cue, cues: Mapping[str, Cue], counted: Set[str], world: OpenWorld, rules: Rules
) -> str:  # fmt: skip
    if isinstance(one, Cued) and cues.get(one.cue) is own:
        return "it waits for itself"
    if isinstance(one, Counted) and one.counter not in counted:
        return f"nothing counts {one.counter} up"
    if isinstance(one, Cued) and one.cue not in cues:
        return "it waits for a cue that is left out"
    if isinstance(one, After) and rules.time_s is not None and one.seconds > rules.time_s:
        return f"a round lasts {rules.time_s:g} s"
    if isinstance(one, Changes):
        row = world.get(OBJECTIVES, one.objective)
        if row is not None and row.sort in ("guard", "reach"):
            return f"{row.name} is nothing that changes hands"
    return ""


def _owned(world: OpenWorld) -> Iterator[Owned]:
    every: tuple[Collection[Any], ...] = (THINGS, OBJECTIVES, RESOURCES, CAMPS)
    for row in (row for one in every for _, row in world.each(one)):
        if row.team is not None:
            yield Owned(row.name, row.team, row.x, row.y, world.of_tract(row.tract))


def _drowned(
    world: OpenWorld, objectives: Mapping[str, Objective]
) -> Iterator[tuple[str, tuple[float, float, str, float]]]:  # fmt: skip
    """Objectives on ground that is under deeper water than one wades in."""
    for row in objectives.values():
        tract = world.of_tract(row.tract)
        land = world.land_from(tract)
        depth = water_at(world, land, row.x, row.y) - land.elevation(row.x, row.y)
        if depth > WADE_M:
            yield row.name, (row.x, row.y, tract, depth)


def doors_found(world: OpenWorld) -> list[DoorFound]:
    """Doors that lead nowhere, or into deep water or something solid; and throws that meet something."""
    found = []
    with world.lock:
        for _, row in world.each(DOORS):
            own = row.x, row.y, world.of_tract(row.tract)
            at = place_led_to(world, row)
            if at is None:
                found.append(DoorFound(f"{row.name} leads nowhere.", "Say where it leads.", *own))
                continue
            if isinstance(row, Launch) and (met := thrown_by(world, row)[1]):
                found.append(DoorFound(f"{row.name} throws nobody there: {met}.",
                                       "Let it begin steeper, or move its ends.", *own))  # fmt: skip
            tract_id, x, y = at
            tract = world.any_tract(tract_id)
            if not tract.grid.holds(x, y):
                found.append(DoorFound(f"{row.name} leads beyond the land.", "Say where it leads.", *own))
                continue
            land = world.land_from(tract_id)
            depth = water_at(world, land, x, y) - land.elevation(x, y)
            if depth > WADE_M:
                found.append(DoorFound(f"{row.name} leads under {depth:.1f} m of water.",
                                       "Let it lead elsewhere, or lower the water.", x, y, tract_id))  # fmt: skip
    return found


IMAGED: tuple[Collection[Any], ...] = (THINGS, OBJECTIVES, RESOURCES, CAMPS, DOORS, ROADS)


def images_found(world: OpenWorld) -> list[Owned]:
    """What has no image under the symmetry though one would lie on the land."""
    with world.lock:
        return [
            Owned(row.title, 0, *spots_of(row)[0], tract)
            for _, row, tract in without_image(world, IMAGED)
            if not getattr(row, "scatter", None)
        ]  # fmt: skip


# What is gathered


class Total(TypedDict):
    """Of one sort: how much there is, whether some of it comes back, how many camps guard some, and how much of it is
    each team's, by its number: what it owns, else what lies nearest to a start of its."""

    of: str
    amount: float
    comes_back: bool
    guarded: int
    shares: dict[str, float]


def _amounts(world: OpenWorld) -> dict[str, tuple[float, bool]]:
    found: dict[str, tuple[float, bool]] = {}
    for _, row in world.each(RESOURCES):
        amount, back = found.get(row.of, (0.0, False))
        found[row.of] = amount + row.amount, back or row.back_s is not None
    return found


def totals(world: OpenWorld) -> list[Total]:
    """The resources of a world by their sorts. Under the lock."""
    starts = [
        (row.team, *_in_world(world, row))
        for _, row in world.each(THINGS) if isinstance(row, Start) and row.team is not None and not row.holding
    ]  # fmt: skip
    camps = [(*_in_world(world, row), row.reach_m) for _, row in world.each(CAMPS)]
    out = {of: Total(of=of, amount=amount, comes_back=back, guarded=0, shares={})
           for of, (amount, back) in _amounts(world).items()}  # fmt: skip
    for _, row in world.each(RESOURCES):
        x, y = _in_world(world, row)
        total = out[row.of]
        total["guarded"] += any(math.hypot(cx - x, cy - y) <= reach for cx, cy, reach in camps)
        team = row.team or _nearest(starts, x, y)
        if team is not None:
            total["shares"][str(team)] = total["shares"].get(str(team), 0.0) + row.amount
    return [out[of] for of in sorted(out)]


def _in_world(world: OpenWorld, row: Start | Resource | Camp) -> tuple[float, float]:
    place = world.place_of(world.of_tract(row.tract))
    return row.x + place.x, row.y + place.y


def _nearest(starts: list[tuple[int, float, float]], x: float, y: float) -> int | None:
    return min(starts, key=lambda one: math.hypot(one[1] - x, one[2] - y))[0] if starts else None
