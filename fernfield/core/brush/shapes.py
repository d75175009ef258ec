"""Brushes that are not a plain disc: a square or a bar with a turn, and tips that shape them by an image."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

SHAPES = ("round", "square", "bar")
BAR_PART = 1 / 3
"""A bar is this part as wide as it is long."""

NO_TIP = np.zeros((0, 0), np.float32)


@dataclass(frozen=True, slots=True)
class Outline:
    """The form of a brush: `shape`, its `turn` clockwise [°], a tip of 0 to 1 (or none), and whether it is mirrored."""

    shape: str = "round"
    turn: float = 0.0
    tip: FloatArray | None = None
    flipped: bool = False

    def __post_init__(self) -> None:
        if self.shape not in SHAPES:
            raise InvalidInput(f"shape must be one of {', '.join(SHAPES)}, not {self.shape!r}", "shape")

    @property
    def plain(self) -> bool:
        return self.shape == "round" and self.tip is None

    def reach(self, radius: float) -> float:
        """How far from its middle a brush of `radius` can touch: the corners of a square lie further out."""
        return {"round": 1.0, "square": math.sqrt(2), "bar": math.hypot(1, BAR_PART)}[self.shape] * radius


def shaped_weights(shape: tuple[int, int], touch: Touch, outline: Outline) -> FloatArray:
    """The weight, 0 to 1, of a touch with an outline at every post of an array of `shape`.

    In a square and a bar the weight falls from the inner to the outer edge as in the
    round brush from ring to ring. A tip lies over the square around the brush, its first
    row towards `turn`, and its grey (0 to 1) multiplies the weight.
    """
    if outline.plain:
        return weight_window(shape, touch)
    out = np.empty(shape, np.float32)
    angle = math.radians(outline.turn)
    tip = NO_TIP if outline.tip is None else outline.tip
    wide = {"round": 0.0, "square": 1.0, "bar": BAR_PART}[outline.shape]
    cos, sin = math.cos(angle), math.sin(angle)
    flip = -1.0 if outline.flipped else 1.0
    _shaped(out, touch.row, touch.col, touch.radius, touch.softness, cos, sin, flip, wide, tip)
    return out


@kernel
def _shaped(
    out: FloatArray,
    row: float,
    col: float,
    radius: float,
    softness: float,
    cos: float,
    sin: float,
    flip: float,
    wide: float,
    tip: FloatArray,
) -> None:
    soft = max(softness, 1e-4)
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            down, right = r - row, c - col
            # Along the brush's own axes: `across` to its right hand, `back` away from where it points.
            across = (right * cos + down * sin) * flip
            back = down * cos - right * sin
            if wide == 0.0:
                t = (radius - math.sqrt(down * down + right * right)) / (radius * soft)
            else:
                t = min((radius - abs(back)) / (radius * soft), (radius * wide - abs(across)) / (radius * wide * soft))
            t = min(max(t, 0.0), 1.0)
            weight = t * t * (3 - 2 * t)
            if tip.shape[0] > 0 and weight > 0:
                weight *= _sample(tip, (back / radius + 1) / 2, (across / radius + 1) / 2)
            out[r, c] = np.float32(weight)


@kernel
def _sample(image: FloatArray, down: float, right: float) -> float:
    """The image between its pixels; `down` and `right` are 0 to 1 from its first to its last."""
    rows, cols = image.shape
    r = min(max(down, 0.0), 1.0) * (rows - 1)
    c = min(max(right, 0.0), 1.0) * (cols - 1)
    r0, c0 = min(int(r), max(rows - 2, 0)), min(int(c), max(cols - 2, 0))
    r1, c1 = min(r0 + 1, rows - 1), min(c0 + 1, cols - 1)
    fr, fc = r - r0, c - c0
    top = image[r0, c0] * (1 - fc) + image[r0, c1] * fc
    low = image[r1, c0] * (1 - fc) + image[r1, c1] * fc
    return float(top * (1 - fr) + low * fr)


sample = _sample
