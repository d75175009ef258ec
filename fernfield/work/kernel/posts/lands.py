"""A land: one tract, or all that are joined, as one lattice of posts.

What is stored, laid out and handed over is a tract. What is seen, walked and worked on is its land: windows of
posts that know no edge between tracts. A land is looked at in the world's own metres, or as one of its tracts sees it,
in that tract's posts and metres; then windows may reach beyond the tract's own.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import LARGEST_LAND, FloatArray, Grid, Window, bilinear, bilinear_many
from fernfield.core.overview import MEAN, Rule, halved, level_for
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tiles import TileCache
from fernfield.work.kernel.posts.tracts import Join, Tract, TractPlace

READ_AT_ONCE = 1 << 22
"""Posts around many places that are read at once."""


@dataclass(frozen=True, slots=True)
class Part:
    """One tract of a land: its first post lies at `row` and `col` of the land's own, `where` are all of them.

    x, y : where its south-west corner lies in the land's metres
    """

    tract: Tract
    row: int
    col: int
    where: Window
    x: float
    y: float

    def own(self, window: Window) -> Window:
        """A window of the land's posts in the tract's own, as far as it lies there."""
        return window.meet(self.where).shifted(-self.row, -self.col)


class Land:
    """Tracts on one lattice. Hold the world's lock while reading.

    grid : the posts that are looked at, and their metres; `bounds` are all the posts there are
    origin : where the origin of these metres lies in the world
    """

    def __init__(self, grid: Grid, parts: Sequence[Part], origin: tuple[float, float] = (0.0, 0.0)) -> None:
        self.grid, self.parts, self.origin = grid, tuple(parts), origin
        self.bounds = parts[0].where
        for part in parts[1:]:
            self.bounds = self.bounds.join(part.where)
        self.id = parts[0].tract.row.id
        self._extent = self.bounds.join(grid.window)
        self._whole = _covered(self._extent, [part.where for part in parts])

    @property
    def tract_ids(self) -> tuple[str, ...]:
        return tuple(part.tract.row.id for part in self.parts)

    def clip(self, window: Window) -> Window:
        """A window as far as there are posts (and between tracts that leave a gap)."""
        return window.meet(self.bounds)

    def around(self, x: float, y: float, radius: float) -> Window:
        """The posts within `radius` metres of (x, y), as a clipped square window."""
        row, col, reach = self.grid.row_of(y), self.grid.col_of(x), radius / self.grid.spacing
        return self.clip(
            Window(
                math.ceil(row - reach), math.ceil(col - reach), math.floor(row + reach) + 1, math.floor(col + reach) + 1
            )
        )

    def part_at(self, x: float, y: float) -> Part | None:
        """The tract in which a place lies; the first of them on a shared edge. [m]"""
        for part in self.parts:
            if part.tract.grid.holds(x - part.x, y - part.y):
                return part
        return None

    def holds(self, x: float, y: float) -> bool:
        return self.part_at(x, y) is not None

    def holds_each(self, xs: FloatArray, ys: FloatArray) -> NDArray[np.bool_]:
        """Which of many places lie in a tract of the land. [m]"""
        there = np.zeros(len(xs), bool)
        for part in self.parts:
            grid = part.tract.grid
            there |= (xs >= part.x) & (xs <= part.x + grid.width) & (ys >= part.y) & (ys <= part.y + grid.depth)
        return there

    def need(self, x: float, y: float, what: str = "a place") -> None:
        """Raises InvalidInput unless (x, y) lies in a tract of the land. [m]"""
        self.grid.need(x, y, what)
        if not self.holds(x, y):
            raise InvalidInput(f"{what} must be inside a tract of the land, not between them at {x:g}, {y:g}", "x")

    def read(self, layer: str, window: Window, step: int = 1) -> NDArray[Any]:
        """A copy of every `step`-th post of `window`, from its first row and column.

        Where the window reaches past the land the border's values go on, and in a gap those of the nearest tract.
        """
        first = self.parts[0]
        if len(self.parts) == 1:
            return first.tract.cache.read(layer, window.shifted(-first.row, -first.col), step)
        for part in self.parts:
            if part.where.meet(window) == window and not window.empty:
                return part.tract.cache.read(layer, window.shifted(-part.row, -part.col), step)
        bounds = self.bounds
        rows = np.clip(np.arange(window.row0, window.row1, step), bounds.row0, bounds.row1 - 1)
        cols = np.clip(np.arange(window.col0, window.col1, step), bounds.col0, bounds.col1 - 1)
        plates = [_posts_of(part, layer) for part in self.parts]
        return _gathered(plates, rows, cols, self._dtype(layer), whole=self._whole)

    def _dtype(self, layer: str) -> np.dtype[Any]:
        return self.parts[0].tract.cache.layers(layer).dtype

    def seen(self, layer: str, window: Window, step: int = 1, rule: Rule = MEAN) -> NDArray[Any]:
        """As `read`, for what is looked at: from far away each value tells of the ground around its post, by a rule.

        The finest level that tells as much is read, whatever the size of the land. Near, on tracts whose levels are
        still being made, and where a tract lies askew to the steps, it is the posts themselves.
        """
        level = level_for(step, rule)
        if level is None or window.empty or window.row0 % step or window.col0 % step:
            return self.read(layer, window, step)
        cell = 1 << level
        wide = window.pad(step)
        near = [part for part in self.parts if not part.where.meet(wide).empty] or list(self.parts)
        if not all(p.row % cell == 0 and p.col % cell == 0 for p in near):
            return self.read(layer, window, step)
        if rule is MEAN and not all(p.tract.overviews.ready for p in near):
            return self.read(layer, window, step)
        plates = [_plate_of(part, layer, rule, level) for part in near]
        bounds = plates[0].where
        for plate in plates[1:]:
            bounds = bounds.join(plate.where)
        # Around the post at 2n lie the cells 2n - 1 and 2n.
        first_row, first_col = window.row0 // cell - 1, window.col0 // cell - 1
        rows = first_row + np.arange(2 * -(-window.rows // step))
        cols = first_col + np.arange(2 * -(-window.cols // step))
        rows, cols = np.clip(rows, bounds.row0, bounds.row1 - 1), np.clip(cols, bounds.col0, bounds.col1 - 1)
        return halved(_gathered(plates, rows, cols, self._dtype(layer)), rule)

    def void(self, rows: NDArray[Any], cols: NDArray[Any]) -> NDArray[np.bool_] | None:
        """Where no tract lies, of what is looked at, at these rows and columns (with fractions); None where none is
        missing.

        Past the land its border goes on, as in `read`.
        """
        if self._whole:
            return None
        rows = np.clip(rows, self._extent.row0, self._extent.row1 - 1)
        cols = np.clip(cols, self._extent.col0, self._extent.col1 - 1)
        there = np.zeros((len(rows), len(cols)), bool)
        for part in self.parts:
            r = (rows >= part.where.row0) & (rows <= part.where.row1 - 1)
            c = (cols >= part.where.col0) & (cols <= part.where.col1 - 1)
            there |= r[:, None] & c[None, :]
        return None if there.all() else ~there

    def blank(self, layer: str, window: Window) -> bool:
        """Whether nothing was ever written on this layer in `window`."""
        return all(part.tract.cache.blank(layer, part.own(window)) for part in self.parts)

    def height_range(self, window: Window) -> tuple[float, float]:
        """An elevation that nothing in `window` is below, and one that nothing is above. [m]"""
        found = [part.tract.cache.height_range(own) for part in self.parts if not (own := part.own(window)).empty]
        if not found:
            found = [self.parts[0].tract.cache.height_range(window.meet(self.bounds))]
        return min(low for low, _ in found), max(high for _, high in found)

    def all_heights(self) -> tuple[float, float]:
        """`height_range` of the whole land. [m]"""
        found = [part.tract.cache.all_heights() for part in self.parts]
        return min(low for low, _ in found), max(high for _, high in found)

    def elevation(self, x: float, y: float) -> float:
        """Elevation of the ground at (x, y), between the posts. [m]"""
        row, col = self.grid.row_of(y), self.grid.col_of(x)
        r = min(max(int(row // 1), self.bounds.row0), self.bounds.row1 - 2)
        c = min(max(int(col // 1), self.bounds.col0), self.bounds.col1 - 2)
        return bilinear(self.read(HEIGHT, Window(r, c, r + 2, c + 2)), row - r, col - c)

    def elevations(self, x: Sequence[float], y: Sequence[float]) -> FloatArray:
        """Elevation of the ground at many places, whose posts are read at once where they lie near each other. [m]"""
        if not len(x):
            return np.zeros(0, np.float32)
        rows = np.array([self.grid.row_of(one) for one in y]).clip(self.bounds.row0, self.bounds.row1 - 1)
        cols = np.array([self.grid.col_of(one) for one in x]).clip(self.bounds.col0, self.bounds.col1 - 1)
        r, c = int(rows.min()), int(cols.min())
        window = self.clip(Window(r, c, int(rows.max()) + 2, int(cols.max()) + 2))
        if window.rows * window.cols > READ_AT_ONCE:
            return np.array([self.elevation(*spot) for spot in zip(x, y, strict=True)], np.float32)
        return bilinear_many(self.read(HEIGHT, window), rows - r, cols - c)

    def parts_of(self, window: Window) -> Iterator[tuple[Part, Window]]:
        """The tracts that a window of the land's touches, and where in each, in its own posts."""
        for part in self.parts:
            own = part.own(window)
            if not own.empty:
                yield part, own

    def tiles(self, window: Window) -> Iterator[tuple[Tract, tuple[int, int], Window, Window]]:
        """Every tile that a window touches: its tract, its row and column there, and in the land's posts the whole of
        it and the part inside the window. Posts that tracts share come once for each."""
        for part, own in self.parts_of(window):
            for tile in own.tiles():
                whole = part.tract.grid.tile_window(*tile).shifted(part.row, part.col)
                yield part.tract, tile, whole, whole.meet(window)

    def as_in(self, tracts: Mapping[str, Tract]) -> Land:
        """The same land with the tracts of the world as it was: those that were there. Raises NotFound for none."""
        found = [replace(part, tract=was) for part in self.parts if (was := tracts.get(part.tract.row.id)) is not None]
        if not found:
            raise NotFound("this land was not there then")
        return Land(self.grid, found, self.origin)

    def read_by(self, cache: Callable[[str], TileCache]) -> Land:
        """The same land, read from other tiles: `cache` gives those of a tract."""
        parts = [replace(part, tract=replace(part.tract, cache=cache(part.tract.row.id))) for part in self.parts]
        return Land(self.grid, parts, self.origin)

    def of(self, tract_id: str, window: Window) -> Window | None:
        """A window of a tract's own posts in the land's; None for a tract of another land."""
        for part in self.parts:
            if part.tract.row.id == tract_id:
                return window.shifted(part.row, part.col)
        return None


