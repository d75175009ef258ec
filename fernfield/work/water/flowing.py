"""The surface of all water together, and streams as a plan shows them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import along
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.core.water.channel import Course, covered, flow_marks
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.laying import Laid, falls_of, stream_over, streams_of
from fernfield.work.water.rows import POOLS, STREAMS, WATER
from fernfield.work.water.standing import pool_extent, pools_of, sea_over, standing


def surface(
    world: OpenWorld, land: Land, window: Window, step: int = 1, *, firm: bool = False, sea_m: float | None = None
) -> FloatArray:
    """The elevation of the water's surface at every `step`-th post of a window, `DRY_M` where there is none. [m]

    Beside what is wet it goes on for a post, so that shores can be drawn: water is where it is above the ground.
    `firm`: only what bears a walker; `sea_m`: as if the sea stood there. Hold the world's lock.
    """
    out = standing(world, land, window, step, firm=firm, sea_m=sea_m)
    if firm:
        return out
    for _, _, one in streams_of(world, land):
        runs = stream_over(one, window, step)
        if runs is not None:
            np.maximum(out, runs, out=out)
    return out


@dataclass(frozen=True)
class Seen:
    """Streams as a plan shows them, shape (rows, cols), 0 to 1.

    cover : what they cover; marks : of the way they run; white : where they fall
    """

    cover: FloatArray
    marks: FloatArray
    white: FloatArray


def streams_seen(world: OpenWorld, land: Land, level: int, part: Window) -> Seen | None:
    """The streams in some pixels of a level of the plan; None where there are none. Hold the world's lock."""
    scale, found = 2.0**level, None
    for _, _, one in streams_of(world, land):
        course = one.course
        half = course.half / one.spacing / scale
        drawn = Laid(Course(course.row / scale, course.col / scale, course.surface, half, course.depth, course.bank), 1)
        near = drawn.near(part, np.maximum(half, 6.0) + 1.5)
        if near is None:
            continue
        found = found or Seen(*(np.zeros(part.shape, np.float32) for _ in range(3)))
        cover = covered(near, np.maximum(half, 0.6))
        np.maximum(found.cover, cover, out=found.cover)
        np.maximum(found.marks, flow_marks(near, along(drawn.course.row, drawn.course.col), half), out=found.marks)
        for begin, end in falls_of(one):
            here = np.isfinite(near.away) & (near.at >= begin) & (near.at <= end)
            np.maximum(found.white, np.where(here, cover, 0), out=found.white)
    return found


SWUM, WADED, TRACE = 1.0, 0.5, 0.12
SHOWS_M = 0.05
"""Water that is less deep than this does not show (our choice)."""


def wading(world: OpenWorld, land: Land, window: Window, step: int = 1, *, sea_m: float | None = None) -> FloatArray:
    """How deep water is for a walker at every `step`-th post of a window: `SWUM`, `WADED`, `TRACE`, or 0 where dry."""
    shape = -(-window.rows // step), -(-window.cols // step)
    heights = np.asarray(land.seen(HEIGHT, window, step), np.float32)[: shape[0], : shape[1]]
    deep = world.surface(land, window, step, sea_m=sea_m)[: shape[0], : shape[1]] - heights
    out = np.zeros(shape, np.float32)
    for least, value in ((0.0, TRACE), (SHOWS_M, WADED), (WALKERS[WALKER].wade, SWUM)):
        out[deep > least] = value
    return out


@dataclass(frozen=True)
class WaterHere:
    """What stands or runs over a place: its surface [m], its name and liquid, and the row that it is."""

    surface_m: float
    name: str
    liquid: str
    collection: str
    key: str


def water_at(world: OpenWorld, land: Land, x: float, y: float, sea_m: float | None = None) -> WaterHere | None:
    """The highest water over a place, the sea as if at `sea_m`; None where it is dry."""
    with world.lock:
        z = land.elevation(x, y)
        row, col = round(land.grid.row_of(y)), round(land.grid.col_of(x))
        best: WaterHere | None = None
        here = land.clip(Window(row, col, row + 1, col + 1))
        sea = float(sea_over(world, land, here, 1, sea_m)[0, 0])
        if sea > z:
            best = WaterHere(sea, "Sea", "water", WATER.name, "sea")
        for key, pool in pools_of(world, land):
            extent = pool_extent(world, land, key, pool)
            r, c = row - extent.window.row0, col - extent.window.col0
            inside = 0 <= r < extent.wet.shape[0] and 0 <= c < extent.wet.shape[1] and extent.wet[r, c]
            if inside and pool.level_m > z and (best is None or pool.level_m > best.surface_m):
                best = WaterHere(pool.level_m, pool.name, pool.liquid, POOLS.name, key)
        for key, stream, one in streams_of(world, land):
            runs = stream_over(one, here)
            if runs is not None and float(runs[0, 0]) > z and (best is None or float(runs[0, 0]) > best.surface_m):
                best = WaterHere(float(runs[0, 0]), stream.name, "water", STREAMS.name, key)
    return best
