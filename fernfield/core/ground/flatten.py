"""Flatten: bring the ground to one elevation, at so many metres a second, never past it."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from fernfield.core.brush.brush import Touch, span, squares, weights_in_row
from fernfield.core.brush.pressing import Pressing
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.settings import Setting, Values

BY = ("both", "cut", "fill")

BY_WORDS = {"both": "cut and fill", "cut": "cut only", "fill": "fill only"}

SETTINGS = (
    Setting("target_m", "Target", "m", -12_000, 12_000, None, left_out="the elevation where the stroke begins"),
    Setting(
        "target_from", "Left out", first="start", choices=("start", "mean"),
        called={"start": "where the stroke begins", "mean": "the mean under the brush"},
    ),
    Setting("by", "By", first="both", choices=BY, called=BY_WORDS),
)  # fmt: skip


def first_target(values: Values, begins: float, mean: Callable[[], float]) -> float:
    """What the ground is brought to where no elevation is given: that under the middle, or the mean. [m]"""
    return mean() if values["target_from"] == "mean" else begins


@kernel
def _toward(
    heights: FloatArray,
    row: float,
    col: float,
    radius: float,
    softness: float,
    fill: float,
    cut: float,
    target: float,
) -> None:
    rows, cols = heights.shape
    base, along = squares(col, radius, cols)
    weights = np.empty_like(along)
    raised, lowered, level = np.float32(fill), np.float32(cut), np.float32(target)
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
            height, rise, fall = line[i], raised * weight[i], lowered * weight[i]
            up = height + rise if height + rise < level else level
            down = height - fall if height - fall > level else level
            weight[i] = up if height < level else down
        for i in range(line.shape[0]):
            line[i] = weight[i]


def flatten_in_place(heights: FloatArray, touch: Touch, target: float, by: str = "both") -> None:
    """Move `heights` (modified) towards `target` by at most ``amount`` metres times the weight.

    `by` "cut" only lowers, "fill" only raises, "both" does either.
    """
    fill = 0.0 if by == "cut" else float(touch.amount)
    cut = 0.0 if by == "fill" else float(touch.amount)
    _toward(heights, touch.row, touch.col, touch.radius, touch.softness, fill, cut, float(target))


def press_flat(p: Pressing) -> None:
    """Flatten with a brush of any form."""
    by, level = p.values["by"], np.float32(p.target)
    step = p.weights * np.float32(p.amount)
    up = np.minimum(p.heights + step, level) if by != "cut" else p.heights
    down = np.maximum(p.heights - step, level) if by != "fill" else p.heights
    p.heights[...] = np.where(p.heights < level, up, down)
