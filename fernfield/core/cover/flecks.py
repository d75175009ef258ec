"""Flecks: small patches of one cover in the midst of another, as a careless hand leaves them."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray


@dataclass(frozen=True, slots=True)
class Fleck:
    """One patch: its cover, the one all around it, a post of it (row, column), and how many posts it has."""

    cover: int
    around: int
    row: int
    col: int
    posts: int


NOTHING = -1


def foremost(shares: FloatArray) -> NDArray[np.int16]:
    """The cover with the largest share at every post; the lower one where two are equal. Shape (rows, cols)."""
    return np.asarray(shares.argmax(axis=0), np.int16)


def flecks(front: NDArray[np.int16], most: int) -> tuple[list[Fleck], NDArray[np.int16]]:
    """Patches of up to `most` posts that hang together side by side, off the border, with one other cover all around.

    Returns them, and for every post of one the cover that is around it (`NOTHING` elsewhere).
    """
    found: list[Fleck] = []
    to = np.full(front.shape, NOTHING, np.int16)
    rows, cols = front.shape
    for cover in np.unique(front):
        own = (front == cover).astype(np.uint8)
        count, labels, stats, _ = cv2.connectedComponentsWithStats(own, connectivity=4)
        small = [k for k in range(1, count) if stats[k, cv2.CC_STAT_AREA] <= most]
        for k in small:
            left, top, wide, high, area = (int(v) for v in stats[k])
            if left == 0 or top == 0 or left + wide == cols or top + high == rows:
                continue
            box = slice(top - 1, top + high + 1), slice(left - 1, left + wide + 1)
            inside = labels[box] == k
            ring = cv2.dilate(inside.astype(np.uint8), np.ones((3, 3), np.uint8)).astype(bool) & ~inside
            around = np.unique(front[box][ring])
            if len(around) != 1:
                continue
            row, col = np.argwhere(inside)[0]
            found.append(Fleck(int(cover), int(around[0]), top - 1 + int(row), left - 1 + int(col), area))
            to[box][inside] = around[0]
    return found, to
