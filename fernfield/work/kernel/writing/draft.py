"""Tiles that an edit changes, with how they were: to write them, or to put them back."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.earthworks import cut_and_fill
from fernfield.core.grid import NOWHERE, Window
from fernfield.store.rows import TileAt, TileChange
from fernfield.work.kernel.posts.bits import difference
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tiles import Place, TileCache, packed

At = tuple[str, Place]
"""Tract and place of a tile."""


class Draft:
    """An edit of tiles that is not written yet. Not for two threads at once."""

    def __init__(self, caches: Mapping[str, TileCache]) -> None:
        self._caches = caches
        self.before: dict[At, NDArray[Any]] = {}

    def cache(self, tract_id: str) -> TileCache:
        """The tiles of a tract as the edit leaves them, to read."""
        return self._caches[tract_id]

    def tile(self, tract_id: str, place: Place) -> NDArray[Any]:
        """A tile to write into."""
        at = tract_id, place
        cache = self._caches[tract_id]
        if at not in self.before:
            cache.pin(place)
            self.before[at] = cache.tile(place).copy()
        return cache.tile(place)

    def was(self, tract_id: str, place: Place) -> NDArray[Any]:
        """A tile as it was before the edit."""
        found = self.before.get((tract_id, place))
        return self._caches[tract_id].tile(place) if found is None else found

    def put_back(self) -> None:
        """Undo everything; the draft is empty afterwards."""
        for (tract_id, place), values in self.before.items():
            cache = self._caches[tract_id]
            cache.tile(place)[...] = values
        self.let_go()

    def let_go(self) -> None:
        """The tiles are the store's again."""
        for tract_id, place in self.before:
            self._caches[tract_id].unpin(place)
        self.before = {}

    def changes(self) -> Iterator[tuple[TileChange, Window, float, float]]:
        """Every tile that differs: the change, its posts in the tract, and cut and fill. [m³]"""
        for (tract_id, place), was in self.before.items():
            cache = self._caches[tract_id]
            tile = cache.tile(place)
            part = differing(was, tile)
            if part.empty:
                continue
            whole = cache.grid.tile_window(place[1], place[2])
            yield change_of(tract_id, place, was, tile, part, cache.grid.spacing, whole)


def differing(was: NDArray[Any], tile: NDArray[Any]) -> Window:
    """The smallest window of a tile that holds every post that differs, bit by bit."""
    bits = was.view(np.uint32) != tile.view(np.uint32) if was.dtype == np.float32 else was != tile
    rows, cols = np.flatnonzero(bits.any(axis=1)), np.flatnonzero(bits.any(axis=0))
    return Window(int(rows[0]), int(cols[0]), int(rows[-1]) + 1, int(cols[-1]) + 1) if len(rows) else NOWHERE


def change_of(
    tract_id: str, place: Place, was: NDArray[Any], tile: NDArray[Any], part: Window, spacing: float, whole: Window
) -> tuple[TileChange, Window, float, float]:
    """What a tile's change is to the store, where it is in the tract, and its volumes. `part` is in the tile."""
    diff = difference(was, tile, part)
    assert diff is not None
    cut = fill = 0.0
    if place[0] == HEIGHT:
        box = part.inside(Window(0, 0, *tile.shape))
        cut, fill = cut_and_fill(was[box], tile[box], spacing)
    change = TileChange(TileAt(tract_id, *place), part.row0, part.col0, diff, packed(tile))
    return change, part.shifted(whole.row0, whole.col0), cut, fill
