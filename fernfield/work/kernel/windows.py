"""Going over whole tracts part by part, with arrays to work in that need not fit in memory."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from fernfield.core.grid import TILE, Grid, Window

MOST_IN_MEMORY = 64 << 20
"""Larger arrays than this live in a file, which the system pages in and out. [bytes]"""

ROWS_AT_ONCE = 256


@contextmanager
def scratch(shape: tuple[int, int], dtype: Any) -> Iterator[Any]:
    """An array to work in, in memory or in a file that goes when it is done with."""
    if shape[0] * shape[1] * np.dtype(dtype).itemsize <= MOST_IN_MEMORY:
        yield np.empty(shape, dtype)
        return
    with tempfile.TemporaryFile() as file:
        yield np.memmap(file, dtype, "w+", shape=shape)


def bands(grid: Grid) -> Iterator[Window]:
    """A tract as windows of whole rows, a tile high."""
    for row in range(0, grid.rows, TILE):
        yield Window(row, 0, min(row + TILE, grid.rows), grid.cols)
