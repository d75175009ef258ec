"""The channel of a stream: its surface, which never rises downstream, its bed and its banks, by posts of a land.

A course is a line of spots a post or so apart. Every post belongs to the nearest place on it; so its cross-sections
have neither gaps nor overlaps where it bends. Its width follows the flow: it grows with the square root of what runs in
it [1]_, so that where streams join, the squares of their widths add up.

References
----------
.. [1] L. B. Leopold, T. Maddock (1953), The hydraulic geometry of stream channels, USGS Professional Paper 252
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.lines import Line, Nearest, along, evenly

FREEBOARD_M = 0.15
"""The surface of a stream lies so far under the lowest ground beside it (our choice)."""
ROUND_M = 8.0
"""Banks grow steeper outward, so that they meet any slope: x / ROUND_M is added to their fall at x (our choice)."""
FORD_M, FORD_DEG = 0.3, 12.0
"""How deep a ford is, and how steep its banks are at most (our choice): knee-deep, and walked with ease."""
MOST_SMOOTHED_M = 0.3
"""Smoothing takes a surface down by so much at most (our choice)."""
NARROWEST = 0.5
FALL_M, FALL_DEG = 1.0, 35.0
"""Water falls where it goes down by so much at least, on a way that is so steep (our choice)."""
CHUNK = 32


@dataclass(frozen=True, slots=True)
class Course:
    """A stream as it runs, from its spring on: float64 arrays of one length.

    row, col : posts of the land, with fractions; surface : of the water [m]; half : half its width [m]
    depth : in its middle [m]; bank : tangent of its banks
    """

    row: Line
    col: Line
    surface: Line
    half: Line
    depth: Line
    bank: Line

    def __len__(self) -> int:
        return len(self.row)

    def along(self, spacing: float) -> Line:
        """How far each spot lies from the spring. [m]"""
        return along(self.row, self.col) * spacing

    def evenly(self) -> Course:
        """The same with spots a post apart at most."""
        row, col = evenly(self.row, self.col)
        far, at = along(self.row, self.col), along(row, col)
        return Course(row, col, *(np.interp(at, far, v) for v in (self.surface, self.half, self.depth, self.bank)))


def lowest_beside(near: Nearest, heights: FloatArray, count: int) -> Line:
    """The lowest ground that belongs to each of `count` spots of a course, infinite where none does. [m]"""
    out = np.full(count, np.inf)
    there = np.isfinite(near.away)
    first = near.at[there].astype(np.int64)
    ground = heights[there].astype(np.float64)
    np.minimum.at(out, first, ground)
    np.minimum.at(out, np.minimum(first + 1, count - 1), ground)
    return out


def share_under(near: Nearest, heights: FloatArray, level: Line) -> Line:
    """Which share of the posts that belong to each spot of a course lies under a level there [m], 0 to 1."""
    there = np.isfinite(near.away)
    spot = np.rint(near.at[there]).astype(np.int64)
    under = heights[there] < level[spot]
    every = np.bincount(spot, minlength=len(level))
    return np.asarray(np.where(every > 0, np.bincount(spot, under, len(level)) / np.maximum(every, 1), 1.0))


def surface_of(lowest: Line, smooth: int, ends_at: float | None = None) -> Line:
    """The surface of a stream: under the lowest ground beside it, never rising; it meets what stands at its end. [m]

    lowest : ground that belongs to each spot; smooth : over how many spots it is smoothed; ends_at : a level
    """
    known = np.isfinite(lowest)
    spots = np.arange(len(lowest), dtype=np.float64)
    filled = np.interp(spots, spots[known], lowest[known]) if known.any() else np.zeros(len(lowest))
    surface = np.minimum.accumulate(filled - FREEBOARD_M)
    wide = min(smooth, len(surface))
    if wide > 1:
        padded = np.concatenate([np.full(wide, surface[0]), surface, np.full(wide, surface[-1])])
        mean = np.convolve(padded, np.full(2 * wide + 1, 1 / (2 * wide + 1)), "valid")
        # The lower, and the higher, of two that never rise never rises. Falls stay falls.
        surface = np.maximum(np.minimum(surface, mean), surface - MOST_SMOOTHED_M)
    return surface if ends_at is None else np.maximum(surface, ends_at)


def joined_width(*widths: float) -> float:
    """How wide the stream is that these make together: their flows add up, and go with the squares of widths. [m]"""
    return math.sqrt(sum(width * width for width in widths))


def target(near: Nearest, course: Course, spacing: float) -> FloatArray:
    """The elevation that ground around a course is cut down to, infinite where it goes on as it was. [m]

    The posts on the rim of the window are not held by what lies beyond: ask for one more on every side.
    """
    n = near.away.astype(np.float64) * spacing
    surface, half, depth, bank = (near.of(v) for v in (course.surface, course.half, course.depth, course.bank))
    beyond = np.where(np.isfinite(n), n - half, 0.0)
    bed = surface - np.minimum(depth, -beyond * bank)
    shore = surface + beyond * (bank + beyond / ROUND_M)
    wet = np.isfinite(n) & (beyond < 0)
    # In a bend the ground that belongs to what runs below also holds what runs above.
    held = cv2.dilate(np.where(wet, surface, -np.inf).astype(np.float32), np.ones((3, 3), np.uint8))
    return np.asarray(np.where(np.isfinite(n), np.where(wet, bed, np.maximum(shore, held)), np.inf), np.float32)


def bank_reach(high: Line, bank: Line) -> Line:
    """How far from its shore a bank rises by `high` at most. [m]"""
    return (np.sqrt(bank * bank + 4 * np.maximum(high, 0.0) / ROUND_M) - bank) * ROUND_M / 2


def forded(course: Course, spots: list[int], spacing: float) -> Course:
    """The course with fords: shallow, with gentle banks, as long as the stream is wide there."""
    if not spots:
        return course
    far = course.along(spacing)
    ease = np.zeros(len(course))
    for spot in spots:
        long = max(3.0, 2 * course.half[spot])
        ease = np.maximum(ease, np.clip(2 - 2 * np.abs(far - far[spot]) / long, 0, 1))
    gentle = math.tan(math.radians(FORD_DEG))
    depth = np.minimum(course.depth, course.depth + ease * (np.minimum(course.depth, FORD_M) - course.depth))
    bank = np.minimum(course.bank, course.bank + ease * (np.minimum(course.bank, gentle) - course.bank))
    return Course(course.row, course.col, course.surface, course.half, depth, bank)


def covered(near: Nearest, half: Line) -> FloatArray:
    """How much of each post the stream covers, 0 to 1: `half` its width, in posts."""
    there = np.isfinite(near.away)
    return np.where(there, np.clip(near.of(half) + 0.5 - np.where(there, near.away, 0), 0, 1), np.float32(0))


def flow_marks(near: Nearest, far: Line, half: Line, gap: float = 36.0) -> FloatArray:
    """Fine marks that point the way the water goes, 0 to 1 at each post: an arrowhead every `gap` posts along.

    far : how far each spot of the course lies from its spring; half : half its width [posts]
    """
    there = np.isfinite(near.away)
    n = np.where(there, near.away, 0).astype(np.float64)
    wide = np.clip(near.of(half), 2.0, 5.0)
    # A point of an arrowhead lies the further back, the further it is from the middle.
    back = (near.of(far).astype(np.float64) + 1.1 * n) % gap
    off = np.abs(back - gap / 2)
    mark = np.clip(1.3 - off, 0, 1) * np.clip(wide + 0.5 - n, 0, 1)
    return np.where(there, mark, 0).astype(np.float32)


def falls(course: Course, spacing: float) -> list[tuple[int, int]]:
    """Where water falls: the first and the last spot of each."""
    far, steep = course.along(spacing), math.tan(math.radians(FALL_DEG))
    down = -np.diff(course.surface) > steep * np.maximum(np.diff(far), 1e-9)
    out: list[tuple[int, int]] = []
    edges = np.flatnonzero(np.diff(np.concatenate([[0], down.astype(np.int8), [0]])))
    for begin, end in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
        if course.surface[begin] - course.surface[end] >= FALL_M:
            out.append((begin, end))
    return out


def thinned(course: Course, off_posts: float = 0.2, off_m: float = 0.02) -> Course:
    """The same without spots that lie straight between others, to within so many posts and metres."""
    scale = np.array([off_posts, off_posts, off_m, off_m, off_m, 0.02])
    values = np.stack([course.row, course.col, course.surface, course.half, course.depth, course.bank], axis=1) / scale
    keep = np.zeros(len(course), np.uint8)
    _keep(np.ascontiguousarray(values), keep)
    kept = keep > 0
    return Course(*(v[kept] for v in (course.row, course.col, course.surface, course.half, course.depth, course.bank)))


def thinned_line(row: Line, col: Line, off_posts: float = 0.2) -> tuple[Line, Line]:
    """A line without spots that lie straight between others, to within so many posts."""
    keep = np.zeros(len(row), np.uint8)
    _keep(np.ascontiguousarray(np.stack([row, col], axis=1) / off_posts), keep)
    return row[keep > 0], col[keep > 0]


@kernel
def _keep(values: NDArray[np.float64], keep: NDArray[np.uint8]) -> None:
    """Douglas and Peucker (1973) with as many directions as there are values, each in its own measure."""
    count, sorts = values.shape
    keep[0] = keep[count - 1] = 1
    stack = [(0, count - 1)]
    while len(stack) > 0:
        first, last = stack.pop()
        most, where = 1.0, -1
        for i in range(first + 1, last):
            t = (i - first) / (last - first)
            for s in range(sorts):
                off = abs(values[i, s] - (values[first, s] + t * (values[last, s] - values[first, s])))
                if off > most:
                    most, where = off, i
        if where > 0:
            keep[where] = 1
            stack.append((first, where))
            stack.append((where, last))
