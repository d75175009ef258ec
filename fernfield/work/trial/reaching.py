"""Who gets where: what is reached from places of a land, how long it takes, and the ways there."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from typing import Annotated, Any, Literal, TypeVar
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, InvalidInput, NotFound, named
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.travel.passable import DIRECTIONS, WHOLE_PACE
from fernfield.core.travel.reach import NOT_REACHED, NOWHERE, By, Clock, Reach, classes, reach_from
from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Coordinate
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.passing.walkers import WalkerKey, gait_of

MOST_POSTS = 4_097**2
MOST_KEPT = 6

Place = tuple[float, float]
Kept = OrderedDict[tuple[object, ...], tuple[ByteArray, Any]]
T = TypeVar("T")
_KEPT: WeakKeyDictionary[OpenWorld, Kept] = WeakKeyDictionary()
_LOCK = threading.Lock()


class From(BaseModel):
    """Where somebody begins: a place, a start, all starts of a team; the default start when nothing is said."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    walker: WalkerKey = WALKER
    x: Coordinate | None = None
    y: Coordinate | None = None
    start: Annotated[str, Field(max_length=40)] | None = None
    team: Annotated[int, Field(ge=1, le=8)] | None = None


def places_of(world: OpenWorld, land: Land, begin: From) -> list[Place]:
    """The places that are begun at, in the land's metres. Under the lock. Raises InvalidInput, NotFound."""
    if (begin.x is None) != (begin.y is None):
        raise InvalidInput("a place is x and y", "x" if begin.x is None else "y")
    if begin.x is not None and begin.y is not None:
        land.need(begin.x, begin.y, "the beginning")
        return [(begin.x, begin.y)]
    starts = list(world.house.given.begins(world, land))
    if begin.start is not None:
        return [named({one.key: (one.x, one.y) for one in starts}, "start", begin.start)]
    if begin.team is not None:
        own = [(one.x, one.y) for one in starts if one.team == begin.team]
        if not own:
            raise NotFound(f"team {begin.team} has no start here")
        return own
    own = [(one.x, one.y) for one in starts if one.default] or [(one.x, one.y) for one in starts[:1]]
    if not own:
        raise NotFound("this land has no start: say where to begin, or place one on the Sites stage")
    return own


def whole_of(land: Land, most: int = MOST_POSTS, what: str = "reach is worked out") -> Window:
    """All posts of a land. Raises Conflict where they are too many for it."""
    bounds = land.bounds
    if bounds.rows * bounds.cols > most:
        raise Conflict(
            f"{what} over at most {most:,} posts, not {bounds.rows * bounds.cols:,}: ask for one tract of this land"
        )
    return bounds


def posts_of(land: Land, window: Window, places: Sequence[Place]) -> list[tuple[int, int]]:
    """The posts nearest to places, in a window."""
    grid = land.grid
    return [
        (
            min(max(round(grid.row_of(y)) - window.row0, 0), window.rows - 1),
            min(max(round(grid.col_of(x)) - window.col0, 0), window.cols - 1),
        )
        for x, y in places
    ]


def reached(
    world: OpenWorld, land: Land, begin: From, by: By = "time", clock: Clock = "walker"
) -> tuple[Window, ByteArray, Reach]:
    """All that is reached of a land: the posts that it is over, what each costs to leave, and the cheapest ways.

    Kept until something changes that a walker meets. Raises NotFound, InvalidInput, Conflict.
    """
    gait = gait_of(world, begin.walker)
    window = whole_of(land)
    with world.lock:
        places = places_of(world, land, begin)
        heights = land.read(HEIGHT, window) if by == "climb" or clock != "walker" else None
    leave = passable_in(world, land, window, begin.walker)
    sources = posts_of(land, window, places)
    key = (land.id, begin.walker, tuple(sources), by, clock)
    found = _kept(
        world, key, leave,
        lambda: reach_from(leave, sources, land.grid.spacing, gait.walk, heights=heights, by=by, clock=clock),
    )  # fmt: skip
    return window, leave, found


def _kept(world: OpenWorld, key: tuple[object, ...], leave: ByteArray, make: Callable[[], T]) -> T:
    """What follows from a raster, kept for as long as it is that raster."""
    with _LOCK:
        mine = _KEPT.setdefault(world, OrderedDict())
        known = mine.get(key)
        if known is not None and known[0] is leave:
            mine.move_to_end(key)
            return known[1]  # type: ignore[no-any-return]
    found = make()
    with _LOCK:
        mine[key] = leave, found
        while len(mine) > MOST_KEPT:
            mine.popitem(last=False)
    return found


What = Literal["class", "seconds", "metres"]


def reach_posts(
    world: OpenWorld, land: Land, begin: From, what: What, window: Window, step: int, clock: Clock = "walker"
) -> ByteArray | FloatArray:
    """Every `step`-th post of a window: its class (`core.travel.reach`), or how far it is in seconds or metres."""
    if what == "class":
        whole = whole_of(land)
        with world.lock:
            places = places_of(world, land, begin)
        leave = passable_in(world, land, whole, begin.walker)
        sources = posts_of(land, whole, places)
        key = land.id, begin.walker, tuple(sources), "class"
        values: NDArray[np.generic] = _kept(world, key, leave, lambda: classes(leave, sources))
        beyond: float = 0
    else:
        whole, _, found = reached(world, land, begin, "time" if what == "seconds" else "length", clock)
        values, beyond = found.cost.astype(np.float32), math.inf
    rows = np.arange(window.row0, window.row1, step) - whole.row0
    cols = np.arange(window.col0, window.col1, step) - whole.col0
    out = np.full((len(rows), len(cols)), beyond, values.dtype)
    inside = np.ix_((rows >= 0) & (rows < whole.rows), (cols >= 0) & (cols < whole.cols))
    at = np.ix_(rows[(rows >= 0) & (rows < whole.rows)], cols[(cols >= 0) & (cols < whole.cols)])
    out[inside] = values[at]
    gait = gait_of(world, begin.walker)
    if what == "class" and not gait.swims and not gait.draught:
        with world.lock:
            here = land.clip(window)
            depth = world.surface(land, here, step) - land.seen(HEIGHT, here, step)
        # Deep ground that is not reached is none: nobody walks about down there.
        if depth.shape == out.shape:
            out[(depth >= gait.wade) & (out == NOT_REACHED)] = NOWHERE
    return out


