"""Smooth: mix the ground with a blurred copy of itself, so many percent a second."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import Touch, span, weights_in_row
from fernfield.core.kernels import kernel


def detail_posts(radius: float) -> float:
    """Standard deviation of the blur for a brush of `radius` posts: an eighth, 1 to 6 posts."""
    return min(max(radius / 8, 1.0), 6.0)


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
    weights = np.empty(min(cols, int(2 * radius) + 3), np.float32)
    share = np.float32(amount)
    one = np.float32(1)
    for r in range(max(0, int(row - radius)), min(rows, int(row + radius) + 2)):
        first, last = span(radius, r - row, col, cols)
        if last <= first:
            continue
        line, soft = heights[r, first:last], blurred[r, first:last]
        weight = weights[: last - first]
        weights_in_row(weight, r - row, first - col, radius, softness)
        for i in range(line.shape[0]):
            line[i] += (soft[i] - line[i]) * min(share * weight[i], one)


def smooth_in_place(heights: FloatArray, touch: Touch) -> None:
    """Mix `heights` (modified) with its Gaussian blur by ``amount`` times the weight.

    `heights` should hold `halo_posts` more posts than the brush on every side where the
    tract goes on; only posts within the brush change.
    """
    half = halo_posts(touch.radius)
    sigma = detail_posts(touch.radius)
    blurred = cv2.GaussianBlur(heights, (2 * half + 1, 2 * half + 1), sigma, borderType=cv2.BORDER_REPLICATE)
    _mix(heights, np.asarray(blurred, np.float32), touch.row, touch.col, touch.radius, touch.softness, touch.amount)
