"""Bringing the edges of two pieces of land to one line, without a step and without a crease."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray

NEAR_POSTS = 6
"""Over so many posts what is rough along the edge is blended; the smooth part goes over the stated width."""


@dataclass(frozen=True)
class Seam:
    """How two strips of land are changed so that they meet.

    edge : shape (n,), the heights of the line that they come to share [m]
    sides : for each strip what is added: values along the edge, how far inland each goes [posts], and whether they are
        a slope rather than a lift
    """

    edge: NDArray[np.float64]
    sides: tuple[list[Along], list[Along]]

    def laid(self, side: int, strip: FloatArray, row: int = 0, col: int = 0) -> FloatArray:
        """A part of strip 0 or 1 as it becomes: its first row and column lie at `row` along the edge, `col` inland.
        [m]"""
        rows = slice(row, row + strip.shape[0])
        away = np.arange(col, col + strip.shape[1], dtype=np.float64)
        found = strip.astype(np.float64)
        for values, reach, slope in self.sides[side]:
            found += values[rows, None] * _fading(away, reach[rows], slope)
        out = found.astype(np.float32)
        if col == 0:
            out[:, 0] = self.edge[rows].astype(np.float32)
        return out


Along = tuple[NDArray[np.float64], NDArray[np.float64], bool]


def seam_of(a: FloatArray, b: FloatArray, width: float | NDArray[np.float64]) -> Seam:
    """What brings two strips to one line whose first columns are the two edges.

    Both edges come to their mean, and both slopes across to their mean, which a cubic of
    Hermite takes back to nothing over `width`. What differs from post to post along the edge
    is blended over some posts only, or it would be drawn out into furrows.

    Parameters
    ----------
    a, b : shape (n, k) and (n, m), column 0 the edge, going inland, at least 2 columns, of which two are read [m]
    width : of the blend, in posts, 0 and more, no wider than a strip; one, or one for each of the n rows
    """
    if a.ndim != 2 or b.ndim != 2 or len(a) != len(b) or min(a.shape[1], b.shape[1]) < 2:
        raise GridError(f"the strips must have one length and at least two columns, not {a.shape} and {b.shape}")
    widths = np.broadcast_to(np.asarray(width, np.float64), (len(a),))
    edge = (a[:, 0].astype(np.float64) + b[:, 0]) / 2
    # Rise from one post to the next inland: what goes down on one side goes up on the other.
    slope_a, slope_b = a[:, 1].astype(np.float64) - a[:, 0], b[:, 1].astype(np.float64) - b[:, 0]
    slope = (slope_a - slope_b) / 2
    return Seam(
        edge, (_along(edge - a[:, 0], slope - slope_a, widths), _along(edge - b[:, 0], -slope - slope_b, widths))
    )


def narrowing(count: int, width: float, first: bool, last: bool) -> NDArray[np.float64]:
    """Widths of a blend along an edge of `count` posts that narrow to nothing towards its first or last one.

    Where another joined edge crosses there, that edge is left as it is.
    """
    along = np.arange(count, dtype=np.float64)
    found = np.full(count, float(width))
    if first:
        found = np.minimum(found, along)
    return np.minimum(found, along[::-1]) if last else found


def raised_corner(strip: FloatArray, row: float, col: float, lift: float, radius: float) -> FloatArray:
    """A window of land lifted by `lift` [m] at a post (row, col), fading to nothing `radius` posts away."""
    rows, cols = np.indices(strip.shape)
    away = np.hypot(rows - row, cols - col)
    fading = _fading(away.ravel(), np.full(1, max(radius, 1.0)), False).reshape(strip.shape)
    return (strip + lift * fading).astype(np.float32)


def _along(lift: NDArray[np.float64], tilt: NDArray[np.float64], widths: NDArray[np.float64]) -> list[Along]:
    """What lifts the edge of a strip and turns its slope across: the smooth part of both, and what is rough."""
    short = np.minimum(NEAR_POSTS, widths)
    found: list[Along] = []
    for values, slope in ((lift, False), (tilt, True)):
        smooth = _smooth(values, float(widths.max()) / 4)
        found += [(smooth, widths, slope), (values - smooth, short, slope)]
    return found


def _fading(away: NDArray[np.float64], widths: NDArray[np.float64], slope: bool) -> NDArray[np.float64]:
    """Hermite's cubic from 1 (or from a slope of 1) at 0 to nothing, level, at each width: (widths, away)."""
    wide = np.maximum(widths, 1e-9)[:, None]
    u = np.clip(away / wide, 0, 1)
    return (u**3 - 2 * u**2 + u) * wide if slope else 2 * u**3 - 3 * u**2 + 1


def _smooth(values: NDArray[np.float64], sigma: float) -> NDArray[np.float64]:
    if sigma < 0.5 or len(values) < 3:
        return values
    side = 2 * int(np.ceil(3 * sigma)) + 1
    soft = cv2.GaussianBlur(values[:, None], (1, side), sigmaX=1, sigmaY=sigma, borderType=cv2.BORDER_REFLECT)
    return np.asarray(soft, np.float64).reshape(-1)
