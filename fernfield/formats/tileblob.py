"""Tiles as bytes: byte-shuffled, then Zstandard, with a short header that says what is inside.

Shuffling puts the first bytes of all numbers together, then the second ones, and so on;
neighbouring heights differ mostly in the last bytes, which makes the rest compress well.
"""

from __future__ import annotations

import struct
import threading
from typing import Any

import numpy as np
import zstandard
from numpy.typing import NDArray

from fernfield.core.errors import FormatError

_HEADER = struct.Struct("<2sBxHH")
_MAGIC = b"F1"
_DTYPES: dict[int, np.dtype[Any]] = {1: np.dtype("<f4"), 2: np.dtype("<u2"), 3: np.dtype("<u4")}
_CODES = {dtype: code for code, dtype in _DTYPES.items()}


class _Packers(threading.local):
    """Making these costs as much as a small tile; they are not for two threads at once."""

    def __init__(self) -> None:
        self.packs = zstandard.ZstdCompressor(level=1)
        self.unpacks = zstandard.ZstdDecompressor()


_PACKERS = _Packers()


def encode_tile(values: NDArray[Any], packs: zstandard.ZstdCompressor | None = None) -> bytes:
    """Bytes of a 2-D array of float32, uint16 or uint32, up to 65,535 a side; lossless.

    `packs` makes them smaller than there is time for while somebody waits.
    """
    dtype = values.dtype.newbyteorder("<")
    rows, cols = values.shape
    raw = np.frombuffer(np.ascontiguousarray(values, dtype), np.uint8).reshape(-1, dtype.itemsize)
    packed = (packs or _PACKERS.packs).compress(np.ascontiguousarray(raw.T).data)
    return _HEADER.pack(_MAGIC, _CODES[dtype], rows, cols) + packed


def decode_tile(blob: bytes) -> NDArray[Any]:
    """The array of `encode_tile`, writable. Raises FormatError when the bytes are damaged."""
    try:
        magic, code, rows, cols = _HEADER.unpack_from(blob)
        dtype = _DTYPES[code]
    except (struct.error, KeyError) as error:
        raise FormatError("a stored tile is not of a known form") from error
    if magic != _MAGIC:
        raise FormatError(f"a stored tile must begin with {_MAGIC!r}, not {magic!r}")
    size = rows * cols * dtype.itemsize
    try:
        packed = memoryview(blob)[_HEADER.size :]
        raw = _PACKERS.unpacks.decompress(packed, max_output_size=max(size, 1))
    except zstandard.ZstdError as error:
        raise FormatError(f"a stored tile is damaged: {error}") from error
    if len(raw) != size:
        raise FormatError(f"a stored tile must hold {size} bytes, not {len(raw)}")
    planes = np.frombuffer(raw, np.uint8).reshape(dtype.itemsize, rows * cols)
    # A copy in any case: the bytes cannot be written to, and of a single number no copy would be made.
    return np.array(planes.T, order="C").view(dtype).reshape(rows, cols)


def shape_of(blob: bytes) -> tuple[int, int]:
    """Rows and columns of the array in the bytes of `encode_tile`, without unpacking it."""
    _magic, _code, rows, cols = _HEADER.unpack_from(blob)
    return rows, cols
