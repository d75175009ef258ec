"""The cheapest way of a road over a grid of posts: no step of it is steeper than it may be.

From each post to the eight around it. A step costs its length, times what its two ends cost on average, and more by how
steep it is. Searched with the costs so far and what is left at least (A*) [1]_.

References
----------
.. [1] P. E. Hart, N. J. Nilsson, B. Raphael (1968), A formal basis for the heuristic determination of minimum cost
   paths, IEEE Transactions on Systems Science and Cybernetics 4(2), doi:10.1109/TSSC.1968.300136
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

Spots = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class RoadWay:
    """The posts of a way from its beginning to its end, shape (n, 2), and what it costs; none where there is no way."""

    posts: Spots
    cost: float


def road_way(
    heights: FloatArray, costs: FloatArray, start: tuple[int, int], end: tuple[int, int], spacing: float,
    steepest: float, slope: float = 0.0,
) -> RoadWay:  # fmt: skip
    """The cheapest way from a post to another.

    heights : shape (rows, cols) [m]; costs : of a metre at each post, above 0; infinite where no road may lie
    steepest : rise over run of any step at most; slope : a step of grade g costs 1 + slope * g times as much
    """
    rows, cols = heights.shape
    least = float(np.min(costs, initial=np.inf))
    done = np.full(rows * cols, np.inf)
    came = np.full(rows * cols, -1, np.int64)
    flat = np.ascontiguousarray(heights, np.float32), np.ascontiguousarray(costs, np.float32)
    first, last = start[0] * cols + start[1], end[0] * cols + end[1]
    if not (math.isfinite(flat[1][start]) and math.isfinite(flat[1][end])):
        return RoadWay(np.empty((0, 2), np.int64), math.inf)
    cost = _search(*flat, first, last, float(spacing), float(steepest), float(slope), least, done, came)
    if not math.isfinite(cost):
        return RoadWay(np.empty((0, 2), np.int64), math.inf)
    way, at = [], last
    while at >= 0:
        way.append((at // cols, at % cols))
        at = int(came[at])
    return RoadWay(np.array(way[::-1], np.int64), cost)


@kernel
def _search(
    heights: FloatArray, costs: FloatArray, first: int, last: int, spacing: float, steepest: float, slope: float,
    least: float, done: NDArray[np.float64], came: Spots,
) -> float:  # fmt: skip
    rows, cols = heights.shape
    closed = np.zeros(rows * cols, np.bool_)
    keys = np.empty(4096, np.float64)
    items = np.empty(4096, np.int64)
    row1, col1 = last // cols, last % cols
    done[first] = 0.0
    size = _put(keys, items, 0, 0.0, first)
    while size > 0:
        at = items[0]
        size = _take(keys, items, size)
        if closed[at]:
            continue
        closed[at] = True
        if at == last:
            return float(done[at])
        r, c = at // cols, at % cols
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                r2, c2 = r + dr, c + dc
                if (dr == 0 and dc == 0) or r2 < 0 or c2 < 0 or r2 >= rows or c2 >= cols:
                    continue
                to = r2 * cols + c2
                if closed[to] or not np.isfinite(costs[r2, c2]):
                    continue
                run = spacing * math.sqrt(dr * dr + dc * dc)
                grade = abs(np.float64(heights[r2, c2]) - np.float64(heights[r, c])) / run
                if grade > steepest:
                    continue
                mean = 0.5 * (np.float64(costs[r, c]) + np.float64(costs[r2, c2]))
                cost = done[at] + run * mean * (1.0 + slope * grade)
                if cost < done[to]:
                    done[to] = cost
                    came[to] = at
                    a, b = abs(r2 - row1), abs(c2 - col1)
                    left = spacing * least * (max(a, b) + (math.sqrt(2.0) - 1.0) * min(a, b))
                    if size == keys.shape[0]:
                        keys, items = _wider(keys, items)
                    # What rounding may add must not make the estimate too large.
                    size = _put(keys, items, size, cost + left * (1 - 1e-12), to)
    return np.inf


@kernel
def _put(keys: NDArray[np.float64], items: Spots, size: int, key: float, item: int) -> int:
    at = size
    while at > 0:
        up = (at - 1) >> 2
        if keys[up] <= key:
            break
        keys[at], items[at] = keys[up], items[up]
        at = up
    keys[at], items[at] = key, item
    return size + 1


@kernel
def _take(keys: NDArray[np.float64], items: Spots, size: int) -> int:
    size -= 1
    key, item = keys[size], items[size]
    at = 0
    while True:
        down = 4 * at + 1
        if down >= size:
            break
        low = down
        for other in range(down + 1, min(down + 4, size)):
            if keys[other] < keys[low]:
                low = other
        if key <= keys[low]:
            break
        keys[at], items[at] = keys[low], items[low]
        at = low
    keys[at], items[at] = key, item
    return size


@kernel
def _wider(keys: NDArray[np.float64], items: Spots) -> tuple[NDArray[np.float64], Spots]:
    wide = np.empty(keys.shape[0] * 2, np.float64)
    wide[: keys.shape[0]] = keys
    more_items = np.empty(items.shape[0] * 2, np.int64)
    more_items[: items.shape[0]] = items
    return wide, more_items
