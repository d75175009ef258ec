"""Sheets: sets of ground edits that are stacked over the base and add up to the ground."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

BitsArray = NDArray[np.uint32]


def compose(base: FloatArray, sheets: Sequence[tuple[float, FloatArray]]) -> FloatArray:
    """The ground: `base` and every sheet by its weight. Summed in float64, so that the order does not matter.

    Shapes are equal; heights in metres, weights 0 to 1.
    """
    if not sheets:
        return base.copy()
    total = base.astype(np.float64)
    for weight, sheet in sheets:
        total += weight * sheet.astype(np.float64)
    return total.astype(np.float32)


def base_of(ground: FloatArray, under: BitsArray) -> FloatArray:
    """The base under a ground, from what their bits differ in: exact to the last one."""
    return (np.ascontiguousarray(ground).view(np.uint32) ^ under).view(np.float32)


def under_of(ground: FloatArray, base: FloatArray) -> BitsArray:
    """What the bits of a ground and its base differ in; nothing where they are the same."""
    return np.ascontiguousarray(ground).view(np.uint32) ^ np.ascontiguousarray(base).view(np.uint32)
