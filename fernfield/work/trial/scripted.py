"""A walk by script: what somebody wishes, one wish after the other, and where that leads."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, named
from fernfield.core.travel.walker import TICK_S, Intent
from fernfield.core.travel.walkers import WALKERS
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Bearing
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.trial.reaching import From, places_of
from fernfield.work.trial.walks import Walk

LONGEST_S = 1_200.0
TOLD_TICKS = 15
"""The track has a place after so many ticks, and after each wish."""
Part = Annotated[float, Field(ge=-1, le=1)]


class Wish(BaseModel):
    """For so long: ahead and to the right (-1 to 1), looking along a bearing, running or not. [s, °]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    seconds: Annotated[float, Field(gt=0, le=LONGEST_S)]
    ahead: Part = 0.0
    aside: Part = 0.0
    facing: Bearing = 0.0
    run: bool = False


class WalkBy(From):
    """Who walks, from where, and all that is wished."""

    wishes: Annotated[tuple[Wish, ...], Field(min_length=1, max_length=2_000)]


class Blocked(TypedDict):
    """When something began to stand in the way, and what. [s]"""

    t: float
    by: str


class Walked(TypedDict):
    """The places of a walk, each with its time [s, m]; and what was in the way."""

    track: list[tuple[float, float, float, float]]
    blocked: list[Blocked]


def walked(world: OpenWorld, land: Land, wanted: WalkBy) -> Walked:
    """Go by the wishes, tick for tick as a trial does. Raises InvalidInput for more than 20 minutes of them."""
    whole = sum(one.seconds for one in wanted.wishes)
    if whole > LONGEST_S:
        raise InvalidInput(f"a walk lasts {LONGEST_S:g} s at most, not {whole:g} s", "wishes")
    gait = named(WALKERS, "walker", wanted.walker)
    with world.lock:
        (x, y), *_ = places_of(world, land, wanted)
    walk = Walk(world, land, x, y, wanted.wishes[0].facing, gait=gait)
    ticks, by = 0, ""
    track, blocked = [_place(0, walk)], []
    for wish in wanted.wishes:
        intent = Intent(wish.ahead, wish.aside, wish.facing, wish.run)
        for tick in range(count := max(1, round(wish.seconds / TICK_S))):
            walker = walk.advance(intent)
            ticks += 1
            if walker.blocked_by and walker.blocked_by != by:
                blocked.append(Blocked(t=round(ticks * TICK_S, 4), by=walker.blocked_by))
            by = walker.blocked_by
            if ticks % TOLD_TICKS == 0 or tick == count - 1:
                track.append(_place(ticks, walk))
    return {"track": track, "blocked": blocked}


def _place(ticks: int, walk: Walk) -> tuple[float, float, float, float]:
    w = walk.walker
    return round(ticks * TICK_S, 4), round(w.x, 4), round(w.y, 4), round(w.z, 4)
