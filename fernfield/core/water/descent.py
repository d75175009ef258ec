"""The steepest way down over posts, followed in its own direction: not only in the eight that lead from post to post.

On a plane a way over eight directions runs straight along one of them, however the plane falls. Here the direction is
that of the steepest of eight triangles around a post [1]_; of the two posts that it lies between the next is the one
that keeps the way nearest to it, all along [2]_ (from memory).

References
----------
.. [1] D. G. Tarboton (1997), doi:10.1029/96WR03137
.. [2] S. Orlandini, G. Moretti, M. Franchini, B. Aldighieri, B. Testa (2003), Path-based methods for the determination
   of nondispersive drainage directions in grid-based digital elevation models, Water Resources Research 39(6)
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel


def descend(
    heights: FloatArray, wet: NDArray[np.bool_] | NDArray[np.uint8], row: int, col: int, lean: float = 0.0
) -> tuple[NDArray[np.int64], bool, float]:
    """Down the steepest way from a post of a window, until none is lower, it is wet, or the window ends.

    lean : how far the way lies beside its own direction where it begins, clockwise [posts]
    Returns the posts, shape (posts, 2), each lower than the one before; whether the last of them has none lower beside
    it; and how far the way lies beside its direction there.
    """
    out = np.empty((heights.size, 2), np.int64)
    count, lowest, lean = _descend(np.ascontiguousarray(heights), wet.astype(np.uint8), row, col, lean, out)
    return out[:count].copy(), bool(lowest), float(lean)


@kernel
def _descend(
    heights: FloatArray, wet: NDArray[np.uint8], row: int, col: int, lean: float, out: NDArray[np.int64]
) -> tuple[int, bool, float]:
    rows, cols = heights.shape
    count = 0
    # The fall to each neighbour, clockwise from north.
    fall = np.zeros(8)
    while True:
        out[count, 0], out[count, 1] = row, col
        count += 1
        if wet[row, col] or row == 0 or col == 0 or row == rows - 1 or col == cols - 1:
            return count, False, lean
        best, most = -1, 0.0
        for k in range(8):
            dr = (-1, -1, 0, 1, 1, 1, 0, -1)[k]
            dc = (0, 1, 1, 1, 0, -1, -1, -1)[k]
            fall[k] = np.float64(heights[row, col]) - np.float64(heights[row + dr, col + dc])
            slope = fall[k] / math.sqrt(2.0) if k % 2 == 1 else fall[k]
            if slope > most:
                best, most = k, slope
        if best < 0:
            return count, True, lean
        step, lean = _next(fall, best, lean)
        row += (-1, -1, 0, 1, 1, 1, 0, -1)[step]
        col += (0, 1, 1, 1, 0, -1, -1, -1)[step]


@kernel
def _next(fall: NDArray[np.float64], best: int, lean: float) -> tuple[int, float]:
    """To which neighbour the way goes on, and how far it lies beside its direction then; `best`: the steepest."""
    most, straight, beside, side, turn = 0.0, best, best, 1.0, 0.0
    for k in range(0, 8, 2):
        for way in (1, 7):
            diagonal = (k + way) % 8
            along, across = fall[k], fall[diagonal] - fall[k]
            if across <= 0:
                slope, angle = along, 0.0
            elif across >= along:
                slope, angle = fall[diagonal] / math.sqrt(2.0), math.pi / 4
            else:
                slope, angle = math.sqrt(along * along + across * across), math.atan2(across, along)
            if slope > most:
                most, straight, beside, turn = slope, k, diagonal, angle
                side = 1.0 if way == 1 else -1.0
    if most <= 0:
        return best, 0.0
    by_straight = lean - side * math.sin(turn)
    by_beside = lean + side * math.sqrt(2.0) * math.sin(math.pi / 4 - turn)
    first, second = (straight, by_straight), (beside, by_beside)
    if abs(by_beside) < abs(by_straight):
        first, second = second, first
    for step, there in (first, second):
        if fall[step] > 0:
            return step, max(-1.0, min(1.0, there))
    return best, 0.0
