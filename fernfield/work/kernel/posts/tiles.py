"""The open tract: a cache of tiles that is read and written by windows."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterator, MutableMapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import FormatError
from fernfield.core.grid import TILE, Grid, Window
from fernfield.formats.tileblob import decode_tile, encode_tile
from fernfield.store.rows import Tile
from fernfield.work.kernel.posts.layers import HEIGHT, Layers

Place = tuple[str, int, int]
"""Layer, tile row, tile column."""


def packed(values: NDArray[Any]) -> Tile:
    """A tile as the store keeps it."""
    return Tile(encode_tile(values), float(values.min()), float(values.max()))


MOST_TILES = 700
AT_REST = 48
"""Tiles kept in memory for one tract; a tile of heights takes 256 KiB."""


def _evenly(at: NDArray[np.intp]) -> slice | None:
    """Numbers that are so far from each other all along, as a slice: many times as quick to read; None where not."""
    step = int(at[1] - at[0]) if len(at) > 1 else 1
    if step < 1 or not (np.diff(at) == step).all():
        return None
    return slice(int(at[0]), int(at[-1]) + 1, step)


@dataclass
class TileCache:
    """Tiles of one tract by layer, loaded when asked for and dropped when long unused.

    layers : what there may be of them
    load : bytes of a stored tile, or None where it is as the tract began
    ranges : lowest and highest value of every tile that was ever written
    """

    grid: Grid
    base_m: float
    layers: Layers
    load: Callable[[Place], bytes | None]
    ranges: MutableMapping[Place, tuple[float, float]]
    pinned: dict[Place, int] = field(default_factory=dict)
    loose: dict[Place, Window] = field(default_factory=dict)
    """Where in a tile a stroke under way has changed posts, in the tile's own."""
    written: dict[Place, int] = field(default_factory=dict)
    """How often each tile was written since the tract was opened."""
    _tiles: OrderedDict[Place, NDArray[Any]] = field(default_factory=OrderedDict)
    _all_heights: tuple[float, float] | None = None
    _written_to: set[str] | None = None
    """The layers that hold anything, once somebody has asked."""

    def tile(self, place: Place) -> NDArray[Any]:
        """The tile itself, not a copy: what is written into it is in the tract."""
        found = self._tiles.get(place)
        if found is not None:
            self._tiles.move_to_end(place)
            return found
        values = self._tiles[place] = self._loaded(place)
        if len(self._tiles) > MOST_TILES:
            self._drop()
        return values

    def peek(self, place: Place) -> NDArray[Any]:
        """A tile to look at once: one that is not in memory does not stay there."""
        found = self._tiles.get(place)
        return self._loaded(place) if found is None else found

    def forget(self, place: Place) -> None:
        """A tile was written past this cache: it is loaded when it is next asked for."""
        if place in self.pinned:
            raise AssertionError(f"{place} is being worked on")
        self._tiles.pop(place, None)

    def _loaded(self, place: Place) -> NDArray[Any]:
        layer, tile_row, tile_col = place
        shape = self.grid.tile_window(tile_row, tile_col).shape
        blob = self.load(place) if place in self.ranges else None
        dtype = self.layers(layer).dtype
        if blob is None:
            values: NDArray[Any] = np.full(shape, self.fill(layer), dtype)
        else:
            values = decode_tile(blob)
            if values.shape != shape or values.dtype != dtype:
                raise FormatError(f"the stored tile {place} must be {shape}, not {values.shape} {values.dtype}")
        return values

    def rest(self) -> None:
        """Nobody works on it: some tiles stay, the rest is read again when it is asked for."""
        self._drop(AT_REST)

    def _drop(self, left: int = MOST_TILES * 3 // 4) -> None:
        for place in list(self._tiles):
            if len(self._tiles) <= left:
                return
            if place not in self.pinned:
                del self._tiles[place]

    def pin(self, place: Place) -> None:
        """Keep a tile that differs from the store."""
        self.pinned[place] = self.pinned.get(place, 0) + 1

    def unpin(self, place: Place) -> None:
        left = self.pinned[place] - 1
        if left:
            self.pinned[place] = left
        else:
            del self.pinned[place]

    def blank(self, layer: str, window: Window) -> bool:
        """Whether nothing was ever written on this layer in `window`."""
        if self._written_to is None:
            self._written_to = {place[0] for place in self.ranges}
        if layer not in self._written_to:
            return True
        return all(self.blank_tile((layer, *tile)) for tile in self.grid.clip(window).tiles())

    def blank_tile(self, place: Place) -> bool:
        """Whether a tile of a layer that begins at 0 holds nothing."""
        return self.ranges.get(place, (0.0, 0.0)) == (0.0, 0.0)

    def widen_range(self, place: Place, values: NDArray[Any]) -> None:
        """`values` were written into a tile: its range takes them in (it may stay too wide until a commit)."""
        low, high = self.range_of(place)
        self.set_range(place, min(low, float(values.min())), max(high, float(values.max())))

    def set_range(self, place: Place, low: float, high: float) -> None:
        """The lowest and highest value of a tile are these now."""
        was_low, was_high = self.range_of(place)
        self.ranges[place] = low, high
        if self._written_to is not None:
            self._written_to.add(place[0])
        whole = self._all_heights
        if whole is None or place[0] != HEIGHT:
            return
        # Where the tile was the lowest or highest of all and is no longer, the others are asked again.
        sank = (was_low == whole[0] and low > was_low) or (was_high == whole[1] and high < was_high)
        self._all_heights = None if sank else (min(whole[0], low), max(whole[1], high))

    def fill(self, layer: str) -> float:
        """The value where nothing was written."""
        fill = self.layers(layer).fill
        return self.base_m if fill is None else fill

    def range_of(self, place: Place) -> tuple[float, float]:
        """The lowest and highest value of a tile; wider while a stroke works on it."""
        fill = self.fill(place[0])
        return self.ranges.get(place, (fill, fill))

    def height_range(self, window: Window) -> tuple[float, float]:
        """An elevation that nothing in `window` is below, and one that nothing is above. [m]"""
        window = self.grid.clip(window)
        if window == self.grid.window:
            if self._all_heights is None:
                self._all_heights = self._heights_of(window)
            return self._all_heights
        return self._heights_of(window)

    def _heights_of(self, window: Window) -> tuple[float, float]:
        found = [self.range_of((HEIGHT, *tile)) for tile in window.tiles()]
        base = (self.base_m, self.base_m)
        return (min(low for low, _ in found), max(high for _, high in found)) if found else base

    def all_heights(self) -> tuple[float, float]:
        """`height_range` of the whole tract, without asking every tile each time. [m]"""
        return self.height_range(self.grid.window)

    def parts(self, layer: str, window: Window) -> Iterator[tuple[Place, NDArray[Any], Window]]:
        """Each tile that `window` touches: its place, the part of it inside, and where that part is."""
        window = self.grid.clip(window)
        for tile_row, tile_col in window.tiles():
            whole = self.grid.tile_window(tile_row, tile_col)
            part = window.meet(whole)
            place = (layer, tile_row, tile_col)
            yield place, self.tile(place)[part.inside(whole)], part

    def whole_tiles(self, layer: str, window: Window) -> Iterator[tuple[NDArray[Any], Window]]:
        """Each tile that `window` touches, whole, and where it is. Whole tiles lie in one piece in memory."""
        for tile_row, tile_col in self.grid.clip(window).tiles():
            yield self.tile((layer, tile_row, tile_col)), self.grid.tile_window(tile_row, tile_col)

    def read(self, layer: str, window: Window, step: int = 1) -> NDArray[Any]:
        """A copy of every `step`-th post of `window`, from its first row and column.

        Where the window reaches past the tract the border's values go on.
        """
        inner = self.grid.clip(window)
        if step == 1 and inner == window and not window.empty:
            return self._copied(layer, window)
        if inner.empty:
            # Wholly outside: the nearest border stands in.
            row = min(max(window.row0, 0), self.grid.rows - 1)
            col = min(max(window.col0, 0), self.grid.cols - 1)
            inner = Window(row, col, row + 1, col + 1)
        rows = np.clip(np.arange(window.row0, window.row1, step), inner.row0, inner.row1 - 1)
        cols = np.clip(np.arange(window.col0, window.col1, step), inner.col0, inner.col1 - 1)
        return self.pick(layer, rows, cols)

    def pick(self, layer: str, rows: NDArray[Any], cols: NDArray[Any]) -> NDArray[Any]:
        """A copy of the posts at these rows and columns, each in rising order."""
        out = np.empty((len(rows), len(cols)), self.layers(layer).dtype)
        for tile_row in range(rows[0] // TILE, rows[-1] // TILE + 1):
            r0, r1 = np.searchsorted(rows, [tile_row * TILE, (tile_row + 1) * TILE])
            for tile_col in range(cols[0] // TILE, cols[-1] // TILE + 1):
                c0, c1 = np.searchsorted(cols, [tile_col * TILE, (tile_col + 1) * TILE])
                if r0 == r1 or c0 == c1:
                    continue
                tile = self.tile((layer, tile_row, tile_col))
                at_rows, at_cols = rows[r0:r1] - tile_row * TILE, cols[c0:c1] - tile_col * TILE
                down, across = _evenly(at_rows), _evenly(at_cols)
                if down is not None and across is not None:
                    out[r0:r1, c0:c1] = tile[down, across]
                else:
                    out[r0:r1, c0:c1] = tile[np.ix_(at_rows, at_cols)]
        return out

    def _copied(self, layer: str, window: Window) -> NDArray[Any]:
        """A copy of a window that lies wholly in the tract."""
        out = np.empty(window.shape, self.layers(layer).dtype)
        for _place, part, where in self.parts(layer, window):
            out[where.inside(window)] = part
        return out

    def assembled(self, layer: str, window: Window, tile: Callable[[Place], NDArray[Any]]) -> NDArray[Any]:
        """A window that lies wholly in the tract, from tiles that `tile` gives."""
        out = np.empty(window.shape, self.layers(layer).dtype)
        for tile_row, tile_col in window.tiles():
            whole = self.grid.tile_window(tile_row, tile_col)
            part = window.meet(whole)
            out[part.inside(window)] = tile((layer, tile_row, tile_col))[part.inside(whole)]
        return out

    def write(self, layer: str, window: Window, values: NDArray[Any]) -> None:
        """Put `values` (of the window's shape) into the part of `window` that lies in the tract."""
        for _place, part, where in self.parts(layer, window):
            part[...] = values[where.inside(window)]
