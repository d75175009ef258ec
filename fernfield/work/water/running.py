"""The way of water over the land: down from a spot, over what brims it passes, to where it ends."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.grid import FloatArray, Window
from fernfield.core.water.descent import descend
from fernfield.core.water.hollow import CUT_OFF, Brim, Risen, rise
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.standing import sea_over, standing

FIRST_POSTS, FEW_POSTS, MOST_POSTS = 128, 24, 1_100_000
"""Hollows are looked for this far around a spot first, and on so many posts at most."""
OUTER_POSTS = 120_000
"""Hollows around a hollow are looked for on so many posts, or twice its own."""
SHALLOW_M = 0.25
"""The way down goes over brims that are less than this above their floor."""
LONGEST_WAY = 60_000
LOOP_POSTS = 6
LOOKED_AT = 64
"""The way is looked for in windows that reach so many posts around its last one."""

Post = tuple[int, int]
Heights = Callable[[Window], FloatArray]


@dataclass(frozen=True)
class Around:
    """A window of a land in which water rose from a post."""

    window: Window
    heights: FloatArray
    risen: Risen


def nearest_post(land: Land, x: float, y: float) -> Post:
    """The post of a land that is nearest to a place."""
    bounds = land.bounds
    row = min(max(round(land.grid.row_of(y)), bounds.row0), bounds.row1 - 1)
    return row, min(max(round(land.grid.col_of(x)), bounds.col0), bounds.col1 - 1)


def heights_of(world: OpenWorld, land: Land) -> Heights:
    """Reads the ground of a land; the world is held only meanwhile."""

    def read(window: Window) -> FloatArray:
        with world.lock:
            return np.array(land.read(HEIGHT, window), np.float32)

    return read


def rising(land: Land, read: Heights, post: Post, *, first_only: bool = False) -> Around:
    """Water rises from a post to its first brim, or until it runs off the land or further than is looked at."""
    bounds, around, (row, col) = land.bounds, FEW_POSTS if first_only else FIRST_POSTS, post
    while True:
        window = land.clip(Window(row, col, row + 1, col + 1).pad(around))
        heights = read(window)
        void = land.void(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1))
        edges = (window.row0 == bounds.row0, window.row1 == bounds.row1, window.col0 == bounds.col0,
                 window.col1 == bounds.col1)  # fmt: skip
        closed = None if void is None else void.astype(np.uint8)
        found = rise(heights, row - window.row0, col - window.col0, edges, MOST_POSTS, closed, first_only, OUTER_POSTS)
        size = window.rows * window.cols
        # What lies around a hollow is looked at in a window that is a few times as large.
        enough = found.brims and size > max(2 * OUTER_POSTS, 3 * found.brims[0].count)
        if found.end != CUT_OFF or enough or size > 4 * MOST_POSTS:
            return Around(window, heights, found)
        around *= 2


@dataclass(frozen=True)
class Way:
    """The posts that water takes; `ends` is "wet", "edge" or "hollow"; `around`, `brim`: what the hollow is."""

    posts: NDArray[np.int64]
    ends: str
    around: Around | None = None
    brim: Brim | None = None


def dry(_window: Window, heights: FloatArray) -> NDArray[np.bool_]:
    return np.zeros(heights.shape, bool)


def run_down(
    land: Land, read: Heights, wet: Callable[[Window, FloatArray], NDArray[np.bool_]], start: Post, over_m: float
) -> Way:
    """Down the steepest way, over brims less than `over_m` above their floor, to water, the land's edge or a hollow."""
    parts, count, at = [np.array([start], np.int64)], 1, start
    floors: set[Post] = set()
    lean = 0.0
    while count < LONGEST_WAY:
        window = land.clip(Window(at[0], at[1], at[0] + 1, at[1] + 1).pad(LOOKED_AT))
        heights = read(window)
        under = wet(window, heights)
        way, lowest, lean = descend(heights, under, at[0] - window.row0, at[1] - window.col0, lean)
        last = way[-1]
        way = way + np.array([window.row0, window.col0])
        parts.append(way[1:])
        count += len(way) - 1
        at = int(way[-1][0]), int(way[-1][1])
        if under[last[0], last[1]]:
            return Way(np.concatenate(parts), "wet")
        if at_edge(land, at):
            return Way(np.concatenate(parts), "edge")
        if not lowest:
            continue
        floors.add(at)
        around, brim = _next_brim(land, read, at, floors)
        floor = float(around.heights[at[0] - around.window.row0, at[1] - around.window.col0])
        if brim is None or brim.level - floor > over_m:
            return Way(np.concatenate(parts), "hollow", around, brim)
        over = np.array(_over(around, brim), np.int64) + np.array([around.window.row0, around.window.col0])
        parts.append(over)
        count += len(over)
        at = int(over[-1][0]), int(over[-1][1])
        if brim.beyond is None:
            return Way(np.concatenate(parts), "edge")
    return Way(np.concatenate(parts), "hollow")


