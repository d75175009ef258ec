"""Bare samples row by row, north first: no header, so the person says how many, of what sort, in which order."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.source import ROWS_AT_ONCE, Said, Source, as_heights

SAMPLES = {"u16": "u2", "i16": "i2", "f32": "f4"}
ORDERS = {"little": "<", "big": ">"}


def never(head: bytes) -> bool:
    """Bare samples look like nothing: they have to be asked for by name."""
    return False


def open_raw(path: Path, said: Said) -> Source:
    """Look at bare samples. Raises FormatError when something is not said, or the file has another length."""
    if said.sample not in SAMPLES:
        raise FormatError(f"a raw file needs sample, one of {', '.join(SAMPLES)}, not {said.sample!r}", "sample")
    if said.byte_order not in ORDERS:
        raise FormatError(f"byte_order must be little or big, not {said.byte_order!r}", "byte_order")
    for field, value in (("rows", said.rows), ("cols", said.cols)):
        if value is None:
            raise FormatError(f"a raw file does not say its size: {field} is needed", field)
    assert said.rows is not None
    assert said.cols is not None
    rows, cols = said.rows, said.cols
    check_dimensions(rows, cols)
    dtype = np.dtype(ORDERS[said.byte_order] + SAMPLES[said.sample])
    size, need = path.stat().st_size, rows * cols * dtype.itemsize
    if size != need:
        words = f"{rows} rows of {cols} samples of {said.sample} are {need} bytes; the file has {size}"
        raise FormatError(words, "rows")
    return Source(
        kind=f"raw {said.sample}, {said.byte_order}-endian",
        rows=rows,
        cols=cols,
        sample=said.sample,
        metres=said.sample != "u16",
        bands=lambda step: mapped_bands(path, 0, dtype, rows, cols, said.nodata, step),
    )


def mapped_bands(
    path: Path, start: int, dtype: np.dtype[np.generic], rows: int, cols: int, nodata: float | None, step: Step
) -> Iterator[FloatArray]:
    """Samples that lie in one piece in a file, from byte `start` on."""
    with path.open("rb") as file:
        file.seek(start)
        for first in range(0, rows, ROWS_AT_ONCE):
            count = min(ROWS_AT_ONCE, rows - first)
            part = file.read(count * cols * dtype.itemsize)
            if len(part) < count * cols * dtype.itemsize:
                raise FormatError(
                    f"the file is cut short in row {first + len(part) // (cols * dtype.itemsize)}", "file"
                )
            yield as_heights(np.frombuffer(part, dtype).reshape(count, cols), nodata)
            step((first + count) / rows)
