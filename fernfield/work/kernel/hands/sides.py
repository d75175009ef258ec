"""The tracts that one stroke works on: its own, and those that are joined to it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import NOWHERE, TILE, FloatArray, Grid, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tiles import Place, TileCache


@dataclass(frozen=True, slots=True)
class Beside:
    """A tract that is joined to another: its posts lie `row` and `col` posts from the other's own."""

    tract_id: str
    cache: TileCache
    row: int
    col: int


def beside(land: Land) -> tuple[Beside, ...]:
    """The tracts that a stroke on the first of a land runs over into."""
    return tuple(Beside(part.tract.row.id, part.tract.cache, part.row, part.col) for part in land.parts[1:])


@dataclass(eq=False)
class Side:
    """One tract under a stroke: the tiles it has touched, as they were, and what of them changed.

    row, col : where its first post lies among those of the stroke's own tract
    """

    tract_id: str
    cache: TileCache
    row: int = 0
    col: int = 0
    before: dict[Place, NDArray[Any]] = field(default_factory=dict)
    dirty: dict[Place, Window] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.where = self.cache.grid.window.shifted(self.row, self.col)
        """The tract, in the posts of the stroke's own."""

    def own(self, window: Window) -> Window:
        """A window of the stroke's own posts in this tract's, as far as it lies there."""
        return window.meet(self.where).shifted(-self.row, -self.col)

    def hold(self, layer: str, window: Window, owner: object, holds: dict[tuple[str, Place], Any]) -> int:
        """Keep the tiles of a window aside, in this tract's posts; returns how many posts more these are."""
        more = 0
        for tile in window.tiles():
            place = (layer, *tile)
            if place not in self.before:
                self.before[place] = self.cache.tile(place).copy()
                self.cache.pin(place)
                holds[self.tract_id, place] = owner
                more += self.before[place].size
        return more

    def soil(self, layer: str, window: Window) -> list[Place]:
        """Posts of a window, in this tract's own, have changed; returns the tiles."""
        places = []
        for tile in window.tiles():
            place = (layer, *tile)
            whole = self.cache.grid.tile_window(*tile)
            part = window.meet(whole)
            self.dirty[place] = self.dirty.get(place, NOWHERE).join(part)
            self.cache.loose[place] = self.dirty[place].shifted(-whole.row0, -whole.col0)
            self.cache.widen_range(place, self.cache.tile(place)[part.inside(whole)])
            places.append(place)
        return places

    def was(self, layer: str, window: Window) -> NDArray[Any]:
        """A window as it was before the stroke, in this tract's posts."""
        values = self.cache.read(layer, window)
        # What lies past the tract's own posts is another side's.
        own = window.meet(self.cache.grid.window)
        for tile in own.tiles():
            before = self.before.get((layer, *tile))
            if before is not None:
                whole = self.cache.grid.tile_window(*tile)
                part = whole.meet(own)
                values[part.inside(window)] = before[part.inside(whole)]
        return values

    def put_back(self) -> Window:
        """The tiles as they were; returns the posts that had changed, in the stroke's own."""
        changed = NOWHERE
        for place, part in self.dirty.items():
            self.cache.tile(place)[...] = self.before[place]
            changed = changed.join(part.shifted(self.row, self.col))
            self.cache.loose.pop(place, None)
        self.dirty.clear()
        return changed

    def roll_back(self, holds: dict[tuple[str, Place], Any]) -> Window:
        """Put every tile back and let go of it; returns the posts concerned, in the stroke's own."""
        changed = NOWHERE
        for part in self.dirty.values():
            changed = changed.join(part.shifted(self.row, self.col))
        for place, values in self.before.items():
            self.cache.tile(place)[...] = values
            self.cache.set_range(place, float(values.min()), float(values.max()))
        self.let_go(holds)
        self.before.clear()
        self.dirty.clear()
        return changed

    def let_go(self, holds: dict[tuple[str, Place], Any]) -> None:
        """The tiles are the store's again."""
        for place in self.before:
            self.cache.unpin(place)
            self.cache.loose.pop(place, None)
            holds.pop((self.tract_id, place), None)


def read_across(
    sides: Sequence[Side], layer: str, window: Window, read: Callable[[Side, str, Window], NDArray[Any]]
) -> NDArray[Any]:
    """A window of the first side's posts; where it lies outside that, from those beside."""
    values = read(sides[0], layer, window)
    own = sides[0].where
    for side in sides[1:]:
        part = window.meet(side.where)
        if part.empty:
            continue
        there = read(side, layer, side.own(part))
        # The shared edge is the first side's: it is the same line.
        mine = part.meet(own)
        box = part.inside(window)
        if mine.empty:
            values[box] = there
            continue
        kept = values[mine.inside(window)].copy()
        values[box] = there
        values[mine.inside(window)] = kept
    return values


def write_across(sides: Sequence[Side], layer: str, window: Window, values: NDArray[Any]) -> None:
    """Put `values` (of the window's shape) into every side that the window touches, shared edges into both."""
    for side in sides:
        part = window.meet(side.where)
        if not part.empty:
            side.cache.write(layer, side.own(part), values[part.inside(window)])


class Planes:
    """A float for each post of `bounds`, tile by tile, made when first asked for."""

    def __init__(self, bounds: Window, make: Callable[[Window], FloatArray]) -> None:
        self._bounds, self._make = bounds, make
        self._tiles: dict[tuple[int, int], FloatArray] = {}

    def _parts(self, window: Window) -> Iterator[tuple[FloatArray, Window]]:
        for tile in window.tiles():
            whole = Window(tile[0] * TILE, tile[1] * TILE, (tile[0] + 1) * TILE, (tile[1] + 1) * TILE)
            whole = whole.meet(self._bounds)
            if tile not in self._tiles:
                self._tiles[tile] = self._make(whole)
            part = window.meet(whole)
            yield self._tiles[tile][part.inside(whole)], part

    def read(self, window: Window) -> FloatArray:
        out = np.empty(window.shape, np.float32)
        for values, part in self._parts(window):
            out[part.inside(window)] = values
        return out

    def write(self, window: Window, values: FloatArray) -> None:
        for own, part in self._parts(window):
            own[...] = values[part.inside(window)]


def around(grid: Grid, x: float, y: float, radius: float, bounds: Window) -> Window:
    """The posts within `radius` metres of (x, y), as far as `bounds` reach."""
    (row, col), reach = grid.post_of(x, y), radius / grid.spacing
    found = Window(
        math.ceil(row - reach), math.ceil(col - reach), math.floor(row + reach) + 1, math.floor(col + reach) + 1
    )  # fmt: skip
    return found.meet(bounds)


def holders(holds: Mapping[tuple[str, Place], Any], tract_id: str, places: Sequence[Place], owner: object) -> set[Any]:
    """Others that hold some of the places."""
    found = (holds.get((tract_id, place)) for place in places)
    return {holder for holder in found if holder is not None and holder is not owner}
