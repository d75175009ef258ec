"""Streams in the posts of a land: the course of each, its surface, and what it cuts the ground down to."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import Nearest, nearest
from fernfield.core.water.channel import CHUNK, Course, bank_reach, falls, target
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.rows import DRY_M, STREAMS, Stream

SHORE_POSTS = 1.5
"""The surface of a stream goes on for so many posts beside it, so that shores can be drawn."""
MOST_BANK_M = 100.0
MOST_KEPT = 512


@dataclass(frozen=True)
class Laid:
    """A stream in the posts of a land: its course, and boxes around pieces of it."""

    course: Course
    spacing: float

    @cached_property
    def boxes(self) -> list[tuple[slice, float, float, float, float]]:
        """Pieces of the course: which spots, and the least and greatest row and column of each."""
        row, col, out = self.course.row, self.course.col, []
        for first in range(0, max(1, len(row) - 1), CHUNK):
            part = slice(first, min(first + CHUNK + 1, len(row)))
            r, c = row[part], col[part]
            out.append((part, float(r.min()), float(r.max()), float(c.min()), float(c.max())))
        return out

    def is_near(self, row: np.ndarray, col: np.ndarray, posts: float) -> bool:
        """Whether a line comes near the box around it."""
        own = self.course
        return bool(
            row.min() - posts <= own.row.max() and row.max() + posts >= own.row.min()
            and col.min() - posts <= own.col.max() and col.max() + posts >= own.col.min()
        )  # fmt: skip

    def near(self, window: Window, reach: np.ndarray, step: int = 1) -> Nearest | None:
        """The places of the course by the posts of a window; None where it is further off than its reach [posts]."""
        wide = float(reach.max())
        pieces = [
            part for part, r0, r1, c0, c1 in self.boxes
            if r0 - wide <= window.row1 and r1 + wide >= window.row0
            and c0 - wide <= window.col1 and c1 + wide >= window.col0
        ]  # fmt: skip
        if not pieces:
            return None
        # Pieces follow one another; what lies between two that are near is looked at too.
        part = slice(pieces[0].start, pieces[-1].stop)
        return nearest((self.course.row[part], self.course.col[part]), reach[part], window, step, part.start)

    def shore(self) -> np.ndarray:
        """How far from each spot its water reaches, and a little more. [posts]"""
        return np.asarray(self.course.half / self.spacing + SHORE_POSTS)

    def banks(self, highest: float, part: slice = slice(None)) -> np.ndarray:
        """How far the banks of its spots reach where the ground is nowhere above `highest`. [posts]"""
        course = self.course
        beyond = bank_reach(highest - course.surface[part], course.bank[part])
        return np.asarray((course.half[part] + np.minimum(beyond, MOST_BANK_M)) / self.spacing + 1)


_LAID: OrderedDict[tuple[int, str], tuple[Stream, float, Laid]] = OrderedDict()
_LOCK = threading.Lock()


def laid(land: Land, stream: Stream, at: tuple[float, float]) -> Laid:
    """A stream in the posts of a land; `at`: where its tract's corner lies there [m]."""
    place = id(stream), f"{land.id}/{land.grid.rows}/{land.grid.cols}/{land.grid.x_of(0)}/{land.grid.y_of(0)}"
    with _LOCK:
        known = _LAID.get(place)
        if known is not None and known[0] is stream:
            return known[2]
    values = np.array(stream.course, np.float64).reshape(-1, 6)
    grid = land.grid
    row = np.array([grid.row_of(float(y) + at[1]) for y in values[:, 1]])
    col = np.array([grid.col_of(float(x) + at[0]) for x in values[:, 0]])
    found = Laid(Course(row, col, values[:, 2], values[:, 3] / 2, values[:, 4], values[:, 5]), grid.spacing)
    with _LOCK:
        _LAID[place] = stream, grid.spacing, found
        _LAID.move_to_end(place)
        while len(_LAID) > MOST_KEPT:
            _LAID.popitem(last=False)
    return found


def part_of(world: OpenWorld, land: Land, tract_id: str | None) -> Part:
    """The part of a land that is a tract, the world's first when left out."""
    wanted = world.first_tract.row.id if tract_id is None else tract_id
    return next(part for part in land.parts if part.tract.row.id == wanted)


def streams_of(world: OpenWorld, land: Land) -> Iterator[tuple[str, Stream, Laid]]:
    """The streams of a land that have a course. Hold the world's lock."""
    for part in land.parts:
        for key, stream in world.each_in(STREAMS, part.tract.row.id):
            if stream.course:
                yield key, stream, laid(land, stream, (part.x, part.y))


def stream_over(one: Laid, window: Window, step: int = 1) -> FloatArray | None:
    """The surface of a stream at every `step`-th post of a window, `DRY_M` where it is not; None: nowhere there. [m]"""
    near = one.near(window, one.shore(), step)
    if near is None:
        return None
    there = np.isfinite(near.away)
    return np.where(there, near.of(one.course.surface), np.float32(DRY_M)) if there.any() else None


def lowest_of(streams: list[Laid], window: Window, highest: float) -> FloatArray | None:
    """What some streams cut the ground of a window down to, infinite where they do not; None: nowhere. [m]

    highest : no ground in the window is above it
    """
    out: FloatArray | None = None
    for one in streams:
        near = one.near(window.pad(1), one.banks(highest))
        if near is None:
            continue
        own = target(near, one.course, one.spacing)[1:-1, 1:-1]
        out = own if out is None else np.minimum(out, own)
    return out


def falls_of(one: Laid) -> list[tuple[int, int]]:
    return falls(one.course, one.spacing)
