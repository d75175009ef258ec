"""The brush: how strongly each post is touched, by its distance from the middle.

Full strength reaches from the middle to ``radius * (1 - softness)``; from there to the
radius the weight falls as the cubic ``t * t * (3 - 2 * t)``, level at both ends, so that
a dab leaves no crease at either.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

LOWEST_M = -12_000.0
HIGHEST_M = 12_000.0
"""No tool takes the ground past these elevations. [m]"""

HARD_EDGE = np.float32(1e-4)
"""Width of the edge of a brush with no softness, as a part of its radius."""


@dataclass(frozen=True, slots=True)
class Brush:
    """A round brush: `radius` in metres above 0, `softness` 0 (hard) to 1 (soft from the middle)."""

    radius: float
    softness: float

    def __post_init__(self) -> None:
        if not (math.isfinite(self.radius) and self.radius > 0):
            raise InvalidInput(f"radius must be finite and above 0 m, not {self.radius}", "radius_m")
        if not 0 <= self.softness <= 1:
            raise InvalidInput(f"softness must be 0 to 1, not {self.softness}", "softness")


@dataclass(frozen=True, slots=True)
class Touch:
    """One dab in posts of the array it works on: middle, radius, softness and amount.

    `amount` is what the tool makes of strength and time: metres for Raise, Lower and
    Flatten, a plain share for Smooth and for masks.
    """

    row: float
    col: float
    radius: float
    softness: float
    amount: float


@kernel
def span(reach: float, row_offset: float, col: float, cols: int) -> tuple[int, int]:
    """First and last-but-one column within `reach` of `col`, on a row `row_offset` away."""
    inside = reach * reach - row_offset * row_offset
    if inside < 0:
        return 0, 0
    half = math.sqrt(inside)
    return max(0, math.ceil(col - half)), min(cols, math.floor(col + half) + 1)


@kernel
def squares(col: float, radius: float, cols: int) -> tuple[int, FloatArray]:
    """First column that a brush can touch, and the squared offset from its middle of that and each after it."""
    first = max(0, min(cols, math.ceil(col - radius)))
    last = max(first, min(cols, math.floor(col + radius) + 1))
    out = np.empty(last - first, np.float32)
    for i in range(out.shape[0]):
        along = np.float32(first + i - col)
        out[i] = along * along
    return first, out


@kernel
def weights_in_row(out: FloatArray, along: FloatArray, row_offset: float, radius: float, softness: float) -> None:
    """Fill `out` with the brush's weight at posts whose squared column offsets are `along`.

    Plain comparisons in loops of their own, since compilers turn those into vector code
    and `min` and `max` not.
    """
    reach = np.float32(radius)
    scale = np.float32(1.0) / (reach * max(np.float32(softness), HARD_EDGE))
    across = np.float32(row_offset) * np.float32(row_offset)
    zero, one, two, three = np.float32(0), np.float32(1), np.float32(2), np.float32(3)
    for i in range(out.shape[0]):
        out[i] = (reach - np.sqrt(across + along[i])) * scale
    for i in range(out.shape[0]):
        t = out[i]
        t = t if t > zero else zero
        t = t if t < one else one
        out[i] = t * t * (three - two * t)


def weight_at(distance: float, brush: Brush) -> float:
    """Weight of `brush` at `distance` metres from its middle, 0 to 1."""
    t = (brush.radius - distance) / (brush.radius * max(brush.softness, float(HARD_EDGE)))
    t = min(max(t, 0.0), 1.0)
    return t * t * (3 - 2 * t)


def weight_window(shape: tuple[int, int], touch: Touch) -> FloatArray:
    """The weight of a touch at every post of an array of `shape`, 0 to 1."""
    out = np.empty(shape, np.float32)
    _weight_window(out, touch.row, touch.col, touch.radius, touch.softness)
    return out


@kernel
def _weight_window(out: FloatArray, row: float, col: float, radius: float, softness: float) -> None:
    along = np.empty(out.shape[1], np.float32)
    for c in range(along.shape[0]):
        along[c] = np.float32((c - col) * (c - col))
    for r in range(out.shape[0]):
        weights_in_row(out[r], along, r - row, radius, softness)
