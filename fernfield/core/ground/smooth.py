"""Smooth: mix the ground with a blurred copy of itself, so many percent a second."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import Touch, span, squares, weights_in_row
from fernfield.core.kernels import kernel

HALVED_FROM = 2.5
"""Standard deviation from which on the blur works on every other post. [posts]"""


def detail_posts(radius: float) -> float:
    """Standard deviation of the blur for a brush of `radius` posts: an eighth, 1 to 4 posts."""
    return min(max(radius / 8, 1.0), 4.0)


def halo_posts(radius: float) -> int:
    """How many posts beyond the brush the blur reads."""
    return math.ceil(3 * detail_posts(radius))


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


def smooth_in_place(heights: FloatArray, touch: Touch) -> None:
    """Mix `heights` (modified) with its Gaussian blur by ``amount`` times the weight.

    `heights` should hold `halo_posts` more posts than the brush on every side where the
    tract goes on; only posts within the brush change.
    """
    blurred = blur(heights, detail_posts(touch.radius))
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
