"""Heights as greyscale PNG (ISO/IEC 15948) of 8 or 16 bits, read and written band by band.

Pillow reads pictures only whole, so a picture of 16,385 posts a side would take a gigabyte;
Pillow is the second opinion in the tests.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import FormatError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.pngbands import SIGNATURE, png_parts
from fernfield.formats.source import Said, Source, as_heights

FULL = 65_535
READ_BYTES = 1 << 18
BAND_BYTES = 1 << 22

CHANNELS = {0: 1, 2: 3, 4: 2, 6: 4}
"""Samples of a pixel by the colour type of the header; a palette (3) is not elevations."""


def looks_like_png(head: bytes) -> bool:
    return head.startswith(SIGNATURE)


def open_png(path: Path, said: Said) -> Source:
    """Look into a PNG. Raises FormatError for one that is not plain grey of 8 or 16 bits, or too large."""
    with path.open("rb") as file:
        head = file.read(33)
    if len(head) < 33 or head[12:16] != b"IHDR":
        raise FormatError("the PNG is cut short: its header is missing", "file")
    cols, rows, depth, colour, _, _, interlaced = struct.unpack(">IIBBBBB", head[16:29])
    check_dimensions(rows, cols)
    if depth not in (8, 16) or colour not in CHANNELS:
        kind = "with a palette" if colour == 3 else "grey" if colour == 0 else "of an unknown kind"
        raise FormatError(f"the PNG must be grey of 8 or 16 bits, not {depth}-bit {kind}", "file")
    if interlaced:
        raise FormatError("the PNG must not be interlaced: save it without interlacing", "file")
    return Source(
        kind=f"PNG, {depth}-bit grey",
        rows=rows,
        cols=cols,
        sample=f"u{depth}",
        metres=False,
        bands=lambda step: _bands(path, rows, cols, depth, CHANNELS[colour], said.nodata, step),
    )


def _idat(file: BinaryIO) -> Iterator[bytes]:
    """The packed samples, part by part, with the sum of every chunk checked."""
    file.seek(len(SIGNATURE))
    while True:
        head = file.read(8)
        if len(head) < 8:
            raise FormatError("the PNG is damaged or cut short: it ends inside a chunk", "file")
        left, name = struct.unpack(">I4s", head)
        total = zlib.crc32(name)
        while left:
            part = file.read(min(left, READ_BYTES))
            if not part:
                raise FormatError("the PNG is damaged or cut short: it ends inside a chunk", "file")
            left -= len(part)
            total = zlib.crc32(part, total)
            if name == b"IDAT":
                yield part
        if struct.unpack(">I", file.read(4).rjust(4, b"\0"))[0] != total:
            raise FormatError(f"the PNG is damaged: the sum of its chunk {name!r} is wrong", "file")
        if name == b"IEND":
            return


def _unpacked(file: BinaryIO, need: int) -> Iterator[bytes]:
    """The filtered rows, in parts; never more of them at once than a few MiB, however far the packing swells."""
    unpack, have = zlib.decompressobj(), 0
    try:
        for part in _idat(file):
            rest = part
            while rest:
                found = unpack.decompress(rest, BAND_BYTES)
                rest = unpack.unconsumed_tail
                have += len(found)
                if have > need:
                    raise FormatError("the PNG is damaged: it holds more samples than its header says", "file")
                if found:
                    yield found
                elif unpack.eof:
                    break
        last = unpack.flush()
    except zlib.error as error:
        raise FormatError(f"the PNG is damaged or cut short: {error}", "file") from error
    have += len(last)
    if have != need:
        raise FormatError(f"the PNG is damaged or cut short: {have} of {need} bytes of samples are there", "file")
    if last:
        yield last


def _bands(
    path: Path, rows: int, cols: int, depth: int, channels: int, nodata: float | None, step: Step
) -> Iterator[FloatArray]:
    size = depth // 8 * channels
    line = 1 + cols * size
    above = np.zeros(line - 1, np.uint8)
    rest = b""
    done = 0
    with path.open("rb") as file:
        for part in _unpacked(file, rows * line):
            rest += part
            count = len(rest) // line
            if count == 0:
                continue
            lines = np.frombuffer(rest[: count * line], np.uint8).reshape(count, line)
            rest = rest[count * line :]
            plain = np.empty((count, line - 1), np.uint8)
            if not _unfilter(lines, plain, above, size):
                raise FormatError("the PNG is damaged: a row has a filter that there is not", "file")
            above = plain[-1].copy()
            grey, alpha = _grey(plain, count, cols, depth, channels)
            heights = as_heights(grey, nodata)
            if alpha is not None:
                heights[alpha == 0] = np.nan
            yield heights
            done += count
            step(done / rows)


def _grey(
    plain: ByteArray, rows: int, cols: int, depth: int, channels: int
) -> tuple[NDArray[np.unsignedinteger], NDArray[np.unsignedinteger] | None]:
    """The grey samples, and the alpha where there is one. Raises FormatError for colour."""
    samples = plain.view(">u2") if depth == 16 else plain
    pixels = samples.reshape(rows, cols, channels)
    if channels >= 3 and not ((pixels[..., 0] == pixels[..., 1]) & (pixels[..., 0] == pixels[..., 2])).all():
        raise FormatError("the PNG must be grey: its red, green and blue differ", "file")
    return pixels[..., 0], pixels[..., -1] if channels in (2, 4) else None


@kernel
def _unfilter(lines: ByteArray, plain: ByteArray, above: ByteArray, size: int) -> bool:
    """Undo the filters of ISO/IEC 15948, section 9; false when a row names one that there is not."""
    for r in range(lines.shape[0]):
        kind = lines[r, 0]
        if kind > 4:
            return False
        source, out = lines[r, 1:], plain[r]
        up = above if r == 0 else plain[r - 1]
        for i in range(out.shape[0]):
            a = int(out[i - size]) if i >= size else 0
            b = int(up[i])
            c = int(up[i - size]) if i >= size else 0
            if kind == 0:
                guess = 0
            elif kind == 1:
                guess = a
            elif kind == 2:
                guess = b
            elif kind == 3:
                guess = (a + b) // 2
            else:
                p = a + b - c
                pa, pb, pc = abs(p - a), abs(p - b), abs(p - c)
                guess = a if pa <= pb and pa <= pc else (b if pb <= pc else c)
            out[i] = (int(source[i]) + guess) & 255
    return True


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
