"""What is seen from a place: the line to each post, over the ground and what stands on it, through crowns.

The line is looked at wherever it crosses a row of posts (or a column, where it runs that way more), between the two
posts beside it [1]_. So two places see each other both or neither. Light that comes through crowns grows less with the
way in them, by Beer and Lambert's law [2]_.

.. [1] W. R. Franklin, C. K. Ray (1994), Higher isn't necessarily better: visibility algorithms and experiments ("R3")
.. [2] M. Monsi, T. Saeki (1953), for canopies; English in Annals of Botany 95, 549 (2005), doi:10.1093/aob/mci052
"""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import cv2
import numpy as np

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel

SEEN, HIDDEN = 255, 0
TOUCHES_M = 1e-6
"""A line that touches the ground by no more than this is clear."""
FAINT = 0.02
"""Of less than this share of light nothing is made out (our choice)."""
STRIPES = 16


@dataclass(frozen=True, slots=True)
class Crowns:
    """What lets some light through, at each post: from which elevation to which it stands [m], and how much of light is
    lost in a metre of it [1/m]; 0 where there is none. Shapes as the ground's."""

    low: FloatArray
    high: FloatArray
    dense: FloatArray


def seen_from(
    ground: FloatArray, row: float, col: float, spacing: float, *, eye: float, over: float = 0.0,
    reach: float = math.inf, crowns: Crowns | None = None,
) -> ByteArray:  # fmt: skip
    """What is seen of each post from a place: 255 all of it, 0 nothing, between through crowns; shape as the ground's.

    ground : what hides, at each post [m]; row, col : of the eye, between posts too; spacing : from post to post [m]
    eye : its elevation [m]; over : so high over each post is looked at [m]; reach : no further than this [m]

    Raises GridError for an eye outside of the grid, or crowns of another shape.
    """
    rows, cols = ground.shape
    if not (0 <= row <= rows - 1 and 0 <= col <= cols - 1):
        raise GridError(f"the eye must be within {rows} x {cols} posts, not at {row:g}, {col:g}")
    if crowns is not None and crowns.low.shape != ground.shape:
        raise GridError(f"crowns must have the shape {ground.shape}, not {crowns.low.shape}")
    none = np.zeros((1, 1), np.float32)
    some = (none, none, none) if crowns is None else (crowns.low, crowns.high, crowns.dense)
    low, high, dense = (np.ascontiguousarray(one, np.float32) for one in some)
    heights = np.ascontiguousarray(ground, np.float32)
    out = np.zeros(ground.shape, np.uint8)
    far = min(reach / spacing, float(rows + cols))
    first, last = max(0, math.ceil(row - far)), min(rows - 1, math.floor(row + far))
    edges = np.linspace(first, last + 1, STRIPES + 1).astype(int)

    def stripe(k: int) -> None:
        _stripe(heights, low, high, dense, crowns is not None, row, col, spacing, eye, over, far, out,
                int(edges[k]), int(edges[k + 1]))  # fmt: skip

    with ThreadPoolExecutor(max_workers=2) as pool:
        list(pool.map(stripe, range(STRIPES)))
    return out


def sees(
    ground: FloatArray, one: tuple[float, float, float], other: tuple[float, float, float], spacing: float,
    crowns: Crowns | None = None,
) -> float:  # fmt: skip
    """How much of the light from one place comes to another, 0 to 1. Each is a row, a column, and an elevation [m]."""
    none = np.zeros((1, 1), np.float32)
    some = (none, none, none) if crowns is None else (crowns.low, crowns.high, crowns.dense)
    low, high, dense = (np.ascontiguousarray(part, np.float32) for part in some)
    heights = np.ascontiguousarray(ground, np.float32)
    # The same line both ways, to the bit.
    a, b = sorted((one, other))
    return float(_line(heights, low, high, dense, crowns is not None, *a, *b, spacing))


@kernel
def _stripe(
    ground: FloatArray, low: FloatArray, high: FloatArray, dense: FloatArray, through: bool, row: float, col: float,
    spacing: float, eye: float, over: float, far: float, out: ByteArray, row0: int, row1: int,
) -> None:  # fmt: skip
    cols = ground.shape[1]
    for r in range(row0, row1):
        for c in range(cols):
            if (r - row) * (r - row) + (c - col) * (c - col) > far * far:
                continue
            z = ground[r, c]
            if math.isnan(z):
                continue
            left = _line(ground, low, high, dense, through, row, col, eye, float(r), float(c), z + over, spacing)
            out[r, c] = int(left * 255.0 + 0.5)


