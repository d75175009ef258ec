"""The coarser levels of a tract's layers: read from the store, and made again above what changed.

They are those of what is committed. Where a stroke is being drawn, what is read of them is made from the posts.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import NOWHERE, Window
from fernfield.core.overview import (
    HIGHEST,
    LOWEST,
    MEAN,
    RULES,
    SIDE,
    Rule,
    beneath,
    halved,
    level_of,
    top_of,
    touched,
    whole_level,
)
from fernfield.formats.tileblob import decode_tile, encode_tile
from fernfield.store.overviews import OverviewAt, OverviewChange
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tiles import Place, TileCache

VERSION = 1
"""Of the rules: a tract whose overviews follow another gets them anew."""

MOST_SPOTS = 3_000
"""Tiles of levels kept in memory for one tract; one takes 16 KiB."""

Spot = tuple[str, str, int, int, int]
"""Layer, rule, level, tile row, tile column."""

Posts = Callable[[str, Window], NDArray[Any]]
"""Committed posts of a layer in a window of the tract."""

Fresh = Mapping[Spot, NDArray[Any]]


def rules_of(layer: str) -> tuple[Rule, ...]:
    """By what rules a layer has overviews."""
    return (MEAN, LOWEST, HIGHEST) if layer == HEIGHT else (MEAN,)


def _split(cells: Window) -> Iterator[tuple[int, int, Window]]:
    """The tiles of a level that a window of cells touches, and the part in each."""
    for row in range(cells.row0 // SIDE, -(-cells.row1 // SIDE)):
        for col in range(cells.col0 // SIDE, -(-cells.col1 // SIDE)):
            whole = Window(row * SIDE, col * SIDE, (row + 1) * SIDE, (col + 1) * SIDE)
            yield row, col, cells.meet(whole)


class Overviews:
    """The levels of one tract. Under the world's lock.

    load : the stored tiles of a level in a window of tiles, as layer, rule, level, window -> row, column, bytes
    version : of the rules that all that is stored follows; 0 while some is missing
    """

    def __init__(
        self, tract_id: str, cache: TileCache,
        load: Callable[[str, str, int, Window], list[tuple[int, int, bytes]]], version: int,
    ) -> None:  # fmt: skip
        self.tract_id, self._cache, self._load = tract_id, cache, load
        self.ready = version == VERSION
        self.pending: set[Spot] = set()
        """While they are made: the tiles that are still missing, or have become wrong."""
        self._tiles: OrderedDict[Spot, NDArray[Any]] = OrderedDict()

    # Reading

    def whole(self, level: int) -> Window:
        return whole_level(self._cache.grid.rows, self._cache.grid.cols, level)

    def top(self, rule: Rule) -> int:
        return top_of(self._cache.grid.rows, self._cache.grid.cols, rule)

    def cells(self, layer: str, rule: Rule, level: int, window: Window) -> NDArray[Any]:
        """Cells of a level, with what is being drawn at the moment; `window` lies within the level."""
        if level < rule.first or not self.ready:
            return self._made(layer, rule, level, window, self._cache.read)
        if level > self.top(rule):
            return halved(self.cells(layer, rule, level - 1, self._below(window, level)), rule)
        found = self._stored(layer, rule, level, window)
        for place, part in self._cache.loose.items():
            if place[0] != layer:
                continue
            first = self._cache.grid.tile_window(place[1], place[2])
            here = touched(part.shifted(first.row0, first.col0), level).meet(window)
            if not here.empty:
                found[here.inside(window)] = self._made(layer, rule, level, here, self._cache.read)
        return found

    def _below(self, cells: Window, level: int) -> Window:
        """The cells of the next finer level that those of a level hold."""
        finer = Window(cells.row0 * 2, cells.col0 * 2, cells.row1 * 2, cells.col1 * 2)
        return finer.meet(self.whole(level - 1))

    def _made(self, layer: str, rule: Rule, level: int, cells: Window, posts: Posts) -> NDArray[Any]:
        return level_of(posts(layer, beneath(cells, level).meet(self._cache.grid.window)), rule, level)

    def _stored(self, layer: str, rule: Rule, level: int, window: Window, fresh: Fresh | None = None) -> NDArray[Any]:
        """Cells of a level as they are committed, or as `fresh` has them."""
        parts = list(_split(window))
        self._fetch(layer, rule, level, [(row, col) for row, col, _ in parts])
        out = np.empty(window.shape, self._cache.layers(layer).dtype)
        for row, col, part in parts:
            spot = (layer, rule.name, level, row, col)
            values = self._tiles[spot] if fresh is None else fresh.get(spot, self._tiles[spot])
            out[part.inside(window)] = values[part.inside(Window(row * SIDE, col * SIDE, 0, 0))]
        self._drop()
        return out

    def _shape(self, level: int, row: int, col: int) -> tuple[int, int]:
        tile = Window(row * SIDE, col * SIDE, (row + 1) * SIDE, (col + 1) * SIDE)
        return tile.meet(self.whole(level)).shape

    def _fetch(self, layer: str, rule: Rule, level: int, wanted: list[tuple[int, int]]) -> None:
        """Have these tiles of a level in memory. Where nothing is stored nothing was ever written."""
        missing = []
        for row, col in wanted:
            spot = (layer, rule.name, level, row, col)
            if spot in self._tiles:
                self._tiles.move_to_end(spot)
            else:
                missing.append((row, col))
        if not missing:
            return
        rows, cols = [row for row, _ in missing], [col for _, col in missing]
        box = Window(min(rows), min(cols), max(rows) + 1, max(cols) + 1)
        wants, blobs = set(missing), {}
        for row, col, blob in self._load(layer, rule.name, level, box):
            if (row, col) in wants:
                blobs[row, col] = blob
        for row, col in missing:
            shape = self._shape(level, row, col)
            own = blobs.get((row, col))
            values = None if own is None else decode_tile(own)
            if values is None or values.shape != shape:
                values = np.full(shape, self._cache.fill(layer), self._cache.layers(layer).dtype)
            self._tiles[layer, rule.name, level, row, col] = values

    def _drop(self) -> None:
        while len(self._tiles) > MOST_SPOTS:
            self._tiles.popitem(last=False)

    # Making

    def spots(self, layer: str, posts: Iterable[Window]) -> set[Spot]:
        """The tiles of all levels that stand over these posts."""
        found: set[Spot] = set()
        for rule in rules_of(layer):
            for level in range(rule.first, self.top(rule) + 1):
                for window in posts:
                    cells = touched(window, level).meet(self.whole(level))
                    found |= {(layer, rule.name, level, row, col) for row, col, _ in _split(cells)}
        return found

    def reworked(self, layer: str, changed: Iterable[Window], posts: Posts) -> dict[Spot, NDArray[Any]]:
        """The tiles of all levels that differ when these posts have changed; nothing here changes yet."""
        fresh: dict[Spot, NDArray[Any]] = {}
        changed = _together(changed)
        for rule in rules_of(layer):
            for cells in _together(touched(window, rule.first).meet(self.whole(rule.first)) for window in changed):
                self._put(fresh, layer, rule, rule.first, cells, self._made(layer, rule, rule.first, cells, posts))
        self.above(layer, changed, fresh)
        return fresh

    def above(self, layer: str, changed: Iterable[Window], fresh: dict[Spot, NDArray[Any]]) -> None:
        """Put into `fresh`, where the finest levels over changed posts are, those that stand over them."""
        changed = _together(changed)
        for rule in rules_of(layer):
            parts = _together(touched(window, rule.first).meet(self.whole(rule.first)) for window in changed)
            for level in range(rule.first + 1, self.top(rule) + 1):
                parts = _together(touched_above(cells).meet(self.whole(level)) for cells in parts)
                for cells in parts:
                    finer = self._stored(layer, rule, level - 1, self._below(cells, level), fresh)
                    self._put(fresh, layer, rule, level, cells, halved(finer, rule))

    def _put(
        self, fresh: dict[Spot, NDArray[Any]], layer: str, rule: Rule, level: int, cells: Window, values: NDArray[Any]
    ) -> None:
        """Put new cells into copies of the tiles that they lie in."""
        parts = list(_split(cells))
        self._fetch(layer, rule, level, [(row, col) for row, col, _ in parts])
        for row, col, part in parts:
            spot = (layer, rule.name, level, row, col)
            if spot not in fresh:
                fresh[spot] = self._tiles[spot].copy()
            fresh[spot][part.inside(Window(row * SIDE, col * SIDE, 0, 0))] = values[part.inside(cells)]

    def first_spots(self, layer: str, posts: Iterable[Window]) -> set[Spot]:
        """The tiles of the finest stored levels that stand over these posts."""
        found: set[Spot] = set()
        for rule in rules_of(layer):
            for window in posts:
                cells = touched(window, rule.first).meet(self.whole(rule.first))
                found |= {(layer, rule.name, rule.first, row, col) for row, col, _ in _split(cells)}
        return found

    def made(self, spot: Spot, posts: Posts) -> NDArray[Any]:
        """A tile of the finest stored level, from the posts."""
        layer, name, level, row, col = spot
        cells = Window(row * SIDE, col * SIDE, (row + 1) * SIDE, (col + 1) * SIDE).meet(self.whole(level))
        return self._made(layer, RULES[name], level, cells, posts)

    def take(self, fresh: Fresh) -> None:
        """What was made is written: it is read from now on."""
        for spot, values in fresh.items():
            self._tiles[spot] = values
            self._tiles.move_to_end(spot)
        self._drop()

    def written(self, fresh: Fresh) -> list[OverviewChange]:
        """What was made, as the store keeps it."""
        return [(OverviewAt(self.tract_id, *spot), encode_tile(values)) for spot, values in fresh.items()]

    # All of them

    def begin(self) -> None:
        """All that stands over what was ever written is to be made."""
        grid = self._cache.grid
        self.pending = set()
        for layer in sorted({place[0] for place in self._cache.ranges if self._cache.layers(place[0]).seen}):
            tiles = [grid.tile_window(p[1], p[2]) for p in self._cache.ranges if p[0] == layer]
            self.pending |= self.spots(layer, tiles)

    def some(self, most: int, posts: Posts) -> dict[Spot, NDArray[Any]]:
        """So many of those that are to be made, finer levels first."""
        level = min(spot[2] - RULES[spot[1]].first for spot in self.pending)
        chosen = sorted((s for s in self.pending if s[2] - RULES[s[1]].first == level), key=by_place)[:most]
        fresh: dict[Spot, NDArray[Any]] = {}
        for spot in chosen:
            layer, name, at, row, col = spot
            rule = RULES[name]
            if at == rule.first:
                fresh[spot] = self.made(spot, posts)
            else:
                cells = Window(row * SIDE, col * SIDE, (row + 1) * SIDE, (col + 1) * SIDE).meet(self.whole(at))
                fresh[spot] = halved(self._stored(layer, rule, at - 1, self._below(cells, at)), rule)
        return fresh


FIELD = SIDE << max(rule.first for rule in RULES.values())
"""Posts along the side of the largest tile of a finest level."""


def by_place(spot: Spot) -> tuple[str, int, int, str, int, int]:
    """Spots over the same posts one after the other, so that these are unpacked once."""
    layer, name, level, row, col = spot
    side = SIDE << level
    return layer, row * side // FIELD, col * side // FIELD, name, row, col


class AtHand:
    """Gives tiles, and keeps the last ones at hand as long as nobody writes them."""

    def __init__(self, cache: TileCache, tile: Callable[[Place], NDArray[Any]], most: int = 64) -> None:
        self._cache, self._tile, self._most = cache, tile, most
        self._kept: OrderedDict[Place, tuple[int, NDArray[Any]]] = OrderedDict()

    def __call__(self, place: Place) -> NDArray[Any]:
        count = self._cache.written.get(place, 0)
        known = self._kept.get(place)
        if known is None or known[0] != count:
            known = self._kept[place] = count, self._tile(place)
        self._kept.move_to_end(place)
        if len(self._kept) > self._most:
            self._kept.popitem(last=False)
        return known[1]

    def read(self, layer: str, window: Window) -> NDArray[Any]:
        """A window that lies in the tract."""
        return self._cache.assembled(layer, window, self)


def touched_above(cells: Window) -> Window:
    """The cells of the next level that hold these."""
    return Window(cells.row0 >> 1, cells.col0 >> 1, ((cells.row1 - 1) >> 1) + 1, ((cells.col1 - 1) >> 1) + 1)


LOOSE = 2.0
"""Windows are taken together when the one around them is at most so many times as large."""


def _together(windows: Iterable[Window]) -> list[Window]:
    """Windows without those that are there twice; as one where they lie close together."""
    each = list(dict.fromkeys(window for window in windows if not window.empty))
    whole = NOWHERE
    for window in each:
        whole = whole.join(window)
    area = sum(window.rows * window.cols for window in each)
    return [whole] if each and whole.rows * whole.cols <= LOOSE * area else each
