"""Coarser levels of a layer: cells between the posts, halved again and again by a stated rule.

A cell of level 0 lies between four posts, one of level n holds four of level n - 1. Cells, not posts: those on
either side of the line that two joined tracts share never mix what lies beyond it, so that the levels of a land are
those of its tracts, to the last bit. What is seen at every 2**n-th post is read from the four cells of level n - 1
around it, and so stands on the post.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import Array, Window
from fernfield.core.kernels import kernel

SIDE = 64
"""Cells along the side of a stored tile of a level: small, as an edit changes fewer of them the coarser they are."""


MEANS, ROUNDED, LEAST, MOST = range(4)
"""What is made of four values: their mean, the same as a whole number (half upwards), the least, the most."""


@kernel
def _means(upper: Array, lower: Array, step: int, last: int, to: Array) -> None:
    for c in range(to.shape[0]):
        i, j = c * step, min(c * step + 1, last)
        to[c] = ((upper[i] + upper[j]) + (lower[i] + lower[j])) * np.float32(0.25)


@kernel
def _rounded(upper: Array, lower: Array, step: int, last: int, to: Array) -> None:
    for c in range(to.shape[0]):
        i, j = c * step, min(c * step + 1, last)
        to[c] = (np.int64(upper[i]) + np.int64(upper[j]) + np.int64(lower[i]) + np.int64(lower[j]) + 2) // 4


@kernel
def _least(upper: Array, lower: Array, step: int, last: int, to: Array) -> None:
    for c in range(to.shape[0]):
        i, j = c * step, min(c * step + 1, last)
        to[c] = min(min(upper[i], upper[j]), min(lower[i], lower[j]))


@kernel
def _most(upper: Array, lower: Array, step: int, last: int, to: Array) -> None:
    for c in range(to.shape[0]):
        i, j = c * step, min(c * step + 1, last)
        to[c] = max(max(upper[i], upper[j]), max(lower[i], lower[j]))


@kernel
def _of_four(values: Array, step: int, how: int, out: Array) -> None:
    """Each four neighbours that begin at every `step`-th value; at the end the last one counts twice."""
    last_row, last = values.shape[0] - 1, values.shape[1] - 1
    for r in range(out.shape[0]):
        upper, lower, to = values[r * step], values[min(r * step + 1, last_row)], out[r]
        # A loop for each: so that it is asked for every row, not for every value.
        if how == MEANS:
            _means(upper, lower, step, last, to)
        elif how == ROUNDED:
            _rounded(upper, lower, step, last, to)
        elif how == LEAST:
            _least(upper, lower, step, last, to)
        else:
            _most(upper, lower, step, last, to)


@dataclass(frozen=True)
class Rule:
    """How four values become one.

    first : the finest level that is stored; finer ones are made from the posts
    seen_from : the finest level that is looked at; nearer, the posts themselves are
    how : of numbers with fractions, and of whole ones
    """

    name: str
    first: int
    seen_from: int
    how: tuple[int, int]

    def four(self, values: Array, step: int, shape: tuple[int, int]) -> Array:
        """What becomes of each four neighbours that begin at every `step`-th value."""
        out = np.empty(shape, values.dtype)
        _of_four(np.ascontiguousarray(values), step, self.how[0 if values.dtype.kind == "f" else 1], out)
        return out


MEAN = Rule("mean", 2, 2, (MEANS, ROUNDED))
LOWEST = Rule("lowest", 4, 0, (LEAST, LEAST))
HIGHEST = Rule("highest", 4, 0, (MOST, MOST))
RULES = {rule.name: rule for rule in (MEAN, LOWEST, HIGHEST)}


def cells_of(posts: Array, rule: Rule) -> Array:
    """Level 0: a cell between each four posts. Shape (rows, cols) -> (rows - 1, cols - 1)."""
    return rule.four(posts, 1, (posts.shape[0] - 1, posts.shape[1] - 1))


def halved(cells: Array, rule: Rule) -> Array:
    """The next level: half as many each way, rounded up; a last one that is alone counts twice."""
    return rule.four(cells, 2, (-(-cells.shape[0] // 2), -(-cells.shape[1] // 2)))


def level_of(posts: Array, rule: Rule, level: int) -> Array:
    """A level from the posts beneath it, which begin at a multiple of 2**level."""
    cells = cells_of(posts, rule)
    for _ in range(level):
        cells = halved(cells, rule)
    return cells


def count_of(posts: int, level: int) -> int:
    """Cells of a level between so many posts in a line."""
    return -(-(posts - 1) >> level) if posts > 1 else 0


def whole_level(rows: int, cols: int, level: int) -> Window:
    """All cells of a level over so many rows and columns of posts."""
    return Window(0, 0, count_of(rows, level), count_of(cols, level))


def touched(posts: Window, level: int) -> Window:
    """The cells of a level that any of these posts bounds (some may lie outside of the land)."""
    return Window((posts.row0 - 1) >> level, (posts.col0 - 1) >> level,
                  ((posts.row1 - 1) >> level) + 1, ((posts.col1 - 1) >> level) + 1)  # fmt: skip


def beneath(cells: Window, level: int) -> Window:
    """The posts that bound cells of a level (some may lie outside of the land)."""
    return Window(cells.row0 << level, cells.col0 << level, (cells.row1 << level) + 1, (cells.col1 << level) + 1)


def top_of(rows: int, cols: int, rule: Rule) -> int:
    """The coarsest level that is stored: the first that one tile holds."""
    level = rule.first
    while max(count_of(rows, level), count_of(cols, level)) > SIDE:
        level += 1
    return level


def level_for(step: int, rule: Rule) -> int | None:
    """The level that tells of every `step`-th post; None where the posts themselves are read."""
    level = step.bit_length() - 2
    return level if level >= rule.seen_from and step == 2 << level else None