@dataclass(frozen=True, slots=True)
class Plate:
    """What one tract has of a lattice: where, and the values at some rows and columns, each in rising order."""

    where: Window
    pick: Callable[[NDArray[Any], NDArray[Any]], NDArray[Any]]


def _posts_of(part: Part, layer: str) -> Plate:
    """The posts of a tract, in those of its land."""

    def pick(rows: NDArray[Any], cols: NDArray[Any]) -> NDArray[Any]:
        return part.tract.cache.pick(layer, rows - part.row, cols - part.col)

    return Plate(part.where, pick)


def _plate_of(part: Part, layer: str, rule: Rule, level: int) -> Plate:
    """A level of a tract, in the cells of its land."""
    overviews = part.tract.overviews
    down, across = part.row >> level, part.col >> level

    def pick(rows: NDArray[Any], cols: NDArray[Any]) -> NDArray[Any]:
        box = Window(int(rows[0]), int(cols[0]), int(rows[-1]) + 1, int(cols[-1]) + 1)
        found = overviews.cells(layer, rule, level, box.shifted(-down, -across))
        if found.shape == (len(rows), len(cols)):
            return found
        # The last row or column goes on beyond the land.
        return np.take(np.take(found, rows - box.row0, axis=0), cols - box.col0, axis=1)

    return Plate(overviews.whole(level).shifted(down, across), pick)


