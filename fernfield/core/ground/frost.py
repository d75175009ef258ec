"""Frost: loosened material slides until no slope is steeper than its angle of repose.

Between a post and each of its eight neighbours the part of the drop that is more than the
angle of repose allows moves down, an eighth of it in a pass (talus weathering, after [1]_,
with both diagonals so that cones come out round). What one post gives the other takes, so
material is kept.

References
----------
.. [1] F. K. Musgrave, C. E. Kolb, R. S. Mace (1989), The synthesis and rendering of eroded
   fractal terrains, SIGGRAPH Comput. Graph. 23(3), 41-50, doi:10.1145/74334.74337
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from typing import Any

import cv2
import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

SHARE = 0.125
"""Part of the excess that moves in a pass. Above 1/6 a chequerboard of posts would never come to rest."""

SHARED_FROM = 256 * 256
"""From so many posts on threads share a pass; kernels release the interpreter's lock."""

THREADS = 2
TOGETHER = 8
"""Passes that are made on a band before the next one."""

BAND_ROWS = 128

NO_WEIGHTS = np.zeros((0, 0), np.float32)


def frost(
    heights: FloatArray, spacing: float, repose_deg: float, passes: int, *, weights: FloatArray | None = None,
    share: float = SHARE,
) -> FloatArray:  # fmt: skip
    """`heights` after so many passes of frost.

    Parameters
    ----------
    heights : shape (rows, cols), at least (2, 2) [m]
    spacing : between posts [m]
    repose_deg : slopes up to this stay [°]
    passes : how often material moves
    weights : same shape, 0 to 1; between two posts the smaller one counts
    share : part of the excess that moves in a pass

    Returns
    -------
    shape (rows, cols). Nothing passes the border.
    """
    drop = math.tan(math.radians(repose_deg)) * spacing
    now = np.array(heights, np.float32, order="C")
    after = np.empty_like(now)
    held = NO_WEIGHTS if weights is None else weights
    with ThreadPoolExecutor(THREADS) as pool:
        for done in range(0, passes, TOGETHER):
            count = min(TOGETHER, passes - done)
            bands = bands_of(now.shape[0])
            if now.size < SHARED_FROM:
                for rows in bands:
                    after[rows[0] : rows[1]] = frost_band(*around(now, rows, count, held), count, drop, share)
            else:
                parts = [pool.submit(frost_band, *around(now, rows, count, held), count, drop, share) for rows in bands]
                for rows, part in zip(bands, parts, strict=True):
                    after[rows[0] : rows[1]] = part.result()
            now, after = after, now
    return now


def bands_of(rows: int) -> list[tuple[int, int]]:
    """Rows in bands that fit in a processor's cache."""
    return [(r, min(r + BAND_ROWS, rows)) for r in range(0, rows, BAND_ROWS)]


def around(
    heights: FloatArray, rows: tuple[int, int], passes: int, weights: FloatArray
) -> tuple[FloatArray, FloatArray, int, int]:
    """What `frost_band` asks for: a band of rows with a row more on each side for every pass, its weights, and how many
    rows more there are above and below."""
    first, last = max(0, rows[0] - passes), min(heights.shape[0], rows[1] + passes)
    held = np.asarray(weights[first:last]) if weights.shape[0] else weights
    return heights[first:last], held, rows[0] - first, last - rows[1]


def frost_band(
    heights: FloatArray, weights: FloatArray, above: int, below: int, passes: int, drop: float, share: float
) -> FloatArray:
    """Some passes over a copy of a band of rows: so it stays in the processor's cache for all of them.

    above, below : rows that are only read: a row for every pass, fewer where the land ends
    """
    # Copied here, by whoever does the work.
    one = np.array(heights, np.float32, order="C")
    two = np.empty_like(one)
    for number in range(1, passes + 1):
        # The outermost rows have no neighbours here: only at the border of the land are they worked out.
        top = number if above == passes else 0
        bottom = one.shape[0] - (number if below == passes else 0)
        frost_rows(one, two, top, bottom, drop, share, weights)
        one, two = two, one
    return one[above : one.shape[0] - below]


