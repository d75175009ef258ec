"""The brightest stars: where they stand, and how bright they are.

`stars.csv` has right ascension and declination for the year 2000 [°] and the visual magnitude of some hundred, from the
list that PyEphem carries (MIT licence), which is taken from the Hipparcos catalogue (ESA SP-1200, 1997).
"""

from __future__ import annotations

import csv
from functools import cache
from importlib import resources

import numpy as np

from fernfield.core.light.sun import Air, Reals, apparent, seen_from


@cache
def _catalogue() -> Reals:
    """Shape (stars, 3): right ascension, declination [°], magnitude."""
    text = resources.files(__package__).joinpath("stars.csv").read_text("ascii")
    return np.array([[float(one) for one in row] for row in list(csv.reader(text.splitlines()))[1:]], np.float64)


def stars_at(unix: float, latitude: float, longitude: float) -> list[tuple[float, float, float]]:
    """Bearing from true north, height above the horizon [°] and magnitude of the stars that are up at a moment [s since
    1970]."""
    ascension, declination, magnitude = _catalogue().T
    sidereal = apparent(unix).sidereal
    at = seen_from(ascension, declination, sidereal, 0.0, latitude, longitude, Air())
    up = at.height > 0
    return list(zip(at.bearing[up].tolist(), at.height[up].tolist(), magnitude[up].tolist(), strict=True))
