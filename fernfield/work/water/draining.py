"""How a land drains, worked out for all of it at once and kept until its ground changes."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray, Window
from fernfield.core.water.drainage import Drainage, catchments, drain, hollows, strahler
from fernfield.core.wetness import wetness
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld

What = Literal["catchment_m2", "direction", "wetness", "order"]
WHATS = ("catchment_m2", "direction", "wetness", "order")
MOST_SIDE = 4_097
"""Larger lands are looked at every second post, or fourth, ...: all of them must be in memory at once."""
STREAM_M2 = 5_000.0
"""From this catchment on water runs in a stream (our choice)."""
MOST_LISTED = 200


@dataclass(frozen=True)
class Drained:
    """A land's drainage: every `step`-th post of `window`."""

    step: int
    window: Window
    heights: FloatArray
    drainage: Drainage
    area: NDArray[np.int32]
    spacing: float


_KNOWN: OrderedDict[tuple[str, str], tuple[tuple[object, ...], Drained]] = OrderedDict()
_LOCK = threading.Lock()


def drained(world: OpenWorld, land: Land) -> Drained:
    """The drainage of a whole land as its ground is now."""
    bounds, step = land.bounds, 1
    while max(bounds.shape) / step > MOST_SIDE:
        step *= 2
    window = Window(bounds.row0 // step * step, bounds.col0 // step * step, bounds.row1, bounds.col1)
    with world.lock:
        mark = (land.tract_ids, window, step, sum(
            count for part in land.parts for place, count in part.tract.cache.written.items() if place[0] == HEIGHT
        ))  # fmt: skip
        own = world.id, land.id
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
        while len(_KNOWN) > 2:
            _KNOWN.popitem(last=False)
    return found


def drainage_of(world: OpenWorld, land: Land, what: What, posts: Window, step: int = 1) -> FloatArray:
    """One of `WHATS` at every `step`-th post of a window."""
    found = drained(world, land)
    cell = found.spacing**2
    rows = (np.arange(posts.row0, posts.row1, step) - found.window.row0) // found.step
    cols = (np.arange(posts.col0, posts.col1, step) - found.window.col0) // found.step
    at = np.ix_(rows.clip(0, found.area.shape[0] - 1), cols.clip(0, found.area.shape[1] - 1))
    if what == "catchment_m2":
        return np.asarray(found.area[at] * cell, np.float32)
    if what == "direction":
        return np.asarray(found.drainage.to[at], np.float32)
    if what == "order":
        return np.asarray(strahler(found.drainage, found.area, max(2, round(STREAM_M2 / cell)))[at], np.float32)
    return np.asarray(wetness(found.heights, found.spacing)[at], np.float32)


def hollows_of(world: OpenWorld, land: Land, least_m2: float, least_deep_m: float) -> list[dict[str, Any]]:
    """The hollows of a land, the largest first."""
    found = drained(world, land)
    cell = found.spacing**2
    listed = hollows(found.heights, found.drainage, max(1, round(least_m2 / cell)), least_deep_m)
    out = []
    for one in listed[:MOST_LISTED]:
        row, col = one.row * found.step + found.window.row0, one.col * found.step + found.window.col0
        out.append({
            "floor": [land.grid.x_of(col), land.grid.y_of(row)], "floor_m": round(one.brim - one.deep, 3),
            "brim_m": one.brim, "area_m2": one.posts * cell, "volume_m3": round(one.depths * cell, 2),
            "greatest_depth_m": round(one.deep, 3),
        })  # fmt: skip
    return out
