"""Where the figures of contours stand: on index contours, along them, read uphill, none near another."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fernfield.core.drawing.plan import INDEX_EVERY
from fernfield.core.grid import FloatArray

CELL_PIXELS = 150
"""One figure at most in a square of so many pixels."""

LEAST_FALL = 0.02
"""On ground that is flatter than this (rise over run) a contour has no direction that is worth reading."""


@dataclass(frozen=True, slots=True)
class Label:
    """Row and column in pixels, the turn of the figure from the horizontal, clockwise [°], and the elevation [m]."""

    row: float
    col: float
    turn: float
    elevation: float


def contour_labels(heights: FloatArray, metres: float, interval: float, row: int, col: int) -> list[Label]:
    """Figures for the index contours of a picture.

    Parameters
    ----------
    heights : shape (rows, cols), elevation at every pixel [m]
    metres : side of a pixel [m]
    interval : of the contours; every fifth is an index contour [m]
    row, col : of the first pixel, so that figures stay where they are when the picture moves
    """
    step = interval * INDEX_EVERY
    found: list[Label] = []
    if interval <= 0 or min(heights.shape) < 3:
        return found
    for top in range(-(row % CELL_PIXELS), heights.shape[0], CELL_PIXELS):
        for left in range(-(col % CELL_PIXELS), heights.shape[1], CELL_PIXELS):
            label = _in_cell(heights, metres, step, top, left)
            if label is not None:
                found.append(label)
    return found


def _in_cell(heights: FloatArray, metres: float, step: float, top: int, left: int) -> Label | None:
    """The crossing of an index contour that is nearest to the middle of a cell, along its middle row or column."""
    r0, r1 = max(top + 16, 1), min(top + CELL_PIXELS - 16, heights.shape[0] - 1)
    c0, c1 = max(left + 22, 1), min(left + CELL_PIXELS - 22, heights.shape[1] - 1)
    if r1 - r0 < 8 or c1 - c0 < 8:
        return None
    best: tuple[float, int, int] | None = None
    middle_r, middle_c = top + CELL_PIXELS // 2, left + CELL_PIXELS // 2
    for part in (1, 2, 3):
        r = top + CELL_PIXELS * part // 4
        if r0 <= r < r1:
            bands = np.floor(heights[r, c0:c1] / step)
            for k in np.flatnonzero(np.diff(bands)):
                away = math.hypot(r - middle_r, c0 + k - middle_c)
                if best is None or away < best[0]:
                    best = away, r, c0 + int(k)
        c = left + CELL_PIXELS * part // 4
        if c0 <= c < c1:
            bands = np.floor(heights[r0:r1, c] / step)
            for k in np.flatnonzero(np.diff(bands)):
                away = math.hypot(r0 + k - middle_r, c - middle_c)
                if best is None or away < best[0]:
                    best = away, r0 + int(k), c
    if best is None:
        return None
    _, r, c = best
    east = float(heights[r, c + 1] - heights[r, c - 1]) / (2 * metres)
    south = float(heights[r + 1, c] - heights[r - 1, c]) / (2 * metres)
    if math.hypot(east, south) < LEAST_FALL:
        return None
    elevation = round(float(heights[r, c]) / step) * step
    # Along the contour, its top uphill, but never upside down.
    turn = math.degrees(math.atan2(south, east)) + 90
    turn = (turn + 90) % 180 - 90
    return Label(r, c, turn, elevation)
