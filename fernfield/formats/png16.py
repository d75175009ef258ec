"""Heights as 16-bit greyscale PNG (ISO/IEC 15948): 0 is the lowest elevation, 65,535 the highest."""

from __future__ import annotations

import math
import struct
import warnings
from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageFile, UnidentifiedImageError

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step, check_dimensions, no_step
from fernfield.formats.pngbands import SIGNATURE, png_parts

FULL = 65_535
READ_BYTES = 1 << 19
ROWS_AT_ONCE = 256


def looks_like_png(head: bytes) -> bool:
    return head.startswith(SIGNATURE)


def read_png(path: Path, lowest_m: float, highest_m: float, step: Step = no_step) -> FloatArray:
    """Heights from a 16-bit greyscale PNG whose 0 and 65,535 stand for the two elevations.

    Returns shape (rows, cols), row 0 the top of the picture. [m]  `step` hears how much of
    the file is read, and may raise to stop.
    Raises FormatError for another kind of PNG, a damaged one, absurd dimensions (before
    any memory is taken) or elevations out of order.
    """
    if not (math.isfinite(lowest_m) and math.isfinite(highest_m) and lowest_m < highest_m):
        raise FormatError(f"lowest_m must be finite and below highest_m, not {lowest_m} and {highest_m}", "lowest_m")
    with path.open("rb") as file:
        head = file.read(33)
    if len(head) < 33 or head[12:16] != b"IHDR":
        raise FormatError("the PNG is cut short: its header is missing", "file")
    cols, rows, depth, colour = struct.unpack(">IIBB", head[16:26])
    check_dimensions(rows, cols)
    if (depth, colour) != (16, 0):
        kind = {0: "grey", 2: "colour", 3: "palette", 4: "grey with alpha", 6: "colour with alpha"}
        raise FormatError(
            f"the PNG must be 16-bit grey, not {depth}-bit {kind.get(colour, 'of an unknown kind')}", "file"
        )
    grey = _samples(path, step)
    if grey.shape != (rows, cols):
        raise FormatError(f"the PNG must hold {rows} x {cols} samples, not {grey.shape}", "file")
    scale = (highest_m - lowest_m) / FULL
    heights = np.empty((rows, cols), np.float32)
    for first in range(0, rows, ROWS_AT_ONCE):
        band = slice(first, first + ROWS_AT_ONCE)
        heights[band] = grey[band].astype(np.float64) * scale + lowest_m
    return heights


def _samples(path: Path, step: Step) -> NDArray[np.uint16]:
    """The samples of the PNG at `path`, decoded while it is read."""
    size = max(path.stat().st_size, 1)
    parser = ImageFile.Parser()
    try:
        with warnings.catch_warnings(), path.open("rb") as file:
            # Our own limit on the dimensions was checked before.
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            while part := file.read(READ_BYTES):
                parser.feed(part)
                step(file.tell() / size)
            return np.asarray(parser.close())
    except (OSError, UnidentifiedImageError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        raise FormatError(f"the PNG is damaged or cut short: {error}", "file") from error


def grey_of(heights: FloatArray, lowest_m: float, highest_m: float) -> NDArray[np.uint16]:
    """Elevations as grey of 16 bits, to the nearest step: the two elevations are 0 and 65,535."""
    span = max(highest_m - lowest_m, 1e-9)
    grey = np.rint((heights.astype(np.float64) - lowest_m) / span * FULL)
    return np.clip(grey, 0, FULL).astype(np.uint16)


def heights_png_parts(
    bands: Iterable[FloatArray], rows: int, cols: int, lowest_m: float, highest_m: float
) -> Iterator[bytes]:
    """A 16-bit greyscale PNG in which the two elevations are 0 and 65,535, from bands of rows."""
    return png_parts((grey_of(band, lowest_m, highest_m) for band in bands), rows, cols, np.uint16)
