"""Copies of a tract's tiles, to draw on while others go on with their own."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Callable
from typing import Any

from numpy.typing import NDArray

from fernfield.work.kernel.posts.tiles import Place, TileCache


class AsideCache(TileCache):
    """What looks like a tract's cache, and changes nothing in it.

    seen : the tiles that were asked for, each with how often it had been written by then
    """

    def __init__(self, real: TileCache, lock: Any, committed: Callable[[Place], NDArray[Any]]) -> None:
        super().__init__(real.grid, real.base_m, real.layers, _nothing, ChainMap({}, real.ranges))
        self._real, self._lock, self._committed = real, lock, committed
        self.seen: dict[Place, int] = {}

    def tile(self, place: Place) -> NDArray[Any]:
        found = self._tiles.get(place)
        if found is None:
            with self._lock:
                self._note(place)
                found = self._tiles[place] = self._committed(place).copy()
        return found

    def blank_tile(self, place: Place) -> bool:
        with self._lock:
            self._note(place)
            return super().blank_tile(place)

    def _note(self, place: Place) -> None:
        self.seen.setdefault(place, self._real.written.get(place, 0))


def _nothing(place: Place) -> bytes | None:
    raise AssertionError(f"{place} is the other cache's to load")