def _gathered(
    plates: Sequence[Plate], rows: NDArray[Any], cols: NDArray[Any], dtype: np.dtype[Any], *, whole: bool = False
) -> NDArray[Any]:
    """The values at rows and columns of a lattice; in a gap, those of the nearest tract. `whole`: there is no gap."""
    out = np.empty((len(rows), len(cols)), dtype)
    if not len(rows) or not len(cols):
        return out
    box = Window(int(rows[0]), int(cols[0]), int(rows[-1]) + 1, int(cols[-1]) + 1)
    if not whole and not _covered(box, [plate.where for plate in plates]):
        _nearest(plates, rows, cols, out)
    # The first of two tracts has the edge that they share.
    for plate in reversed(plates):
        r, c = _within(rows, plate.where.row0, plate.where.row1), _within(cols, plate.where.col0, plate.where.col1)
        if r.start < r.stop and c.start < c.stop:
            out[r, c] = plate.pick(rows[r], cols[c])
    return out


def _nearest(plates: Sequence[Plate], rows: NDArray[Any], cols: NDArray[Any], out: NDArray[Any]) -> None:
    """Fill `out` from the tract that is nearest to each post."""
    least = np.full(out.shape, np.iinfo(np.int64).max, np.int64)
    for plate in plates:
        r = np.clip(rows, plate.where.row0, plate.where.row1 - 1)
        c = np.clip(cols, plate.where.col0, plate.where.col1 - 1)
        away = np.maximum(np.abs(rows - r)[:, None], np.abs(cols - c)[None, :])
        nearer = away < least
        if nearer.any():
            out[nearer] = plate.pick(r, c)[nearer]
            least[nearer] = away[nearer]


def _within(values: NDArray[Any], first: int, end: int) -> slice:
    found = np.searchsorted(values, [first, end])
    return slice(int(found[0]), int(found[1]))


