"""The cheapest way of a road between two places, by length, slope, water, covers and plots; others to choose from."""

from __future__ import annotations

import math
from typing import Annotated

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import ConfigDict, Field
from shapely.geometry import LineString
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.travel.road_ways import road_way
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Coordinate, Key, Row
from fernfield.work.kernel.says import Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import Area, share_of
from fernfield.work.sites.roads import MOST_POINTS
from fernfield.work.sites.standing import taken_up

Times = Annotated[float, Field(ge=0.05, le=1_000)]
WET_M = 0.05
MOST_POSTS = 4_097**2
DEARER, BESIDE_POSTS, ENDS = 1.8, 12, 0.15
"""Another way is sought where the ground near the ways so far is so many times as dear; but not near its ends."""
LOOSE = 1.5
"""A road leaves its way by so many posts at most, where it has points enough."""
ALIKE = 0.7
"""A way that shares so much of another is no other."""


class WayCosts(Row):
    """What a metre costs, beside 1: a step of grade g costs 1 + slope * g times as much; in water, on a cover and in a
    plot so many times as much, `null`: no road may lie there."""

    slope: Annotated[float, Field(ge=0, le=1_000), Say("Slope counts", "×")] = 10.0
    water: Annotated[Times | None, Say("Water counts", "×", left_out="no road there")] = None
    covers: Annotated[dict[Key, Times | None], Field(max_length=64)] = Field(default_factory=dict)
    plots: Annotated[dict[Key, Times | None], Field(max_length=64)] = Field(default_factory=dict)


class FindWay(Row):
    """From where to where, in the metres of the world; the greatest grade; what costs how much; how many others."""

    model_config = ConfigDict(populate_by_name=True)

    from_: Annotated[tuple[Coordinate, Coordinate], Field(alias="from")]
    to: tuple[Coordinate, Coordinate]
    steepest_percent: Annotated[float, Field(ge=0.5, le=100), Say("Steepest", "%")] = 12.0
    costs: WayCosts = WayCosts()
    others: Annotated[int, Field(ge=0, le=4), Say("Others to choose from")] = 2


class FoundWay(TypedDict):
    """A way: its corners [m], and its figures along the posts that it goes by. `line` are the points of a road along
    it: no more than are needed."""

    points: list[list[float]]
    line: list[list[float]]
    length_m: float
    climb_m: float
    steepest_percent: float
    cost: float


def find_ways(world: OpenWorld, land: Land, wanted: FindWay) -> list[FoundWay]:
    """The cheapest way first. Raises InvalidInput for places off the land, Conflict where no way is so gentle."""
    bounds, grid = land.bounds, land.grid
    if bounds.rows * bounds.cols > MOST_POSTS:
        raise Conflict(f"a way is sought over at most {MOST_POSTS:,} posts, not {bounds.rows * bounds.cols:,}")
    with world.lock:
        heights = np.asarray(land.read(HEIGHT, bounds), np.float32)
        costs = _costs(world, land, wanted.costs, heights)
    ends = [_post(land, name, spot, costs) for name, spot in (("from", wanted.from_), ("to", wanted.to))]
    if ends[0] == ends[1]:
        raise InvalidInput("to must be another place than from", "to")
    steepest = wanted.steepest_percent / 100
    found: list[NDArray[np.int64]] = []
    ways: list[FoundWay] = []
    dear = costs
    for _ in range(1 + 2 * wanted.others):
        way = road_way(heights, dear, ends[0], ends[1], grid.spacing, steepest, wanted.costs.slope)
        if not len(way.posts):
            break
        if not any(_shared(way.posts, one, heights.shape) > ALIKE for one in found):
            found.append(way.posts)
            ways.append(_told(land, way.posts, heights, costs, wanted.costs.slope))
        if len(ways) > wanted.others:
            break
        dear = _dearer(dear, way.posts)
    if not ways:
        raise Conflict(
            f"there is no way between them that is nowhere steeper than {wanted.steepest_percent:g} %, over ground "
            "where a road may lie: allow more, or let it cross water"
        )  # fmt: skip
    return sorted(ways, key=lambda one: one["cost"])


