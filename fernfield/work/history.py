"""Taking back: what differs between two states of a tile, and which revision is next to undo or redo."""

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


class UndoOrder:
    """Which revision an undo or a redo would touch, kept up as revisions are made."""

    def __init__(self, steps: Iterable[tuple[int, str, int | None]] = ()) -> None:
        self._done: list[int] = []
        self._undone: list[int] = []
        for number, sort, target in steps:
            self.note(number, sort, target)

    def note(self, number: int, sort: str, target: int | None) -> None:
        """A revision was made: an edit, or the undo or redo of the edit `target`."""
        if sort == "undo":
            self._done.remove(self._known(target, self._done))
            self._undone.append(self._known(target, None))
        elif sort == "redo":
            self._undone.remove(self._known(target, self._undone))
            self._done.append(self._known(target, None))
        else:
            self._done.append(number)
            self._undone.clear()

    @staticmethod
    def _known(target: int | None, among: list[int] | None) -> int:
        if target is None or (among is not None and target not in among):
            raise ValueError(f"the logbook names a revision {target} that cannot be taken back or made again")
        return target

    @property
    def next_undo(self) -> int | None:
        return self._done[-1] if self._done else None

    @property
    def next_redo(self) -> int | None:
        return self._undone[-1] if self._undone else None
