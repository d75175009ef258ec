"""Who climbs a slope, while a grade is drawn."""

from __future__ import annotations

import math

from fernfield.core.travel.walkers import first_to_climb


def climbs(percent: float) -> str:
    """The walker that climbs a slope of so many percent and is the first that a steeper one stops; or "nobody"."""
    return first_to_climb(math.degrees(math.atan(abs(percent) / 100))) or "nobody"