def _costs(world: OpenWorld, land: Land, said: WayCosts, heights: FloatArray) -> FloatArray:
    bounds = land.bounds
    out = np.ones(heights.shape, np.float32)
    for area, times in [
        *((Area(cover=key), times) for key, times in said.covers.items()),
        *((Area(plot=key), times) for key, times in said.plots.items()),
    ]:
        share = share_of(world, land, area, bounds, 0.0)
        out = np.where(share > 0.5, np.inf, out) if times is None else out * (1 + (times - 1) * share)
    wet = world.surface(land, bounds) > heights + WET_M
    out = np.where(wet, np.inf if said.water is None else out * np.float32(said.water), out)
    taken = taken_up(world, land, bounds, 1)
    if taken is not None:
        out = np.where(taken > 0.5, np.inf, out)
    void = land.void(np.arange(bounds.row0, bounds.row1), np.arange(bounds.col0, bounds.col1))
    return np.asarray(out if void is None else np.where(void, np.inf, out), np.float32)


def _post(land: Land, name: str, spot: tuple[float, float], costs: FloatArray) -> tuple[int, int]:
    bounds, grid = land.bounds, land.grid
    row, col = round(float(grid.row_of(spot[1]))) - bounds.row0, round(float(grid.col_of(spot[0]))) - bounds.col0
    words = f"{spot[0]:g}, {spot[1]:g}"
    if not (0 <= row < costs.shape[0] and 0 <= col < costs.shape[1]):
        raise InvalidInput(f"{name} must lie on the land, not at {words}", name)
    if not math.isfinite(costs[row, col]):
        raise InvalidInput(
            f"{name} must lie where a road may lie, not at {words}: something stands or flows there", name
        )
    return row, col


def _shared(one: NDArray[np.int64], other: NDArray[np.int64], shape: tuple[int, int]) -> float:
    """How much of a way lies near another, 0 to 1."""
    near = _near(other, shape)
    return float(near[one[:, 0], one[:, 1]].mean())


def _near(posts: NDArray[np.int64], shape: tuple[int, int]) -> NDArray[np.bool_]:
    marks = np.zeros(shape, np.uint8)
    marks[posts[:, 0], posts[:, 1]] = 1
    side = 2 * BESIDE_POSTS + 1
    return np.asarray(cv2.dilate(marks, np.ones((side, side), np.uint8)) > 0)


def _dearer(costs: FloatArray, posts: NDArray[np.int64]) -> FloatArray:
    ends = max(1, round(len(posts) * ENDS))
    middle = posts[ends:-ends]
    if not len(middle):
        return costs
    return np.where(_near(middle, (costs.shape[0], costs.shape[1])), costs * np.float32(DEARER), costs)


def _told(
    land: Land, posts: NDArray[np.int64], heights: FloatArray, costs: FloatArray, slope: float
) -> FoundWay:  # fmt: skip
    grid, bounds = land.grid, land.bounds
    rows, cols = posts.T
    run = np.hypot(np.diff(rows), np.diff(cols)) * grid.spacing
    rise = np.diff(heights[rows, cols].astype(np.float64))
    mean = (costs[rows[1:], cols[1:]].astype(np.float64) + costs[rows[:-1], cols[:-1]]) / 2
    grade = np.abs(rise) / np.maximum(run, 1e-9)
    # A corner is where the way turns.
    turns = np.concatenate([[True], np.any(np.diff(np.diff(posts, axis=0), axis=0) != 0, axis=1), [True]])
    kept = posts[turns] if len(posts) > 1 else posts
    points = [[round(grid.x_of(c + bounds.col0), 3), round(grid.y_of(r + bounds.row0), 3)] for r, c in kept.tolist()]
    line = np.array(points)
    tolerance = LOOSE * grid.spacing
    while len(line) > 2 and len(line := np.array(LineString(points).simplify(tolerance).coords)) > MOST_POINTS:
        tolerance *= 1.5
    return {
        "points": points, "line": line.tolist(),
        "length_m": round(float(run.sum()), 3), "climb_m": round(float(rise.clip(0).sum()), 3),
        "steepest_percent": round(100 * float(grade.max(initial=0.0)), 3),
        "cost": round(float((run * mean * (1 + slope * grade)).sum()), 3),
    }  # fmt: skip
