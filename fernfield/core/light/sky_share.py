"""How much of the sky each post sees.

In sixteen directions it is looked how high the ground stands over the horizon; the share is that of the light of an
evenly bright sky which comes to level ground there, the sky view factor [1]_: the mean of cos² of these heights.

References
----------
.. [1] G. T. Johnson, I. D. Watson, The determination of view-factors in urban canyons, J. Climate Appl. Meteorol. 23
   (1984), 329-335; for terrain after J. Dozier, J. Frew, IEEE Trans. Geosci. Remote Sensing 28(5) (1990), 963-969
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

DIRECTIONS = 16
REACH_M = 250.0
"""Ground further away hides nothing here. [m]"""
EACH_POST, GROWS = 16, 1.06
"""So far every post is looked at, and then at steps that grow by this factor."""

_BANDS = ThreadPoolExecutor(max_workers=2, thread_name_prefix="sky")
_BAND_ROWS = 256


def reach_posts(spacing: float) -> int:
    """How many posts around a window have to be known."""
    return max(1, math.ceil(REACH_M / spacing))


def _looks(spacing: float) -> tuple[NDArray[np.int64], FloatArray]:
    """Where is looked: rows and columns of two posts each, how much of the second, and one by how far off [1/m]; by
    direction, shape (DIRECTIONS, looks, 4) and (DIRECTIONS, looks, 2)."""
    most = reach_posts(spacing)
    steps: list[int] = []
    at = 1.0
    while round(at) <= most:
        steps.append(round(at))
        at = at + 1 if at < EACH_POST else max(at * GROWS, at + 1)
    posts, weights = [], []
    for k in range(DIRECTIONS):
        # Between the bearings along which walls are built.
        turn = math.tau * (k + 0.5) / DIRECTIONS
        north, east = math.cos(turn), math.sin(turn)
        long = max(abs(north), abs(east))
        for step in steps:
            row, col = -north / long * step, east / long * step
            r0, c0 = math.floor(row), math.floor(col)
            both = (r0, c0, r0 + (row != r0), c0 + (col != c0))
            # Along the longer way it is a whole number: only the other lies between two posts.
            posts.append(both)
            weights.append((row - r0 if row != r0 else col - c0, 1 / (math.hypot(row, col) * spacing)))
    looks = len(steps)
    return (
        np.array(posts, np.int64).reshape(DIRECTIONS, looks, 4),
        np.array(weights, np.float32).reshape(DIRECTIONS, looks, 2),
    )


def sky_share(heights: FloatArray, spacing: float, around: int) -> FloatArray:
    """The share of the sky that each post sees, 1 where nothing stands around it.

    Parameters
    ----------
    heights : shape (rows + 2 * around, cols + 2 * around), elevation with `around` more posts on every side, at least
        as many as `reach_posts` says [m]
    spacing : from post to post [m]

    Returns
    -------
    shape (rows, cols), 0 to 1; the same for every post whatever window it is asked in
    """
    if around < reach_posts(spacing):
        raise ValueError(f"{reach_posts(spacing)} posts around have to be known, not {around}")
    heights = np.ascontiguousarray(heights, np.float32)
    out = np.empty((heights.shape[0] - 2 * around, heights.shape[1] - 2 * around), np.float32)
    posts, weights = _looks(spacing)
    waits: list[Any] = [
        _BANDS.submit(_share, heights, around, posts, weights, first, min(first + _BAND_ROWS, len(out)), out)
        for first in range(0, len(out), _BAND_ROWS)
    ]
    for wait in waits:
        wait.result()
    return out


@kernel
def _share(
    heights: FloatArray,
    around: int,
    posts: NDArray[np.int64],
    weights: FloatArray,
    first: int,
    last: int,
    out: FloatArray,
) -> None:
    cols = out.shape[1]
    steep, total = np.empty(cols, np.float32), np.empty(cols, np.float32)
    one, zero = np.float32(1), np.float32(0)
    part_of = np.float32(1 / posts.shape[0])
    for r in range(first, last):
        here = heights[r + around, around : around + cols]
        for c in range(cols):
            total[c] = zero
        for k in range(posts.shape[0]):
            for c in range(cols):
                steep[c] = zero
            for i in range(posts.shape[1]):
                part, by = weights[k, i, 0], weights[k, i, 1]
                a, b = around + posts[k, i, 1], around + posts[k, i, 3]
                one_row = heights[r + around + posts[k, i, 0], a : a + cols]
                other = heights[r + around + posts[k, i, 2], b : b + cols]
                for c in range(cols):
                    stands = (one_row[c] + (other[c] - one_row[c]) * part - here[c]) * by
                    steep[c] = steep[c] if steep[c] > stands else stands
            for c in range(cols):
                total[c] += one / (one + steep[c] * steep[c])
        to = out[r]
        for c in range(cols):
            to[c] = total[c] * part_of
