"""Lines over the posts of a land: spots a post apart, and which place on them every post belongs to."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from fernfield.core.grid import FloatArray, Window
from fernfield.core.kernels import kernel

Line = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Nearest:
    """Which place of a course each post of a window belongs to, shape (rows, cols).

    away : how far it is [posts], infinite further off than was looked; at : the place, counted in spots of the course
    """

    away: FloatArray
    at: NDArray[np.float64]

    def of(self, values: Line) -> FloatArray:
        """Values of the course at each post's place; 0 where there is none."""
        spots = np.arange(len(values), dtype=np.float64)
        found = np.interp(self.at, spots, values).astype(np.float32)
        return np.asarray(np.where(np.isfinite(self.away), found, 0), np.float32)


def along(row: Line, col: Line) -> Line:
    """How far each spot lies from the first. [posts]"""
    return np.concatenate([[0.0], np.cumsum(np.hypot(np.diff(row), np.diff(col)))])


def evenly(row: Line, col: Line, step: float = 1.0) -> tuple[Line, Line]:
    """A line with spots `step` posts apart at most, its own corners among them."""
    far = along(row, col)
    between = [np.linspace(a, b, max(1, math.ceil((b - a) / step - 1e-9)), endpoint=False)
               for a, b in pairwise(far) if b > a]  # fmt: skip
    at = np.concatenate([*between, far[-1:]])
    return np.interp(at, far, row), np.interp(at, far, col)


def rounded(row: Line, col: Line, times: int = 2) -> tuple[Line, Line]:
    """A line without sharp corners: each is cut to a quarter and three quarters [1]_; its ends stay.

    .. [1] G. M. Chaikin (1974), doi:10.1016/0146-664X(74)90028-8
    """
    for _ in range(times):
        if len(row) < 3:
            break
        row, col = (np.concatenate([v[:1], np.stack([0.75 * v[:-1] + 0.25 * v[1:], 0.25 * v[:-1] + 0.75 * v[1:]],
                                                    axis=1).ravel()[1:-1], v[-1:]]) for v in (row, col))  # fmt: skip
    return row, col


def nearest(course: tuple[Line, Line], reach: Line, window: Window, step: int = 1, first: int = 0) -> Nearest:
    """The places of a course by every `step`-th post of a window, as far as `reach` from each spot. [posts]

    `first`: the number of its first spot, where it is a piece of a longer one: every piece finds the same.
    """
    shape = -(-window.rows // step), -(-window.cols // step)
    away, at = np.full(shape, np.inf, np.float32), np.zeros(shape, np.float64)
    row, col = (np.ascontiguousarray(v, np.float64) for v in course)
    _nearest(row, col, np.ascontiguousarray(reach, np.float64), window.row0, window.col0, step, first, away, at)
    return Nearest(away, at)


@kernel
def _nearest(
    row: Line, col: Line, reach: Line, row0: int, col0: int, step: int, first: int, away: FloatArray,
    at: NDArray[np.float64],
) -> None:  # fmt: skip
    rows, cols = away.shape
    for i in range(max(1, len(row) - 1)):
        j = min(i + 1, len(row) - 1)
        wide = max(reach[i], reach[j])
        r0 = max(0, math.ceil((min(row[i], row[j]) - wide - row0) / step))
        r1 = min(rows - 1, math.floor((max(row[i], row[j]) + wide - row0) / step))
        c0 = max(0, math.ceil((min(col[i], col[j]) - wide - col0) / step))
        c1 = min(cols - 1, math.floor((max(col[i], col[j]) + wide - col0) / step))
        dr, dc = row[j] - row[i], col[j] - col[i]
        long = dr * dr + dc * dc
        for r in range(r0, r1 + 1):
            for c in range(c0, c1 + 1):
                pr, pc = row0 + r * step - row[i], col0 + c * step - col[i]
                t = 0.0
                if long > 0:
                    t = min(1.0, max(0.0, (pr * dr + pc * dc) / long))
                gone = math.sqrt((pr - t * dr) ** 2 + (pc - t * dc) ** 2)
                # Compared as it is kept, so that every window finds the same.
                if np.float32(gone) < away[r, c] and gone <= reach[i] + t * (reach[j] - reach[i]):
                    away[r, c] = gone
                    at[r, c] = first + i + t


def evened(values: Line, over: int) -> Line:
    """A mean over so many spots on either side."""
    wide = min(over, len(values) - 1)
    if wide < 1:
        return values
    padded = np.concatenate([np.full(wide, values[0]), values, np.full(wide, values[-1])])
    return np.convolve(padded, np.full(2 * wide + 1, 1 / (2 * wide + 1)), "valid")


def places_on(row: Line, col: Line, of: tuple[Line, Line]) -> tuple[Line, Line]:
    """How far some spots lie from a line (of at least two spots) [posts], and the places on it that are nearest,
    counted in its spots."""
    spots, line = np.stack([row, col], axis=1), np.stack(of, axis=1)
    _, first = cKDTree(line).query(spots)
    away, at = np.full(len(row), np.inf), np.zeros(len(row))
    for begin in (first - 1, first):
        i = np.clip(begin, 0, len(line) - 2)
        a, way = line[i], line[i + 1] - line[i]
        long = np.maximum((way * way).sum(axis=1), 1e-18)
        t = np.clip(((spots - a) * way).sum(axis=1) / long, 0, 1)
        gone = np.hypot(*(spots - a - t[:, None] * way).T)
        nearer = gone < away
        away, at = np.where(nearer, gone, away), np.where(nearer, i + t, at)
    return away, at
