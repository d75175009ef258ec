"""How a land drains, worked out for all of it at once and kept until its ground changes."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.grid import FloatArray, Window
from fernfield.core.water.drainage import Drainage, Filled, catchments, drain, hollows, strahler
from fernfield.core.water.flood import Flood, flooded
from fernfield.core.wetness import wetness
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.rows import Pool
from fernfield.work.water.standing import pool_extent, sea_over, standing

What = Literal["catchment_m2", "direction", "wetness", "order"]
WHATS = ("catchment_m2", "direction", "wetness", "order")
MOST_SIDE = 4_097
"""Larger lands are looked at every second post, or fourth, ...: all of them must be in memory at once."""
STREAM_M2 = 5_000.0
"""From this catchment on water runs in a stream (our choice)."""
MOST_LISTED = 200
FEW_SIDE = 1_365
UNASKED_M2, UNASKED_DEEP_M = 5_000.0, 2.0
"""A hollow that is as large and as deep as this should hold water, or be none (our choice)."""


@dataclass(frozen=True)
class Drained:
    """A land's drainage: every `step`-th post of `window`."""

    step: int
    window: Window
    heights: FloatArray
    drainage: Drainage
    area: NDArray[np.int32]
    spacing: float

    def at(self, values: NDArray[Any], posts: Window, step: int = 1) -> NDArray[Any]:
        """Values of its posts at every `step`-th post of a window of the land."""
        rows = (np.arange(posts.row0, posts.row1, step) - self.window.row0) // self.step
        cols = (np.arange(posts.col0, posts.col1, step) - self.window.col0) // self.step
        return np.asarray(values[np.ix_(rows.clip(0, values.shape[0] - 1), cols.clip(0, values.shape[1] - 1))])


_KNOWN: OrderedDict[tuple[str, str], tuple[tuple[object, ...], Drained]] = OrderedDict()
_LOCK = threading.Lock()


