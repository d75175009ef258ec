"""What would stand where: places that follow from a pattern or a scatter, looked at before they are taken, and why
others were left out."""

from __future__ import annotations

import itertools
import math
import secrets
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.sites import patterns
from fernfield.core.sites.arranging import bearings, rounded
from fernfield.core.sites.kit import Entry
from fernfield.core.sites.placing import FITS, Outlines, outlines_of, settled
from fernfield.core.sites.scatter import chosen
from fernfield.core.sites.shipped import KIT
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import Planned
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.relations import need_named
from fernfield.work.kernel.rows import Bearing, Change, Coordinate, Key, Moves, Row
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import plot_corners
from fernfield.work.plots.rows import LINES
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Over, Piece, Size, Thing, take_away
from fernfield.work.sites.standing import NONE, Asked, Stood, stand, stood_in, top_at

MOST_LAID = 5_000
BENEATH_M = 30.0


class Weighed(Row):
    """An entry of the kit, and how often it is chosen beside the others."""

    kit: Annotated[Key, Names("kit", always=KIT)]
    weight: Annotated[float, Field(gt=0, le=1_000)] = 1.0


class ProposedThing(TypedDict):
    """A piece as it would stand. [m, °]"""

    kit: str
    x: float
    y: float
    z: float
    turn_deg: float
    size: float
    over_m: float
    tilt_deg: float
    look: str | None
    tint: str | None
    on: str | None
    tract: str
    cell: str | None


class Proposal(TypedDict):
    """What would stand where; how many were wanted; why the others do not: how often each reason counted.

    refused : places of those that do not fit, each with its reason
    """

    things: list[ProposedThing]
    wanted: int
    found: int
    why: dict[str, int]
    refused: list[RefusedPlace]


class RefusedPlace(TypedDict):
    """A place where nothing can stand, and why. [m]"""

    x: float
    y: float
    why: str


MOST_REFUSED = 200


@dataclass
class Found:
    """Places that were found, in a land's metres, and what became of the others."""

    things: list[ProposedThing] = field(default_factory=list)
    wanted: int = 0
    why: Counter[str] = field(default_factory=Counter)
    refused: list[RefusedPlace] = field(default_factory=list)

    def told(self) -> Proposal:
        return {"things": self.things, "wanted": self.wanted, "found": len(self.things), "why": dict(self.why),
                "refused": self.refused}  # fmt: skip


