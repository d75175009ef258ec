"""Flatten: bring the ground to one elevation, at so many metres a second, never past it."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import Touch, span, squares, weights_in_row
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
    base, along = squares(col, radius, cols)
    weights = np.empty_like(along)
    metres, level = np.float32(amount), np.float32(target)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line = heights[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, along[first - base : last - base], r - row, radius, softness)
        for i in range(line.shape[0]):
            # Where a step would go past the target the target itself is written, so that
            # the ground ends on it to the last bit.
            height, step = line[i], metres * weight[i]
            up = height + step if height + step < level else level
            down = height - step if height - step > level else level
            weight[i] = up if height < level else down
        for i in range(line.shape[0]):
            line[i] = weight[i]


def flatten_in_place(heights: FloatArray, touch: Touch, target: float) -> None:
    """Move `heights` (modified) towards `target` by at most ``amount`` metres times the weight."""
    _toward(heights, touch.row, touch.col, touch.radius, touch.softness, float(touch.amount), float(target))
