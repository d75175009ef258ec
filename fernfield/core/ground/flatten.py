"""Flatten: bring the ground to one elevation, at so many metres a second, never past it."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import Touch, span, weights_in_row
from fernfield.core.kernels import kernel


@kernel
def _toward(
    heights: FloatArray,
    row: float,
    col: float,
    radius: float,
    softness: float,
    amount: float,
    target: float,
) -> None:
    rows, cols = heights.shape
    weights = np.empty(min(cols, int(2 * radius) + 3), np.float32)
    metres, level = np.float32(amount), np.float32(target)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line = heights[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, r - row, first - col, radius, softness)
        for i in range(line.shape[0]):
            step = metres * weight[i]
            away = level - line[i]
            # Within one step of the target the target itself is written, so that the
            # ground ends on it to the last bit.
            if away <= step and away >= -step and step > 0:
                line[i] = level
            else:
                line[i] += min(max(away, -step), step)


def flatten_in_place(heights: FloatArray, touch: Touch, target: float) -> None:
    """Move `heights` (modified) towards `target` by at most ``amount`` metres times the weight."""
    _toward(heights, touch.row, touch.col, touch.radius, touch.softness, touch.amount, target)
