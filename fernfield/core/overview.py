"""Coarser levels of a layer: cells between the posts, halved again and again by a stated rule.

A cell of level 0 lies between four posts, one of level n holds four of level n - 1. Cells, not posts: those on
either side of the line that two joined tracts share never mix what lies beyond it, so that the levels of a land are
those of its tracts, to the last bit. What is seen at every 2**n-th post is read from the four cells of level n - 1
around it, and so stands on the post.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import Array, Window

SIDE = 64
"""Cells along the side of a stored tile of a level: small, as an edit changes fewer of them the coarser they are."""


def _mean(a: Array, b: Array, c: Array, d: Array) -> Array:
    if a.dtype.kind == "f":
        return np.asarray(((a + b) + (c + d)) * a.dtype.type(0.25))
    total = a.astype(np.uint32) + b + c + d
    return np.asarray((total + 2) // 4).astype(a.dtype)


def _lowest(a: Array, b: Array, c: Array, d: Array) -> Array:
    return np.minimum(np.minimum(a, b), np.minimum(c, d))


def _highest(a: Array, b: Array, c: Array, d: Array) -> Array:
    return np.maximum(np.maximum(a, b), np.maximum(c, d))


@dataclass(frozen=True)
class Rule:
    """How four values become one.

    first : the finest level that is stored; finer ones are read from the posts
    """

    name: str
    first: int
    four: Callable[[Array, Array, Array, Array], Array]


MEAN = Rule("mean", 2, _mean)
LOWEST = Rule("lowest", 4, _lowest)
HIGHEST = Rule("highest", 4, _highest)
RULES = {rule.name: rule for rule in (MEAN, LOWEST, HIGHEST)}


def cells_of(posts: Array, rule: Rule) -> Array:
    """Level 0: a cell between each four posts. Shape (rows, cols) -> (rows - 1, cols - 1)."""
    return rule.four(posts[:-1, :-1], posts[:-1, 1:], posts[1:, :-1], posts[1:, 1:])


def halved(cells: Array, rule: Rule) -> Array:
    """The next level: half as many each way, rounded up; a last one that is alone counts twice."""
    rows, cols = cells.shape
    if rows % 2 or cols % 2:
        cells = np.pad(cells, ((0, rows % 2), (0, cols % 2)), mode="edge")
    return rule.four(cells[::2, ::2], cells[::2, 1::2], cells[1::2, ::2], cells[1::2, 1::2])


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
    """The stored level that tells of every `step`-th post; None where the posts themselves are read."""
    level = step.bit_length() - 2
    return level if level >= rule.first and step == 2 << level else None
