"""Raise and Lower: so many metres a second under the middle of the brush."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M, Touch, span, squares, weights_in_row
from fernfield.core.brush.pressing import Pressing
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel


@kernel
def _add(heights: FloatArray, row: float, col: float, radius: float, softness: float, amount: float) -> None:
    rows, cols = heights.shape
    base, along = squares(col, radius, cols)
    weights = np.empty_like(along)
    metres = np.float32(amount)
    low, high = np.float32(LOWEST_M), np.float32(HIGHEST_M)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line = heights[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, along[first - base : last - base], r - row, radius, softness)
        for i in range(line.shape[0]):
            weight[i] = line[i] + metres * weight[i]
        for i in range(line.shape[0]):
            height = weight[i]
            height = height if height > low else low
            line[i] = height if height < high else high


def raise_in_place(heights: FloatArray, touch: Touch) -> None:
    """Add ``amount`` metres times the brush's weight to `heights` (modified).

    Parameters
    ----------
    heights : shape (rows, cols), any part of a tract. [m]
    touch : Touch
        Middle and radius in posts of `heights` (the middle may lie outside), amount. [m]
    """
    _add(heights, float(touch.row), float(touch.col), float(touch.radius), float(touch.softness), float(touch.amount))


def lower_in_place(heights: FloatArray, touch: Touch) -> None:
    """Take ``amount`` metres times the brush's weight off `heights` (modified)."""
    _add(heights, float(touch.row), float(touch.col), float(touch.radius), float(touch.softness), -float(touch.amount))


def press_up(p: Pressing) -> None:
    """Raise by ``amount`` metres times the weight, with a brush of any form."""
    p.heights += p.weights * np.float32(p.amount)
    np.clip(p.heights, LOWEST_M, HIGHEST_M, out=p.heights)


def press_down(p: Pressing) -> None:
    """Lower by ``amount`` metres times the weight, with a brush of any form."""
    p.heights -= p.weights * np.float32(p.amount)
    np.clip(p.heights, LOWEST_M, HIGHEST_M, out=p.heights)
