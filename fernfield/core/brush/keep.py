"""Where a stroke may work: in plots or outside them, between elevations, between slopes, wet or dry."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

Outline = NDArray[np.float64]
"""Corners of a polygon, shape (corners, 2): row and column. [posts]"""


@dataclass(frozen=True, slots=True)
class Limits:
    """What a stroke keeps to; None where it is not limited.

    plots, outside, feather : polygons [posts], inside or outside of which it works, at full
        strength from `feather` [posts] past their edge on
    low, high : elevations [m]
    gentlest, steepest : slopes [°]
    wet : True for ground under `sea`, False for ground over it
    """

    plots: tuple[Outline, ...] = ()
    outside: bool = False
    feather: float = 0.0
    low: float | None = None
    high: float | None = None
    gentlest: float | None = None
    steepest: float | None = None
    wet: bool | None = None
    sea: float = 0.0


def within(limits: Limits, heights: FloatArray, slope: FloatArray, row: float, col: float) -> FloatArray:
    """How much a stroke may do at every post, 0 to 1.

    heights, slope : of the ground as it was before the stroke. [m, °]
    row, col : of the first post
    """
    out = np.ones(heights.shape, np.float32)
    if limits.plots:
        out = inside(limits.plots, heights.shape, row, col, limits.feather, outwards=limits.outside)
    if limits.low is not None:
        out[heights < limits.low] = 0
    if limits.high is not None:
        out[heights > limits.high] = 0
    if limits.gentlest is not None:
        out[slope < limits.gentlest] = 0
    if limits.steepest is not None:
        out[slope > limits.steepest] = 0
    if limits.wet is not None:
        out[(heights < limits.sea) != limits.wet] = 0
    return out


def inside(
    plots: Sequence[Outline], shape: tuple[int, int], row: float, col: float, feather: float, *, outwards: bool = False
) -> FloatArray:
    """1 inside the polygons and 0 outside (the other way round with `outwards`), rising over `feather` from the edge.

    shape, row, col : the array of posts and its first post; feather, polygons in posts.
    """
    deep = depths(plots, shape, row, col)
    if outwards:
        deep = -deep
    if feather <= 0:
        return (deep >= 0).astype(np.float32)
    t = np.clip(deep / np.float32(feather), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def depths(plots: Sequence[Outline], shape: tuple[int, int], row: float, col: float) -> FloatArray:
    """How deep every post lies inside of any of the polygons, below 0 outside of all; arguments as in `inside`.
    [posts]"""
    deep = np.full(shape, -np.inf, np.float32)
    for corners in plots:
        own = np.empty(shape, np.float32)
        _depth(own, corners - np.array([row, col]))
        np.maximum(deep, own, out=deep)
    return deep


@kernel
def _depth(out: FloatArray, corners: Outline) -> None:
    """Distance of every post to the polygon's edge: above 0 inside, below outside."""
    n = corners.shape[0]
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            nearest = 1e30
            holds = False
            for i in range(n):
                r0, c0 = corners[i, 0], corners[i, 1]
                r1, c1 = corners[(i + 1) % n, 0], corners[(i + 1) % n, 1]
                if (r0 > r) != (r1 > r) and c < (c1 - c0) * (r - r0) / (r1 - r0) + c0:
                    holds = not holds
                dr, dc = r1 - r0, c1 - c0
                long = dr * dr + dc * dc
                t = 0.0 if long == 0 else min(max(((r - r0) * dr + (c - c0) * dc) / long, 0.0), 1.0)
                away = (r - r0 - t * dr) ** 2 + (c - c0 - t * dc) ** 2
                nearest = min(nearest, away)
            nearest = np.sqrt(nearest)
            out[r, c] = nearest if holds else -nearest
