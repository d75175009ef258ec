"""What differs between two states of a tile, bit by bit."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import Window
from fernfield.formats.tileblob import decode_tile, encode_tile


def _bits(values: NDArray[Any]) -> NDArray[Any]:
    return values.view(np.uint32) if values.dtype == np.float32 else values


def difference(before: NDArray[Any], after: NDArray[Any], part: Window) -> bytes | None:
    """What differs inside `part` of two equal-shaped tiles, bit by bit (XOR); None where nothing does.

    The same bytes lead from before to after and back, exactly.
    """
    box = part.inside(Window(0, 0, *before.shape))
    xor = _bits(np.ascontiguousarray(before[box])) ^ _bits(np.ascontiguousarray(after[box]))
    return encode_tile(xor) if xor.any() else None


def swap_in_place(tile: NDArray[Any], row0: int, col0: int, diff: bytes) -> Window:
    """Apply a `difference` to `tile` (modified); returns the part of the tile that it covers."""
    xor = decode_tile(diff)
    part = Window(row0, col0, row0 + xor.shape[0], col0 + xor.shape[1])
    view = _bits(tile)
    view[part.row0 : part.row1, part.col0 : part.col1] ^= xor
    return part


def changed_back(blob: bytes, later: Iterable[tuple[int, int, bytes]]) -> bytes:
    """A tile's bytes as they were before `later` differences. In what order they are taken does not matter."""
    tile = decode_tile(blob)
    for row0, col0, diff in later:
        swap_in_place(tile, row0, col0, diff)
    return encode_tile(tile)


def joined(diffs: Sequence[tuple[int, int, bytes]]) -> tuple[int, int, bytes] | None:
    """Several XORs of parts of one tile as one: first row and column, bytes. None when they cancel out."""
    parts = [(row, col, decode_tile(blob)) for row, col, blob in diffs]
    row0, col0 = min(p[0] for p in parts), min(p[1] for p in parts)
    row1 = max(row + xor.shape[0] for row, _, xor in parts)
    col1 = max(col + xor.shape[1] for _, col, xor in parts)
    whole = np.zeros((row1 - row0, col1 - col0), parts[0][2].dtype)
    for row, col, xor in parts:
        whole[row - row0 : row - row0 + xor.shape[0], col - col0 : col - col0 + xor.shape[1]] ^= xor
    return (row0, col0, encode_tile(whole)) if whole.any() else None
