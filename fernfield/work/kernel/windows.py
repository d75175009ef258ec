"""Going over whole lands part by part, with arrays to work in that need not fit in memory."""

from __future__ import annotations

import mmap
import os
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import Any, TypeVar

import numpy as np

from fernfield.core.errors import of_disk
from fernfield.core.grid import TILE, Grid, Window
from fernfield.work.kernel.crew import HERE, Crew

R = TypeVar("R")

MOST_IN_MEMORY = 32 << 20
"""Larger arrays than this live in a file, which the system pages in and out. [bytes]"""

ROWS_AT_ONCE = 256


Told = Callable[[float, str], None]
"""Hears how far the work is (0 to 1) and what it does; may raise to stop it."""


def quiet(done: float, words: str) -> None:
    """Nobody wants to know how far it is."""


def over(
    windows: Sequence[Window], give: Callable[[Window], tuple[Any, ...]], function: Callable[..., R], *,
    crew: Crew = HERE, say: Told = quiet, words: str = "", part: tuple[float, float] = (0.0, 1.0),
) -> Iterator[tuple[Window, R]]:  # fmt: skip
    """A pure function over many windows: each with what it makes of it, in their order.

    Parameters
    ----------
    windows : in what parts; the result must not depend on them
    give : reads what `function` asks for, one window after the other, here (with a halo where it needs one)
    function : pure, of a module, so that it can run anywhere
    crew : who does the work; only a few windows for each worker stand in memory at a time
    say, words, part : hears how far it is, over this stretch of the whole, and may raise to stop it
    """
    made = crew.each(function, map(give, windows))
    try:
        for number, window in enumerate(windows):
            say(part[0] + (part[1] - part[0]) * number / len(windows), words)
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
        reserve(file.fileno(), shape[0] * shape[1] * np.dtype(dtype).itemsize)
        yield np.memmap(file, dtype, "r+", shape=shape)


def reserve(file: int, size: int) -> None:
    """Take the room that a file is going to need. Raises NoRoom: a mapped file that finds none kills the process."""
    try:
        os.posix_fallocate(file, 0, size)
    except OSError as error:
        raise of_disk(error) or error from error


def let_go(array: Any) -> None:
    """The memory of a `scratch` that lives in a file can be had by others: it is read again when it is asked for."""
    if isinstance(array, np.memmap):
        array._mmap.madvise(mmap.MADV_DONTNEED)  # type: ignore[attr-defined]


def take_out(
    lock: AbstractContextManager[Any], read: Callable[[Window], Any], window: Window, to: Any, say: Told = quiet,
    words: str = "", part: tuple[float, float] = (0.0, 1.0),
) -> None:  # fmt: skip
    """Copy a whole window into `to`, a `scratch` of its shape, while others go on: the lock is held for a band."""
    for band in rows_of(window):
        say(part[0] + (part[1] - part[0]) * (band.row0 - window.row0) / window.rows, words)
        with lock:
            to[band.inside(window)] = read(band)
        let_go(to)


def bands(grid: Grid) -> Iterator[Window]:
    """A tract as windows of whole rows, a tile high."""
    yield from rows_of(grid.window, TILE)