class LayThings(Command):
    """Things to lay in an order. [m, °]

    of : the entries that they are chosen from by their weights
    by : at `spots`, along a line (`points`, or a kept `line`) every `spacing_m`, in a ring, an arc or a grid
    side : of a line: on it, or `aside_m` to its right, left or both
    facing : along the line (or ring), back, to its left or right; kept: as `turn_deg` says; towards a point
    over_sea_m : so high over the level of the sea, in the place of over_m; on_top : on what stands there
    apart : never inside each other or of what stands
    """

    of: Annotated[tuple[Weighed, ...], Field(min_length=1, max_length=32)]
    by: Literal["spots", "line", "ring", "arc", "grid"] = "spots"
    spots: Annotated[tuple[tuple[Coordinate, Coordinate], ...], Field(max_length=MOST_LAID)] = ()
    points: Annotated[tuple[tuple[Coordinate, Coordinate], ...], Field(max_length=500)] = ()
    line: Key | None = None
    closed: bool = False
    spacing_m: Annotated[float, Field(ge=0.1, le=10_000)] = 10.0
    begin_m: Annotated[float, Field(ge=0, le=1e6)] = 0.0
    side: Literal["on", "right", "left", "both"] = "on"
    aside_m: Annotated[float, Field(ge=0, le=1_000)] = 3.0
    x: Coordinate = 0.0
    y: Coordinate = 0.0
    radius_m: Annotated[float, Field(ge=0, le=10_000)] = 20.0
    count: Annotated[int, Field(ge=1, le=MOST_LAID)] = 8
    from_deg: Annotated[float, Field(ge=-720, le=720)] = 0.0
    to_deg: Annotated[float, Field(ge=-720, le=720)] = 180.0
    across: Annotated[int, Field(ge=1, le=200)] = 3
    deep: Annotated[int, Field(ge=1, le=200)] = 3
    step_x_m: Annotated[float, Field(ge=0.1, le=1_000)] = 10.0
    step_y_m: Annotated[float, Field(ge=0.1, le=1_000)] = 10.0
    turn_deg: Bearing = 0.0
    facing: Literal["along", "back", "left", "right", "kept", "towards"] = "kept"
    towards: tuple[Coordinate, Coordinate] | None = None
    turn_any_deg: Annotated[float, Field(ge=0, le=180)] = 0.0
    tilt_any_deg: Annotated[float, Field(ge=0, le=45)] = 0.0
    size_from: Size = 1.0
    size_to: Size = 1.0
    any_look: bool = False
    any_tint: bool = False
    over_m: Over = 0.0
    over_sea_m: Over | None = None
    on_top: bool = False
    apart: bool = True
    team: Annotated[int | None, Field(ge=1, le=8)] = None
    group: Key | None = None
    seed: Annotated[int, Field(ge=0, le=2**31 - 1)] = 0

    @model_validator(mode="after")
    def _fits(self) -> LayThings:
        if self.size_from > self.size_to:
            raise InvalidInput(
                f"size_from must be at most size_to, not {self.size_from:g} and {self.size_to:g}", "size_from"
            )
        if self.by == "spots" and not self.spots:
            raise InvalidInput("spots is needed: where they are laid", "spots")
        if self.by == "line" and self.line is None and len(self.points) < 2:
            raise InvalidInput("a line is needed: points (two at least), or line", "points")
        if self.facing == "towards" and self.towards is None:
            raise InvalidInput("towards is needed: the point that they face", "towards")
        if self.by == "grid" and self.across * self.deep > MOST_LAID:
            raise InvalidInput(f"at most {MOST_LAID:,} can be laid at once, not {self.across * self.deep:,}", "across")
        return self


def _spots(world: OpenWorld, land: Land, wanted: LayThings) -> NDArray[np.float64]:
    """Places and bearings in the land's metres. Raises InvalidInput."""
    match wanted.by:
        case "spots":
            return np.array([(x, y, wanted.turn_deg) for x, y in wanted.spots], np.float64)
        case "ring":
            return patterns.ring(wanted.x, wanted.y, wanted.radius_m, wanted.count, first_deg=wanted.from_deg)
        case "arc":
            return patterns.arc(wanted.x, wanted.y, wanted.radius_m, wanted.count, wanted.from_deg, wanted.to_deg)
        case "grid":
            steps = wanted.step_x_m, wanted.step_y_m
            return patterns.grid(wanted.x, wanted.y, (wanted.across, wanted.deep), steps, wanted.turn_deg)
    points: Sequence[Sequence[float]] = wanted.points
    if wanted.line is not None:
        points = plot_corners(world, land, world.row(LINES, wanted.line))
    long = sum(math.hypot(b[0] - a[0], b[1] - a[1]) for a, b in itertools.pairwise(points))
    if long / wanted.spacing_m > MOST_LAID:
        raise InvalidInput(
            f"at most {MOST_LAID:,} can be laid at once; every {wanted.spacing_m:g} m are more", "spacing_m"
        )
    sides = {"on": (0.0,), "right": (1.0,), "left": (-1.0,), "both": (1.0, -1.0)}[wanted.side]
    try:
        return np.concatenate(
            [
                patterns.along(
                    points, wanted.spacing_m, begin=wanted.begin_m, aside=side * wanted.aside_m, closed=wanted.closed
                )
                for side in sides
            ]
        )
    except ValueError as error:
        raise InvalidInput(str(error), "points") from None


