"""Who can climb a slope: a vehicle, a walker, or nobody."""

from __future__ import annotations

import math

from fernfield.core.travel.walker import Gait

VEHICLE_DEG = 20.0
"""Steepest slope that a small vehicle climbs (our choice). [°]"""


def climbs(percent: float) -> str:
    """ "vehicle", "walker" or "nobody", for a slope of so many percent."""
    steep = math.degrees(math.atan(abs(percent) / 100))
    if steep <= VEHICLE_DEG:
        return "vehicle"
    return "walker" if steep <= Gait().steepest_deg else "nobody"
