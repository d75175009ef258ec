"""Raise and Lower: so many metres a second under the middle of the brush."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import HIGHEST_M, LOWEST_M, Touch, span, weights_in_row
from fernfield.core.kernels import kernel


@kernel
def _add(heights: FloatArray, row: float, col: float, radius: float, softness: float, amount: float) -> None:
    rows, cols = heights.shape
    weights = np.empty(min(cols, int(2 * radius) + 3), np.float32)
    metres = np.float32(amount)
    low, high = np.float32(LOWEST_M), np.float32(HIGHEST_M)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line = heights[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, r - row, first - col, radius, softness)
        for i in range(line.shape[0]):
            line[i] = min(max(line[i] + metres * weight[i], low), high)


def raise_in_place(heights: FloatArray, touch: Touch) -> None:
    """Add ``amount`` metres times the brush's weight to `heights` (modified).

    Parameters
    ----------
    heights : shape (rows, cols), any part of a tract. [m]
    touch : Touch
        Middle and radius in posts of `heights` (the middle may lie outside), amount. [m]
    """
    _add(heights, touch.row, touch.col, touch.radius, touch.softness, touch.amount)


def lower_in_place(heights: FloatArray, touch: Touch) -> None:
    """Take ``amount`` metres times the brush's weight off `heights` (modified)."""
    _add(heights, touch.row, touch.col, touch.radius, touch.softness, -touch.amount)
