"""The courses of streams: where each runs, what it joins, how wide it gets, and how high its surface stands.

Streams that touch are worked out together. Which way each runs comes first: along its points, then down by itself,
until it meets another stream, standing water or the edge of the land. Then widths, from the springs down: where streams
meet their flows add up. Then surfaces, from the mouths up: none rises, and each meets what it ends in.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from fernfield.core.errors import Choice, Conflict, InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.water import channel
from fernfield.core.water.channel import Course, Line
from fernfield.core.water.hollow import Brim, curve_of
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.posts.layers import HEIGHT, Apart
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.laying import MOST_BANK_M, Laid, laid, lowest_of, part_of, streams_of
from fernfield.work.water.rows import MOST_REACHES, Pool, Reach, Stream
from fernfield.work.water.running import SHALLOW_M, Around, at_edge, run_down, without_loops
from fernfield.work.water.standing import standing

SHEET, SHEET_NAME = "streams", "Streams"
"""What streams cut is kept apart from all other ground under this key."""
PIECE, BLOCK = 256, 256
SMOOTH_WIDTHS = 2.0
"""Surfaces, and how widths change, are smoothed over so many widths (our choice)."""
FORD_OFF_M = 30.0
LEAST_HALF_POSTS = 1.0
"""No stream is narrower than two posts: between them it would be lost."""
LEAST_FLOW = 0.1
"""What is left at least in a stream that others branch from, of its own flow."""


class InHollow(Choice):
    """The way of a stream ends in a hollow; `more["choices"]` says what each way out comes to."""


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


@dataclass
class Network:
    """What a change of a stream comes to: rows to be put (None: removed), pools with them, and where ground changes."""

    streams: dict[str, Stream | None] = field(default_factory=dict)
    pools: dict[str, Pool] = field(default_factory=dict)
    windows: list[Window] = field(default_factory=list)
    laid: list[Laid] = field(default_factory=list)


def planned(world: OpenWorld, land: Land, key: str, new: Stream | None) -> Network:
    """All that changes when a stream is put, changed or removed. Hold the world's lock.

    Raises InHollow where its way ends in a hollow and nothing was said of that, Conflict where it cannot run.
    """
    return _Planning(world, land, key, new).network()


class _Planning:
    def __init__(self, world: OpenWorld, land: Land, key: str, new: Stream | None) -> None:
        self._world, self._land, self._key = world, land, key
        known = {k: (stream, one) for k, stream, one in streams_of(world, land)}
        self._laid = {k: one for k, (_, one) in known.items()}
        self._was = {k: stream for k, (stream, _) in known.items()}
        self._rows = {**self._was}
        self._rows.pop(key, None)
        if new is not None:
            self._rows[key] = new
        self._above = {k: {r for r in (s.joins, s.leaves) if r} for k, s in self._was.items()}
        self._paths: dict[str, Path] = {}
        self._courses: dict[str, Course] = {}
        self._stay: list[str] = []
        apart = apart_of(world)
        self._read: Callable[[Window], FloatArray] = lambda window: apart.without(world, land, window, SHEET)

    def network(self) -> Network:
        touched = self._together(self._above)
        anew = self._leading_to({self._key})
        self._stay = [k for k, stream in sorted(self._rows.items()) if k not in anew and stream.course]
        self._above.pop(self._key, None)
        for k in anew:
            if k in self._rows:
                # What it led to before is not known to be so any more.
                self._above[k] = set()
        for k in anew:
            if k in self._rows:
                self._paths[k] = self._traced(k, self._rows[k]) if k == self._key else self._followed(k)
                self._above[k] = {r for r in (self._paths[k].joins, self._paths[k].leaves) if r}
        touched |= self._together(self._above)
        touched = {k for k in touched if k in self._rows}
        self._widen(touched)
        return self._told(touched)

    def _leading_to(self, keys: set[str]) -> list[str]:
        """These streams, and all whose water comes to one of them or that branch from one, the nearest first."""
        found = sorted(keys)
        for k in found:
            found += sorted(one for one, above in self._above.items() if k in above and one not in found)
        return found

    def _together(self, above: dict[str, set[str]]) -> set[str]:
        """All streams that touch the one that changes, over others too."""
        found, new = {self._key}, {self._key}
        while new:
            beside = {one for k in new for one in above.get(k, ())}
            beside |= {one for one, own in above.items() if own & new}
            new = beside - found
            found |= new
        return found

    def _path(self, key: str) -> Path:
        """Where a stream runs; of those that stay, only what is near or touched is looked at."""
        if key not in self._paths:
            self._paths[key] = self._path_of(key)
        return self._paths[key]

    def _path_of(self, key: str) -> Path:
        """A stream that stays where it is."""
        stream, course = self._was[key], self._laid[key].course
        line = self._line_of(stream.way, part_of(self._world, self._land, stream.tract))
        row, col = line["row"], line["col"]
        path = Path(row, col, stream.ends, stream.joins, stream.leaves, way=stream.way)
        wet, level = self._water_along(row[[0, -1]], col[[0, -1]])
        if stream.ends in ("sea", "pool"):
            path.level = float(level[1] if wet[1] else course.surface[-1])
        path.below = float(level[0]) if wet[0] else None
        return path

    # Where it runs

    def _followed(self, key: str) -> Path:
        """A stream that led to the one that changes; where it has no way any more it stays, and ends where it did."""
        try:
            return self._traced(key, self._rows[key])
        except Conflict:
            return replace(self._path_of(key), ends="hollow", joins=None, leaves=None, level=None)

    def _traced(self, key: str, stream: Stream) -> Path:
        land, home = self._land, part_of(self._world, self._land, stream.tract)
        points = [(x + home.x, y + home.y) for x, y in stream.points]
        for number, (x, y) in enumerate(points):
            if not land.holds(x, y):
                what = f"point {number + 1}" if number else "the spring"
                raise InvalidInput(f"{what} of {stream.name} must lie on the land, not at {x:g}, {y:g}", "points")
        row = np.array([land.grid.row_of(y) for _, y in points])
        col = np.array([land.grid.col_of(x) for x, _ in points])
        row, col = channel.evenly(*channel.rounded(row, col))
        row = np.clip(row, land.bounds.row0, land.bounds.row1 - 1)
        col = np.clip(col, land.bounds.col0, land.bounds.col1 - 1)
        path = self._to_water(key, stream, Path(row, col, ""))
        if not path.ends:
            path = self._goes_on(key, stream, path)
        if len(path.row) < 2 or float(channel.along(path.row, path.col)[-1]) * land.grid.spacing < stream.width_m / 2:
            raise Conflict(f"{stream.name} has no way to run: {_AT_ONCE[path.ends]} right at its spring")
        return replace(path, **self._kept(path, home))

    def _kept(self, path: Path, home: Part) -> dict[str, Any]:
        """The line as its row keeps it: laid anew it is the same."""
        grid, off = self._land.grid, 0.2
        row, col = channel.thinned_line(path.row, path.col)
        while len(row) > MOST_REACHES:
            off *= 2
            row, col = channel.thinned_line(path.row, path.col, off)
        way = tuple((round(grid.x_of(c) - home.x, 3), round(grid.y_of(r) - home.y, 3))
                    for r, c in zip(row.tolist(), col.tolist(), strict=True))  # fmt: skip
        return {"way": way, **self._line_of(way, home)}

    def _line_of(self, way: tuple[tuple[float, float], ...], home: Part) -> dict[str, Line]:
        grid = self._land.grid
        row = np.array([grid.row_of(y + home.y) for _, y in way])
        col = np.array([grid.col_of(x + home.x) for x, _ in way])
        row, col = channel.evenly(row, col)
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
                raise Conflict(f"{stream.name} would lie in the bed of {self._rows[others[met[first]]].name} all along")
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
            edge = at_edge(self._land, last) and len(row) > first + 1
            return replace(path, row=row[first:], col=col[first:], ends="edge" if edge else "")
        at = min(ends)
        path = replace(path, row=row[first : at + 1].copy(), col=col[first : at + 1].copy())
        if len(in_stream) and int(in_stream[0]) == at:
            other = others[met[at]]
            path.row[-1], path.col[-1] = self._middle(other, row[at], col[at])
            return replace(path, ends="stream", joins=other)
        sea = self._world.sea_of(self._land.id)
        return replace(path, ends="sea" if level[at] == np.float32(sea) else "pool", level=float(level[at]))

    def _goes_on(self, key: str, stream: Stream, path: Path) -> Path:
        """On from the end of a path, by the way that the land gives."""
        start = round(float(path.row[-1])), round(float(path.col[-1]))

        def wet(window: Window, heights: FloatArray) -> NDArray[np.bool_]:
            return np.asarray(standing(self._world, self._land, window) > heights)

        over = math.inf if stream.in_hollow == "cut" else SHALLOW_M
        way = run_down(self._land, self._read, wet, start, over)
        far = without_loops(way.posts).astype(np.float64)
        row, col = channel.evened(far[:, 0], 3), channel.evened(far[:, 1], 3)
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
        if key == self._key:
            raise self._asked(stream, way.around, way.brim)
        return replace(whole, ends="hollow")

    def _into_pool(self, stream: Stream, path: Path, brim: Brim) -> Path:
        """The hollow in which a path ends holds a pool that stands to its brim."""
        grid, land = self._land.grid, self._land
        x, y = grid.x_of(round(float(path.col[-1]))), grid.y_of(round(float(path.row[-1])))
        home = land.part_at(x, y) or land.parts[0]
        pool = Pool(name=f"{stream.name} pool"[:60], x=x - home.x, y=y - home.y, level_m=brim.level,
                    tract=home.tract.row.id)  # fmt: skip
        ground = self._ground_along(path.row, path.col)
        above = np.flatnonzero(ground >= brim.level)
        last = min(int(above[-1]) + 1, len(ground) - 1) if len(above) else 0
        return replace(
            path, row=path.row[: last + 1], col=path.col[: last + 1], ends="pool", level=brim.level, pool=pool
        )

    def _asked(self, stream: Stream, around: Around, brim: Brim) -> InHollow:
        posts = around.risen.posts[: brim.count]
        ground = around.heights[posts[:, 0], posts[:, 1]]
        ground = ground[ground < np.float32(brim.level)]
        curve = curve_of(ground, brim.level, self._land.grid.spacing**2)
        cut = _Planning(self._world, self._land, self._key, stream.model_copy(update={"in_hollow": "cut"})).network()
        row = cut.streams[self._key]
        choices = {
            "pool": {"level_m": brim.level, "area_m2": float(curve.areas[-1]), "volume_m3": float(curve.volumes[-1])},
            "cut": {"cut_m3": 0.0 if row is None else row.cut_m3, "ends": "" if row is None else row.ends},
        }
        deep = brim.level - float(ground.min())
        words = (
            f"{stream.name} runs into a hollow that is {deep:.2f} m deep: say in_hollow, one of {', '.join(choices)}"
        )
        return InHollow(words, {"choices": choices})

    def _met(self, key: str, row: Line, col: Line) -> tuple[NDArray[np.int64], list[str]]:
        """In the bed of which other stream each spot lies, by its number in a list of keys; -1: in none."""
        mine = set(self._leading_to({key}))
        near = {k for k in self._stay if self._laid[k].is_near(row, col, self._touches(k))}
        others = [k for k in sorted(near | self._paths.keys()) if k not in mine]
        met, least = np.full(len(row), -1, np.int64), np.full(len(row), np.inf)
        spots = np.stack([row, col], axis=1)
        for number, k in enumerate(others):
            away, _ = self._tree(k).query(spots, distance_upper_bound=self._touches(k))
            nearer = away < least
            met[nearer], least[nearer] = number, away[nearer]
        return met, others

    def _touches(self, key: str) -> float:
        """How near a stream another is in its bed. [posts]"""
        return max(self._rows[key].width_m / 2 / self._land.grid.spacing, 1.0)

    def _tree(self, key: str) -> cKDTree:
        path = self._path(key)
        return cKDTree(np.stack([path.row, path.col], axis=1))

    def _middle(self, key: str, row: float, col: float) -> tuple[float, float]:
        path = self._path(key)
        at = self._spot_of(path, row, col)
        return float(path.row[at]), float(path.col[at])

    def _spot_of(self, path: Path, row: float, col: float) -> int:
        return int(np.hypot(path.row - row, path.col - col).argmin())

    def _pieces(self, row: Line, col: Line, reach: float) -> Iterable[tuple[slice, Window]]:
        """Pieces of a line, and the windows around them."""
        for first in range(0, len(row), PIECE):
            part = slice(first, min(first + PIECE + 1, len(row)))
            r, c = row[part], col[part]
            window = Window(math.floor(r.min() - reach), math.floor(c.min() - reach), math.ceil(r.max() + reach) + 1,
                            math.ceil(c.max() + reach) + 1)  # fmt: skip
            yield part, self._land.clip(window)

    def _water_along(self, row: Line, col: Line) -> tuple[NDArray[np.bool_], FloatArray]:
        """Whether water stands at each spot of a line, and how high. [m]"""
        wet, level = np.zeros(len(row), bool), np.zeros(len(row), np.float32)
        for part, window in self._pieces(row, col, 1):
            r = np.clip(np.rint(row[part]).astype(np.int64), window.row0, window.row1 - 1) - window.row0
            c = np.clip(np.rint(col[part]).astype(np.int64), window.col0, window.col1 - 1) - window.col0
            water, ground = standing(self._world, self._land, window)[r, c], self._read(window)[r, c]
            wet[part], level[part] = water > ground, water
        return wet, level

    def _ground_along(self, row: Line, col: Line) -> Line:
        out = np.zeros(len(row))
        for part, window in self._pieces(row, col, 1):
            r = np.clip(np.rint(row[part]).astype(np.int64), window.row0, window.row1 - 1) - window.row0
            c = np.clip(np.rint(col[part]).astype(np.int64), window.col0, window.col1 - 1) - window.col0
            out[part] = self._read(window)[r, c]
        return out

    # How wide and how high

    def _widen(self, keys: set[str]) -> None:
        """Widths from the springs down, then surfaces from the mouths up."""
        order = self._upward(keys)
        widths: dict[str, Line] = {}
        for k in reversed(order):
            widths[k] = self._widths(k, [one for one in order if self._path(one).joins == k],
                                     [one for one in order if self._path(one).leaves == k], widths)  # fmt: skip
        for k in order:
            self._courses[k] = self._course(k, widths[k])

    def _upward(self, keys: set[str]) -> list[str]:
        """So that each stream stands after those that it runs into or branches from."""
        out: list[str] = []

        def add(k: str) -> None:
            if k in out or k not in keys:
                return
            for other in sorted(self._above.get(k, ())):
                add(other)
            out.append(k)

        for k in sorted(keys):
            add(k)
        return out

    def _widths(self, key: str, joining: list[str], leaving: list[str], widths: dict[str, Line]) -> Line:
        """How wide a stream is at each spot: flows go with the squares of widths, and add up. [m]"""
        path, stream = self._paths[key], self._rows[key]
        own = stream.width_m**2
        flow = np.full(len(path.row), own)
        for k in joining:
            other = self._paths[k]
            flow[self._spot_of(path, other.row[-1], other.col[-1]) :] += float(widths[k][-1]) ** 2
        for k in leaving:
            other = self._paths[k]
            flow[self._spot_of(path, other.row[0], other.col[0]) :] -= self._rows[k].width_m ** 2
        wide = np.sqrt(np.maximum(flow, LEAST_FLOW * own))
        return channel.evened(wide, max(1, round(SMOOTH_WIDTHS * stream.width_m / self._land.grid.spacing)))

    def _course(self, key: str, width: Line) -> Course:
        path, stream, spacing = self._paths[key], self._rows[key], self._land.grid.spacing
        half, depth = width / 2, stream.depth_m * np.sqrt(width / stream.width_m)
        over = max(1, round(SMOOTH_WIDTHS * stream.width_m / spacing))
        level = path.level
        if path.joins is not None and path.joins in self._courses:
            level = self._surface_at(path.joins, path.row[-1], path.col[-1])
        lowest = self._lowest(path, half / spacing + 1) if stream.carve else (
            self._ground_along(path.row, path.col) + depth + channel.FREEBOARD_M)  # fmt: skip
        below = path.below
        if path.leaves is not None and path.leaves in self._courses:
            below = self._surface_at(path.leaves, path.row[0], path.col[0])
        if below is not None:
            lowest[0] = min(lowest[0], below + channel.FREEBOARD_M)
        surface = channel.surface_of(lowest, over if stream.carve else 0, level)
        if stream.carve:
            # A valley is narrow where its sides are steeper than the banks would be.
            side = surface + depth + half * math.tan(math.radians(stream.bank_deg))
            share = self._share(path, half / spacing + 1, side)
            narrow = np.clip(channel.evened(share, over), channel.NARROWEST, 1.0)
            half, depth = half * narrow, depth / narrow
        half = np.maximum(half, LEAST_HALF_POSTS * spacing)
        bank = np.full(len(half), math.tan(math.radians(stream.bank_deg)))
        course = Course(path.row, path.col, surface, half, depth, bank)
        home = part_of(self._world, self._land, stream.tract)
        grid = self._land.grid
        fords = [
            self._ford(key, stream, path, grid.row_of(y + home.y), grid.col_of(x + home.x)) for x, y in stream.fords
        ]
        return channel.forded(course, fords, spacing)

    def _ford(self, key: str, stream: Stream, path: Path, row: float, col: float) -> int:
        spot = self._spot_of(path, row, col)
        away = float(np.hypot(path.row[spot] - row, path.col[spot] - col)) * self._land.grid.spacing
        if key == self._key and away > FORD_OFF_M + stream.width_m:
            raise InvalidInput(f"a ford of {stream.name} must lie on it, not {away:.0f} m beside it", "fords")
        return spot

    def _surface_at(self, key: str, row: float, col: float) -> float:
        return float(self._courses[key].surface[self._spot_of(self._paths[key], row, col)])

    def _lowest(self, path: Path, reach: Line) -> Line:
        """The lowest ground that belongs to each spot. [m]"""
        out = np.full(len(path.row), np.inf)
        for part, window in self._pieces(path.row, path.col, float(reach.max())):
            near = channel.nearest((path.row[part], path.col[part]), reach[part], window)
            found = channel.lowest_beside(near, self._read(window), part.stop - part.start)
            out[part] = np.minimum(out[part], found)
        return out

    def _share(self, path: Path, reach: Line, level: Line) -> Line:
        """How much of the ground that belongs to each spot is under a level: less where a valley is narrow."""
        out = np.ones(len(path.row))
        for part, window in self._pieces(path.row, path.col, float(reach.max())):
            near = channel.nearest((path.row[part], path.col[part]), reach[part], window)
            out[part] = channel.share_under(near, self._read(window), level[part])
        return out

    # What comes of it

    def _told(self, keys: set[str]) -> Network:
        network = Network()
        if self._key in self._was:
            self._concern(network, self._laid[self._key])
            if self._key not in self._rows:
                network.streams[self._key] = None
        new: dict[str, Laid] = {}
        for k in sorted(keys):
            path, stream = self._paths[k], self._rows[k]
            course = self._courses[k]
            thin = channel.thinned(course)
            off = 1.0
            while len(thin) > MOST_REACHES:
                off *= 2
                thin = channel.thinned(course, 0.2 * off, 0.02 * off)
            row = stream.model_copy(update={
                "way": path.way, "course": self._reaches(thin, stream),
                "ends": path.ends, "joins": path.joins, "leaves": path.leaves,
            })  # fmt: skip
            home = part_of(self._world, self._land, row.tract)
            new[k] = laid(self._land, row, (home.x, home.y))
            self._rows[k] = row
            if path.pool is not None:
                network.pools[f"{k}-pool"[:40]] = path.pool
        others = [one for k, one in self._laid.items() if k not in keys and k in self._rows and self._rows[k].carve]
        for k, laid_now in new.items():
            row = self._rows[k]
            cut = self._cut(laid_now) if row.carve else 0.0
            row = row.model_copy(update={"cut_m3": round(cut, 2)})
            if row == self._was.get(k):
                continue
            network.streams[k] = row
            self._concern(network, laid_now)
            if k in self._laid:
                self._concern(network, self._laid[k])
        network.laid = [*others, *(one for k, one in new.items() if self._rows[k].carve)]
        return network

    def _reaches(self, course: Course, stream: Stream) -> tuple[Reach, ...]:
        home, grid = part_of(self._world, self._land, stream.tract), self._land.grid
        return tuple(
            (round(grid.x_of(c) - home.x, 3), round(grid.y_of(r) - home.y, 3), round(s, 3), round(2 * h, 3),
             round(d, 3), round(b, 4))
            for r, c, s, h, d, b in zip(course.row.tolist(), course.col.tolist(), course.surface.tolist(),
                                        course.half.tolist(), course.depth.tolist(), course.bank.tolist(), strict=True)
        )  # fmt: skip

    def _concern(self, network: Network, one: Laid) -> None:
        """The ground around a stream is to be looked at again."""
        network.windows += self._blocks(one)

    def _blocks(self, one: Laid) -> Iterable[Window]:
        """The blocks of posts that the banks of a stream may reach."""
        found: set[tuple[int, int]] = set()
        most = MOST_BANK_M / one.spacing + 2
        for part, r0, r1, c0, c1 in one.boxes:
            wide = most + float(one.course.half[part].max()) / one.spacing
            around = self._land.clip(Window(math.floor(r0 - wide), math.floor(c0 - wide), math.ceil(r1 + wide) + 1,
                                            math.ceil(c1 + wide) + 1))  # fmt: skip
            if around.empty:
                continue
            reach = float(one.banks(float(self._read(around).max()), part).max())
            near = self._land.clip(Window(math.floor(r0 - reach), math.floor(c0 - reach), math.ceil(r1 + reach) + 1,
                                          math.ceil(c1 + reach) + 1))  # fmt: skip
            if not near.empty:
                found |= {(r, c) for r in range(near.row0 // BLOCK, (near.row1 - 1) // BLOCK + 1)
                          for c in range(near.col0 // BLOCK, (near.col1 - 1) // BLOCK + 1)}  # fmt: skip
        blocks = (Window(r * BLOCK, c * BLOCK, (r + 1) * BLOCK, (c + 1) * BLOCK) for r, c in sorted(found))
        return [window for block in blocks if not (window := self._land.clip(block)).empty]

    def _cut(self, one: Laid) -> float:
        """What the bed of a stream takes from the ground. [m³]"""
        cut = 0.0
        for window in self._blocks(one):
            ground = self._read(window)
            bed = lowest_of([one], window, float(ground.max()))
            if bed is not None:
                cut += float(np.maximum(ground - bed, 0).sum(dtype=np.float64))
        return cut * self._land.grid.spacing**2


_AT_ONCE = {
    "sea": "it runs into the sea", "pool": "it runs into a pool", "stream": "it runs into another stream",
    "edge": "water runs off the land", "hollow": "it lies in a hollow", "": "it lies in a hollow",
}  # fmt: skip