def _next_brim(land: Land, read: Heights, floor: Post, floors: set[Post]) -> tuple[Around, Brim | None]:
    """The lowest brim around a floor over which water does not only come to where it was before."""
    for first_only in (True, False):
        around = rising(land, read, floor, first_only=first_only)
        for brim in around.risen.brims:
            if brim.beyond is None:
                return around, brim
            beyond = brim.beyond[0] + around.window.row0, brim.beyond[1] + around.window.col0
            if down_to(land, read, beyond) not in floors:
                return around, brim
    return around, None


def down_to(land: Land, read: Heights, post: Post) -> Post:
    """Down the steepest way to a post that has none lower beside it, or to the land's edge."""
    lean = 0.0
    while True:
        window = land.clip(Window(post[0], post[1], post[0] + 1, post[1] + 1).pad(LOOKED_AT))
        heights = read(window)
        way, lowest, lean = descend(heights, dry(window, heights), post[0] - window.row0, post[1] - window.col0, lean)
        post = int(way[-1][0]) + window.row0, int(way[-1][1]) + window.col0
        if lowest or at_edge(land, post):
            return post


def without_loops(posts: NDArray[np.int64]) -> NDArray[np.int64]:
    """A way without what it goes into and comes out of again: floors of hollows that it passes through."""
    kept: list[Post] = []
    place: dict[Post, int] = {}
    for r, c in posts.tolist():
        beside = [at for i in (-1, 0, 1) for j in (-1, 0, 1) if (at := place.get((r + i, c + j))) is not None]
        first = min(beside, default=len(kept))
        if len(kept) - first > LOOP_POSTS:
            for gone in kept[first + 1 :]:
                place.pop(gone, None)
            del kept[first + 1 :]
        place.setdefault((r, c), len(kept))
        kept.append((r, c))
    return np.array(kept, np.int64)


def at_edge(land: Land, post: Post) -> bool:
    """Whether water leaves the land from a post: it is on its border, or beside a gap."""
    bounds = land.bounds
    if post[0] in (bounds.row0, bounds.row1 - 1) or post[1] in (bounds.col0, bounds.col1 - 1):
        return True
    around = np.array([-1, 0, 1])
    return land.void(post[0] + around, post[1] + around) is not None


class WayTold(TypedDict):
    """The way of water: its points [m], and whether it ends in the "sea", a "pool", a "hollow" or at the "edge"."""

    line: list[list[float]]
    ends: str


def way_down(world: OpenWorld, land: Land, x: float, y: float) -> WayTold:
    """The way of water from a spot: the steepest, over shallow brims, to the sea, a pool, a hollow or the edge."""
    land.need(x, y, "the spot")

    def wet(window: Window, heights: FloatArray) -> NDArray[np.bool_]:
        with world.lock:
            return np.asarray(standing(world, land, window) > heights)

    way = run_down(land, heights_of(world, land), wet, nearest_post(land, x, y), SHALLOW_M)
    line = [[land.grid.x_of(int(c)), land.grid.y_of(int(r))] for r, c in way.posts]
    ends = way.ends
    if ends == "wet":
        at = int(way.posts[-1][0]), int(way.posts[-1][1])
        here = Window(at[0], at[1], at[0] + 1, at[1] + 1)
        with world.lock:
            ends = "sea" if sea_over(world, land, here)[0, 0] > land.read(HEIGHT, here)[0, 0] else "pool"
    return {"line": _thinned(line), "ends": ends}


def _over(around: Around, brim: Brim) -> list[Post]:
    """The way that the water took from the floor to a brim and over it."""
    cols = around.heights.shape[1]
    order = {int(r) * cols + int(c): at for at, (r, c) in enumerate(around.risen.posts[: brim.count])}
    at, back = brim.spill[0] * cols + brim.spill[1], []
    while at >= 0 and at in order:
        back.append((at // cols, at % cols))
        at = int(around.risen.came[order[at]])
    way = back[::-1][1:]
    return [*way, brim.beyond] if brim.beyond is not None else way or [brim.spill]


def _thinned(line: list[list[float]]) -> list[list[float]]:
    """Without the points that lie straight between their neighbours."""
    out = line[:1]
    for before, at, after in zip(line, line[1:], line[2:], strict=False):
        ahead = (after[0] - at[0], after[1] - at[1])
        if (at[0] - before[0], at[1] - before[1]) != ahead:
            out.append(at)
    return out + line[-1:] if len(line) > 1 else out
