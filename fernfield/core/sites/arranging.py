"""Many pieces at once: turned about a point, sized, mirrored, lined up, spread evenly. Distances keep to a millimetre,
and what is turned there and back is where it was, to the last bit."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Numbers = NDArray[np.float64]
Spots = NDArray[np.float64]
"""Shape (n, 3): east and north [m], and the bearing that each faces [°]."""

FINE = 1e-6
"""Places are kept to so much. [m, °]"""
COARSE = 1e-3
"""What comes so near to a whole millimetre as rounding can take it is that millimetre: so it comes back to it."""
NEAR = 4 * FINE


def rounded(values: Numbers) -> Numbers:
    """Places as they are kept."""
    fine, whole = np.round(values / FINE) * FINE, np.round(values / COARSE)
    near = np.abs(values - whole * COARSE) < NEAR
    # A quotient of whole numbers is the decimal itself, as a person would type it.
    out = np.where(near, whole / 1000.0, np.round(values / FINE) / 1_000_000.0)
    return np.asarray(np.where(np.isfinite(out), out, fine) + 0.0)


def bearings(values: Numbers) -> Numbers:
    """Bearings as they are kept, 0 up to 360."""
    out = rounded(values % 360.0)
    return np.where(out >= 360.0, 0.0, out)


def turned(spots: Spots, about: tuple[float, float], by_deg: float) -> Spots:
    """All turned clockwise about a point, with what they face."""
    turn = math.radians(by_deg)
    cos, sin = (round(f(turn), 15) for f in (math.cos, math.sin))
    east, north = spots[:, 0] - about[0], spots[:, 1] - about[1]
    return _kept(about[0] + east * cos + north * sin, about[1] - east * sin + north * cos, spots[:, 2] + by_deg)


def scaled(spots: Spots, about: tuple[float, float], by: float) -> Spots:
    """All further from a point, or nearer to it."""
    return _kept(about[0] + (spots[:, 0] - about[0]) * by, about[1] + (spots[:, 1] - about[1]) * by, spots[:, 2])


def moved(spots: Spots, east: float, north: float) -> Spots:
    return _kept(spots[:, 0] + east, spots[:, 1] + north, spots[:, 2])


def mirrored(spots: Spots, about: tuple[float, float], along_deg: float) -> Spots:
    """All across the line through a point along a bearing, with what they face."""
    turn = math.radians(2 * along_deg)
    cos, sin = (round(f(turn), 15) for f in (math.cos, math.sin))
    east, north = spots[:, 0] - about[0], spots[:, 1] - about[1]
    return _kept(about[0] - east * cos + north * sin, about[1] + east * sin + north * cos, 2 * along_deg - spots[:, 2])


def lined_up(spots: Spots, way: str, to: tuple[float, float]) -> Spots:
    """All on one easting, on one northing (that of `to`), or on the straight line from the first to the last."""
    out = spots.copy()
    if way == "east":
        out[:, 0] = to[0]
    elif way == "north":
        out[:, 1] = to[1]
    else:
        first, leg = spots[0, :2], spots[-1, :2] - spots[0, :2]
        long = float(leg @ leg)
        share = (spots[:, :2] - first) @ leg / long if long > 0 else np.zeros(len(spots))
        out[:, :2] = first + share[:, None] * leg
    return _kept(out[:, 0], out[:, 1], out[:, 2])


def evenly(spots: Spots) -> Spots:
    """The same way from the first to the last that is furthest along it, with gaps as wide as each other; the order
    along it stays."""
    order = np.argsort((spots[:, :2] - spots[0, :2]) @ _longest(spots), kind="stable")
    share = np.empty(len(spots))
    share[order] = np.linspace(0.0, 1.0, len(spots))
    first, last = spots[order[0], :2], spots[order[-1], :2]
    out = first + share[:, None] * (last - first)
    return _kept(out[:, 0], out[:, 1], spots[:, 2])


def _longest(spots: Spots) -> Numbers:
    """The way along which places are spread furthest: their first principal axis."""
    around = spots[:, :2] - spots[:, :2].mean(axis=0)
    return np.asarray(np.linalg.svd(around, full_matrices=False)[2][0])


def towards(spots: Spots, to: tuple[float, float]) -> Spots:
    """Each faces a point."""
    bearing = np.degrees(np.arctan2(to[0] - spots[:, 0], to[1] - spots[:, 1]))
    return _kept(spots[:, 0], spots[:, 1], bearing)


def _kept(x: Numbers, y: Numbers, bearing: Numbers) -> Spots:
    return np.column_stack([rounded(x), rounded(y), bearings(bearing)])