class SeekWay(BaseModel):
    """From where to where somebody goes, in the metres of the world; what is to be least; how slopes slow them."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, populate_by_name=True)

    walker: WalkerKey = WALKER
    from_: Annotated[tuple[Coordinate, Coordinate], Field(alias="from")]
    to: tuple[Coordinate, Coordinate]
    by: By = "time"
    clock: Clock = "walker"


class Stretch(TypedDict):
    """A stretch of a way: where it ends, and how long it takes. [m, s]"""

    x: float
    y: float
    length_m: float
    seconds: float


class WayTold(TypedDict):
    """A way: its corners, how long it is and takes, what one climbs, where it is steepest; and its stretches."""

    points: list[tuple[float, float]]
    seconds: float
    length_m: float
    climb_m: float
    steepest_deg: float
    steepest_at: tuple[float, float]
    stretches: list[Stretch]


MOST_STRETCHES = 20


def way_of(world: OpenWorld, land: Land, wanted: SeekWay) -> WayTold:
    """The quickest, shortest or gentlest way. Raises InvalidInput off the land; Conflict where none leads there, with
    the place that is nearest to it of all that are reached."""
    land.need(*wanted.to, "the end")
    begin = From(walker=wanted.walker, x=wanted.from_[0], y=wanted.from_[1])
    window, leave, found = reached(world, land, begin, wanted.by, wanted.clock)
    ((row, col),) = posts_of(land, window, [wanted.to])
    grid = land.grid

    def place(r: int, c: int) -> Place:
        return grid.x_of(window.col0 + c), grid.y_of(window.row0 + r)

    way = found.way(row, col)
    if not way:
        rows, cols = np.nonzero(np.isfinite(found.cost))
        near = int(np.argmin(np.hypot(rows - row, cols - col)))
        x, y = place(int(rows[near]), int(cols[near]))
        who = gait_of(world, wanted.walker).label.lower()
        raise Conflict(f"no way leads there for {who}; the nearest place that is reached is {x:g}, {y:g}")
    at = np.array(way)
    with world.lock:
        heights = np.asarray(land.read(HEIGHT, window), np.float64)[at[:, 0], at[:, 1]]
    run = np.hypot(*np.diff(at, axis=0).T) * grid.spacing
    rise = np.diff(heights)
    timed = found if wanted.by == "time" else None
    seconds = (
        np.diff(timed.cost[at[:, 0], at[:, 1]])
        if timed is not None
        else _seconds(land, leave, at, gait_of(world, wanted.walker).walk)
    )
    steep = np.degrees(np.arctan2(np.abs(rise), run)) if len(run) else np.zeros(1)
    worst = int(np.argmax(steep))
    points = [place(r, c) for r, c in way]
    return {
        "points": _corners(points), "seconds": round(float(seconds.sum()), 3),
        "length_m": round(float(run.sum()), 3), "climb_m": round(float(rise.clip(0).sum()), 3),
        "steepest_deg": round(float(steep[worst]), 2), "steepest_at": points[min(worst, len(points) - 1)],
        "stretches": _stretches(points, run, seconds),
    }  # fmt: skip


def _seconds(land: Land, leave: ByteArray, at: NDArray[np.int64], walk_ms: float) -> NDArray[np.float64]:
    """How long each step of a way takes that was not sought by time."""
    numbers = {step: d for d, step in enumerate(DIRECTIONS)}
    ways = [numbers[int(dr), int(dc)] for dr, dc in np.diff(at, axis=0)]
    share = np.array([leave[d, r, c] for d, (r, c) in zip(ways, at[:-1], strict=True)], np.float64) / WHOLE_PACE
    run = np.hypot(*np.diff(at, axis=0).T) * land.grid.spacing
    return np.asarray(run / (walk_ms * share))


def _corners(points: list[Place]) -> list[Place]:
    """The points at which a way turns, and its two ends."""
    kept = points[:1]
    for before, here, after in zip(points, points[1:], points[2:], strict=False):
        if (here[0] - before[0], here[1] - before[1]) != (after[0] - here[0], after[1] - here[1]):
            kept.append(here)
    return kept + points[1:][-1:]


def _stretches(points: list[Place], run: NDArray[np.float64], seconds: NDArray[np.float64]) -> list[Stretch]:
    """A way in up to twenty stretches of about one length."""
    if not len(run):
        return []
    far = np.concatenate([[0.0], np.cumsum(run)])
    count = min(MOST_STRETCHES, max(1, math.ceil(far[-1] / 25)))
    ends = np.unique(np.searchsorted(far, np.linspace(0, far[-1], count + 1)[1:] - 1e-9).clip(1, len(run)))
    begin, found = 0, []
    for end in ends.tolist():
        found.append(Stretch(
            x=points[end][0], y=points[end][1], length_m=round(float(run[begin:end].sum()), 3),
            seconds=round(float(seconds[begin:end].sum()), 3),
        ))  # fmt: skip
        begin = end
    return found
