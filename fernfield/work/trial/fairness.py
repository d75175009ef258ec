"""Is it fair: how long it takes from each start to all that is worth going to, and what ground each comes to first."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Annotated, TypeVar
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import NotFound
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.travel.fairness import Told, compared, counted_within, first_to_come, scores, worst
from fernfield.core.travel.reach import reach_from
from fernfield.core.travel.walkers import WALKER
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Begins, Worth
from fernfield.work.kernel.rows import Coordinate
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.passing.walkers import WalkerKey, gait_of
from fernfield.work.trial.reaching import posts_of, whole_of

MOST_KEPT_BYTES = 192 << 20
TRIED = r"^(things|objectives|resources)/[a-z0-9_-]{1,40}$"
WITHIN_S = (60.0, 120.0, 300.0)
"""Ground that is reached within these times is told of."""
T = TypeVar("T", Begins, Worth)
_Kept = OrderedDict[tuple[object, ...], tuple[ByteArray, "_Times"]]
_KEPT: WeakKeyDictionary[OpenWorld, _Kept] = WeakKeyDictionary()
_LOCK = threading.Lock()
Weight = Annotated[float, Field(ge=0, le=10)]
Place = tuple[Coordinate, Coordinate]
Times = NDArray[np.float64]


class Weights(BaseModel):
    """How much each thing counts: what is gathered, objectives, ground come to first, being far from others."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    gather: Weight = 1.0
    aims: Weight = 1.0
    ground: Weight = 1.0
    apart: Weight = 0.5