@kernel
def _line(
    ground: FloatArray, low: FloatArray, high: FloatArray, dense: FloatArray, through: bool, ra: float, ca: float,
    za: float, rb: float, cb: float, zb: float, spacing: float,
) -> float:  # fmt: skip
    """What is left of the light along a line."""
    dr, dc = rb - ra, cb - ca
    down = abs(dr) >= abs(dc)
    long = abs(dr) if down else abs(dc)
    if long < 1e-9:
        return 1.0
    begin = ra if down else ca
    way = dr if down else dc
    sign = 1 if way > 0 else -1
    # The first row (or column) past the eye, and the last one before the target.
    at = math.floor(begin) + 1 if sign > 0 else math.ceil(begin) - 1
    last = rb if down else cb
    across = (dc if down else dr) / long * sign
    up = (zb - za) / long
    step = math.sqrt(dr * dr + dc * dc) / long * spacing
    lost = 0.0
    while (at - last) * sign < -1e-9:
        t = abs(at - begin)
        side = (ca if down else ra) + across * sign * t
        k = int(math.floor(side))
        part = side - k
        z = za + up * t
        most = ground.shape[1] - 1 if down else ground.shape[0] - 1
        k1 = min(k + 1, most)
        i0, j0 = (at, k) if down else (k, at)
        i1, j1 = (at, k1) if down else (k1, at)
        first, second = ground[i0, j0], ground[i1, j1]
        if part < 1e-12:
            second = first
        height = first * (1.0 - part) + second * part
        if height > z + TOUCHES_M:
            return 0.0
        if through:
            i, j = (i0, j0) if part < 0.5 else (i1, j1)
            if dense[i, j] > 0.0 and low[i, j] <= z <= high[i, j]:
                lost += dense[i, j] * step
                if lost > 4.0:
                    return 0.0
        at += sign
    if lost == 0.0:
        return 1.0
    left = math.exp(-lost)
    return left if left >= FAINT else 0.0


@kernel
def lay_crowns(
    low: FloatArray, high: FloatArray, dense: FloatArray, x0: float, y0: float, spacing: float, xs: FloatArray,
    ys: FloatArray, radius: FloatArray, z0: FloatArray, z1: FloatArray, lost: float,
) -> None:  # fmt: skip
    """Put discs on posts: crowns that reach from z0 to z1 [m] and lose so much of light in a metre of them. Writes to
    the first three. x0, y0 : the place of the north-west post [m]"""
    rows, cols = low.shape
    for k in range(len(xs)):
        # What is narrower than a post still stands on the nearest.
        far = max(radius[k], 0.5 * spacing)
        c0, c1 = int(math.ceil((xs[k] - far - x0) / spacing)), int(math.floor((xs[k] + far - x0) / spacing))
        r0, r1 = int(math.ceil((y0 - ys[k] - far) / spacing)), int(math.floor((y0 - ys[k] + far) / spacing))
        for r in range(max(r0, 0), min(r1, rows - 1) + 1):
            for c in range(max(c0, 0), min(c1, cols - 1) + 1):
                east, north = x0 + c * spacing - xs[k], y0 - r * spacing - ys[k]
                if east * east + north * north > far * far:
                    continue
                if dense[r, c] == 0.0:
                    low[r, c], high[r, c] = z0[k], z1[k]
                else:
                    low[r, c], high[r, c] = min(low[r, c], z0[k]), max(high[r, c], z1[k])
                dense[r, c] = max(dense[r, c], lost)


def lay_solid(ground: FloatArray, x0: float, y0: float, spacing: float, corners: FloatArray, top: float) -> None:
    """Raise the posts under a polygon, and those that its sides run by, to its top. Writes to `ground`.

    corners : shape (n, 2), east and north [m]; x0, y0 : the place of the north-west post [m]
    """
    at = np.column_stack([(corners[:, 0] - x0) / spacing, (y0 - corners[:, 1]) / spacing])
    low = np.floor(at.min(axis=0)).astype(int) - 1
    high = np.ceil(at.max(axis=0)).astype(int) + 2
    rows, cols = ground.shape
    r0, r1, c0, c1 = max(low[1], 0), min(high[1], rows), max(low[0], 0), min(high[0], cols)
    if r0 >= r1 or c0 >= c1:
        return
    mark = np.zeros((r1 - r0, c1 - c0), np.uint8)
    cv2.fillPoly(mark, [np.rint(at - [c0, r0]).astype(np.int32)], 1)
    box = ground[r0:r1, c0:c1]
    np.maximum(box, np.where(mark > 0, np.float32(top), box), out=box)
