"""What conditions ask that is not in the ground under the post: a function for each, and a line in `FIELDS`."""

from __future__ import annotations

import hashlib
import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import lru_cache, partial
from itertools import product

import cv2
import numpy as np

from fernfield.core.brush.keep import depths
from fernfield.core.cover import rules as core
from fernfield.core.grid import FloatArray, Window
from fernfield.core.light.shade import reach_posts, shade
from fernfield.core.noise import Octaves, Spots, fractal, plain_spots
from fernfield.core.wetness import wetness
from fernfield.work.asking.conditions import Condition, reach_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import plot_corners
from fernfield.work.plots.rows import LINES, PLOTS, Line, Plot

OCTAVES, PERSISTENCE = 4, 0.5
NOISE_M = 60.0
BLOCK, MOST_IN_BLOCKS, BLOCKS_KEPT = 128, 1_500_000, 1536
"""Noise of a window of so many posts at most is kept in blocks of so many posts a side."""
NOWHERE = -1e6
"""How deep a post lies in a plot that is gone."""
FAR = 1e6

WET_SIDE = 1_024
"""Wetness is worked out for the whole land, on so many posts a side at most: water comes from far away."""


@dataclass(frozen=True)
class Asked:
    """Which posts: every `step`-th of a window of a land, as an array of `shape`."""

    world: OpenWorld
    land: Land
    posts: Window
    step: int

    @property
    def shape(self) -> tuple[int, int]:
        return -(-self.posts.rows // self.step), -(-self.posts.cols // self.step)

    @property
    def spacing(self) -> float:
        return self.land.grid.spacing * self.step


def heights_around(asked: Asked, around: int = 1) -> FloatArray:
    """Heights of the posts with so many more on every side; past the land's border in a straight line. [m]"""
    land, step, bounds = asked.land, asked.step, asked.land.bounds
    wide = asked.posts.pad(around * step)
    heights = np.array(land.seen(HEIGHT, wide, step), np.float32)
    rows = asked.shape[0] + 2 * around, asked.shape[1] + 2 * around
    heights = heights[: rows[0], : rows[1]]
    if around != 1 or min(heights.shape) < 3:
        return heights
    if wide.row0 < bounds.row0 <= asked.posts.row0:
        heights[0] = 2 * heights[1] - heights[2]
    if wide.row0 + (rows[0] - 1) * step >= bounds.row1 > wide.row0 + (rows[0] - 2) * step:
        heights[-1] = 2 * heights[-2] - heights[-3]
    if wide.col0 < bounds.col0 <= asked.posts.col0:
        heights[:, 0] = 2 * heights[:, 1] - heights[:, 2]
    if wide.col0 + (rows[1] - 1) * step >= bounds.col1 > wide.col0 + (rows[1] - 2) * step:
        heights[:, -1] = 2 * heights[:, -2] - heights[:, -3]
    return heights


def noise(asked: Asked, size: float, seed: int) -> FloatArray:
    """Noise from -1 to 1 at the posts; the same place always has the same."""
    land, spacing = asked.land, asked.spacing
    # Counted from one place, so that every window finds the same, to the last bit.
    first = asked.posts.row0 // asked.step, asked.posts.col0 // asked.step
    row, col = asked.posts.row0 - first[0] * asked.step, asked.posts.col0 - first[1] * asked.step
    spots = plain_spots(land.grid.x_of(col) + land.origin[0], land.grid.y_of(row) + land.origin[1], spacing)
    rows, cols = asked.shape
    if rows * cols > MOST_IN_BLOCKS:
        return fractal(asked.shape, spots, Octaves(size, OCTAVES, PERSISTENCE, seed), spacing, first=first)
    # The window under a brush is asked for again and again, and so is the plan of a land that is opened again.
    out = np.empty(asked.shape, np.float32)
    for down, right in product(range(first[0] // BLOCK, (first[0] + rows - 1) // BLOCK + 1),
                               range(first[1] // BLOCK, (first[1] + cols - 1) // BLOCK + 1)):  # fmt: skip
        whole = Window(down * BLOCK, right * BLOCK, (down + 1) * BLOCK, (right + 1) * BLOCK)
        window = Window(first[0], first[1], first[0] + rows, first[1] + cols)
        part = whole.meet(window)
        out[part.inside(window)] = _block(spots, size, seed, spacing, down, right)[part.inside(whole)]
    return out


@lru_cache(maxsize=BLOCKS_KEPT)
def _block(spots: Spots, size: float, seed: int, spacing: float, down: int, right: int) -> FloatArray:
    octaves = Octaves(size, OCTAVES, PERSISTENCE, seed)
    return fractal((BLOCK, BLOCK), spots, octaves, spacing, first=(down * BLOCK, right * BLOCK))


def _noise(asked: Asked, condition: Condition) -> FloatArray:
    return noise(asked, condition.size_m or NOISE_M, condition.seed or 0)


def _water_distance(asked: Asked, condition: Condition) -> FloatArray:
    """How far it is to ground under the sea, as far as it matters. [m]"""
    around = math.ceil(reach_of(condition) / asked.spacing) + 1
    water = asked.world.surface(asked.land, asked.posts.pad(around * asked.step), asked.step)
    heights = heights_around(asked, around)
    dry = (heights > water[: heights.shape[0], : heights.shape[1]]).astype(np.uint8)
    away = np.full(dry.shape, FAR, np.float32)
    if not dry.all():
        posts = cv2.distanceTransform(dry, cv2.DIST_L2, cv2.DIST_MASK_PRECISE).astype(np.float64)
        # Squares of distances between posts are whole numbers: every window finds the same, to the last bit.
        away = np.where(posts > 1e6, FAR, np.sqrt(np.rint(posts * posts)) * asked.spacing).astype(np.float32)
    inner = slice(around, around + asked.shape[0]), slice(around, around + asked.shape[1])
    return np.minimum(away[inner], np.float32(around * asked.spacing))


def _corners(asked: Asked, points: list[tuple[float, float]]) -> np.ndarray:
    grid = asked.land.grid
    return np.array([(grid.row_of(y) / asked.step, grid.col_of(x) / asked.step) for x, y in points], np.float64)


def _plot(asked: Asked, condition: Condition) -> FloatArray:
    """How deep a post lies in a plot, below 0 outside. [m]"""
    plot = asked.world.rows[PLOTS.name].get(condition.plot or "")
    if not isinstance(plot, Plot):
        return np.full(asked.shape, NOWHERE, np.float32)
    corners = _corners(asked, plot_corners(asked.world, asked.land, plot))
    row, col = asked.posts.row0 / asked.step, asked.posts.col0 / asked.step
    return depths([corners], asked.shape, row, col) * np.float32(asked.spacing)


def _line_distance(asked: Asked, condition: Condition) -> FloatArray:
    line = asked.world.rows[LINES.name].get(condition.line or "")
    if not isinstance(line, Line):
        return np.full(asked.shape, FAR, np.float32)
    corners = _corners(asked, plot_corners(asked.world, asked.land, line))
    # There and back again: a polygon without an inside.
    around = np.concatenate([corners, corners[-2:0:-1]]) if len(corners) > 2 else corners
    row, col = asked.posts.row0 / asked.step, asked.posts.col0 / asked.step
    return np.abs(depths([around], asked.shape, row, col)) * np.float32(asked.spacing)


START = "start"
"""The kind of what stands as a start."""


def _piece_distance(asked: Asked, condition: Condition) -> FloatArray:
    """How far it is to the middle of a piece (the one that is named, the nearest of a kind or of all), or to the
    nearest start, as far as it matters. [m]"""
    grid, shape, reach = asked.land.grid, asked.shape, reach_of(condition)
    out = np.full(shape, FAR, np.float32)
    x = grid.x_of(asked.posts.col0) + np.arange(shape[1]) * asked.spacing
    y = grid.y_of(asked.posts.row0) - np.arange(shape[0]) * asked.spacing
    for key, kind, east, north in asked.world.house.given.stands(asked.world, asked.land):
        if (kind == START) != (condition.what == "start_distance"):
            continue
        if (condition.piece is not None and key != condition.piece) or (condition.kit not in (None, kind)):
            continue
        # Only the posts that it can matter to.
        cols = np.searchsorted(x, (east - reach, east + reach), "left")
        rows = np.searchsorted(-y, (-north - reach, -north + reach), "left")
        box = slice(rows[0], rows[1] + 1), slice(cols[0], cols[1] + 1)
        away = np.hypot(x[None, box[1]] - east, y[box[0], None] - north).astype(np.float32)
        out[box] = np.minimum(out[box], away)
    return out


MOST_WET = 6
_WET: OrderedDict[tuple[str, str, int], tuple[int, int, FloatArray]] = OrderedDict()
_WET_LOCK = threading.Lock()


def _wet_land(world: OpenWorld, land: Land) -> tuple[int, Window, FloatArray]:
    """Wetness of a whole land as of its last revision that moved ground: the step of its posts, the land, the index."""
    bounds = land.bounds
    step = 1
    while max(bounds.rows, bounds.cols) / step > WET_SIDE:
        step *= 2
    first = Window(bounds.row0 // step * step, bounds.col0 // step * step, bounds.row1, bounds.col1)
    own = world.id, land.id, step
    with _WET_LOCK:
        known = _WET.get(own)
        if known is None or known[0] != world.revision:
            written = sum(
                count for part in land.parts for place, count in part.tract.cache.written.items() if place[0] == HEIGHT
            )
            # A revision that moved no ground leaves it as it is.
            same = known is not None and known[1] == written and known[0] < world.revision
            index = known[2] if known is not None and same else _index(land, first, step)
            known = _WET[own] = world.revision, written, index
            _WET.move_to_end(own)
            if len(_WET) > MOST_WET:
                _WET.popitem(last=False)
    return step, first, known[2]


def _index(land: Land, window: Window, step: int) -> FloatArray:
    return wetness(np.array(land.seen(HEIGHT, window, step), np.float32), land.grid.spacing * step)


def _wetness(asked: Asked, condition: Condition | None = None) -> FloatArray:
    step, first, index = _wet_land(asked.world, asked.land)
    rows = (asked.posts.row0 - first.row0 + np.arange(asked.shape[0]) * asked.step) / step
    cols = (asked.posts.col0 - first.col0 + np.arange(asked.shape[1]) * asked.step) / step
    rows, cols = rows.clip(0, index.shape[0] - 1), cols.clip(0, index.shape[1] - 1)
    r, c = np.minimum(rows.astype(int), index.shape[0] - 2), np.minimum(cols.astype(int), index.shape[1] - 2)
    v, u = (rows - r).astype(np.float32)[:, None], (cols - c).astype(np.float32)[None, :]
    upper = index[np.ix_(r, c)] * (1 - u) + index[np.ix_(r, c + 1)] * u
    lower = index[np.ix_(r + 1, c)] * (1 - u) + index[np.ix_(r + 1, c + 1)] * u
    return np.asarray(upper * (1 - v) + lower * v, np.float32)


def wet_mark(world: OpenWorld, land: Land, window: Window) -> str:
    """Changes when the ground of a window becomes wetter or drier, by what is done far away too. Hold the lock."""
    values = _wetness(Asked(world, land, land.clip(window), 1))
    return hashlib.sha256(np.ascontiguousarray(values).tobytes()).hexdigest()


def _tide(asked: Asked, condition: Condition) -> FloatArray:
    """How high a post lies between low and high tide, 0 to 100. [%]"""
    return asked.world.house.given.tides(asked.world, asked.land, asked.posts, asked.step)


def _shade(asked: Asked, condition: Condition) -> FloatArray:
    """How much of the sun's course the land takes from a post. [%]"""
    around = reach_posts(asked.spacing)
    return shade(heights_around(asked, around), asked.spacing, around) * np.float32(100)


class Asking:
    """Conditions as the core knows them, and the arrays that they ask for, each worked out once."""

    def __init__(self, asked: Asked) -> None:
        self.asked = asked
        self.fields: list[FloatArray] = []
        self._known: dict[tuple[object, ...], int] = {}
        self._sea = asked.world.sea_of(asked.land.id)

    def field(self, key: tuple[object, ...], make: Callable[[], FloatArray]) -> int:
        """The number of an array; made when nobody has asked for it before."""
        if key not in self._known:
            self._known[key] = len(self.fields)
            self.fields.append(make())
        return self._known[key]

    def grain(self, size_m: float, seed: int) -> int:
        """The number of noise of a size."""
        return self.field(("ragged", size_m, seed), partial(noise, self.asked, size_m, seed))

    def share(self, cover: str) -> FloatArray:
        """How much of every post a cover takes up, 0 to 1."""
        one = Condition.model_validate({"what": "cover", "cover": cover, "from": 0.5})
        return self.fields[self.field(one.asks, partial(_share, self.asked, one))]

    def condition(self, one: Condition, covers: Mapping[str, int] | None = None) -> core.Condition:
        """`covers`: their numbers, where shares by the rules above are meant; left out: those of the land."""
        code, low, high, at = core.WHATS[one.what].code, one.from_, one.to, 0
        if one.what == "above_water":
            low, high = (None if limit is None else limit + self._sea for limit in (low, high))
        if one.what == "plot" and low is None and high is None:
            low = 0.0
        if code == core.SHARE and covers is not None:
            at = covers[one.cover or ""]
        elif code == core.SHARE:
            code, at = core.FIELD, self.field(one.asks, partial(_share, self.asked, one))
        elif code == core.FIELD:
            # Distances are known as far as they matter to their own condition.
            whole = (*one.asks, reach_of(one)) if one.what.endswith("_distance") else one.asks
            at = self.field(whole, partial(FIELDS[one.what], self.asked, one))
        return core.Condition(code, low, high, one.soft, at)


def _share(asked: Asked, condition: Condition) -> FloatArray:
    """How much of every post a cover takes up; none where it has gone."""
    world, key = asked.world, condition.cover or ""
    if key not in world.rows["covers"]:
        return np.zeros(asked.shape, np.float32)
    return world.house.given.takes_up(world, asked.land, key, asked.posts, asked.step)


Field = Callable[[Asked, Condition], FloatArray]

FIELDS: dict[str, Field] = {
    "wetness": _wetness,
    "shade": _shade,
    "water_distance": _water_distance,
    "tide": _tide,
    "noise": _noise,
    "plot": _plot,
    "line_distance": _line_distance,
    "piece_distance": _piece_distance,
    "start_distance": _piece_distance,
}