def propose(world: OpenWorld, land: Land, wanted: LayThings) -> Found:
    """What would stand where. Hold the lock. Raises NotFound, InvalidInput."""
    kit = kit_of(world)
    for one in wanted.of:
        if one.kit not in kit:
            raise InvalidInput(f"kit must be one of {', '.join(kit)}, not {one.kit!r}", "of")
    spots = _spots(world, land, wanted)
    further = patterns.FACING.get(wanted.facing)
    if wanted.facing == "towards" and wanted.towards is not None:
        spots[:, 2] = np.degrees(np.arctan2(wanted.towards[0] - spots[:, 0], wanted.towards[1] - spots[:, 1]))
    elif further is None:
        spots[:, 2] = wanted.turn_deg
    else:
        spots[:, 2] += further
    draws = np.random.default_rng([7, wanted.seed]).random((len(spots), 6))
    entries = [kit[one.kit] for one in wanted.of]
    kinds = chosen(draws[:, 0], [one.weight for one in wanted.of])
    spots[:, :2] = rounded(spots[:, :2])
    spots[:, 2] = bearings(spots[:, 2] + wanted.turn_any_deg * (2 * draws[:, 1] - 1))
    sizes = rounded(wanted.size_from + (wanted.size_to - wanted.size_from) * draws[:, 2])
    tilts = rounded(wanted.tilt_any_deg * (2 * draws[:, 5] - 1))
    found = Found(wanted=len(spots))
    asked: list[Asked] = []
    for at, (x, y, turn) in enumerate(spots.tolist()):
        if land.part_at(x, y) is None:
            refuse(found, x, y, "the land ends")
            continue
        entry = entries[kinds[at]]
        over = wanted.over_m
        if wanted.over_sea_m is not None:
            over = wanted.over_sea_m + world.sea_of(land.id) - land.elevation(x, y)
        on = _beneath(world, land, x, y) if wanted.on_top else None
        look = entry.looks[int(draws[at, 3] * len(entry.looks))].name if wanted.any_look else None
        tint = ([None, *entry.tints])[int(draws[at, 4] * (len(entry.tints) + 1))] if wanted.any_tint else None
        asked.append(
            Asked("", at, PROPOSED, entry, x, y, over, turn, float(tilts[at]), float(sizes[at]), look, tint, on)
        )  # fmt: skip
    _fit(world, land, asked, wanted.apart, found)
    return found


PROPOSED = Thing(sort="piece", name="proposed", x=0, y=0)
"""What asks for a place before it is a thing."""


def refuse(found: Found, x: float, y: float, why: str) -> None:
    found.why[why] += 1
    if len(found.refused) < MOST_REFUSED:
        found.refused.append({"x": x, "y": y, "why": why})


def _beneath(world: OpenWorld, land: Land, x: float, y: float) -> str | None:
    """The thing whose top is highest at a place, of those that can be stood on."""
    tops = [
        (top, stood.key) for stood in stood_in(world, land, (x - 0.1, y - 0.1, x + 0.1, y + 0.1))
        if stood.entry.stood_on and (top := top_at(stood, x, y)) is not None
    ]  # fmt: skip
    return max(tops)[1] if tops else None


def _fit(world: OpenWorld, land: Land, asked: Sequence[Asked], apart: bool, found: Found) -> None:
    """Those that find a place, one after the other."""
    stood = stand(world, land, asked)
    if not stood:
        return
    own = outlines_of([(one.entry, one.pose) for one in stood])
    others, names = standing_around(world, land, own, set())
    overlaps = np.array(
        [not apart or one.entry.overlaps or asks.on is not None for one, asks in zip(stood, asked, strict=True)]
    )
    verdict, by = settled(own, others, 0.0, 0.0, overlaps, len(stood))
    for at, one in enumerate(stood):
        if verdict[at] == FITS:
            found.things.append(proposed_of(land, one, asked[at].over, asked[at].on, None))
        else:
            in_whom = int(by[at])
            name = names[in_whom] if in_whom < len(names) else stood[in_whom - len(names)].entry.label
            refuse(found, one.pose.x, one.pose.y, f"it would stand in {name}")


def proposed_of(land: Land, stood: Stood, over: float, on: str | None, cell: str | None) -> ProposedThing:
    part = land.part_at(stood.pose.x, stood.pose.y) or land.parts[0]
    pose = stood.pose
    return {
        "kit": stood.entry.name, "x": pose.x, "y": pose.y, "z": round(pose.z, 4), "turn_deg": pose.turn_deg,
        "size": pose.size, "over_m": round(over, 6), "tilt_deg": pose.tilt_deg, "look": stood.look, "tint": stood.tint,
        "on": on, "tract": part.tract.row.id, "cell": cell,
    }  # fmt: skip


