"""Holes in a grid filled from around, by coarser and coarser means (push and pull [1]_).

The known is averaged down to coarser and coarser grids, and each finer one is filled from the
coarser where it knows nothing. The blocks lie at multiples of their size, so a large grid can
be filled strip by strip and comes out as if it had been done at once.

References
----------
.. [1] S. J. Gortler et al. (1996), The lumigraph, SIGGRAPH 1996, 43-54, doi:10.1145/237170.237200
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

LEVELS = 5
BLOCK = 1 << LEVELS
"""Posts along the side of a block of the coarsest grid that strips are filled from."""

ROUNDS = 60
"""Rounds of averaging that draw what was filled in tight, like a skin."""

HALO = 2 * BLOCK + 2 * BLOCK
"""Each level looks one cell of its own to either side, 2 + 4 + … + 32 posts in all; each round one more."""

STRIP = 8 * BLOCK
"""Rows of a strip."""


def pulled(values: FloatArray, known: FloatArray) -> FloatArray:
    """`values` where `known` is 1, filled in where it is 0; the mean of nothing is 0."""
    rows, cols = values.shape
    if known.min() > 0 or min(rows, cols) < 2:
        total = float(known.sum())
        mean = float((values * known).sum()) / total if total else 0.0
        return np.where(known > 0, values, np.float32(mean)).astype(np.float32)
    coarse, there = _halved(values, known)
    return _finer(values, known, pulled(coarse, there))


def _halved(values: FloatArray, known: FloatArray) -> tuple[FloatArray, FloatArray]:
    rows, cols = values.shape
    pad = ((0, rows % 2), (0, cols % 2))
    v, k = np.pad(values * known, pad), np.pad(known, pad)
    half = v.shape[0] // 2, v.shape[1] // 2
    sums = v.reshape(half[0], 2, half[1], 2).sum(axis=(1, 3))
    counts = k.reshape(half[0], 2, half[1], 2).sum(axis=(1, 3))
    coarse = np.where(counts > 0, sums / np.maximum(counts, 1e-9), 0).astype(np.float32)
    return coarse, (counts > 0).astype(np.float32)


def _finer(values: FloatArray, known: FloatArray, small: FloatArray) -> FloatArray:
    rows, cols = values.shape
    wide = cv2.resize(small, (2 * small.shape[1], 2 * small.shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.where(known > 0, values, wide[:rows, :cols]).astype(np.float32)


def tight(filled: FloatArray, holes: NDArray[np.bool_]) -> FloatArray:
    """`filled` with its `holes` averaged with their neighbours again and again, so that no step is left at an edge."""
    kernel_3 = np.array([[1, 2, 1], [2, 0, 2], [1, 2, 1]], np.float32) / 12
    for _ in range(ROUNDS):
        soft = cv2.filter2D(filled, -1, kernel_3, borderType=cv2.BORDER_REPLICATE)
        filled[holes] = soft[holes]
    return np.asarray(filled, np.float32)


def _from_top(values: FloatArray, known: FloatArray, top: FloatArray, levels: int) -> FloatArray:
    if levels == 0:
        return np.where(known > 0, values, top).astype(np.float32)
    coarse, there = _halved(values, known)
    return _finer(values, known, _from_top(coarse, there, top, levels - 1))


def filled_strips(read: Callable[[int, int], FloatArray], rows: int) -> Iterator[tuple[int, FloatArray]]:
    """First row and values of strip after strip of a grid in which NaN is filled in from around.

    read : the rows from one to before another, NaN where nothing is known; called more than once for each
    """
    tops, theres = [], []
    for first in range(0, rows, STRIP):
        values, known = _parted(read(first, min(first + STRIP, rows)))
        for _ in range(LEVELS):
            values, known = _halved(values, known)
        tops.append(values)
        theres.append(known)
    top = pulled(np.concatenate(tops), np.concatenate(theres))
    for first in range(0, rows, STRIP):
        last = min(first + STRIP, rows)
        low, high = max(0, first - HALO), min(rows, last + HALO)
        values, known = _parted(read(low, high))
        if known.all():
            yield first, values[first - low : last - low]
            continue
        part = top[low // BLOCK : -(-high // BLOCK)]
        filled = tight(_from_top(values, known, part, LEVELS), known == 0)
        yield first, filled[first - low : last - low]


def _parted(values: FloatArray) -> tuple[FloatArray, FloatArray]:
    known = ~np.isnan(values)
    return np.where(known, values, np.float32(0)).astype(np.float32), known.astype(np.float32)
