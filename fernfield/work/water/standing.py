"""Where water stands: the surface of the sea where it reaches, and of every pool as the ground is now."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.keep import depths
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.water.hollow import spread
from fernfield.core.water.liquids import Liquid
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import plot_corners
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.water.laying import lowest_of, streams_of
from fernfield.work.water.rows import DRY_M, POOLS, STREAMS, WATER, Pool, liquid_of, sea_of

REACH_SIDE, KEPT_STEP = 1_025, 8
"""How far the sea reaches is looked at on so many posts a side at most. On larger lands, and for what is seen from far,
that is on levels kept beside the ground, from every eighth post on: its cost is not that of the land."""
FIRST_POSTS, MOST_POSTS = 96, 3_000_000
"""A pool is looked for this far around its place first, and on so many posts at most."""
MOST_KEPT = 256
MEETS_M = 0.02
NO_TIDE = 1e6
"""How high ground to which the sea never comes lies between the tides. [%]"""

_REACH: OrderedDict[tuple[str, str], tuple[tuple[object, ...], int, Window, ByteArray]] = OrderedDict()
_POOLS: OrderedDict[tuple[str, str, str], tuple[tuple[object, ...], Extent]] = OrderedDict()
_LOCK = threading.Lock()


@dataclass(frozen=True, slots=True)
class Extent:
    """The posts of a land that a pool covers: a mask of a window; whether it runs off the land's edge, and whether it
    was cut off as too large."""

    window: Window
    wet: NDArray[np.bool_]
    runs_off: bool = False
    too_large: bool = False

    def at(self, posts: Window, step: int = 1) -> NDArray[np.bool_]:
        """Whether it covers every `step`-th post of a window."""
        rows = np.arange(posts.row0, posts.row1, step) - self.window.row0
        cols = np.arange(posts.col0, posts.col1, step) - self.window.col0
        height, width = self.wet.shape
        inside = ((rows >= 0) & (rows < height))[:, None] & ((cols >= 0) & (cols < width))[None]
        return np.asarray(self.wet[np.ix_(rows.clip(0, height - 1), cols.clip(0, width - 1))] & inside)


def _reached(world: OpenWorld, land: Land, sea: float, seen_step: int = 1) -> tuple[int, Window, ByteArray]:
    """Which posts the sea reaches from the land's edge: every so many of a window that is all of it."""
    bounds = land.bounds
    step = 1 if max(bounds.shape) <= REACH_SIDE and seen_step < KEPT_STEP else max(KEPT_STEP, seen_step)
    while max(bounds.shape) / step > REACH_SIDE:
        step *= 2
    window = Window(bounds.row0 // step * step, bounds.col0 // step * step, bounds.row1, bounds.col1)
    own = world.id, f"{land.id}/{sea:g}/{step}"
    mark: tuple[object, ...] = (world.revision, sea, bounds, land.tract_ids)
    with _LOCK:
        known = _REACH.get(own)
        if known is not None and known[0] == mark:
            return known[1:]
    below = (np.asarray(land.seen(HEIGHT, window, step)) < np.float32(sea)).astype(np.uint8)
    void = land.void(np.arange(window.row0, window.row1, step), np.arange(window.col0, window.col1, step))
    if void is not None:
        # The sea comes in over what is no land.
        below[void] = 1
    _, label = cv2.connectedComponents(np.pad(below, 1, constant_values=1), connectivity=8)
    reach = (label == label[0, 0])[1:-1, 1:-1] & (below > 0)
    # One post more, so that shores are drawn; what lies there is above the sea, or it would be reached.
    wide = np.asarray(cv2.dilate(reach.astype(np.uint8), np.ones((3, 3), np.uint8)), np.uint8)
    with _LOCK:
        _REACH[own] = mark, step, window, wide
        _REACH.move_to_end(own)
        while len(_REACH) > 16:
            _REACH.popitem(last=False)
    return step, window, wide


def sea_over(world: OpenWorld, land: Land, posts: Window, step: int = 1, level: float | None = None) -> FloatArray:
    """The surface of the sea (or as if it stood at `level`) at every `step`-th post; `DRY_M` where it is not. [m]

    How far it reaches is that of the last revision, and one post more; while a stroke is drawn also what it has dug in
    the window from there on. Large lands, and what is seen from afar, are looked at on every eighth post or fewer.
    """
    shape = -(-posts.rows // step), -(-posts.cols // step)
    sea = sea_of(world, land.id)
    sea = sea if level is None or sea == DRY_M else level
    if sea == DRY_M or land.height_range(land.clip(posts))[0] >= sea:
        return np.full(shape, DRY_M, np.float32)
    out = np.full(shape, sea, np.float32)
    if world.only(WATER).inland or land.height_range(land.bounds)[0] >= sea:
        return out
    coarse, window, reach = _reached(world, land, sea, step)
    rows = np.clip((np.arange(shape[0]) * step + posts.row0 - window.row0) // coarse, 0, reach.shape[0] - 1)
    cols = np.clip((np.arange(shape[1]) * step + posts.col0 - window.col0) // coarse, 0, reach.shape[1] - 1)
    here = reach[np.ix_(rows, cols)] > 0
    if not here.all():
        if world.holds and here.any():
            here |= _let_in(np.asarray(land.seen(HEIGHT, posts, step))[: shape[0], : shape[1]] < np.float32(sea), here)
        out[~here] = DRY_M
    return out


def _let_in(below: NDArray[np.bool_], here: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Ground under the sea's level that is connected with where the sea is, and one post more."""
    _, label = cv2.connectedComponents(below.astype(np.uint8), connectivity=8)
    with_sea = np.zeros(int(label.max()) + 1, np.uint8)
    with_sea[label[below & here]] = 1
    return np.asarray(cv2.dilate(with_sea[label] * below.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0)


def tides(world: OpenWorld, land: Land, window: Window, step: int = 1) -> FloatArray:
    """How high every `step`-th post of a window lies between the tides, 0 at low and 100 at high [%]; `NO_TIDE` where
    the sea does not come. Hold the world's lock."""
    sea = world.only(WATER)
    shape = -(-window.rows // step), -(-window.cols // step)
    low, high = sea.tide_low_m, sea.tide_high_m
    if low is None or high is None or sea_of(world, land.id) == DRY_M:
        return np.full(shape, NO_TIDE, np.float32)
    heights = np.asarray(land.seen(HEIGHT, window, step), np.float32)[: shape[0], : shape[1]]
    part = (heights - np.float32(low)) / np.float32(max(high - low, 1e-3)) * np.float32(100)
    # Land below high tide that the sea does not reach stays dry. Above, it goes on as far up again as the tide where
    # the sea would come if it rose on: not around a hollow inland that is as low.
    above = 2 * high - low
    reaches = np.where(heights < np.float32(high), sea_over(world, land, window, step, high),
                       sea_over(world, land, window, step, above))  # fmt: skip
    dry = (heights < np.float32(above)) & (reaches == DRY_M)
    return np.asarray(np.where(dry, np.float32(NO_TIDE), part), np.float32)


def between_tides(world: OpenWorld, land: Land, posts: Window, step: int = 1) -> FloatArray:
    """1 at every `step`-th post that the sea covers at high tide and leaves at low tide, else 0."""
    part = tides(world, land, posts, step)
    return ((part >= 0) & (part < 100)).astype(np.float32)


def home_of(world: OpenWorld, pool: Pool) -> Tract:
    """The tract that a pool lies in."""
    return world.first_tract if pool.tract is None else world.tract(pool.tract)


def pool_extent(world: OpenWorld, land: Land, key: str, pool: Pool) -> Extent:
    """What a pool covers as the ground is now. Its cost is that of the pool, not of the land."""
    home = next(part for part in land.parts if part.tract.row.id == home_of(world, pool).row.id)
    x, y = pool.x + home.x, pool.y + home.y
    plot = world.rows[PLOTS.name].get(pool.plot or "")
    own = world.id, land.id, key
    with _LOCK:
        known = _POOLS.get(own)
    if known is not None and known[0] == _mark(world, land, known[1].window, pool, plot):
        return known[1]
    found = _spread_from(world, land, pool, x, y)
    with _LOCK:
        _POOLS[own] = _mark(world, land, found.window, pool, plot), found
        _POOLS.move_to_end(own)
        while len(_POOLS) > MOST_KEPT:
            _POOLS.popitem(last=False)
    return found


def _mark(world: OpenWorld, land: Land, window: Window, pool: Pool, plot: object) -> tuple[object, ...]:
    """What tells whether a pool is as it was: its row, and the ground of the tiles around it."""
    written = tuple(
        tract.cache.written.get((HEIGHT, *tile), 0) for tract, tile, _, _ in land.tiles(land.clip(window.pad(1)))
    )
    streams = tuple(id(stream) for _, stream, _ in streams_of(world, land))
    return id(pool), pool, id(plot), land.grid, land.bounds, written, streams


def _spread_from(world: OpenWorld, land: Land, pool: Pool, x: float, y: float) -> Extent:
    grid, bounds = land.grid, land.bounds
    row = min(max(round(grid.row_of(y)), bounds.row0), bounds.row1 - 1)
    col = min(max(round(grid.col_of(x)), bounds.col0), bounds.col1 - 1)
    around = FIRST_POSTS
    while True:
        window = land.clip(Window(row, col, row + 1, col + 1).pad(around))
        heights = land.read(HEIGHT, window)
        closed = _closed(world, land, pool, window, (row, col))
        wet = spread(heights, row - window.row0, col - window.col0, pool.level_m, closed)
        sides = (wet[0].any(), wet[-1].any(), wet[:, 0].any(), wet[:, -1].any())
        edges = (window.row0 == bounds.row0, window.row1 == bounds.row1, window.col0 == bounds.col0,
                 window.col1 == bounds.col1)  # fmt: skip
        cut = any(side and not edge for side, edge in zip(sides, edges, strict=True))
        runs_off = any(side and edge for side, edge in zip(sides, edges, strict=True))
        if not cut:
            return Extent(window, wet, runs_off and pool.plot is None)
        if window.rows * window.cols > MOST_POSTS:
            return Extent(window, wet, runs_off, True)
        around *= 2


def _closed(world: OpenWorld, land: Land, pool: Pool, window: Window, at: tuple[int, int]) -> ByteArray | None:
    """Where a pool must not go: out of its plot, down the bed of a stream, and where there is no land."""
    void = land.void(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1))
    closed = None if void is None else void.astype(np.uint8)
    # What comes into a pool meets its level; what ends below it leads away from it, and would empty it. One that runs
    # over its brim drowns them all.
    leave = (
        []
        if pool.runs_over
        else [one for _, _, one in streams_of(world, land) if one.course.surface[-1] < pool.level_m - MEETS_M]
    )
    bed = lowest_of(leave, window, pool.level_m)
    if bed is not None and bed[at[0] - window.row0, at[1] - window.col0] >= np.float32(pool.level_m):
        below = (bed < np.float32(pool.level_m)).astype(np.uint8)
        closed = below if closed is None else np.maximum(closed, below)
    plot = world.rows[PLOTS.name].get(pool.plot or "")
    if not isinstance(plot, Plot):
        return closed
    corners = np.array([land.grid.post_of(x, y) for x, y in plot_corners(world, land, plot)], np.float64)
    outside = (depths([corners], window.shape, window.row0, window.col0) < 0).astype(np.uint8)
    return outside if closed is None else np.maximum(closed, outside)


def pools_of(world: OpenWorld, land: Land) -> Iterator[tuple[str, Pool]]:
    """The pools of a land."""
    for part in land.parts:
        yield from world.each_in(POOLS, part.tract.row.id)


def standing(
    world: OpenWorld, land: Land, window: Window, step: int = 1, *, firm: bool = False, sea_m: float | None = None
) -> FloatArray:
    """The surface of sea and pools at every `step`-th post of a window, `DRY_M` where there is none. [m]

    Beside what is wet it goes on for one post, so that shores can be drawn: water stands where it is above the ground.
    `firm`: only what bears a walker; `sea_m`: as if the sea stood there. Hold the world's lock.
    """
    shape = -(-window.rows // step), -(-window.cols // step)
    out = np.full(shape, DRY_M, np.float32) if firm else sea_over(world, land, window, step, sea_m)
    for key, pool in pools_of(world, land):
        if firm and liquid_of(world, pool.liquid).wade_m > 0:
            continue
        extent = pool_extent(world, land, key, pool)
        both = extent.window.pad(1).meet(window)
        if both.empty or not extent.wet.any():
            continue
        wet = cv2.dilate(np.pad(extent.wet, 1).astype(np.uint8), np.ones((3, 3), np.uint8))
        first_row = -(-(both.row0 - window.row0) // step)
        first_col = -(-(both.col0 - window.col0) // step)
        rows = np.arange(first_row, out.shape[0])
        cols = np.arange(first_col, out.shape[1])
        at_rows = rows * step + window.row0 - extent.window.row0 + 1
        at_cols = cols * step + window.col0 - extent.window.col0 + 1
        at_rows, at_cols = at_rows[at_rows < wet.shape[0]], at_cols[at_cols < wet.shape[1]]
        if not (len(at_rows) and len(at_cols)):
            continue
        part = out[first_row : first_row + len(at_rows), first_col : first_col + len(at_cols)]
        np.maximum(part, np.float32(pool.level_m), out=part, where=wet[np.ix_(at_rows, at_cols)] > 0)
    return out


def standing_mark(world: OpenWorld, land: Land) -> tuple[object, ...]:
    """What tells whether water stands elsewhere than before. Hold the world's lock."""
    sea = sea_of(world, land.id)
    reach: object = None
    if not world.only(WATER).inland and sea != DRY_M and land.height_range(land.bounds)[0] < sea:
        reach = hash(_reached(world, land, sea)[2].tobytes())
    pools = []
    for key, pool in pools_of(world, land):
        extent = pool_extent(world, land, key, pool)
        pools.append((key, pool.level_m, extent.window, hash(extent.wet.tobytes())))
    streams = tuple((key, id(row)) for part in land.parts for key, row in world.each_in(STREAMS, part.tract.row.id))
    return sea, reach, tuple(pools), streams


def liquids_over(
    world: OpenWorld, land: Land, posts: Window, step: int = 1
) -> Iterator[tuple[NDArray[np.bool_], Liquid]]:
    """Where something else than water stands, and what, at every `step`-th post of a window. Hold the world's lock."""
    for key, pool in pools_of(world, land):
        if pool.liquid == "water":
            continue
        extent = pool_extent(world, land, key, pool)
        if extent.window.meet(posts).empty:
            continue
        yield extent.at(posts, step), liquid_of(world, pool.liquid)