def drained(world: OpenWorld, land: Land, most_side: int = MOST_SIDE) -> Drained:
    """The drainage of a whole land as its ground is now, on so many posts a side at most."""
    bounds, step = land.bounds, 1
    while max(bounds.shape) / step > most_side:
        step *= 2
    window = Window(bounds.row0 // step * step, bounds.col0 // step * step, bounds.row1, bounds.col1)
    with world.lock:
        mark = (land.tract_ids, window, step, sum(
            count for part in land.parts for place, count in part.tract.cache.written.items() if place[0] == HEIGHT
        ))  # fmt: skip
        own = world.id, f"{land.id}/{step}"
        with _LOCK:
            known = _KNOWN.get(own)
        if known is not None and known[0] == mark:
            return known[1]
        heights = np.array(land.seen(HEIGHT, window, step), np.float32)
        void = land.void(np.arange(window.row0, window.row1, step), np.arange(window.col0, window.col1, step))
    drainage = drain(heights, void)
    found = Drained(step, window, heights, drainage, catchments(drainage), land.grid.spacing * step)
    with _LOCK:
        _KNOWN[own] = mark, found
        _KNOWN.move_to_end(own)
        while len(_KNOWN) > 3:
            _KNOWN.popitem(last=False)
    return found


def drainage_of(world: OpenWorld, land: Land, what: What, posts: Window, step: int = 1) -> FloatArray:
    """One of `WHATS` at every `step`-th post of a window."""
    found = drained(world, land)
    cell = found.spacing**2
    if what == "catchment_m2":
        return np.asarray(found.at(found.area, posts, step) * cell, np.float32)
    if what == "direction":
        return np.asarray(found.at(found.drainage.to, posts, step), np.float32)
    if what == "order":
        orders = strahler(found.drainage, found.area, max(2, round(STREAM_M2 / cell)))
        return np.asarray(found.at(orders, posts, step), np.float32)
    return np.asarray(found.at(wetness(found.heights, found.spacing), posts, step), np.float32)


class HollowListed(TypedDict):
    """A hollow of a land: where its floor lies and how high, and its figures at the brim. [m]"""

    floor: list[float]
    floor_m: float
    brim_m: float
    area_m2: float
    volume_m3: float
    greatest_depth_m: float


def hollows_of(world: OpenWorld, land: Land, least_m2: float, least_deep_m: float) -> list[HollowListed]:
    """The hollows of a land, the largest first."""
    found = drained(world, land)
    cell = found.spacing**2
    listed = hollows(found.heights, found.drainage, max(1, round(least_m2 / cell)), least_deep_m)
    out: list[HollowListed] = []
    for one in listed[:MOST_LISTED]:
        row, col = one.row * found.step + found.window.row0, one.col * found.step + found.window.col0
        out.append({
            "floor": [land.grid.x_of(col), land.grid.y_of(row)], "floor_m": round(one.brim - one.deep, 3),
            "brim_m": one.brim, "area_m2": one.posts * cell, "volume_m3": round(one.depths * cell, 2),
            "greatest_depth_m": round(one.deep, 3),
        })  # fmt: skip
    return out


def unasked_hollows(world: OpenWorld, land: Land) -> list[tuple[Filled, float, float]]:
    """Large and deep hollows in which no water stands, the largest first, and where the floor of each lies. [m]

    Looked for on `FEW_SIDE` posts a side at most: it is asked of every land, whatever its size.
    """
    found = drained(world, land, FEW_SIDE)
    cell = found.spacing**2
    out = []
    for one in hollows(found.heights, found.drainage, max(1, round(UNASKED_M2 / cell)), UNASKED_DEEP_M):
        row, col = one.row * found.step + found.window.row0, one.col * found.step + found.window.col0
        here = land.clip(Window(row, col, row + 1, col + 1))
        with world.lock:
            dry = standing(world, land, here)[0, 0] <= found.heights[one.row, one.col]
        if dry:
            out.append((one, land.grid.x_of(col), land.grid.y_of(row)))
    return out


def flood_of(
    world: OpenWorld, land: Land, rain_m: float, spring: tuple[float, float] | None = None, volume_m3: float = 0.0
) -> tuple[Drained, Flood]:
    """Rain on all of a land, or so much water from one spot, that has run its way."""
    dry = drained(world, land)
    posts, step = dry.window, dry.step
    with world.lock:
        stands = standing(world, land, posts, step)[: dry.heights.shape[0], : dry.heights.shape[1]]
        sea = sea_over(world, land, posts, step)[: stands.shape[0], : stands.shape[1]] > dry.heights
        void = land.void(np.arange(posts.row0, posts.row1, step), np.arange(posts.col0, posts.col1, step))
    # What stands already stays, and what comes to the sea is gone.
    heights = np.maximum(dry.heights, stands)
    drainage = drain(heights, sea if void is None else sea | void)
    found = replace(dry, heights=heights, drainage=drainage)
    cell = found.spacing**2
    water = np.full(heights.shape, rain_m * cell)
    if spring is not None:
        row = round((land.grid.row_of(spring[1]) - posts.row0) / step)
        col = round((land.grid.col_of(spring[0]) - posts.col0) / step)
        rows, cols = heights.shape
        water[min(max(row, 0), rows - 1), min(max(col, 0), cols - 1)] += volume_m3
    return found, flooded(heights, drainage, water, cell)


def stands_to(
    world: OpenWorld, land: Land, pool: Pool, posts: Window, step: int = 1
) -> tuple[FloatArray, dict[str, Any]]:
    """How deep a pool would stand at every `step`-th post of a window [m], and what it would come to in all."""
    with world.lock:
        extent = pool_extent(world, land, "?tried", pool)
        every = np.asarray(land.read(HEIGHT, extent.window), np.float32)
        ground = np.asarray(land.seen(HEIGHT, posts, step), np.float32)
        wet = extent.at(posts, step)
    cell, level = land.grid.spacing**2, np.float32(pool.level_m)
    deep = np.where(extent.wet, level - every, np.float32(0))
    here = np.where(wet, np.maximum(level - ground[: wet.shape[0], : wet.shape[1]], 0), np.float32(0))
    return here, {
        "stands_m3": round(float(deep.sum(dtype=np.float64)) * cell, 2), "area_m2": int(extent.wet.sum()) * cell,
        "deepest_m": round(float(deep.max()), 3), "runs_off": extent.runs_off or extent.too_large,
    }  # fmt: skip


def flood_told(found: Drained, flood: Flood) -> dict[str, Any]:
    """What a flood comes to: what stands, how wide and how deep, and what ran off the land."""
    cell, wet = found.spacing**2, flood.depth > 0
    return {
        "stands_m3": round(float(flood.depth.sum(dtype=np.float64)) * cell, 2), "area_m2": float(wet.sum()) * cell,
        "deepest_m": round(float(flood.depth.max()), 3), "runs_off_m3": round(flood.off, 2),
    }  # fmt: skip
