"""Heights as 16-bit greyscale PNG (ISO/IEC 15948): 0 is the lowest elevation, 65,535 the highest."""

from __future__ import annotations

import io
import math
import struct
import warnings
from pathlib import Path

import numpy as np
from PIL import Image, UnidentifiedImageError

from fernfield.core.errors import FormatError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.formats.limits import check_dimensions

SIGNATURE = b"\x89PNG\r\n\x1a\n"
FULL = 65_535


def looks_like_png(head: bytes) -> bool:
    return head.startswith(SIGNATURE)


def read_png(path: Path, lowest_m: float, highest_m: float) -> FloatArray:
    """Heights from a 16-bit greyscale PNG whose 0 and 65,535 stand for the two elevations.

    Returns shape (rows, cols), row 0 the top of the picture. [m]
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
    try:
        with warnings.catch_warnings():
            # Our own limit on the dimensions was checked above.
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(path) as picture:
                grey = np.asarray(picture)
    except (OSError, UnidentifiedImageError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        raise FormatError(f"the PNG is damaged or cut short: {error}", "file") from error
    if grey.shape != (rows, cols):
        raise FormatError(f"the PNG must hold {rows} x {cols} samples, not {grey.shape}", "file")
    scale = (highest_m - lowest_m) / FULL
    return (grey.astype(np.float64) * scale + lowest_m).astype(np.float32)


def heights_to_png(heights: FloatArray, lowest_m: float, highest_m: float) -> bytes:
    """A 16-bit greyscale PNG in which the two elevations are 0 and 65,535; rounded to the nearest step."""
    span = max(highest_m - lowest_m, 1e-9)
    grey = np.rint((heights.astype(np.float64) - lowest_m) / span * FULL)
    picture = Image.fromarray(np.clip(grey, 0, FULL).astype(np.uint16))
    out = io.BytesIO()
    picture.save(out, "PNG", compress_level=3)
    return out.getvalue()


def bytes_to_png(values: ByteArray) -> bytes:
    """An 8-bit greyscale PNG of an array of shape (rows, cols)."""
    out = io.BytesIO()
    Image.fromarray(values).save(out, "PNG", compress_level=3)
    return out.getvalue()
