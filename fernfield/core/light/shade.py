"""How shaded ground lies: what the land itself takes from it of the sun's course over a day.

The course is that of an equinox at 45° north: sin h = cos φ cos H and tan A = sin H / (sin φ cos H) [1]_, H the hour
angle. What a post gets of it is the cosine between its normal and each of the sun's places, unless ground stands
between them.

References
----------
.. [1] I. Reda, A. Andreas, Solar position algorithm for solar radiation applications, Solar Energy 76 (2004), 577-589,
   doi:10.1016/j.solener.2003.12.003; here with a declination of 0
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

LATITUDE_DEG = 45.0
HOURS = (-60.0, -40.0, -20.0, 0.0, 20.0, 40.0, 60.0)
"""Hour angles at which the sun is looked for: 15° to an hour. [°]"""
REACH_M = 160.0
"""Ground further away throws no shade here: a hill of 60 m at the lowest of these suns. [m]"""
EVERY_POST, STEPS = 40, 16
"""Ground is looked at post by post so far, and then in so many growing steps."""


def sun_course() -> NDArray[np.float64]:
    """Unit vectors to the sun, shape (hours, 3): east, north, up."""
    phi = math.radians(LATITUDE_DEG)
    out = []
    for hour in HOURS:
        turn = math.radians(hour)
        # In the plane of the equator, turned up by the latitude: afternoon suns stand in the west.
        out.append((-math.sin(turn), -math.sin(phi) * math.cos(turn), math.cos(phi) * math.cos(turn)))
    return np.array(out)


def shade(heights: FloatArray, spacing: float, around: int) -> FloatArray:
    """How much less of the sun's course each post gets than open level ground, 0 to 1 (0: as much, or more).

    heights : with `around` more posts on every side, as far as `reach_posts` says [m]; spacing [m]
    """
    suns = sun_course()
    most = max(1, round(REACH_M / spacing))
    beyond = np.rint(np.geomspace(EVERY_POST, max(most, EVERY_POST), STEPS)).astype(np.int64)
    far = np.unique(np.concatenate([np.arange(1, min(most, EVERY_POST) + 1), beyond[beyond <= most]]))
    rows, cols = heights.shape[0] - 2 * around, heights.shape[1] - 2 * around
    out = np.zeros((rows, cols), np.float32)
    _shade(np.ascontiguousarray(heights, np.float32), spacing, around, suns, far, out)
    return out


def reach_posts(spacing: float) -> int:
    """How many posts around a window have to be known."""
    return math.ceil(REACH_M / spacing) + 2


@kernel
def _shade(
    heights: FloatArray, spacing: float, around: int, suns: NDArray[np.float64], far: NDArray[np.int64], out: FloatArray
) -> None:
    level = 0.0
    for k in range(suns.shape[0]):
        level += suns[k, 2]
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            row, col = r + around, c + around
            here = heights[row, col]
            east = (heights[row, col + 1] - heights[row, col - 1]) / (2 * spacing)
            north = (heights[row - 1, col] - heights[row + 1, col]) / (2 * spacing)
            long = np.sqrt(1 + east * east + north * north)
            got = 0.0
            for k in range(suns.shape[0]):
                light = (-east * suns[k, 0] - north * suns[k, 1] + suns[k, 2]) / long
                if light <= 0:
                    continue
                flat = np.sqrt(suns[k, 0] * suns[k, 0] + suns[k, 1] * suns[k, 1])
                rise = suns[k, 2] / flat * spacing
                lit = True
                for i in range(far.shape[0]):
                    step = far[i]
                    r1 = row - int(np.rint(suns[k, 1] / flat * step))
                    c1 = col + int(np.rint(suns[k, 0] / flat * step))
                    if heights[r1, c1] > here + rise * step + 0.05:
                        lit = False
                        break
                if lit:
                    got += light
            out[r, c] = min(max(1 - got / level, 0.0), 1.0)