def _covered(box: Window, windows: Sequence[Window]) -> bool:
    """Whether every post of a box is in one of these windows."""
    parts = [part for window in windows if not (part := window.meet(box)).empty]
    rows = sorted({box.row0, box.row1, *(p.row0 for p in parts), *(p.row1 for p in parts)})
    cols = sorted({box.col0, box.col1, *(p.col0 for p in parts), *(p.col1 for p in parts)})
    there = np.zeros((len(rows), len(cols)), bool)
    for part in parts:
        there[_within(np.array(rows), part.row0, part.row1), _within(np.array(cols), part.col0, part.col1)] = True
    return bool(there[:-1, :-1].all())


def alone(tract: Tract) -> Land:
    """A tract as if nothing lay beside it."""
    return Land(tract.grid, [Part(tract, 0, 0, tract.grid.window, 0.0, 0.0)])


def joined_to(tract_id: str, joins: Iterable[Join]) -> set[str]:
    """The ids of the tracts of one land."""
    found, new = set[str](), {tract_id}
    pairs = [(join.first, join.second) for join in joins]
    while new:
        found |= new
        new = {b for pair in pairs for a, b in (pair, pair[::-1]) if a in found} - found
    return found


def _extent(tracts: Sequence[tuple[Tract, TractPlace]]) -> Grid:
    """The posts from the south-west one of all to the north-east one, in the world's metres."""
    spacing = tracts[0][0].grid.spacing
    west, south = min(place.x for _, place in tracts), min(place.y for _, place in tracts)
    north = max(place.y + tract.grid.depth for tract, place in tracts)
    east = max(place.x + tract.grid.width for tract, place in tracts)
    rows, cols = round((north - south) / spacing) + 1, round((east - west) / spacing) + 1
    return Grid(rows, cols, spacing, west, south, LARGEST_LAND)


def land_of(tracts: Sequence[tuple[Tract, TractPlace]]) -> Land:
    """Tracts that lie on one lattice, in the world's own metres. The first of them is asked first."""
    grid = _extent(tracts)
    return Land(grid, [_part(tract, place, grid) for tract, place in tracts])


def _part(tract: Tract, place: TractPlace, grid: Grid) -> Part:
    col = round((place.x - grid.west) / grid.spacing)
    row = grid.rows - tract.grid.rows - round((place.y - grid.south) / grid.spacing)
    # On the lattice to the last bit: so a lone tract has the same metres as its own.
    x, y = grid.x_of(col), grid.y_of(row + tract.grid.rows - 1)
    return Part(tract, row, col, tract.grid.window.shifted(row, col), x, y)


def on_one_lattice(first: tuple[Tract, TractPlace], other: tuple[Tract, TractPlace]) -> bool:
    """Whether the posts of two tracts lie on one lattice, to a thousandth of a spacing."""
    spacing = first[0].grid.spacing
    away = [(other[1].x - first[1].x) / spacing, (other[1].y - first[1].y) / spacing]
    return bool(other[0].grid.spacing == spacing and all(abs(n - round(n)) < 1e-3 for n in away))


FARTHEST_SEEN = 32_769
"""Most posts along one side of land that is seen together without being joined."""


def seen_together(
    land: Sequence[tuple[Tract, TractPlace]], others: Iterable[tuple[Tract, TractPlace]]
) -> list[tuple[Tract, TractPlace]]:
    """A land's tracts, and those others that do not lie too far from it, the nearest first."""
    at = land[0][1]
    found = list(land)
    for pair in sorted(others, key=lambda pair: math.hypot(pair[1].x - at.x, pair[1].y - at.y)):
        grid = _extent([*found, pair])
        if max(grid.rows, grid.cols) <= FARTHEST_SEEN:
            found.append(pair)
    return found


def seen_from(land: Land, tract_id: str) -> Land:
    """A land in the posts and metres of one of its tracts, which comes first."""
    own = next(part for part in land.parts if part.tract.row.id == tract_id)
    others = [part for part in land.parts if part is not own]
    return Land(
        own.tract.grid,
        [
            Part(
                part.tract, part.row - own.row, part.col - own.col, part.where.shifted(-own.row, -own.col),
                part.x - own.x, part.y - own.y,
            )
            for part in (own, *others)
        ],
        (land.origin[0] + own.x, land.origin[1] + own.y),
    )  # fmt: skip


Tile = tuple[str, tuple[str, int, int]]
"""Tract and place of a tile."""

Older = Mapping[Tile, NDArray[Any]]
"""Tiles as they were."""


def ground_with(land: Land, window: Window, older: Callable[[Tile], NDArray[Any] | None] | None) -> NDArray[Any]:
    """The ground of a window, with the tiles that are older in the place of those of today."""
    values = land.read(HEIGHT, window)
    if older is None:
        return values
    for tract, tile, whole, here in land.tiles(window):
        was = older((tract.row.id, (HEIGHT, *tile)))
        if was is not None:
            values[here.inside(window)] = was[here.inside(whole)]
    return values
