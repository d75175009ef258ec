"""Brush strokes on masks: arrays of 0 to 65,535 that say how much of something is there.

Cover opacities and the growth of a mix are both such masks.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.brush import Touch, span, squares, weights_in_row
from fernfield.core.brush.pressing import MaskPressing
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


@kernel
def _take_over(masks: NDArray[np.uint16], under: FloatArray, out: NDArray[np.uint16]) -> None:
    count, rows, cols = masks.shape
    solid = 65_535.0
    shares = np.empty(count, np.float64)
    for r in range(rows):
        for c in range(cols):
            through = 1.0
            for i in range(count - 1, -1, -1):
                opacity = masks[i, r, c] / solid
                shares[i] = through * opacity
                through *= 1 - opacity
            # Where all that shows through is the lowest anyway, nothing is gained by laying it.
            if through * solid <= 1 or under[0, r, c] >= 1:
                for i in range(count):
                    out[i, r, c] = masks[i, r, c]
                continue
            left = 1.0
            for i in range(count - 1, -1, -1):
                own = shares[i] + through * under[i, r, c]
                if left * solid <= 1:
                    out[i, r, c] = masks[i, r, c]
                    continue
                out[i, r, c] = np.uint16(min(max(own / left, 0.0), 1.0) * solid + 0.5)
                left -= own


def taken_over(masks: NDArray[np.uint16], under: FloatArray) -> NDArray[np.uint16]:
    """Masks of a stack, lowest first, with what showed through all of them laid on as well: it looks the same.

    masks, under : shape (masks, rows, cols); the share of each where none of them is, adding up to 1
    """
    out = np.empty_like(masks)
    _take_over(np.ascontiguousarray(masks), np.ascontiguousarray(under, np.float32), out)
    return out


def lift(p: MaskPressing) -> None:
    """Take the mask that is worked on away."""
    press_mask(p.masks[p.at], p.weights, -p.amount)
