"""The hollow around a spot: its brim, where it would spill, what it holds; found by letting water rise from its floor.

Water rises from the lowest post and takes whichever post beside it is lowest (as a priority flood does from the edge,
but inwards out). When the next one is lower than the highest so far, that was the brim: a hollow ends there, and the
water runs on into what lies beyond; when that is full too it rises on, and the next brim is that of both together.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.water.drainage import DC, DR
from fernfield.core.water.heap import Bits, as_bits, as_heights, drop_first, more, push

LEVELS = 33
"""Levels of the curve of a hollow, from its floor to its brim."""
AT_THE_EDGE, CUT_OFF, TOO_LARGE = range(3)


@dataclass(frozen=True, slots=True)
class Brim:
    """Where water that rose so far runs over.

    level [m]; spill, beyond : the post that it runs over and the first one that is lower, None at the land's edge
    count : how many posts of `Risen.posts` it had taken by then
    """

    level: float
    spill: tuple[int, int]
    beyond: tuple[int, int] | None
    count: int


@dataclass(frozen=True, slots=True)
class Risen:
    """What rising water took, in its order (row, col), shape (posts, 2); the brims it met; how it ended."""

    posts: NDArray[np.int64]
    came: NDArray[np.int64]
    brims: list[Brim]
    end: int


def rise(
    heights: FloatArray, row: int, col: int, outlets: tuple[bool, bool, bool, bool], most: int,
    closed: ByteArray | None = None, first_only: bool = False, outer: int = 1 << 40,
) -> Risen:  # fmt: skip
    """Let water rise from a post.

    heights : a window of the land [m]; outlets : whether its north, south, west and east sides are the land's edge
    most : posts to be taken at most; closed : 1 where there is no land; first_only : end at the first brim
    outer : once there is a brim, posts to be taken at most, or twice what that holds where it is more
    """
    given = as_bits(heights)
    state = np.zeros(given.shape, np.uint8) if closed is None else closed.astype(np.uint8)
    order = np.empty(min(most, given.size), np.int64)
    came = np.full(min(most, given.size), -1, np.int64)
    marks = np.zeros((256, 3), np.int64)
    levels = np.zeros(256, np.int32)
    count, found, end = _rise(given, state, row, col, np.array(outlets), order, came, marks, levels, first_only, outer)
    cols, surfaces = given.shape[1], as_heights(levels)
    posts = np.stack([order[:count] // cols, order[:count] % cols], axis=1)

    def post(at: int) -> tuple[int, int]:
        return int(at) // cols, int(at) % cols

    brims = [
        Brim(float(surfaces[i]), post(marks[i, 0]), None if marks[i, 1] < 0 else post(marks[i, 1]), int(marks[i, 2]))
        for i in range(found)
    ]
    return Risen(posts, came[:count], brims, end)


@kernel
def _rise(
    heights: Bits, state: ByteArray, row: int, col: int, outlets: NDArray[np.bool_], order: NDArray[np.int64],
    came: NDArray[np.int64], marks: NDArray[np.int64], levels: Bits, first_only: bool, outer: int,
) -> tuple[int, int, int]:  # fmt: skip
    rows, cols = heights.shape
    room = 4096
    # Of equal ones, the one that was met first comes first: over level ground the water takes the nearest way.
    heap, met = np.empty(room, np.int64), np.empty(room, np.int64)
    froms = np.full(heights.size, -1, np.int32)
    size = push(heap, 0, heights[row, col], 0)
    met[0] = row * cols + col
    state[row, col] = 2
    turn, count, found, limit = 1, 0, 0, order.shape[0]
    top, last, diving = heights[row, col], row * cols + col, False
    while size > 0:
        at = met[heap[0] & 0x7FFFFFFF]
        z = heights[at // cols, at % cols]
        r, c = at // cols, at % cols
        side = (r == 0 and outlets[0]) or (r == rows - 1 and outlets[1])
        side = side or (c == 0 and outlets[2]) or (c == cols - 1 and outlets[3])
        if z < top and not diving:
            if found < levels.shape[0]:
                levels[found] = top
                marks[found, 0], marks[found, 1], marks[found, 2] = last, at, count
                found += 1
                if found == 1:
                    limit = min(limit, max(outer, 2 * count))
            diving = True
            if first_only:
                return count, found, 0
        elif z > top:
            top, diving = z, False
        if not side and (r == 0 or c == 0 or r == rows - 1 or c == cols - 1):
            return count, found, 1
        if not side:
            for k in range(8):
                p, q = r + DR[k], c + DC[k]
                side = side or state[p, q] == 1
        if side:
            # The land's edge is an outlet: what has risen so far runs off here.
            if not diving and found < levels.shape[0]:
                levels[found] = top
                marks[found, 0], marks[found, 1], marks[found, 2] = at, -1, count
                found += 1
            return count, found, 0
        if count >= limit:
            return count, found, 2
        size = drop_first(heap, size)
        order[count], came[count] = at, froms[at]
        count += 1
        last = at
        for k in range(8):
            p, q = r + DR[k], c + DC[k]
            if state[p, q]:
                continue
            state[p, q] = 2
            froms[p * cols + q] = at
            if turn + 1 >= room:
                room *= 2
                heap, met = more(heap, room), more(met, room)
            size = push(heap, size, heights[p, q], turn)
            met[turn] = p * cols + q
            turn += 1
    return count, found, 0


@dataclass(frozen=True, slots=True)
class Curve:
    """What a hollow holds by its level: levels [m], wet area [m²], volume [m³]."""

    levels: NDArray[np.float64]
    areas: NDArray[np.float64]
    volumes: NDArray[np.float64]


def curve_of(ground: FloatArray, brim: float, cell: float, levels: int = LEVELS) -> Curve:
    """What the posts of a hollow hold, from their lowest to the brim.

    ground : heights of its posts, in any order [m]; cell : the area of a post [m²]
    """
    low = np.sort(np.asarray(ground, np.float64))
    sums = np.concatenate([[0.0], np.cumsum(low)])
    at = np.linspace(low[0], brim, levels)
    below = np.searchsorted(low, at, "left")
    volumes = (below * at - sums[below]) * cell
    return Curve(at, np.asarray(below * cell, np.float64), np.asarray(volumes, np.float64))


def level_for(ground: FloatArray, brim: float, cell: float, volume: float) -> float:
    """The level at which the posts of a hollow hold a volume [m³], up to their brim."""
    low = np.sort(np.asarray(ground, np.float64))
    sums = np.concatenate([[0.0], np.cumsum(low)])
    count = np.arange(1, len(low) + 1)
    # Up to the height of the next post, the first so many hold what they lack to it.
    holds = (count * np.append(low[1:], brim) - sums[1:]) * cell
    k = min(int(np.searchsorted(holds, volume)), len(low) - 1)
    return float(min((volume / cell + sums[k + 1]) / (k + 1), brim))


@dataclass(frozen=True, slots=True)
class Nested:
    """A hollow within another: its lowest post (row, col), floor and brim [m], how many posts it has."""

    row: int
    col: int
    floor: float
    brim: float
    posts: int


def nested(
    heights: FloatArray, posts: NDArray[np.int64], brim: float, least_deep: float, least_posts: int
) -> list[Nested]:
    """The hollows inside of one, each with its own brim: wherever two that are deep enough meet below it.

    posts : (row, col) of the posts of the whole, in any order
    """
    ground = heights[posts[:, 0], posts[:, 1]].astype(np.float32)
    order = np.argsort(ground, kind="stable")
    number = np.full(heights.shape, -1, np.int32)
    found = np.zeros((1024, 4), np.float64)
    count = _meet(heights, posts[order], number, found, float(brim), least_deep, least_posts)
    cols = heights.shape[1]
    out = [Nested(int(a) // cols, int(a) % cols, float(heights.flat[int(a)]), float(b), int(n))
           for a, b, n in found[:count, :3]]  # fmt: skip
    return sorted(out, key=lambda one: -one.posts)


@kernel
def _meet(
    heights: FloatArray, posts: NDArray[np.int64], number: NDArray[np.int32], found: NDArray[np.float64], brim: float,
    least_deep: float, least_posts: int,
) -> int:  # fmt: skip
    rows, cols = heights.shape
    parent = np.arange(posts.shape[0])
    size = np.ones(posts.shape[0], np.int64)
    count = 0
    for i in range(posts.shape[0]):
        r, c = posts[i, 0], posts[i, 1]
        z = heights[r, c]
        if z >= brim:
            break
        number[r, c] = i
        own = i
        for k in range(8):
            p, q = r + DR[k], c + DC[k]
            if p < 0 or q < 0 or p >= rows or q >= cols or number[p, q] < 0:
                continue
            other = _root(parent, number[p, q])
            own = _root(parent, own)
            if other == own:
                continue
            # Roots are the lowest posts of their hollows, as posts come in rising order.
            low, high = min(own, other), max(own, other)
            for one in (low, high):
                if one == i:
                    continue
                deep = z - heights[posts[one, 0], posts[one, 1]]
                mate = high if one == low else low
                mate_deep = 0.0 if mate == i else z - heights[posts[mate, 0], posts[mate, 1]]
                if (
                    deep >= least_deep
                    and mate_deep >= least_deep
                    and size[one] >= least_posts
                    and size[mate] >= least_posts
                    and count < found.shape[0]
                ):
                    found[count, 0] = posts[one, 0] * cols + posts[one, 1]
                    found[count, 1], found[count, 2] = z, size[one]
                    count += 1
            parent[high] = low
            size[low] += size[high]
    return count


@kernel
def _root(parent: NDArray[np.int64], at: int) -> int:
    while parent[at] != at:
        parent[at] = parent[parent[at]]
        at = parent[at]
    return at


def spread(heights: FloatArray, row: int, col: int, level: float, closed: ByteArray | None = None) -> NDArray[np.bool_]:
    """The posts under a level that are connected with a post, itself under it; all False where it is not."""
    wet = heights < np.float32(level)
    if closed is not None:
        wet &= closed == 0
    out = np.zeros(heights.shape, np.uint8)
    if wet[row, col]:
        import cv2

        _, label = cv2.connectedComponents(wet.astype(np.uint8), connectivity=8)
        out = (label == label[row, col]).astype(np.uint8)
    return out.astype(bool)
