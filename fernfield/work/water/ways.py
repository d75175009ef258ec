"""The ways of streams: along their points, then down by themselves, until they meet a stream, water or the edge."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core import lines
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import Line
from fernfield.core.water import channel
from fernfield.core.water.hollow import Brim
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.posts.layers import HEIGHT, Apart
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.laying import part_of, streams_of
from fernfield.work.water.rows import MOST_REACHES, Pool, Stream
from fernfield.work.water.running import SHALLOW_M, Around, at_edge, run_down, without_loops
from fernfield.work.water.standing import standing

SHEET, SHEET_NAME = "streams", "Streams"
"""What streams cut is kept apart from all other ground under this key."""
PIECE = 256


class IntoHollow(Exception):
    """The way of a stream ends in a hollow, and nothing was said of that."""

    def __init__(self, stream: Stream, around: Around, brim: Brim) -> None:
        super().__init__(stream.name)
        self.stream, self.around, self.brim = stream, around, brim


def apart_of(world: OpenWorld) -> Apart:
    """How streams keep what they cut apart from other ground."""
    found = world.house.layers(HEIGHT).apart
    assert found is not None
    return found


@dataclass
class Path:
    """A stream on its way: spots a post apart in the land's posts, and what it begins and ends in.

    pool : one that is to stand where it ends; level : of what stands at its end; below : its surface begins under this
    way : the line as its row keeps it
    """

    row: Line
    col: Line
    ends: str
    joins: str | None = None
    leaves: str | None = None
    level: float | None = None
    below: float | None = None
    pool: Pool | None = None
    way: tuple[tuple[float, float], ...] = ()


class Ways:
    """Where the streams of a land run when one of them is put, changed or removed (None). The world is held only while
    something of it is read.

    rows : as they are to be; was, laid : as they are; above : what each joins and leaves; stay : those that stay
    """

    def __init__(self, world: OpenWorld, land: Land, key: str, new: Stream | None) -> None:
        self.world, self.land, self.key = world, land, key
        with world.lock:
            known = {k: (stream, one) for k, stream, one in streams_of(world, land)}
        self.laid = {k: one for k, (_, one) in known.items()}
        self.was = {k: stream for k, (stream, _) in known.items()}
        self.rows = {**self.was}
        self.rows.pop(key, None)
        if new is not None:
            self.rows[key] = new
        self.above = {k: {r for r in (s.joins, s.leaves) if r} for k, s in self.was.items()}
        self.paths: dict[str, Path] = {}
        self.stay: list[str] = []
        self._apart = apart_of(world)

    def trace(self) -> set[str]:
        """Work out the ways that change; gives all streams that are to be worked out anew.

        Raises IntoHollow, Conflict where the stream has no way to run, InvalidInput for points off the land.
        """
        touched = self._together()
        anew = self.leading_to(self.key)
        self.stay = [k for k, stream in sorted(self.rows.items()) if k not in anew and stream.course]
        self.above.pop(self.key, None)
        anew = [k for k in anew if k in self.rows]
        for k in anew:
            # What it led to before is not known to be so any more.
            self.above[k] = set()
        for k in anew:
            self.paths[k] = self._traced(k, self.rows[k]) if k == self.key else self._followed(k)
            self.above[k] = {r for r in (self.paths[k].joins, self.paths[k].leaves) if r}
        return {k for k in touched | self._together() if k in self.rows}

    # What is read of the world

    def ground(self, window: Window) -> FloatArray:
        """The ground of a window without what streams cut. [m]"""
        with self.world.lock:
            return np.asarray(self._apart.without(self.world, self.land, window, SHEET))

    def water(self, window: Window) -> FloatArray:
        """Where sea and pools stand in a window. [m]"""
        with self.world.lock:
            return standing(self.world, self.land, window)

    def home(self, stream: Stream) -> Part:
        """The part of the land that is a stream's tract."""
        return part_of(self.world, self.land, stream.tract)

    def leading_to(self, key: str) -> list[str]:
        """A stream, and all whose water comes to it or that branch from it, over others too, the nearest first."""
        found = [key]
        for k in found:
            found += sorted(one for one, above in self.above.items() if k in above and one not in found)
        return found

    def _together(self) -> set[str]:
        """All streams that touch the one that changes, over others too."""
        found, new = {self.key}, {self.key}
        while new:
            beside = {one for k in new for one in self.above.get(k, ())}
            beside |= {one for one, own in self.above.items() if own & new}
            new = beside - found
            found |= new
        return found

    def path(self, key: str) -> Path:
        """Where a stream runs; of those that stay, only what is near or touched is looked at."""
        if key not in self.paths:
            self.paths[key] = self._path_of(key)
        return self.paths[key]

    def _path_of(self, key: str) -> Path:
        """A stream that stays where it is."""
        stream, course = self.was[key], self.laid[key].course
        line = self._line_of(stream.way, self.home(stream))
        row, col = line["row"], line["col"]
        path = Path(row, col, stream.ends, stream.joins, stream.leaves, way=stream.way)
        wet, level = self._water_along(row[[0, -1]], col[[0, -1]])
        if stream.ends in ("sea", "pool"):
            path.level = float(level[1] if wet[1] else course.surface[-1])
        path.below = float(level[0]) if wet[0] else None
        return path

    def _followed(self, key: str) -> Path:
        """A stream that led to the one that changes; where it has no way any more it stays, and ends where it did."""
        try:
            return self._traced(key, self.rows[key])
        except Conflict:
            return replace(self._path_of(key), ends="hollow", joins=None, leaves=None, level=None)

    def _traced(self, key: str, stream: Stream) -> Path:
        land, home = self.land, self.home(stream)
        points = [(x + home.x, y + home.y) for x, y in stream.points]
        for number, (x, y) in enumerate(points):
            if not land.holds(x, y):
                what = f"point {number + 1}" if number else "the spring"
                raise InvalidInput(f"{what} of {stream.name} must lie on the land, not at {x:g}, {y:g}", "points")
        row = np.array([land.grid.row_of(y) for _, y in points])
        col = np.array([land.grid.col_of(x) for x, _ in points])
        row, col = lines.evenly(*lines.rounded(row, col))
        row = np.clip(row, land.bounds.row0, land.bounds.row1 - 1)
        col = np.clip(col, land.bounds.col0, land.bounds.col1 - 1)
        path = self._to_water(key, stream, Path(row, col, ""))
        if not path.ends:
            path = self._goes_on(key, stream, path)
        if len(path.row) < 2 or float(lines.along(path.row, path.col)[-1]) * land.grid.spacing < stream.width_m / 2:
            raise Conflict(f"{stream.name} has no way to run: {_AT_ONCE[path.ends]} right at its spring")
        return replace(path, **self._kept(path, home))

    def _kept(self, path: Path, home: Part) -> dict[str, Any]:
        """The line as its row keeps it: laid anew it is the same."""
        grid, off = self.land.grid, 0.2
        row, col = channel.thinned_line(path.row, path.col)
        while len(row) > MOST_REACHES:
            off *= 2
            row, col = channel.thinned_line(path.row, path.col, off)
        way = tuple((round(grid.x_of(c) - home.x, 3), round(grid.y_of(r) - home.y, 3))
                    for r, c in zip(row.tolist(), col.tolist(), strict=True))  # fmt: skip
        return {"way": way, **self._line_of(way, home)}

    def _line_of(self, way: tuple[tuple[float, float], ...], home: Part) -> dict[str, Line]:
        grid = self.land.grid
        row = np.array([grid.row_of(y + home.y) for _, y in way])
        col = np.array([grid.col_of(x + home.x) for x, _ in way])
        row, col = lines.evenly(row, col)
        return {"row": row, "col": col}

    def _to_water(self, key: str, stream: Stream, path: Path) -> Path:
        """A path up to where it meets water, or the edge of the land; `ends` is "" where it meets nothing."""
        row, col = path.row, path.col
        wet, level = self._water_along(row, col)
        first = 0
        if wet[0]:
            if wet.all():
                raise Conflict(f"{stream.name} would lie under water all along")
            first = int(np.argmin(wet)) - 1
            path = replace(path, below=float(level[first]))
        met, others = self._met(key, row, col)
        if met[first] >= 0 and path.below is None:
            if (met[first:] >= 0).all() and len(row) > first + 1:
                raise Conflict(f"{stream.name} would lie in the bed of {self.rows[others[met[first]]].name} all along")
            free = np.flatnonzero(met[first:] < 0)
            if len(free):
                path = replace(path, leaves=others[met[first]])
                begin = first + int(free[0])
                row[begin - 1], col[begin - 1] = self._middle(others[met[first]], row[begin - 1], col[begin - 1])
                first = begin - 1
                met = met.copy()
                met[first] = -1
        after = np.arange(len(row)) > first
        in_water = np.flatnonzero(after & wet)
        in_stream = np.flatnonzero(after & (met >= 0))
        ends = [int(found[0]) for found in (in_water, in_stream) if len(found)]
        if not ends:
            last = round(float(row[-1])), round(float(col[-1]))
            edge = at_edge(self.land, last) and len(row) > first + 1
            return replace(path, row=row[first:], col=col[first:], ends="edge" if edge else "")
        at = min(ends)
        path = replace(path, row=row[first : at + 1].copy(), col=col[first : at + 1].copy())
        if len(in_stream) and int(in_stream[0]) == at:
            other = others[met[at]]
            path.row[-1], path.col[-1] = self._middle(other, row[at], col[at])
            return replace(path, ends="stream", joins=other)
        sea = self.world.sea_of(self.land.id)
        return replace(path, ends="sea" if level[at] == np.float32(sea) else "pool", level=float(level[at]))

    def _goes_on(self, key: str, stream: Stream, path: Path) -> Path:
        """On from the end of a path, by the way that the land gives."""
        start = round(float(path.row[-1])), round(float(path.col[-1]))

        def wet(window: Window, heights: FloatArray) -> NDArray[np.bool_]:
            return np.asarray(self.water(window) > heights)

        over = math.inf if stream.in_hollow == "cut" else SHALLOW_M
        way = run_down(self.land, self.ground, wet, start, over)
        far = without_loops(way.posts).astype(np.float64)
        row, col = lines.evened(far[:, 0], 3), lines.evened(far[:, 1], 3)
        row[[0, -1]], col[[0, -1]] = far[[0, -1], 0], far[[0, -1], 1]
        row, col = np.concatenate([path.row, row[1:]]), np.concatenate([path.col, col[1:]])
        whole = self._to_water(key, stream, replace(path, row=row, col=col, below=None, leaves=None))
        whole = replace(whole, below=path.below, leaves=path.leaves)
        if whole.ends in ("sea", "pool", "stream"):
            return whole
        if way.ends != "hollow" or way.around is None or way.brim is None:
            return replace(whole, ends="edge" if way.ends == "edge" else "hollow")
        if stream.in_hollow == "pool":
            return self._into_pool(stream, whole, way.brim)
        if key == self.key:
            raise IntoHollow(stream, way.around, way.brim)
        return replace(whole, ends="hollow")

    def _into_pool(self, stream: Stream, path: Path, brim: Brim) -> Path:
        """The hollow in which a path ends holds a pool that stands to its brim."""
        grid, land = self.land.grid, self.land
        x, y = grid.x_of(round(float(path.col[-1]))), grid.y_of(round(float(path.row[-1])))
        home = land.part_at(x, y) or land.parts[0]
        pool = Pool(name=f"{stream.name} pool"[:60], x=x - home.x, y=y - home.y, level_m=brim.level,
                    tract=home.tract.row.id)  # fmt: skip
        ground = self.ground_along(path.row, path.col)
        above = np.flatnonzero(ground >= brim.level)
        last = min(int(above[-1]) + 1, len(ground) - 1) if len(above) else 0
        return replace(
            path, row=path.row[: last + 1], col=path.col[: last + 1], ends="pool", level=brim.level, pool=pool
        )

    def _met(self, key: str, row: Line, col: Line) -> tuple[NDArray[np.int64], list[str]]:
        """In the bed of which other stream each spot lies, by its number in a list of keys; -1: in none."""
        mine = set(self.leading_to(key))
        near = {k for k in self.stay if self.laid[k].is_near(row, col, self._touches(k))}
        others = [k for k in sorted(near | self.paths.keys()) if k not in mine]
        met, least = np.full(len(row), -1, np.int64), np.full(len(row), np.inf)
        spots = np.stack([row, col], axis=1)
        for number, k in enumerate(others):
            away, _ = self._tree(k).query(spots, distance_upper_bound=self._touches(k))
            nearer = away < least
            met[nearer], least[nearer] = number, away[nearer]
        return met, others

    def _touches(self, key: str) -> float:
        """How near a stream another is in its bed. [posts]"""
        return max(self.rows[key].width_m / 2 / self.land.grid.spacing, 1.0)

    def _tree(self, key: str) -> Any:
        from scipy.spatial import cKDTree  # heavy: imported where it is used

        path = self.path(key)
        return cKDTree(np.stack([path.row, path.col], axis=1))

    def _middle(self, key: str, row: float, col: float) -> tuple[float, float]:
        path = self.path(key)
        at = self.spot_of(path, row, col)
        return float(path.row[at]), float(path.col[at])

    @staticmethod
    def spot_of(path: Path, row: float, col: float) -> int:
        return int(np.hypot(path.row - row, path.col - col).argmin())

    def pieces(self, row: Line, col: Line, reach: float) -> Iterable[tuple[slice, Window]]:
        """Pieces of a line, and the windows around them."""
        for first in range(0, len(row), PIECE):
            part = slice(first, min(first + PIECE + 1, len(row)))
            r, c = row[part], col[part]
            window = Window(math.floor(r.min() - reach), math.floor(c.min() - reach), math.ceil(r.max() + reach) + 1,
                            math.ceil(c.max() + reach) + 1)  # fmt: skip
            yield part, self.land.clip(window)

    def _water_along(self, row: Line, col: Line) -> tuple[NDArray[np.bool_], FloatArray]:
        """Whether water stands at each spot of a line, and how high. [m]"""
        wet, level = np.zeros(len(row), bool), np.zeros(len(row), np.float32)
        for part, window in self.pieces(row, col, 1):
            r = np.clip(np.rint(row[part]).astype(np.int64), window.row0, window.row1 - 1) - window.row0
            c = np.clip(np.rint(col[part]).astype(np.int64), window.col0, window.col1 - 1) - window.col0
            water, ground = self.water(window)[r, c], self.ground(window)[r, c]
            wet[part], level[part] = water > ground, water
        return wet, level

    def ground_along(self, row: Line, col: Line) -> Line:
        out = np.zeros(len(row))
        for part, window in self.pieces(row, col, 1):
            r = np.clip(np.rint(row[part]).astype(np.int64), window.row0, window.row1 - 1) - window.row0
            c = np.clip(np.rint(col[part]).astype(np.int64), window.col0, window.col1 - 1) - window.col0
            out[part] = self.ground(window)[r, c]
        return out


_AT_ONCE = {
    "sea": "it runs into the sea", "pool": "it runs into a pool", "stream": "it runs into another stream",
    "edge": "water runs off the land", "hollow": "it lies in a hollow", "": "it lies in a hollow",
}  # fmt: skip
