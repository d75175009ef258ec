"""The ground as it was before an edit of many tiles: taken back tile by tile when it is looked at."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray

from fernfield.core.errors import NotFound
from fernfield.store.rows import TileAt
from fernfield.work.kernel.posts.bits import swap_in_place
from fernfield.work.kernel.writing.draft import At

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld

MOST_KEPT = 16
"""Tiles kept at hand."""


class Before(Mapping[At, NDArray[Any]]):
    """The tiles that the revision `number` changed, as they were. As long as it is the newest of the ground."""

    def __init__(self, world: OpenWorld, number: int, places: Collection[At]) -> None:
        self._world, self._number, self._places = world, number, places
        self._kept: dict[At, NDArray[Any]] = {}

    def __getitem__(self, at: At) -> NDArray[Any]:
        if at not in self._places:
            raise KeyError(at)
        if at not in self._kept:
            tract_id, place = at
            tile = self._world.ledger.committed_tile(tract_id)(place).copy()
            try:
                row0, col0, diff = self._world.store.change(self._world.id, self._number, TileAt(tract_id, *place))
            except NotFound:
                # It was folded into another.
                raise KeyError(at) from None
            swap_in_place(tile, row0, col0, diff)
            while len(self._kept) >= MOST_KEPT:
                del self._kept[next(iter(self._kept))]
            self._kept[at] = tile
        return self._kept[at]

    def __iter__(self) -> Iterator[At]:
        return iter(self._places)

    def __len__(self) -> int:
        return len(self._places)
