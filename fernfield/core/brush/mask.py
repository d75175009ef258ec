"""Brush strokes on masks: arrays of 0 to 65,535 that say how much of something is there.

Cover opacities and the growth of a mix are both such masks.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.brush import Touch, span, squares, weights_in_row
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel


@kernel
def _shift(mask: NDArray[np.uint16], row: float, col: float, radius: float, softness: float, amount: float) -> None:
    rows, cols = mask.shape
    base, along = squares(col, radius, cols)
    weights = np.empty_like(along)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line = mask[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, along[first - base : last - base], r - row, radius, softness)
        for i in range(line.shape[0]):
            value = np.float32(line[i]) + np.float32(amount * 65535.0) * weight[i]
            line[i] = np.uint16(min(max(value + np.float32(0.5), np.float32(0)), np.float32(65535)))


def add_in_place(mask: NDArray[np.uint16], touch: Touch) -> None:
    """Add ``amount`` (a share of full, may be negative) times the weight to `mask` (modified), within 0 to full."""
    _shift(mask, float(touch.row), float(touch.col), float(touch.radius), float(touch.softness), float(touch.amount))


def press_mask(mask: NDArray[np.uint16], weights: FloatArray, amount: float) -> None:
    """`add_in_place` with a brush of any form: `weights` of the mask's shape, 0 to 1."""
    value = mask + weights * np.float32(amount * 65535.0)
    mask[...] = np.clip(value + np.float32(0.5), 0, 65535).astype(np.uint16)
