"""Bridges and jetties as ground: what hangs over the land, and can be stepped onto from it."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray


def decked(
    heights: FloatArray, x0: float, y0: float, spacing: float, step: float, steepest_deg: float,
    table: NDArray[np.float64],
) -> FloatArray:  # fmt: skip
    """The ground with the decks that one gets onto from it: in their place what lies under them is not gone.

    heights : of a window's posts [m]; x0, y0 : the place of its north-west post [m]
    table : what stands there (`passable.obstacle_table`), of which those count that hang higher than a step over the
    ground at their middle
    """
    if not len(table):
        return heights
    rows, cols = heights.shape
    at_row = np.rint((y0 - table[:, 1]) / spacing).astype(int)
    at_col = np.rint((table[:, 0] - x0) / spacing).astype(int)
    inside = (at_row >= 0) & (at_row < rows) & (at_col >= 0) & (at_col < cols)
    ground = np.full(len(table), np.nan)
    ground[inside] = heights[at_row[inside], at_col[inside]]
    tops = np.full(heights.shape, np.nan, np.float32)
    for one in table[table[:, 7] > ground + step]:
        _lay(tops, heights, one, x0, y0, spacing)
    hung = ~np.isnan(tops)
    if not hung.any():
        return heights
    out = heights.astype(np.float32, copy=True)
    reach = max(step, spacing * math.tan(math.radians(steepest_deg)))
    count, label = cv2.connectedComponents(hung.astype(np.uint8), connectivity=8)
    landed = np.zeros(count, bool)
    for down, right in ((0, 1), (1, 0), (1, 1), (1, -1)):
        for a, b in (_pair(rows, cols, down, right), _pair(rows, cols, down, right)[::-1]):
            meets = hung[a] & ~hung[b] & (np.abs(tops[a] - heights[b]) <= reach)
            landed[label[a][meets]] = True
    gone = landed[label] & hung
    out[gone] = tops[gone]
    return out


def _pair(rows: int, cols: int, down: int, right: int) -> tuple[tuple[slice, slice], tuple[slice, slice]]:
    """The posts that have one so far down and right of them, and those."""
    wide = (slice(0, cols - right), slice(right, cols)) if right >= 0 else (slice(-right, cols), slice(0, cols + right))
    return (slice(0, rows - down), wide[0]), (slice(down, rows), wide[1])


def _lay(tops: FloatArray, heights: FloatArray, one: NDArray[np.float64], x0: float, y0: float, spacing: float) -> None:
    """Put the top of something on the posts that lie under it."""
    x, y, radius, wide, deep, sin, cos, _, z1, corners = one[:10].tolist()
    reach = math.hypot(wide, deep) if wide > 0 else radius
    r0, r1 = math.ceil((y0 - y - reach) / spacing), math.floor((y0 - y + reach) / spacing)
    c0, c1 = math.ceil((x - reach - x0) / spacing), math.floor((x + reach - x0) / spacing)
    box = slice(max(r0, 0), min(r1 + 1, heights.shape[0])), slice(max(c0, 0), min(c1 + 1, heights.shape[1]))
    if box[0].start >= box[0].stop or box[1].start >= box[1].stop:
        return
    py = y0 - np.arange(box[0].start, box[0].stop)[:, None] * spacing - y
    px = x0 + np.arange(box[1].start, box[1].stop)[None] * spacing - x
    if corners:
        points = one[10 : 10 + 2 * int(corners)].reshape(-1, 2)
        under = np.ones(np.broadcast_shapes(px.shape, py.shape), bool)
        for (ax, ay), (bx, by) in zip(points, np.roll(points, -1, axis=0), strict=True):
            under &= (bx - ax) * (py - ay) - (by - ay) * (px - ax) >= 0
    elif wide > 0:
        under = (np.abs(px * cos - py * sin) <= wide) & (np.abs(px * sin + py * cos) <= deep)
    else:
        under = px * px + py * py <= radius * radius
    ground = heights[box]
    # Where it comes to the bank it may lie on the ground, or in it.
    tops[box] = np.where(under & (z1 > ground), np.fmax(tops[box], np.float32(z1)), tops[box])
