"""The courses of streams on their ways: how wide each gets, and how high its surface stands.

Widths go from the springs down: where streams meet their flows add up. Surfaces go from the mouths up: none rises, and
each meets what it ends in.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from fernfield.core import lines
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.lines import Line, Nearest
from fernfield.core.water import channel
from fernfield.core.water.channel import Course
from fernfield.work.water.rows import Stream
from fernfield.work.water.ways import Path, Ways

SMOOTH_WIDTHS = 2.0
"""Surfaces, and how widths change, are smoothed over so many widths (our choice)."""
FORD_OFF_M = 30.0
LEAST_HALF_POSTS = 1.0
"""No stream is narrower than two posts: between them it would be lost."""
MOST_AT_HAND = 4_000_000
"""Posts beside a stream that stay at hand while its course is worked out."""
LEAST_FLOW = 0.1
"""What is left at least in a stream that others branch from, of its own flow."""


def courses_on(ways: Ways, keys: set[str]) -> dict[str, Course]:
    """The courses of some streams that touch, in the posts of their land."""
    return _Coursing(ways).courses(keys)


class _Coursing:
    def __init__(self, ways: Ways) -> None:
        self._ways, self._spacing = ways, ways.land.grid.spacing
        self._courses: dict[str, Course] = {}

    def courses(self, keys: set[str]) -> dict[str, Course]:
        """Widths from the springs down, then surfaces from the mouths up."""
        order = self._upward(keys)
        widths: dict[str, Line] = {}
        for k in reversed(order):
            widths[k] = self._widths(k, [one for one in order if self._ways.path(one).joins == k],
                                     [one for one in order if self._ways.path(one).leaves == k], widths)  # fmt: skip
        for k in order:
            self._courses[k] = self._course(k, widths[k])
        return self._courses

    def _upward(self, keys: set[str]) -> list[str]:
        """So that each stream stands after those that it runs into or branches from."""
        out: list[str] = []

        def add(k: str) -> None:
            if k in out or k not in keys:
                return
            for other in sorted(self._ways.above.get(k, ())):
                add(other)
            out.append(k)

        for k in sorted(keys):
            add(k)
        return out

    def _widths(self, key: str, joining: list[str], leaving: list[str], widths: dict[str, Line]) -> Line:
        """How wide a stream is at each spot: flows go with the squares of widths, and add up. [m]"""
        path, stream = self._ways.paths[key], self._ways.rows[key]
        own = stream.width_m**2
        flow = np.full(len(path.row), own)
        for k in joining:
            other = self._ways.paths[k]
            flow[self._ways.spot_of(path, other.row[-1], other.col[-1]) :] += float(widths[k][-1]) ** 2
        for k in leaving:
            other = self._ways.paths[k]
            flow[self._ways.spot_of(path, other.row[0], other.col[0]) :] -= self._ways.rows[k].width_m ** 2
        wide = np.sqrt(np.maximum(flow, LEAST_FLOW * own))
        return lines.evened(wide, max(1, round(SMOOTH_WIDTHS * stream.width_m / self._spacing)))

    def _course(self, key: str, width: Line) -> Course:
        path, stream, spacing = self._ways.paths[key], self._ways.rows[key], self._spacing
        half, depth = width / 2, stream.depth_m * np.sqrt(width / stream.width_m)
        over = max(1, round(SMOOTH_WIDTHS * stream.width_m / spacing))
        level = path.level
        if path.joins is not None and path.joins in self._courses:
            level = self._surface_at(path.joins, path.row[-1], path.col[-1])
        beside = _Beside(self._ways, path, half / spacing + 1)
        lowest = beside.lowest() if stream.carve else (
            self._ways.ground_along(path.row, path.col) + depth + channel.FREEBOARD_M)  # fmt: skip
        below = path.below
        if path.leaves is not None and path.leaves in self._courses:
            below = self._surface_at(path.leaves, path.row[0], path.col[0])
        if below is not None:
            lowest[0] = min(lowest[0], below + channel.FREEBOARD_M)
        surface = channel.surface_of(lowest, over if stream.carve else 0, level)
        if stream.carve:
            # A valley is narrow where its sides are steeper than the banks would be.
            side = surface + depth + half * math.tan(math.radians(stream.bank_deg))
            narrow = np.clip(lines.evened(beside.share_under(side), over), channel.NARROWEST, 1.0)
            half, depth = half * narrow, depth / narrow
        half = np.maximum(half, LEAST_HALF_POSTS * spacing)
        bank = np.full(len(half), math.tan(math.radians(stream.bank_deg)))
        course = Course(path.row, path.col, surface, half, depth, bank)
        home = self._ways.home(stream)
        grid = self._ways.land.grid
        fords = [
            self._ford(key, stream, path, grid.row_of(y + home.y), grid.col_of(x + home.x)) for x, y in stream.fords
        ]
        return channel.forded(course, fords, spacing)

    def _ford(self, key: str, stream: Stream, path: Path, row: float, col: float) -> int:
        spot = self._ways.spot_of(path, row, col)
        away = float(np.hypot(path.row[spot] - row, path.col[spot] - col)) * self._spacing
        if key == self._ways.key and away > FORD_OFF_M + stream.width_m:
            raise InvalidInput(f"a ford of {stream.name} must lie on it, not {away:.0f} m beside it", "fords")
        return spot

    def _surface_at(self, key: str, row: float, col: float) -> float:
        return float(self._courses[key].surface[self._ways.spot_of(self._ways.paths[key], row, col)])


class _Beside:
    """The ground that belongs to each spot of a path, as far as `reach` from it [posts], piece by piece; pieces stay at
    hand while they are few: both questions are about the same."""

    def __init__(self, ways: Ways, path: Path, reach: Line) -> None:
        self._ways, self._path, self._reach = ways, path, reach
        self._known: dict[int, tuple[slice, Nearest, FloatArray]] = {}
        self._room = MOST_AT_HAND

    def _pieces(self) -> Iterator[tuple[slice, Nearest, FloatArray]]:
        row, col = self._path.row, self._path.col
        for part, window in self._ways.pieces(row, col, float(self._reach.max())):
            found = self._known.get(part.start)
            if found is None:
                near = lines.nearest((row[part], col[part]), self._reach[part], window)
                found = part, near, self._ways.ground(window)
                self._room -= window.rows * window.cols
                if self._room >= 0:
                    self._known[part.start] = found
            yield found

    def lowest(self) -> Line:
        """The lowest of it. [m]"""
        out = np.full(len(self._path.row), np.inf)
        for part, near, ground in self._pieces():
            out[part] = np.minimum(out[part], channel.lowest_beside(near, ground, part.stop - part.start))
        return out

    def share_under(self, level: Line) -> Line:
        """How much of it is under a level: less where a valley is narrow. 0 to 1"""
        out = np.ones(len(self._path.row))
        for part, near, ground in self._pieces():
            out[part] = channel.share_under(near, ground, level[part])
        return out
