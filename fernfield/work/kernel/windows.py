"""Going over whole lands part by part, with arrays to work in that need not fit in memory."""

from __future__ import annotations

import mmap
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, TypeVar

import numpy as np

from fernfield.core.grid import TILE, Grid, Window
from fernfield.work.kernel.crew import HERE, Crew
from fernfield.work.kernel.jobs import Job

R = TypeVar("R")

MOST_IN_MEMORY = 64 << 20
"""Larger arrays than this live in a file, which the system pages in and out. [bytes]"""

ROWS_AT_ONCE = 256


def over(
    windows: Sequence[Window], give: Callable[[Window], tuple[Any, ...]], function: Callable[..., R], *,
    crew: Crew = HERE, job: Job | None = None, words: str = "", part: tuple[float, float] = (0.0, 1.0),
) -> Iterator[tuple[Window, R]]:  # fmt: skip
    """A pure function over many windows: each with what it makes of it, in their order.

    Parameters
    ----------
    windows : in what parts; the result must not depend on them
    give : reads what `function` asks for, one window after the other, here (with a halo where it needs one)
    function : pure, of a module, so that it can run anywhere
    crew : who does the work; only a few windows for each worker stand in memory at a time
    job, words, part : hears how far it is, over this stretch of its progress; stops it when it is cancelled
    """
    made = crew.each(function, map(give, windows))
    try:
        for number, window in enumerate(windows):
            if job is not None:
                job.step(part[0] + (part[1] - part[0]) * number / len(windows), words)
            yield window, next(made)
    finally:
        made.close()  # type: ignore[attr-defined]


def rows_of(window: Window, rows: int = ROWS_AT_ONCE) -> list[Window]:
    """A window as bands of so many rows."""
    return [
        Window(row, window.col0, min(row + rows, window.row1), window.col1)
        for row in range(window.row0, window.row1, rows)
    ]


@contextmanager
def scratch(shape: tuple[int, int], dtype: Any) -> Iterator[Any]:
    """An array to work in, in memory or in a file that goes when it is done with."""
    if shape[0] * shape[1] * np.dtype(dtype).itemsize <= MOST_IN_MEMORY:
        yield np.empty(shape, dtype)
        return
    with tempfile.TemporaryFile() as file:
        yield np.memmap(file, dtype, "w+", shape=shape)


def let_go(array: Any) -> None:
    """The memory of a `scratch` that lives in a file can be had by others: it is read again when it is asked for."""
    if isinstance(array, np.memmap):
        array._mmap.madvise(mmap.MADV_DONTNEED)  # type: ignore[attr-defined]


def bands(grid: Grid) -> Iterator[Window]:
    """A tract as windows of whole rows, a tile high."""
    yield from rows_of(grid.window, TILE)
