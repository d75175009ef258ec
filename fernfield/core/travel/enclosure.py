"""Whether a walker can reach the edge of a tract: a proof by flooding the land with everybody who could walk it.

Each cell between four posts is a piece of bilinear ground. A walker comes into a cell that
is nowhere steeper than the limit, into any that lies lower, and into none that is too steep
all over or too deep under water all over. Where the ground is hard to tell the walker is
given the benefit, so "holds" is certain and "does not hold" only likely.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.travel.walkers import WALKER, WALKERS, Gait

AT_ONCE = 1_000_000
"""Cells that are looked at in one call."""


def _quiet(_done: float) -> None:
    pass


@dataclass(frozen=True, slots=True)
class Enclosure:
    """Whether nobody gets out; if somebody may, at which row and column they come to the edge.

    reached : part of the cells that can be walked to, 0 to 1
    """

    holds: bool
    row: int
    col: int
    reached: float


def enclosed(
    heights: FloatArray, spacing: float, sea: float, froms: Iterable[tuple[int, int]], gait: Gait | None = None,
    say: Callable[[float], None] = _quiet,
) -> Enclosure:  # fmt: skip
    """Whether the edge can be reached on foot from any of the posts `froms` (row, col).

    heights : shape (rows, cols), row 0 north [m]; spacing [m]; sea : its level [m]
    say : hears which part of all cells has been looked at, and may raise to stop it
    """
    gait = gait or WALKERS[WALKER]
    marks = np.zeros((heights.shape[0] - 1, heights.shape[1] - 1), np.uint8)
    queue = np.empty(marks.size, np.int64)
    count = 0
    for row, col in froms:
        r, c = min(max(row, 0), marks.shape[0] - 1), min(max(col, 0), marks.shape[1] - 1)
        if not marks[r, c]:
            marks[r, c] = 1
            queue[count] = r * marks.shape[1] + c
            count += 1
    drop, deep = math.tan(math.radians(gait.steepest_deg)) * spacing, sea - gait.wade
    first, at = 0, -1
    while first < count:
        say(first / marks.size)
        at, first, count = _flood(heights, marks, queue, at, first, count, drop, gait.step, deep)
    row, col = divmod(int(at), marks.shape[1]) if at >= 0 else (-1, -1)
    return Enclosure(at < 0, row, col, count / marks.size)


@kernel
def _flood(
    heights: FloatArray, marks: ByteArray, queue: NDArray[np.int64], found: int, first: int, count: int, drop: float,
    step: float, deep: float,
) -> tuple[int, int, int]:  # fmt: skip
    """Go on from so many cells of the queue: the cell at the edge that was reached (-1: none), how many of the queue
    have been looked at, and how many were reached in all."""
    rows, cols = marks.shape
    end = first + AT_ONCE
    while first < count and first < end:
        at = queue[first]
        first += 1
        r, c = at // cols, at % cols
        here = heights[r, c] + heights[r, c + 1] + heights[r + 1, c] + heights[r + 1, c + 1]
        if found < 0 and (r == 0 or c == 0 or r == rows - 1 or c == cols - 1):
            found = at
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                r1, c1 = r + dr, c + dc
                if r1 < 0 or c1 < 0 or r1 >= rows or c1 >= cols or marks[r1, c1]:
                    continue
                nw, ne = heights[r1, c1], heights[r1, c1 + 1]
                sw, se = heights[r1 + 1, c1], heights[r1 + 1, c1 + 1]
                top, low = max(nw, ne, sw, se), min(nw, ne, sw, se)
                if top <= deep:
                    continue
                if not nw + ne + sw + se < here - 1e-6:
                    # The least slope of a bilinear cell is no less than that of its flattest sides together.
                    east = _least(ne - nw, se - sw)
                    south = _least(sw - nw, se - ne)
                    if east * east + south * south > drop * drop and top - low > step:
                        continue
                marks[r1, c1] = 1
                queue[count] = r1 * cols + c1
                count += 1
    return found, first, count


@kernel
def _least(a: float, b: float) -> float:
    """The smallest size that a value can have between two others."""
    return 0.0 if a * b <= 0 else min(abs(a), abs(b))
