"""Carrying land: a patch of posts seen from another place, turned or mirrored, and closing the gap it leaves."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.pushpull import pulled, tight


@dataclass(frozen=True, slots=True)
class Carriage:
    """From a place at the target back to the source, both in posts of arrays of their own.

    row, col : the middle at the target; from_row, from_col : the middle at the source
    turn : how far the land was turned, clockwise [°]; mirrored : east and west changed over before that
    scale : posts of the source to a post of the target
    """

    row: float
    col: float
    from_row: float
    from_col: float
    turn: float = 0.0
    mirrored: bool = False
    scale: float = 1.0

    def matrix(self) -> NDArray[np.float64]:
        """Shape (2, 3): source (row, col) from target (row, col, 1)."""
        cos, sin = math.cos(math.radians(self.turn)), math.sin(math.radians(self.turn))
        if self.turn % 90 == 0:
            cos, sin = round(cos), round(sin)
        flip = -1 if self.mirrored else 1
        # A clockwise turn seen from above, rows running south: undo it, then the mirror.
        linear = np.array([[cos, -sin], [flip * sin, flip * cos]]) * self.scale
        move = np.array([self.from_row, self.from_col]) - linear @ np.array([self.row, self.col])
        return np.column_stack([linear, move])


def seen(source: NDArray[Any], shape: tuple[int, int], carriage: Carriage) -> NDArray[np.float32]:
    """`source` as it lies at the target: (rows, cols) of `shape`, NaN where the source has nothing.

    Between posts by the cubic of Catmull and Rom, which goes through every post: a move by
    whole posts is exact.
    """
    out = np.empty(shape, np.float32)
    _seen(out, np.ascontiguousarray(source, np.float32), carriage.matrix())
    return out


@kernel
def _cubic(a: float, b: float, c: float, d: float, t: float) -> float:
    return b + 0.5 * t * (c - a + t * (2 * a - 5 * b + 4 * c - d + t * (3 * (b - c) + d - a)))


@kernel
def _seen(out: FloatArray, source: FloatArray, matrix: NDArray[np.float64]) -> None:
    rows, cols = source.shape
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            y = matrix[0, 0] * r + matrix[0, 1] * c + matrix[0, 2]
            x = matrix[1, 0] * r + matrix[1, 1] * c + matrix[1, 2]
            if y < -1e-6 or x < -1e-6 or y > rows - 1 + 1e-6 or x > cols - 1 + 1e-6:
                out[r, c] = np.nan
                continue
            r0, c0 = int(math.floor(y + 1e-9)), int(math.floor(x + 1e-9))
            fy, fx = y - r0, x - c0
            if abs(fy) < 1e-6 and abs(fx) < 1e-6:
                out[r, c] = source[min(max(r0, 0), rows - 1), min(max(c0, 0), cols - 1)]
                continue
            c_0, c_1 = max(c0 - 1, 0), min(max(c0, 0), cols - 1)
            c_2, c_3 = min(c0 + 1, cols - 1), min(c0 + 2, cols - 1)
            lines = np.empty(4)
            for i in range(4):
                row = source[min(max(r0 - 1 + i, 0), rows - 1)]
                lines[i] = _cubic(row[c_0], row[c_1], row[c_2], row[c_3], fx)
            out[r, c] = _cubic(lines[0], lines[1], lines[2], lines[3], fy)


def mend(heights: FloatArray, gap: FloatArray) -> FloatArray:
    """`heights` with the posts where `gap` is above 0 filled in from around, smoothly.

    Filled from coarser and coarser means, then drawn tight like a skin by some rounds of averaging.
    """
    if not (gap <= 0).any():
        return heights.copy()
    return tight(pulled(heights.astype(np.float32), (gap <= 0).astype(np.float32)), gap > 0)