def standing_around(
    world: OpenWorld, land: Land, own: Outlines, without: set[str], edge_m: float = 0.0
) -> tuple[Outlines, list[str]]:
    """The footprints of what stands near some, and their names; `without` some keys, and what may stand in others."""
    reach = float(own.reach.max(initial=0.0)) + edge_m
    box = (
        float(own.x.min()) - reach,
        float(own.y.min()) - reach,
        float(own.x.max()) + reach,
        float(own.y.max()) + reach,
    )
    stood = [
        one for one in stood_in(world, land, box)
        if one.key not in without and not one.entry.overlaps and one.entry.meets != "hangs"
    ]  # fmt: skip
    return outlines_of([(one.entry, one.pose) for one in stood]), [one.thing.name for one in stood]


class LaidThings(Command):
    """What the logbook keeps of things that were laid or scattered: the rows that changed say the rest."""

    do: Literal["laid_things"] = "laid_things"
    count: int
    of: str


def place_all(
    world: OpenWorld, things: Iterable[tuple[str, Thing]], words: str, of: str, gone: Iterable[str] = (),
    also: Moves = NONE,
) -> Outcome:  # fmt: skip
    """Put many things, and take others away, as one revision, with other rows. Hold the lock. Raises Conflict for too
    many."""
    look, plan = Planned(world), THINGS.plan
    look.take(also)
    assert plan is not None
    take_away(look, gone)
    count = 0
    for key, thing in things:
        old = look.get(THINGS, key)
        if old is None and look.count(THINGS) >= THINGS.most:
            raise Conflict(f"a world holds at most {THINGS.most} things; nothing was changed")
        look.take(plan(Change(key, old, thing), look).moves)
        count += 1
    need_named(look, world.house, look.moves, world.rows)
    return world.change_rows(LaidThings(count=count, of=of), words, look.moves)


def thing_of(world: OpenWorld, land: Land, proposed: ProposedThing, name: str, entry: Entry, **also: Any) -> Thing:
    """A proposed piece as a row, in the metres of its tract."""
    part = next(part for part in land.parts if part.tract.row.id == proposed["tract"])
    x, y = rounded(np.array([proposed["x"] - part.x, proposed["y"] - part.y])).tolist()
    return Piece(
        kit=proposed["kit"], name=name, x=x, y=y, over_m=proposed["over_m"], turn_deg=proposed["turn_deg"],
        size=proposed["size"], tilt_deg=proposed["tilt_deg"], look=proposed["look"], tint=proposed["tint"],
        on=proposed["on"], cell=proposed["cell"], tract=proposed["tract"],
        data={one.name: one.first for one in entry.fields}, **also,
    )  # fmt: skip


def lay_things(world: OpenWorld, land: Land, wanted: LayThings, take: str) -> tuple[Found, Outcome | None, list[str]]:
    """What a pattern comes to; taken as one revision unless it is only looked at ("look"), or "all" is asked and some
    do not fit (then InvalidInput). Keys of what was placed come back."""
    with world.lock:
        found = propose(world, land, wanted)
        if take == "look":
            return found, None, []
        if take == "all" and found.refused:
            first = found.refused[0]
            words = f"{sum(found.why.values())} of {found.wanted} do not fit and nothing was placed"
            raise InvalidInput(f"{words}; the first, at {first['x']:g}, {first['y']:g}: {first['why']}", "spots")
        if not found.things:
            raise Conflict(f"nothing was placed: {', '.join(found.why) or 'there is no place'}")
        kit, rows = kit_of(world), []
        counts = {name: world.count_of(THINGS, name) for name in {one["kit"] for one in found.things}}
        for one in found.things:
            entry = kit[one["kit"]]
            counts[one["kit"]] += 1
            name = f"{entry.label} {counts[one['kit']]}"
            row = thing_of(world, land, one, name, entry, team=wanted.team, group=wanted.group)
            rows.append((secrets.token_hex(5), row))
        some = rows[0][1].name if len(rows) == 1 else f"{len(rows)} things"
        outcome = place_all(world, rows, f"Placed {some}", wanted.by)
        return found, outcome, [key for key, _ in rows]
