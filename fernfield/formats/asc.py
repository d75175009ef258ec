"""ESRI ASCII grid (.asc): a short header in words, then the elevations row by row, north first."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import numpy as np

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.source import Said, Source, as_heights

_KEYS = ("ncols", "nrows", "xllcorner", "yllcorner", "xllcenter", "yllcenter", "cellsize", "nodata_value")
_CHUNK = 1 << 20


def looks_like_asc(head: bytes) -> bool:
    return re.match(rb"\s*(ncols|nrows|xll|yll|cellsize|nodata_value)", head, re.IGNORECASE) is not None


def _read_header(file: BinaryIO) -> dict[str, float]:
    header: dict[str, float] = {}
    while True:
        start = file.tell()
        line = file.readline(4096)
        words = line.split()
        if not words:
            if not line:
                return header
            continue
        key = words[0].decode("ascii", "replace").lower()
        if not key[0].isalpha():
            file.seek(start)
            return header
        if key not in _KEYS or len(words) != 2:
            raise FormatError(f"the header of the grid has a line that is not known: {line[:60]!r}", "file")
        try:
            header[key] = float(words[1])
        except ValueError:
            raise FormatError(f"{key} must be a number, not {words[1][:30]!r}", "file") from None


def _values(file: BinaryIO) -> Iterator[np.ndarray]:
    rest = b""
    while True:
        chunk = file.read(_CHUNK)
        text = rest + chunk
        if not text:
            return
        if chunk:
            cut = max(text.rfind(b" "), text.rfind(b"\n"), text.rfind(b"\t"), text.rfind(b"\r")) + 1
            if cut == 0 and len(text) > _CHUNK:
                raise FormatError("the grid holds something that is not numbers", "file")
            text, rest = text[:cut], text[cut:]
        else:
            rest = b""
        words = text.split()
        if words:
            try:
                yield np.array(words, dtype=np.float64)
            except ValueError as error:
                raise FormatError(f"the grid holds something that is not a number: {error}", "file") from None
        if not chunk:
            return


def open_asc(path: Path, said: Said) -> Source:
    """Look into an ESRI ASCII grid.

    Raises FormatError when the header is incomplete, and, while it is read, when there are
    more or fewer numbers than it says or one cannot be read.
    """
    with path.open("rb") as file:
        header = _read_header(file)
        start = file.tell()
    for key in ("ncols", "nrows", "cellsize"):
        if key not in header:
            raise FormatError(
                f"the header of the grid must have {key}; it has {', '.join(header) or 'nothing'}", "file"
            )
    cols, rows, spacing = header["ncols"], header["nrows"], header["cellsize"]
    if not (math.isfinite(cols) and math.isfinite(rows) and cols == int(cols) and rows == int(rows)):
        raise FormatError(f"ncols and nrows must be whole numbers, not {cols} and {rows}", "file")
    check_dimensions(int(rows), int(cols))
    if not (math.isfinite(spacing) and spacing > 0):
        raise FormatError(f"cellsize must be above 0, not {spacing}", "file")
    need = int(rows) * int(cols)
    if path.stat().st_size < 2 * need:
        raise FormatError(f"the grid is cut short: {need} elevations do not fit in {path.stat().st_size} bytes", "file")
    nodata = header.get("nodata_value", said.nodata)
    return Source(
        kind="ESRI ASCII grid",
        rows=int(rows),
        cols=int(cols),
        sample="f32",
        metres=True,
        spacing_m=(float(spacing), float(spacing)),
        bands=lambda step: _bands(path, start, int(rows), int(cols), nodata, step),
    )


def _bands(path: Path, start: int, rows: int, cols: int, nodata: float | None, step: Step) -> Iterator[FloatArray]:
    need, have = rows * cols, 0
    rest = np.empty(0)
    with path.open("rb") as file:
        file.seek(start)
        for part in _values(file):
            have += len(part)
            if have > need:
                raise FormatError(f"the grid holds more than the {need} elevations that its header says", "file")
            rest = np.concatenate([rest, part])
            whole = len(rest) // cols * cols
            if whole:
                yield as_heights(rest[:whole].reshape(-1, cols), nodata)
                rest = rest[whole:]
            step(have / need)
    if have != need:
        raise FormatError(f"the grid is cut short: {have} of {need} elevations are there", "file")


def asc_lines(
    heights: Iterator[FloatArray], rows: int, cols: int, spacing_m: float, west_m: float = 0.0, south_m: float = 0.0
) -> Iterator[bytes]:
    """The lines of an ESRI ASCII grid, from bands of rows; each float32 in its shortest exact form. west_m, south_m :
    where the sample in the south-west is"""
    yield (
        f"ncols {cols}\nnrows {rows}\nxllcenter {west_m:.17g}\nyllcenter {south_m:.17g}\n"
        f"cellsize {spacing_m:.17g}\nNODATA_value -99999\n"
    ).encode()
    for band in heights:
        for row in band:
            # Whatever somebody in this process has set numbers to be printed by.
            with np.printoptions(legacy=False):
                words = row.astype(np.str_)
            yield " ".join(words).encode() + b"\n"
