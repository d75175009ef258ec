"""Heights as a NumPy array file (.npy): two dimensions, row 0 north, whole numbers or floats."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.source import ROWS_AT_ONCE, Said, Source, as_heights, sample_name

KINDS = ("u1", "i1", "u2", "i2", "u4", "i4", "f2", "f4", "f8")


def looks_like_npy(head: bytes) -> bool:
    return head.startswith(b"\x93NUMPY")


def open_npy(path: Path, said: Said) -> Source:
    """Look into a NumPy file. Raises FormatError when it is no plain grid of numbers; nothing in it is ever run."""
    try:
        with path.open("rb") as file:
            version = np.lib.format.read_magic(file)
            read = np.lib.format.read_array_header_1_0 if version == (1, 0) else np.lib.format.read_array_header_2_0
            shape, _, dtype = read(file, max_header_size=4096)
            start = file.tell()
    except Exception as error:  # whatever a damaged header makes of its parser
        raise FormatError(f"the NumPy file is damaged: {str(error)[:200]}", "file") from error
    if len(shape) != 2 or dtype.hasobject or dtype.str[1:] not in KINDS:
        raise FormatError(f"the array must be two-dimensional numbers, not {len(shape)}-dimensional {dtype}", "file")
    rows, cols = int(shape[0]), int(shape[1])
    check_dimensions(rows, cols)
    if path.stat().st_size < start + rows * cols * dtype.itemsize:
        raise FormatError(f"the NumPy file is cut short: {rows} x {cols} {dtype} do not fit in it", "file")
    return Source(
        kind=f"NumPy, {dtype}",
        rows=rows,
        cols=cols,
        sample=sample_name(dtype),
        metres=True,
        bands=lambda step: _bands(path, said.nodata, step),
    )


def _bands(path: Path, nodata: float | None, step: Step) -> Iterator[FloatArray]:
    samples = np.load(path, mmap_mode="r", allow_pickle=False)
    for first in range(0, len(samples), ROWS_AT_ONCE):
        part = samples[first : first + ROWS_AT_ONCE]
        yield as_heights(part, nodata)
        step((first + len(part)) / len(samples))
