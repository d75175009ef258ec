"""Ways over a grid of posts: where one can go, and what of it stands in the way at least."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import ByteArray
from fernfield.core.kernels import kernel

TO = (7, 0, 1, 6, 0, 2, 5, 4, 3)
"""The number of each direction, north first and then clockwise, by its row and column."""
FREE, TAKEN, NEVER = range(3)
"""A post that can be stood on; one on which something stands that could be taken away; one that nobody can stand on."""


@dataclass(frozen=True, slots=True)
class Ways:
    """What leads away from a post.

    least : how many taken posts lie on the way to each post at least; -1 where there is no way, shape (rows, cols)
    came : the post before it on that way, by its number row * cols + col
    """

    least: NDArray[np.int32]
    came: NDArray[np.int64]

    def to(self, row: int, col: int) -> Sequence[tuple[int, int]]:
        """The posts of the way to a post, from its end to its beginning; none where there is no way."""
        if self.least[row, col] < 0:
            return []
        cols = self.least.shape[1]
        at, way = row * cols + col, []
        while at >= 0:
            way.append((at // cols, at % cols))
            at = int(self.came.flat[at])
        return way


def ways_from(posts: ByteArray, row: int, col: int, leave: ByteArray | None = None) -> Ways:
    """The ways from a post over a grid of `FREE`, `TAKEN` and `NEVER`, from each post to the eight around it.

    leave : in which of the eight directions each post can be left (`passable`); in all of them when left out
    A search by levels: as many levels as posts that have to be cleared, each post looked at once.
    """
    least = np.full(posts.shape, -1, np.int32)
    came = np.full(posts.shape, -1, np.int64)
    open_ = (np.zeros((8, 0, 0), np.uint8) if leave is None else leave).view()
    # Written to by nobody: one sort of array for the kernel, whoever made it.
    open_.setflags(write=False)
    _spread(posts, open_, leave is None, row, col, least.reshape(-1), came.reshape(-1))
    return Ways(least, came)


@kernel
def _spread(
    posts: ByteArray, leave: ByteArray, anyway: bool, row: int, col: int, least: NDArray[np.int32],
    came: NDArray[np.int64],
) -> None:  # fmt: skip
    rows, cols = posts.shape
    now, then = np.empty(posts.size, np.int64), np.empty(posts.size, np.int64)
    now[0] = row * cols + col
    count, level = 1, 0
    least[now[0]] = 0
    while count > 0:
        first, after = 0, 0
        while first < count:
            at = now[first]
            first += 1
            r, c = at // cols, at % cols
            for dr in range(-1, 2):
                for dc in range(-1, 2):
                    r1, c1 = r + dr, c + dc
                    if r1 < 0 or c1 < 0 or r1 >= rows or c1 >= cols:
                        continue
                    to = r1 * cols + c1
                    if least[to] >= 0 or posts[r1, c1] == 2:
                        continue
                    if not anyway and leave[TO[(dr + 1) * 3 + dc + 1], r, c] == 0:
                        continue
                    came[to] = at
                    if posts[r1, c1] == 0:
                        least[to] = level
                        now[count] = to
                        count += 1
                    else:
                        least[to] = level + 1
                        then[after] = to
                        after += 1
        now, then = then, now
        count = after
        level += 1
