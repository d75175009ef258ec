"""Places in an order: along a line at a spacing, in a ring, an arc or a grid."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Spots = NDArray[np.float64]
"""Shape (n, 3): east and north [m], and the bearing that something there faces [°]."""

FACING: dict[str, float | None] = {"along": 0.0, "back": 180.0, "left": -90.0, "right": 90.0, "kept": None}
"""How much further than the way something faces; None: as it was said."""


def _spots(x: NDArray[np.float64], y: NDArray[np.float64], bearing: NDArray[np.float64]) -> Spots:
    return np.column_stack([x, y, bearing % 360])


def along(
    points: Sequence[Sequence[float]], spacing: float, *, begin: float = 0.0, aside: float = 0.0, closed: bool = False
) -> Spots:
    """Places along a line, the first `begin` metres from its first point, `aside` metres to its right; each faces the
    way that the line runs there. A closed line goes on from its last point to its first.

    Raises ValueError for a line of no length.
    """
    line = np.asarray(points, np.float64)[:, :2]
    if closed:
        line = np.concatenate([line, line[:1]])
    legs = np.diff(line, axis=0)
    long = np.hypot(legs[:, 0], legs[:, 1])
    legs, line, long = legs[long > 0], line[np.r_[long > 0, True]], long[long > 0]
    if not len(long):
        raise ValueError("a line needs two points that differ")
    at = np.concatenate([[0.0], np.cumsum(long)])
    # The end of a closed line is its beginning.
    most = at[-1] - (1e-9 if closed else 0.0)
    steps = np.arange(begin, most + (0 if closed else 1e-9), spacing)
    leg = np.clip(np.searchsorted(at, steps, "right") - 1, 0, len(legs) - 1)
    way = legs[leg] / long[leg][:, None]
    spot = line[leg] + way * (steps - at[leg])[:, None]
    return _spots(
        spot[:, 0] + way[:, 1] * aside, spot[:, 1] - way[:, 0] * aside, np.degrees(np.arctan2(way[:, 0], way[:, 1]))
    )


def ring(x: float, y: float, radius: float, count: int, *, first_deg: float = 0.0) -> Spots:
    """So many places on a circle, evenly; the first at a bearing from its middle. Each faces along, clockwise."""
    return arc(x, y, radius, count, first_deg, first_deg + 360.0 * (count - 1) / max(count, 1))


def arc(x: float, y: float, radius: float, count: int, from_deg: float, to_deg: float) -> Spots:
    """So many places on a circle between two bearings from its middle, both with one."""
    bearing = np.linspace(from_deg, to_deg, count) if count > 1 else np.array([from_deg], np.float64)
    turn = np.radians(bearing)
    return _spots(x + radius * np.sin(turn), y + radius * np.cos(turn), bearing + (90 if to_deg >= from_deg else -90))


def grid(x: float, y: float, counts: tuple[int, int], steps: tuple[float, float], turn_deg: float = 0.0) -> Spots:
    """So many places across and ahead, so far from each other, around a middle; all face ahead, which is turned."""
    across = (np.arange(counts[0]) - (counts[0] - 1) / 2) * steps[0]
    ahead = (np.arange(counts[1]) - (counts[1] - 1) / 2) * steps[1]
    right, on = (found.ravel() for found in np.meshgrid(across, ahead))
    turn = math.radians(turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    return _spots(x + right * cos + on * sin, y - right * sin + on * cos, np.full(len(right), turn_deg))
