"""Copies of the tiles of tracts, to read and to draw on while others go on with their own."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray

from fernfield.work.kernel.posts.tiles import Place, TileCache
from fernfield.work.kernel.writing.draft import At

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


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


class Asides(dict[str, TileCache]):
    """The tiles of a world as they are committed, by tract: made when asked for."""

    def __init__(self, world: OpenWorld) -> None:
        super().__init__()
        self._world = world

    def __missing__(self, tract_id: str) -> AsideCache:
        world = self._world
        cache = AsideCache(world.any_tract(tract_id).cache, world.lock, world.ledger.committed_tile(tract_id))
        self[tract_id] = cache
        return cache

    @property
    def seen(self) -> dict[At, int]:
        """The tiles that were asked for, each with how often it had been written by then."""
        return {
            (tract_id, place): count
            for tract_id, cache in self.items()
            if isinstance(cache, AsideCache)
            for place, count in cache.seen.items()
        }


def overtaken(world: OpenWorld, seen: Mapping[At, int]) -> bool:
    """Whether others have written tiles since they were seen. Under the lock."""
    tract = world.any_tract
    return any(tract(tract_id).cache.written.get(place, 0) != n for (tract_id, place), n in seen.items())


def _nothing(place: Place) -> bytes | None:
    raise AssertionError(f"{place} is the other cache's to load")
