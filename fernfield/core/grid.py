"""Posts, windows and tiles: where a sample stands in the world.

Row 0 is the north edge, column 0 the west edge; x runs east and y north, both in metres
from the south-west corner of a tract, or from the world's origin. Tiles are a unit of storage and drawing only.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError, InvalidInput

FloatArray = NDArray[np.float32]
ByteArray = NDArray[np.uint8]
Array = NDArray[Any]

Metres = TypeVar("Metres", float, Array)
"""One, or many at once."""

FINELY = 1024
"""Parts of a spacing to which a place is taken where brushes work."""

TURN = math.sqrt(5) - 2

TILE = 256
"""Posts along the side of a tile."""

LARGEST_SIDE = 16_385
"""Most posts along one side of a tract."""

LARGEST_LAND = 1 << 40
"""Most posts along one side of all tracts that are seen together: what lies between them takes no memory."""


@dataclass(frozen=True, slots=True)
class Window:
    """A half-open rectangle of posts: rows row0..row1-1, columns col0..col1-1."""

    row0: int
    col0: int
    row1: int
    col1: int

    @property
    def rows(self) -> int:
        return max(0, self.row1 - self.row0)

    @property
    def cols(self) -> int:
        return max(0, self.col1 - self.col0)

    @property
    def shape(self) -> tuple[int, int]:
        return self.rows, self.cols

    @property
    def empty(self) -> bool:
        return self.row1 <= self.row0 or self.col1 <= self.col0

    def has(self, row: int, col: int) -> bool:
        return self.row0 <= row < self.row1 and self.col0 <= col < self.col1

    def pad(self, posts: int) -> Window:
        return Window(self.row0 - posts, self.col0 - posts, self.row1 + posts, self.col1 + posts)

    def shifted(self, rows: int, cols: int) -> Window:
        return Window(self.row0 + rows, self.col0 + cols, self.row1 + rows, self.col1 + cols)

    def grow(self, north: int, west: int, south: int, east: int) -> Window:
        """Move each border outwards by its own number of posts (not below 0 each)."""
        return Window(
            self.row0 - max(0, north),
            self.col0 - max(0, west),
            self.row1 + max(0, south),
            self.col1 + max(0, east),
        )

    def meet(self, other: Window) -> Window:
        """The posts in both; may be empty."""
        return Window(
            max(self.row0, other.row0),
            max(self.col0, other.col0),
            min(self.row1, other.row1),
            min(self.col1, other.col1),
        )

    def join(self, other: Window) -> Window:
        """The smallest window that holds both; an empty one adds nothing."""
        if self.empty:
            return other
        if other.empty:
            return self
        return Window(
            min(self.row0, other.row0),
            min(self.col0, other.col0),
            max(self.row1, other.row1),
            max(self.col1, other.col1),
        )

    def inside(self, outer: Window) -> tuple[slice, slice]:
        """Slices that cut this window out of an array that covers `outer`."""
        return (
            slice(self.row0 - outer.row0, self.row1 - outer.row0),
            slice(self.col0 - outer.col0, self.col1 - outer.col0),
        )

    def tiles(self) -> Iterator[tuple[int, int]]:
        """Tile row and column of every tile that this window touches."""
        if self.empty:
            return
        for tile_row in range(self.row0 // TILE, (self.row1 - 1) // TILE + 1):
            for tile_col in range(self.col0 // TILE, (self.col1 - 1) // TILE + 1):
                yield tile_row, tile_col

    def as_list(self) -> list[int]:
        return [self.row0, self.col0, self.row1, self.col1]


NOWHERE = Window(0, 0, 0, 0)


@dataclass(frozen=True, slots=True)
class Grid:
    """Posts on a lattice: `rows` by `cols` of them, `spacing` metres apart, the south-west one at (`west`, `south`)."""

    rows: int
    cols: int
    spacing: float
    west: float = 0.0
    south: float = 0.0
    most: int = LARGEST_SIDE

    def __post_init__(self) -> None:
        for name, count in (("rows", self.rows), ("cols", self.cols)):
            if not 2 <= count <= self.most:
                raise GridError(f"{name} must be 2 to {self.most}, not {count}", name)
        if not (math.isfinite(self.spacing) and self.spacing > 0):
            raise GridError(f"spacing must be finite and above 0 m, not {self.spacing}", "spacing_m")

    @classmethod
    def from_extent(cls, width: float, depth: float, spacing: float) -> Grid:
        """The grid whose outermost posts are `width` by `depth` metres apart.

        256 m at 1 m make 257 posts. Raises GridError when the extent is not a whole
        number of spacings (to a thousandth of a spacing).
        """
        if not (math.isfinite(spacing) and spacing > 0):
            raise GridError(f"spacing must be finite and above 0 m, not {spacing}", "spacing_m")
        counts = []
        for name, extent in (("depth", depth), ("width", width)):
            cells = extent / spacing
            if not math.isfinite(cells) or abs(cells - round(cells)) > 1e-3 or round(cells) < 1:
                raise GridError(f"{name} must be a whole number of spacings ({spacing} m), not {extent} m", f"{name}_m")
            if round(cells) + 1 > LARGEST_SIDE:
                raise GridError(
                    f"{name} at this spacing makes {round(cells) + 1} posts; at most {LARGEST_SIDE} are allowed",
                    f"{name}_m",
                )
            counts.append(round(cells) + 1)
        return cls(counts[0], counts[1], spacing)

    @property
    def window(self) -> Window:
        return Window(0, 0, self.rows, self.cols)

    @property
    def width(self) -> float:
        """East–west extent between the outermost posts. [m]"""
        return (self.cols - 1) * self.spacing

    @property
    def depth(self) -> float:
        """North–south extent between the outermost posts. [m]"""
        return (self.rows - 1) * self.spacing

    def col_of(self, x: Metres) -> Metres:
        """Column, with its fraction, of the easting `x`. [m] -> posts"""
        return (x - self.west) / self.spacing

    def row_of(self, y: Metres) -> Metres:
        """Row, with its fraction, of the northing `y`. [m] -> posts"""
        return (self.rows - 1) - (y - self.south) / self.spacing

    def post_of(self, x: float, y: float) -> tuple[float, float]:
        """Row and column of a place, to 1/1024 of a spacing: so that it is the same post of any lattice that lies whole
        posts away, to the last bit. [m]"""
        return _finely(self.row_of(y)), _finely(self.col_of(x))

    def x_of(self, col: float) -> float:
        return self.west + col * self.spacing

    def y_of(self, row: float) -> float:
        return self.south + (self.rows - 1 - row) * self.spacing

    def xs(self, window: Window, step: int = 1) -> Array:
        """Eastings of every `step`-th column of a window. [m]"""
        return self.west + np.arange(window.col0, window.col1, step) * self.spacing

    def ys(self, window: Window, step: int = 1) -> Array:
        """Northings of every `step`-th row of a window. [m]"""
        return self.south + (self.rows - 1 - np.arange(window.row0, window.row1, step)) * self.spacing

    @property
    def east(self) -> float:
        return self.west + self.width

    @property
    def north(self) -> float:
        return self.south + self.depth

    def holds(self, x: float, y: float) -> bool:
        return self.west <= x <= self.east and self.south <= y <= self.north

    def need(self, x: float, y: float, what: str = "a place") -> None:
        """Raises InvalidInput unless (x, y) lies in the grid. [m]"""
        if not self.holds(x, y):
            raise InvalidInput(
                f"{what} must be inside the tract ({self.west:g} to {self.east:g}, {self.south:g} to {self.north:g}), "
                f"not {x:g}, {y:g}",
                "x",
            )

    def window_of(self, x0: float, y0: float, x1: float, y1: float) -> Window:
        """The posts of a box and those next to it outside, not clipped. [m]"""
        return Window(
            math.floor(self.row_of(y1)), math.floor(self.col_of(x0)), math.ceil(self.row_of(y0)) + 1,
            math.ceil(self.col_of(x1)) + 1,
        )  # fmt: skip

    def clip(self, window: Window) -> Window:
        return window.meet(self.window)

    def around(self, x: float, y: float, radius: float) -> Window:
        """The posts within `radius` metres of (x, y), as a clipped square window."""
        row, col, reach = self.row_of(y), self.col_of(x), radius / self.spacing
        return self.clip(
            Window(
                math.ceil(row - reach),
                math.ceil(col - reach),
                math.floor(row + reach) + 1,
                math.floor(col + reach) + 1,
            )
        )

    def tile_window(self, tile_row: int, tile_col: int) -> Window:
        """The posts of one tile; smaller at the east and south edge."""
        return self.clip(Window(tile_row * TILE, tile_col * TILE, (tile_row + 1) * TILE, (tile_col + 1) * TILE))


def _finely(posts: float) -> float:
    # An irrational turn: no place that is typed, and none that divides the way between such evenly, lies at it.
    return math.floor(posts * FINELY + TURN) / FINELY


def bilinear(values: Array, row: float, col: float) -> float:
    """The value between four posts, `row` and `col` with fractions, held at the border."""
    rows, cols = values.shape
    row = min(max(row, 0.0), rows - 1.0)
    col = min(max(col, 0.0), cols - 1.0)
    r, c = min(int(row), rows - 2), min(int(col), cols - 2)
    fr, fc = row - r, col - c
    top = float(values[r, c]) * (1 - fc) + float(values[r, c + 1]) * fc
    low = float(values[r + 1, c]) * (1 - fc) + float(values[r + 1, c + 1]) * fc
    return float(top * (1 - fr) + low * fr)


def bilinear_many(values: FloatArray, rows: Array, cols: Array) -> FloatArray:
    """`bilinear` at many places at once: rows and columns with fractions, of one shape."""
    r, c = np.clip(rows, 0, values.shape[0] - 1), np.clip(cols, 0, values.shape[1] - 1)
    r0 = np.minimum(r.astype(int), max(values.shape[0] - 2, 0))
    c0 = np.minimum(c.astype(int), max(values.shape[1] - 2, 0))
    r1, c1 = np.minimum(r0 + 1, values.shape[0] - 1), np.minimum(c0 + 1, values.shape[1] - 1)
    fr, fc = r - r0, c - c0
    top = values[r0, c0] * (1 - fc) + values[r0, c1] * fc
    low = values[r1, c0] * (1 - fc) + values[r1, c1] * fc
    return np.asarray(top * (1 - fr) + low * fr, np.float32)