COARSEST = 5
"""Most times that land is halved for the coarser passes."""

COARSE_PASSES = 96
"""Most passes on each coarser grid."""

ROUNDS = 4
"""So often coarse and fine passes take turns."""

LEAST_SIDE = 8
"""Posts along the shorter side of the coarsest grid, at least."""


def _bands(rows: int, size: int) -> list[tuple[int, int]]:
    """Coarse rows in bands of about 512 fine ones."""
    most = max(1, 512 // size)
    return [(first, min(first + most, rows)) for first in range(0, rows, most)]


def _at_once(_array: Any) -> None:
    pass


@contextmanager
def _in_memory(shape: tuple[int, int]) -> Iterator[Any]:
    yield np.empty(shape, np.float32)


def _frosted(heights: Any, spacing: float, repose_deg: float, passes: int, weights: FloatArray) -> None:
    heights[...] = frost(heights, spacing, repose_deg, passes, weights=weights if weights.shape[0] else None)


def slump_in_place(
    heights: Any, spacing: float, repose_deg: float, passes: int, weights: FloatArray = NO_WEIGHTS, *,
    room: Callable[[tuple[int, int]], AbstractContextManager[Any]] = _in_memory,
    fine: Callable[[Any, float, float, int, FloatArray], None] = _frosted,
    let_go: Callable[[Any], None] = _at_once,
) -> None:  # fmt: skip
    """The coarser passes that go before the fine ones, on `heights` (modified), from the coarsest grid to the finest.

    A pass moves material from one post to the next, so a high face would need thousands of
    them. On a grid of half the posts they reach twice as far: what moves there is found by
    `frost` on the means of four posts, and laid on the posts between the coarse ones in
    straight lines, which keeps material to the last part.

    heights, weights : shape (rows, cols); nothing moves where a weight is 0
    passes : on each grid, at most COARSE_PASSES
    room : gives arrays of float32 to work in
    fine : makes passes of frost on heights (modified): with their spacing, angle, passes, weights
    let_go : called with an array between two bands of rows, so that one in a file need not stay in memory
    """
    for halvings in range(COARSEST, 0, -1):
        size = 2**halvings
        if min(heights.shape) < LEAST_SIDE * size:
            continue
        rows, cols = heights.shape[0] // size, heights.shape[1] // size
        part = heights[: rows * size, : cols * size]
        with room((rows, cols)) as coarse, room((rows, cols)) as moved:
            for first, last in _bands(rows, size):
                band = part[first * size : last * size].reshape(last - first, size, cols, size)
                coarse[first:last] = moved[first:last] = band.mean(axis=(1, 3), dtype=np.float64)
                for array in (heights, coarse, moved):
                    let_go(array)
            fine(moved, spacing * size, repose_deg, min(passes, COARSE_PASSES), _halved_weights(weights, size))
            for first, last in _bands(rows, size):
                moved[first:last] -= coarse[first:last]
                let_go(coarse)
            for first, last in _bands(rows, size):
                # A coarse row more on either side: what lies between two rows is drawn from both.
                wide = np.asarray(moved[max(0, first - 1) : min(rows, last + 1)])
                if not wide.any():
                    continue
                drawn = cv2.resize(wide, (cols * size, len(wide) * size), interpolation=cv2.INTER_LINEAR)
                skip = (first - max(0, first - 1)) * size
                part[first * size : last * size] += drawn[skip : skip + (last - first) * size]
                let_go(heights)


def _halved_weights(weights: FloatArray, size: int) -> FloatArray:
    """Where posts of a coarser grid are free to move."""
    if not weights.shape[0]:
        return NO_WEIGHTS
    rows, cols = weights.shape[0] // size, weights.shape[1] // size
    inner = np.empty((rows, cols), np.float32)
    for first, last in _bands(rows, size):
        band = weights[first * size : last * size, : cols * size]
        inner[first:last] = band.reshape(last - first, size, cols, size).min(axis=(1, 3))
    # What moves is spread over the neighbours too: they must be free to change as well.
    return np.asarray(cv2.erode(inner, np.ones((3, 3), np.uint8), borderType=cv2.BORDER_REPLICATE), np.float32)


def steepest(heights: FloatArray, spacing: float) -> float:
    """The steepest slope between two of eight neighbours. [°]"""
    h = heights.astype(np.float64)
    straight = max(np.abs(np.diff(h, axis=0)).max(), np.abs(np.diff(h, axis=1)).max())
    askew = max(np.abs(h[1:, 1:] - h[:-1, :-1]).max(), np.abs(h[1:, :-1] - h[:-1, 1:]).max())
    return math.degrees(math.atan(max(float(straight), float(askew) / math.sqrt(2)) / spacing))


@kernel
def frost_rows(
    now: FloatArray, after: FloatArray, row0: int, row1: int, drop: float, share: float, weights: FloatArray
) -> None:
    """One pass over rows `row0` to `row1` of `now`, into `after`. Rows beside them are read."""
    rows, cols = now.shape
    k, near, far = np.float32(share), np.float32(drop), np.float32(drop * math.sqrt(2))
    weighted = weights.shape[0] > 0
    for r in range(row0, row1):
        if weighted or r == 0 or r == rows - 1 or cols < 3:
            for c in range(cols):
                after[r, c] = _one(now, weights, r, c, near, far, k)
            continue
        _inner(now[r - 1], now[r], now[r + 1], after[r], near, far, k)
        after[r, 0] = _one(now, weights, r, 0, near, far, k)
        after[r, cols - 1] = _one(now, weights, r, cols - 1, near, far, k)


@kernel
def _most(drop: Any, allowed: Any) -> Any:
    """The part of a drop that may stay."""
    kept = drop if drop < allowed else allowed
    return kept if kept > -allowed else -allowed


@kernel
def _inner(
    up: FloatArray, mid: FloatArray, low: FloatArray, out: FloatArray, near: np.float32, far: np.float32, k: np.float32
) -> None:
    """Every post of a row that has all its neighbours: no branches, so that compilers make vector code of it."""
    last = mid.shape[0] - 2
    a, b, d = up[:last], up[1:], up[2:]
    e, f, g = mid[:last], mid[1:], mid[2:]
    h, i, j = low[:last], low[1:], low[2:]
    to = out[1:]
    for c in range(last):
        own = f[c]
        p, q, s, t = a[c] - own, b[c] - own, d[c] - own, e[c] - own
        u, v, w, x = g[c] - own, h[c] - own, i[c] - own, j[c] - own
        over = (p - _most(p, far)) + (q - _most(q, near)) + (s - _most(s, far)) + (t - _most(t, near))
        over += (u - _most(u, near)) + (v - _most(v, far)) + (w - _most(w, near)) + (x - _most(x, far))
        to[c] = own + k * over


@kernel
def _one(now: FloatArray, weights: FloatArray, r: int, c: int, near: np.float32, far: np.float32, k: np.float32) -> Any:
    """A post at the border, or under weights."""
    rows, cols = now.shape
    weighted = weights.shape[0] > 0
    own, over = now[r, c], np.float32(0)
    if weighted and weights[r, c] <= 0:
        return own
    for dr in range(-1, 2):
        for dc in range(-1, 2):
            if (dr == 0 and dc == 0) or r + dr < 0 or c + dc < 0 or r + dr >= rows or c + dc >= cols:
                continue
            drop = now[r + dr, c + dc] - own
            excess = drop - _most(drop, near if dr == 0 or dc == 0 else far)
            if weighted:
                excess *= min(weights[r, c], weights[r + dr, c + dc])
            over += excess
    return own + k * over
