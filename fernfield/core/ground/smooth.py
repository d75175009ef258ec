"""Smooth: mix the ground with a blurred copy of itself, so many percent a second."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.brush.brush import Touch, span, squares, weights_in_row
from fernfield.core.brush.pressing import Pressing
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.settings import Setting

HALVED_FROM = 2.5
"""Standard deviation from which on the blur works on every other post. [posts]"""

SETTINGS = (
    Setting("detail_m", "Detail removed", "m", 0.1, 100, None, left_out="an eighth of the radius, 1 to 4 posts"),
    Setting("keep_edges_deg", "Keep edges above", "°", 1, 89, None, left_out="all are smoothed"),
)

EDGE_BLEND_DEG = 6.0
"""Below the angle that is kept, smoothing comes in over so many degrees (our choice)."""

MOST_DETAIL = 40.0
"""Largest standard deviation of the blur. [posts]"""


def detail_posts(radius: float, detail: float | None = None, spacing: float = 1.0) -> float:
    """Standard deviation of the blur for a brush of `radius` posts. [posts]

    Left out, an eighth of the radius, 1 to 4 posts. Given, hollows and humps `detail`
    metres across go: half of it.
    """
    if detail is None:
        return min(max(radius / 8, 1.0), 4.0)
    return min(max(detail / 2 / spacing, 0.3), MOST_DETAIL)


def halo_posts(radius: float, detail: float | None = None, spacing: float = 1.0) -> int:
    """How many posts beyond the brush the blur reads."""
    return math.ceil(3 * detail_posts(radius, detail, spacing)) + 1


@kernel
def _mix(
    heights: FloatArray,
    blurred: FloatArray,
    row: float,
    col: float,
    radius: float,
    softness: float,
    amount: float,
) -> None:
    rows, cols = heights.shape
    base, along = squares(col, radius, cols)
    weights = np.empty_like(along)
    share = np.float32(amount)
    one = np.float32(1)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line, soft = heights[r, first:last], blurred[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, along[first - base : last - base], r - row, radius, softness)
        for i in range(line.shape[0]):
            part = share * weight[i]
            part = part if part < one else one
            weight[i] = line[i] + (soft[i] - line[i]) * part
        for i in range(line.shape[0]):
            line[i] = weight[i]


def smooth_in_place(heights: FloatArray, touch: Touch, sigma: float | None = None) -> None:
    """Mix `heights` (modified) with its Gaussian blur by ``amount`` times the weight.

    `sigma` is the blur's standard deviation, `detail_posts` when left out. [posts]

    `heights` should hold `halo_posts` more posts than the brush on every side where the
    tract goes on; only posts within the brush change.
    """
    blurred = blur(heights, detail_posts(touch.radius) if sigma is None else sigma)
    _mix(
        heights,
        blurred,
        float(touch.row),
        float(touch.col),
        float(touch.radius),
        float(touch.softness),
        float(touch.amount),
    )


def blur(heights: FloatArray, sigma: float) -> FloatArray:
    """`heights` under a Gaussian of standard deviation `sigma` [posts]; beyond the border its values go on.

    From `HALVED_FROM` on, the blur is done on every other post: averaging two by two and
    drawing back between them are blurs of variance 1/3 and 2/3 themselves, and the rest
    is a Gaussian of half the size, at a quarter of the work.
    """
    if sigma < HALVED_FROM:
        return _gauss(heights, sigma)
    rows, cols = heights.shape
    even = cv2.copyMakeBorder(heights, 0, rows % 2, 0, cols % 2, cv2.BORDER_REPLICATE)
    small = cv2.resize(even, ((cols + 1) // 2, (rows + 1) // 2), interpolation=cv2.INTER_AREA)
    soft = _gauss(np.asarray(small, np.float32), math.sqrt(sigma * sigma - 1) / 2)
    wide = cv2.resize(soft, (even.shape[1], even.shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.ascontiguousarray(wide[:rows, :cols], np.float32)


def _gauss(heights: FloatArray, sigma: float) -> FloatArray:
    side = 2 * math.ceil(3 * sigma) + 1
    return np.asarray(cv2.GaussianBlur(heights, (side, side), sigma, borderType=cv2.BORDER_REPLICATE), np.float32)


def slopes(heights: FloatArray, spacing: float) -> FloatArray:
    """Slope at every post by central differences. [°]"""
    north, east = np.gradient(heights, np.float32(spacing))
    return np.asarray(np.degrees(np.arctan(np.hypot(north, east))), np.float32)


def press_smooth(p: Pressing, sigma: float) -> None:
    """Smooth with a brush of any form; slopes above ``keep_edges_deg`` stay as they are.

    Posts on a kept slope do not count in the blur either, so that a cliff does not spill
    over the ground above and below it.
    """
    edge = p.values["keep_edges_deg"]
    if edge is None:
        soft, share = blur(p.heights, sigma), p.weights * np.float32(p.amount)
    else:
        loose = np.clip((np.float32(edge) - slopes(p.heights, p.spacing)) / np.float32(EDGE_BLEND_DEG), 0, 1)
        loose = np.asarray(loose, np.float32)
        counted = _gauss(loose, sigma)
        base = np.float32(p.heights.mean())
        inside = _gauss((p.heights - base) * loose, sigma) / np.maximum(counted, np.float32(1e-6))
        soft = np.asarray(base + inside, np.float32)
        share = p.weights * np.float32(p.amount) * loose
    p.heights += (soft - p.heights) * np.minimum(share, 1)
