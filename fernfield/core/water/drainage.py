"""Where water runs on the whole of a land: hollows filled to their brims, directions, catchments, stream orders.

Hollows are filled by a priority flood from the land's edge [1]_. Water goes from each post to the steepest of its eight
neighbours (D8 [2]_) on the filled surface; over what is level, the way that the flood came. A post's catchment is all
that drains through it, itself included. Orders of streams are Strahler's [3]_.

References
----------
.. [1] R. Barnes, C. Lehman, D. Mulla (2014), doi:10.1016/j.cageo.2013.04.024
.. [2] J. F. O'Callaghan, D. M. Mark (1984), doi:10.1016/S0734-189X(84)80011-0
.. [3] A. N. Strahler, Quantitative analysis of watershed geomorphology (1957), doi:10.1029/TR038i006p00913
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.water.heap import Bits, as_bits, as_heights, drop_first, more, push

OUT = 8
"""The direction of a post from which water leaves the land."""
DR = np.array((-1, -1, 0, 1, 1, 1, 0, -1), np.int64)
DC = np.array((0, 1, 1, 1, 0, -1, -1, -1), np.int64)
"""Directions by their numbers: north, north-east, and on clockwise."""


@dataclass(frozen=True, slots=True)
class Drainage:
    """How a land drains.

    filled : the ground with every hollow filled to its brim, shape (rows, cols) [m]
    to : the direction in which each post's water goes, 0 north, 1 north-east and on clockwise, `OUT` off the land
    order : all posts, row * cols + col, so that each stands after the one that its water goes to
    """

    filled: FloatArray
    to: ByteArray
    order: NDArray[np.int32]


def drain(heights: FloatArray, void: NDArray[np.bool_] | None = None) -> Drainage:
    """Fill the hollows of a land and find where its water goes.

    heights : shape (rows, cols), row 0 north [m]; void : posts that are no land (water leaves into them)
    """
    if heights.ndim != 2 or min(heights.shape) < 2:
        raise GridError(f"heights must be 2-D and at least (2, 2), not {heights.shape}")
    bits = as_bits(heights)
    closed = np.zeros(bits.shape, np.uint8) if void is None else void.astype(np.uint8)
    filled, to = bits.copy(), np.full(bits.shape, OUT, np.uint8)
    _flood(bits, closed, filled, to)
    surface = as_heights(filled)
    _steepest(surface, closed, to)
    order = np.empty(bits.size, np.int32)
    count = _in_order(to, closed, order)
    return Drainage(surface, to, order[bits.size - count :])


@kernel
def _flood(heights: Bits, closed: ByteArray, filled: Bits, to: ByteArray) -> None:
    """Fill from the edge. Only posts from which the water may run down again are kept in the heap: what rises steadily
    from them needs no order (Zhou, Sun and Fu 2016, doi:10.1016/j.cageo.2016.02.021)."""
    rows, cols = heights.shape
    room = 4 * (rows + cols) + 4096
    heap = np.empty(room, np.int64)
    pits, slopes = np.empty(4096, np.int64), np.empty(4096, np.int64)
    size = 0
    for r in range(rows):
        for c in range(cols):
            if closed[r, c]:
                continue
            edge = r == 0 or c == 0 or r == rows - 1 or c == cols - 1
            if not edge:
                for k in range(8):
                    if closed[r + DR[k], c + DC[k]] == 1:
                        edge = True
            if edge:
                if size + 1 >= room:
                    room *= 2
                    heap = more(heap, room)
                size = push(heap, size, heights[r, c], r * cols + c)
                # 2: in the flood, and not land that is missing.
                closed[r, c] = 2
    while size > 0:
        at = heap[0] & 0x7FFFFFFF
        size = drop_first(heap, size)
        pits[0] = at
        first, end, slope = 0, 1, 0
        z = filled[at // cols, at % cols]
        while first < end:
            at = pits[first]
            first += 1
            r, c = at // cols, at % cols
            for k in range(8):
                p, q = r + DR[k], c + DC[k]
                if p < 0 or q < 0 or p >= rows or q >= cols or closed[p, q]:
                    continue
                closed[p, q] = 2
                to[p, q] = (k + 4) % 8
                if heights[p, q] <= z:
                    filled[p, q] = z
                    if end == pits.shape[0]:
                        pits = more(pits, 2 * end)
                    pits[end] = p * cols + q
                    end += 1
                else:
                    if slope == slopes.shape[0]:
                        slopes = more(slopes, 2 * slope)
                    slopes[slope] = p * cols + q
                    slope += 1
        first = 0
        while first < slope:
            at = slopes[first]
            first += 1
            r, c = at // cols, at % cols
            own, waits = heights[r, c], False
            for k in range(8):
                p, q = r + DR[k], c + DC[k]
                if p < 0 or q < 0 or p >= rows or q >= cols or closed[p, q]:
                    continue
                if heights[p, q] > own:
                    closed[p, q] = 2
                    to[p, q] = (k + 4) % 8
                    if slope == slopes.shape[0]:
                        slopes = more(slopes, 2 * slope)
                    slopes[slope] = p * cols + q
                    slope += 1
                else:
                    waits = True
            if waits:
                if size + 1 >= room:
                    room *= 2
                    heap = more(heap, room)
                size = push(heap, size, own, at)


@kernel
def _in_order(to: ByteArray, closed: ByteArray, order: NDArray[np.int32]) -> int:
    """All posts, from the end of `order`: each before (further back than) the one that its water goes to."""
    rows, cols = to.shape
    into = np.zeros((rows, cols), np.uint8)
    for r in range(rows):
        for c in range(cols):
            if closed[r, c] != 1 and to[r, c] < 8:
                into[r + DR[to[r, c]], c + DC[to[r, c]]] += 1
    last, count = order.shape[0] - 1, 0
    for r in range(rows):
        for c in range(cols):
            if closed[r, c] == 1 or into[r, c]:
                continue
            # Down from a spring as far as nothing else comes in: what lies near each other is done together.
            at = r * cols + c
            into[r, c] = 255
            while True:
                order[last - count] = at
                count += 1
                p, q = at // cols, at % cols
                if to[p, q] >= 8:
                    break
                p, q = p + DR[to[p, q]], q + DC[to[p, q]]
                into[p, q] -= 1
                if into[p, q]:
                    break
                into[p, q] = 255
                at = p * cols + q
    return count


@kernel
def _steepest(filled: FloatArray, closed: ByteArray, to: ByteArray) -> None:
    """The steepest way down, where there is one; posts of the edge drain off the land unless one inside is lower."""
    rows, cols = filled.shape
    across = np.float32(1 / math.sqrt(2.0))
    for r in range(rows):
        for c in range(cols):
            if closed[r, c] == 1:
                continue
            most = np.float32(0)
            for k in range(8):
                p, q = r + DR[k], c + DC[k]
                if p < 0 or q < 0 or p >= rows or q >= cols or closed[p, q] == 1:
                    continue
                fall = filled[r, c] - filled[p, q]
                if k % 2:
                    fall *= across
                if fall > most:
                    most = fall
                    to[r, c] = k


def catchments(drainage: Drainage) -> NDArray[np.int32]:
    """How many posts drain through each, itself included."""
    area = np.ones(drainage.filled.shape, np.int32)
    _gather(drainage.order, drainage.to.reshape(-1), drainage.filled.shape[1], area.reshape(-1))
    return area


@kernel
def _gather(order: NDArray[np.int32], to: ByteArray, cols: int, area: NDArray[np.int32]) -> None:
    for i in range(order.shape[0] - 1, -1, -1):
        at = order[i]
        if to[at] < 8:
            area[at + DR[to[at]] * cols + DC[to[at]]] += area[at]


def strahler(drainage: Drainage, area: NDArray[np.int32], least: int) -> ByteArray:
    """The order of the stream at each post, 0 where fewer than `least` posts drain through it."""
    out = np.zeros(drainage.filled.shape, np.uint8)
    cols = drainage.filled.shape[1]
    _orders(drainage.order, drainage.to.reshape(-1), area.reshape(-1), least, cols, out.reshape(-1))
    return out


@kernel
def _orders(
    order: NDArray[np.int32], to: ByteArray, area: NDArray[np.int32], least: int, cols: int, out: ByteArray
) -> None:
    twice = np.zeros(out.shape[0], np.uint8)
    for i in range(order.shape[0] - 1, -1, -1):
        at = order[i]
        if area[at] < least:
            continue
        # Where two of the highest order that comes in meet, it is one higher.
        own = 1 if out[at] == 0 else out[at] + twice[at]
        out[at] = own
        if to[at] < 8:
            into = at + DR[to[at]] * cols + DC[to[at]]
            if own > out[into]:
                out[into] = own
                twice[into] = 0
            elif own == out[into]:
                twice[into] = 1


@dataclass(frozen=True, slots=True)
class Filled:
    """A hollow as it is filled: its brim [m], its deepest post, its depth there, how many posts and metres in all."""

    brim: float
    row: int
    col: int
    posts: int
    deep: float
    depths: float


def hollows(heights: FloatArray, drainage: Drainage, least_posts: int = 1, least_deep: float = 0.0) -> list[Filled]:
    """Every hollow of a land that is filled, the largest first."""
    depth = drainage.filled - np.asarray(heights, np.float32)
    wet = (depth > 0).astype(np.uint8)
    count, label, stats, _ = cv2.connectedComponentsWithStats(wet, connectivity=8)
    out = []
    for one in range(1, count):
        if stats[one, cv2.CC_STAT_AREA] < least_posts:
            continue
        left, top, wide, tall = stats[one, : cv2.CC_STAT_AREA]
        box = slice(top, top + tall), slice(left, left + wide)
        own = np.where(label[box] == one, depth[box], 0)
        deep = float(own.max())
        if deep < least_deep:
            continue
        r, c = np.unravel_index(int(own.argmax()), own.shape)
        at = int(r) + int(top), int(c) + int(left)
        out.append(Filled(float(drainage.filled[at]), *at, int(stats[one, cv2.CC_STAT_AREA]), deep, float(own.sum())))
    return sorted(out, key=lambda hollow: -hollow.depths)
