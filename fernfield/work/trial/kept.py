"""Walks that were kept: what was wished, and where that led; walked again to see what an edit has changed."""

from __future__ import annotations

import math
from typing import Annotated, Any

from pydantic import Field
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.travel.walker import Intent
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.rows import Bearing, Collection, East, Elevation, Name, North, Row, TractId, new_key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.walkers import WalkerKey, gait_of
from fernfield.work.trial.walks import MOST_TICKS, MOST_WISHES, Walk

SAME_M = 0.05
"""Two walks that are nearer than this to each other are at the same place. [m]"""

Share = Annotated[float, Field(ge=-1, le=1)]
Wished = tuple[Annotated[int, Field(ge=1, le=MOST_TICKS)], Share, Share, float, Annotated[int, Field(ge=0, le=7)]]
Placed = tuple[float, float, float, float]


class KeptWalk(Row):
    """Collection "walks": a walk of a trial. x east, y north in its tract, over_m over the ground there [m]

    sea_m : where the sea stood, at a tide; None: at its level, whatever that is [m]
    plays, team : in a round with the rules and cues of the world, of a team
    wishes : each for so many ticks of 1/60 s: ahead, aside, facing [°]; 1 runs, 2 jumps, 4 crouches, added up
    track : seconds, then east and north of where it began, and elevation [s, m]
    """

    name: Annotated[Name, Say("Name")]
    walker: Annotated[WalkerKey, UNASKED]
    x: Annotated[East, UNASKED]
    y: Annotated[North, UNASKED]
    facing: Annotated[Bearing, UNASKED] = 0.0
    over_m: Annotated[float, Field(ge=0, le=1000), UNASKED] = 0.0
    speed_ms: Annotated[float, Field(ge=0, le=100), UNASKED] = 0.0
    length_m: Annotated[float, Field(ge=0), UNASKED] = 0.0
    sea_m: Annotated[Elevation | None, UNASKED] = None
    plays: Annotated[bool, UNASKED] = False
    team: Annotated[int | None, Field(ge=1, le=8), UNASKED] = None
    wishes: Annotated[tuple[Wished, ...], Field(max_length=MOST_WISHES), UNASKED] = ()
    track: Annotated[tuple[Placed, ...], Field(max_length=MOST_WISHES), UNASKED] = ()
    tract: Annotated[TractId | None, UNASKED] = None


class WalkTold(TypedDict):
    """A kept walk: who walked, from where, how long it took and how far it went. [m, s]"""

    key: str
    name: str
    walker: str
    x: float
    y: float
    tract: str | None
    seconds: float
    length_m: float


def _shown(world: OpenWorld, key: str, row: KeptWalk) -> Annotated[dict[str, Any], WalkTold]:
    return {
        "key": key, "name": row.name, "walker": row.walker, "x": row.x, "y": row.y, "tract": row.tract,
        "seconds": row.track[-1][0] if row.track else 0.0, "length_m": row.length_m,
    }  # fmt: skip


WALKS: Collection[KeptWalk] = Collection(
    "walks", KeptWalk, "walk", in_tract=True, made_by_room=True, stays=True, shown=_shown, most=500,
)  # fmt: skip


def keep_walk(world: OpenWorld, walk: Walk, walker: str, name: str) -> str:
    """Keep a walk as a row, and tell its key. Raises InvalidInput before it has gone on for a tick."""
    if not walk.wishes:
        raise InvalidInput("nobody has walked yet", "name")
    walk.mark()
    x0, y0, over, speed, facing = walk.began
    with world.lock:
        part = walk.land.part_at(x0, y0)
        if part is None:
            raise NotFound("the tract where this walk began has gone")
        row = KeptWalk(
            name=name, walker=walker, x=x0 - part.x, y=y0 - part.y, facing=facing, over_m=over, speed_ms=speed,
            sea_m=walk.sea_m, length_m=round(walk.far_m, 2), plays=walk.plays is not None, team=walk.team,
            tract=part.tract.row.id,
            wishes=tuple(
                (ticks, one.ahead, one.aside, one.facing, one.run + 2 * one.jump + 4 * one.crouch)
                for ticks, one in walk.wishes
            ),
            track=tuple((t, round(x - x0, 4), round(y - y0, 4), z) for t, x, y, z in walk.track),
        )  # fmt: skip
        key = new_key(name)
        world.edit(put(WALKS, key, row))
    return key


class TrackTold(TypedDict):
    """Where a kept walk was: seconds, then east and north in the metres of the world, and elevation. [s, m]"""

    track: list[Placed]


def track_told(world: OpenWorld, row: KeptWalk) -> TrackTold:
    """The track of a kept walk, as its world has it now. Hold the lock."""
    x, y = _begins(world, row)
    return {"track": [(t, round(x + east, 4), round(y + north, 4), z) for t, east, north, z in row.track]}


class AgainTold(TrackTold):
    """The same wishes in the world as it is: where they lead now, and how far that is from where they led.

    apart_m, apart_s : the furthest that both are from each other at one time, and when they part; None: they do not
    blocked : when something began to stand in the way now, and what [s]
    """

    before: list[Placed]
    apart_m: float
    apart_s: float | None
    blocked: list[tuple[float, str]]


def walk_again(world: OpenWorld, row: KeptWalk) -> AgainTold:
    """Walk a kept walk once more. Raises NotFound for a walker or a tract that has gone."""
    gait = gait_of(world, row.walker)
    with world.lock:
        land = world.country(world.tract(world.of_tract(row.tract)).row.id)
        (x, y), before = _begins(world, row), track_told(world, row)["track"]
        plays = world.house.given.plays(world, land) if row.plays else None
    walk = Walk(world, land, x, y, row.facing, row.over_m, row.sea_m, gait, speed_ms=row.speed_ms, plays=plays,
                team=row.team, walker=row.walker)  # fmt: skip
    for ticks, ahead, aside, facing, does in row.wishes:
        walk.advance(Intent(ahead, aside, facing, bool(does & 1), bool(does & 2), bool(does & 4)), ticks)
    walk.mark()
    gaps = [(b[0], math.dist(a[1:], b[1:])) for a, b in zip(before, walk.track, strict=False)]
    return {
        "track": walk.track, "before": before, "blocked": walk.blocked,
        "apart_m": round(max((gap for _, gap in gaps), default=0.0), 3),
        "apart_s": next((t for t, gap in gaps if gap > SAME_M), None),
    }  # fmt: skip


def _begins(world: OpenWorld, row: KeptWalk) -> tuple[float, float]:
    land = world.country(world.of_tract(row.tract))
    part = next(part for part in land.parts if part.tract.row.id == world.of_tract(row.tract))
    return part.x + row.x, part.y + row.y