class AskFair(BaseModel):
    """For whom, by which weights; and where starts and what is worth going to would stand, by collection and key
    ("things/a", "resources/b"), if that is tried out. In the metres of the land."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    walker: WalkerKey = WALKER
    weights: Weights = Weights()
    moved: Annotated[dict[Annotated[str, Field(pattern=TRIED)], Place], Field(max_length=100)] = Field(
        default_factory=dict
    )


class StartTold(TypedDict):
    """A start, and the ground that is reached from it within a minute, two and five. [m, m²]"""

    key: str
    name: str
    team: int | None
    x: float
    y: float
    within_m2: list[float]


class PlaceTold(TypedDict):
    """What is worth going to, by its collection and key. of : what it is: "peat", "objective", "start" """

    collection: str
    key: str
    of: str
    name: str
    team: int | None
    x: float
    y: float


class WhyTold(TypedDict):
    """What makes a start worse than the mean of all, in a sentence, and where."""

    start: str
    words: str
    x: float
    y: float


class FairTold(TypedDict):
    """From each start to each place how long it takes, null where no way leads; which share of all ground that somebody
    reaches each comes to first; scores, 100 as the mean of all. [s]"""

    starts: list[StartTold]
    places: list[PlaceTold]
    seconds: list[list[float | None]]
    first: dict[str, float]
    scores: dict[str, float]
    why: list[WhyTold]


@dataclass(frozen=True, slots=True)
class _Times:
    """How long it takes from a start to each post [s], and how many posts are reached within `WITHIN_S`."""

    seconds: FloatArray
    within: list[int]


def _times_from(world: OpenWorld, land: Land, leave: ByteArray, walker: str, place: tuple[float, float]) -> _Times:
    """Kept for as long as the raster is that raster."""
    (post,) = posts_of(land, whole_of(land), [place])
    key = land.id, walker, post
    with _LOCK:
        mine = _KEPT.setdefault(world, OrderedDict())
        known = mine.get(key)
        if known is not None and known[0] is leave:
            mine.move_to_end(key)
            return known[1]
    took = reach_from(leave, [post], land.grid.spacing, gait_of(world, walker).walk).cost.astype(np.float32)
    found = _Times(took, counted_within(took, WITHIN_S))
    with _LOCK:
        mine[key] = leave, found
        while sum(one.seconds.nbytes for _, one in mine.values()) > MOST_KEPT_BYTES and len(mine) > 1:
            mine.popitem(last=False)
    return found


def starts_of(world: OpenWorld, land: Land, moved: Mapping[str, tuple[float, float]]) -> list[Begins]:
    """The starts of a land, as they stand or as it is tried out. Raises NotFound where there is none."""
    with world.lock:
        found = list(world.house.given.begins(world, land))
    if not found:
        raise NotFound("this land has no start: place one on the Sites stage")
    return [_tried(one, f"things/{one.key}", moved) for one in found]


def _tried(one: T, at: str, moved: Mapping[str, tuple[float, float]]) -> T:
    """A start or place where it would stand."""
    return replace(one, x=moved[at][0], y=moved[at][1]) if at in moved else one


def _all_times(world: OpenWorld, land: Land, walker: str, starts: Sequence[Begins]) -> list[_Times]:
    leave = passable_in(world, land, whole_of(land), walker)
    with ThreadPoolExecutor(max_workers=2) as pool:
        return list(pool.map(lambda one: _times_from(world, land, leave, walker, (one.x, one.y)), starts))


def first_of(
    world: OpenWorld, land: Land, asked: AskFair, window: Window, step: int
) -> ByteArray:  # fmt: skip
    """Who comes to every `step`-th post of a window first: the number of the start, from 1, in the order of `fair`."""
    starts = starts_of(world, land, asked.moved)
    for key, place in asked.moved.items():
        land.need(*place, key)
    whole = whole_of(land)
    first = first_to_come([one.seconds for one in _all_times(world, land, asked.walker, starts)])
    rows = np.arange(window.row0, window.row1, step) - whole.row0
    cols = np.arange(window.col0, window.col1, step) - whole.col0
    out = np.zeros((len(rows), len(cols)), np.uint8)
    fits = (rows >= 0) & (rows < whole.rows), (cols >= 0) & (cols < whole.cols)
    out[np.ix_(*fits)] = first[np.ix_(rows[fits[0]], cols[fits[1]])]
    return out


def fair(world: OpenWorld, land: Land, asked: AskFair) -> FairTold:
    """How alike the starts of a land are. Raises NotFound without a start, InvalidInput for places off the land."""
    for key, place in asked.moved.items():
        land.need(*place, key)
    starts = starts_of(world, land, asked.moved)
    with world.lock:
        worth = [
            _tried(one, f"{one.collection}/{one.key}", asked.moved) for one in world.house.given.worth(world, land)
        ]
    places = [*worth, *(Worth("things", one.key, "start", one.name, one.team, one.x, one.y) for one in starts)]
    known = {f"{one.collection}/{one.key}" for one in places}
    for at in asked.moved:
        if at not in known:
            raise NotFound(f"{at} is no start, objective or resource of this land")
    window = whole_of(land)
    every = _all_times(world, land, asked.walker, starts)
    posts = np.array(posts_of(land, window, [(one.x, one.y) for one in places])).reshape(-1, 2)
    seconds = np.array([one.seconds[posts[:, 0], posts[:, 1]] for one in every], np.float64)
    first = first_to_come([one.seconds for one in every])
    counts = np.bincount(first.ravel(), minlength=len(starts) + 1)[1:]
    shares = counts / max(1, int(counts.sum()))
    things, nearest = _things(starts, places, seconds, shares)
    weights = asked.weights.model_dump()
    marks = scores(things, weights)
    told = [round(float(one), 1) for one in marks]
    return {
        "starts": [
            {"key": one.key, "name": one.name, "team": one.team, "x": one.x, "y": one.y,
             "within_m2": [round(one * land.grid.spacing**2, 1) for one in took.within]}
            for one, took in zip(starts, every, strict=True)
        ],
        "places": [
            {"collection": one.collection, "key": one.key, "of": one.of, "name": one.name, "team": one.team, "x": one.x,
             "y": one.y} for one in places
        ],
        "seconds": [[round(one, 2) if math.isfinite(one) else None for one in row] for row in seconds.tolist()],
        "first": {one.key: round(float(share), 4) for one, share in zip(starts, shares, strict=True)},
        "scores": {one.key: mark for one, mark in zip(starts, told, strict=True)},
        "why": [
            why for number, one in enumerate(starts)
            if (why := _why(one, worst(things, weights, number), nearest, number))
        ],
    }  # fmt: skip


def _things(
    starts: Sequence[Begins], places: Sequence[Worth], seconds: Times, shares: Times
) -> tuple[dict[str, list[Told]], dict[tuple[str, int], Worth]]:
    """How each start stands in each thing, by "weight:what"; and the place that is meant."""
    things: dict[str, list[Told]] = {}
    nearest: dict[tuple[str, int], Worth] = {}
    for collection, of in dict.fromkeys((one.collection, one.of) for one in places):
        weight = {"objectives": "aims", "things": "apart"}.get(collection, "gather")
        values = []
        for number, start in enumerate(starts):
            own = [
                (float(seconds[number, at]), at) for at, one in enumerate(places)
                if (one.collection, one.of) == (collection, of) and _is_for(one, start, weight)
            ]  # fmt: skip
            value, at = min(own, default=(math.inf, -1))
            if weight == "aims" and own:
                # All of them have to be come to.
                value = float(np.mean([took for took, _ in own]))
                at = max(own)[1]
            values.append(value)
            if at >= 0:
                nearest[f"{weight}:{of}", number] = places[at]
        if any(math.isfinite(one) for one in values):
            things[f"{weight}:{of}"] = compared(of, values, less_is_better=weight != "apart")
    if len(starts) > 1:
        things["ground"] = compared("ground", shares.tolist(), less_is_better=False)
    return things, nearest


def _is_for(place: Worth, start: Begins, weight: str) -> bool:
    if weight == "apart":
        return place.key != start.key and (place.team is None or place.team != start.team)
    return place.team is None or start.team is None or place.team == start.team


def _why(
    start: Begins, found: tuple[str, Told] | None, nearest: Mapping[tuple[str, int], Worth], number: int
) -> WhyTold | None:  # fmt: skip
    if found is None:
        return None
    (thing, told), name = found, start.name
    at = nearest.get((thing, number))
    x, y = (start.x, start.y) if at is None else (at.x, at.y)
    if thing == "ground":
        words = f"{name} comes to {told.value:.0%} of the ground first; the mean of all is {told.mean:.0%}."
    elif not math.isfinite(told.value):
        words = f"From {name} no way leads to {_what(told.of)}."
    elif thing.startswith("apart"):
        other = at.name if at is not None else "another start"
        words = f"From {name} it is {_clock(told.value)} to {other}; the mean of all is {_clock(told.mean)}."
    else:
        longer = told.value / told.mean - 1 if told.mean else 0.0
        words = f"From {name} it is {_clock(told.value)} to {_what(told.of)}, {longer:.0%} longer than the mean."
    return {"start": start.key, "words": words, "x": round(x, 2), "y": round(y, 2)}


def _what(of: str) -> str:
    return "the objectives" if of == "objective" else f"the nearest {of}"


def _clock(seconds: float) -> str:
    return f"{int(seconds // 60)}:{int(seconds % 60):02d}"
