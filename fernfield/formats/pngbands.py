"""Greyscale PNG (ISO/IEC 15948) written band by band, so that no picture has to be in memory whole.

Pillow writes pictures only whole; Pillow reads these in the tests.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

SIGNATURE = b"\x89PNG\r\n\x1a\n"
UP = 2
"""The filter that keeps each byte's difference from the one above it: neighbouring rows of land differ little."""

LEVEL = 3


def _chunk(name: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))


class PngBands:
    """A greyscale PNG of `rows` by `cols` samples of uint8 or uint16, in the making.

    Write out what `begin`, each `add` (from the top down) and `end` return, in this order.
    """

    def __init__(self, rows: int, cols: int, dtype: type[np.uint8] | type[np.uint16]) -> None:
        self._rows, self._cols, self._dtype = rows, cols, np.dtype(dtype).newbyteorder(">")
        self._packer = zlib.compressobj(LEVEL)
        self._above = np.zeros(cols * self._dtype.itemsize, np.uint8)
        self._have = 0

    def begin(self) -> bytes:
        head = struct.pack(">IIBBBBB", self._cols, self._rows, 8 * self._dtype.itemsize, 0, 0, 0, 0)
        return SIGNATURE + _chunk(b"IHDR", head)

    def add(self, band: NDArray[Any]) -> bytes:
        """The bytes of the next rows; shape (any, cols). Raises ValueError for a band that does not fit."""
        self._have += len(band)
        if band.ndim != 2 or band.shape[1] != self._cols or self._have > self._rows:
            raise ValueError(
                f"{self._rows} rows of {self._cols} samples were announced, not {self._have}, {band.shape}"
            )
        if len(band) == 0:
            return b""
        samples = np.ascontiguousarray(band, self._dtype).view(np.uint8).reshape(len(band), -1)
        filtered = np.empty((len(band), 1 + samples.shape[1]), np.uint8)
        filtered[:, 0] = UP
        filtered[0, 1:] = samples[0] - self._above
        filtered[1:, 1:] = samples[1:] - samples[:-1]
        self._above = samples[-1].copy()
        packed = self._packer.compress(filtered.data)
        return _chunk(b"IDAT", packed) if packed else b""

    def end(self) -> bytes:
        """The last bytes. Raises ValueError when rows are missing."""
        if self._have != self._rows:
            raise ValueError(f"{self._rows} rows were announced, {self._have} came")
        return _chunk(b"IDAT", self._packer.flush()) + _chunk(b"IEND", b"")


def png_parts(
    bands: Iterable[NDArray[Any]], rows: int, cols: int, dtype: type[np.uint8] | type[np.uint16]
) -> Iterator[bytes]:
    """The bytes of a greyscale PNG, part by part, from bands of rows."""
    picture = PngBands(rows, cols, dtype)
    yield picture.begin()
    for band in bands:
        yield picture.add(band)
    yield picture.end()
