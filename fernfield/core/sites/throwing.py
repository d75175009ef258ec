"""How something is thrown from a place to another: the parabola under gravity alone, without drag."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput

GRAVITY = 9.80665
"""[m/s²] Standard acceleration of gravity, 3rd CGPM 1901."""


@dataclass(frozen=True, slots=True)
class Throw:
    """far, up : from where it begins to where it ends [m]; steep_deg : its first slope; speed [m/s]; seconds"""

    far: float
    up: float
    steep_deg: float
    speed: float
    seconds: float

    @property
    def highest(self) -> float:
        """How high it comes over where it begins. [m]"""
        rise = self.speed * math.sin(math.radians(self.steep_deg))
        at = min(rise / GRAVITY, self.seconds)
        return max(0.0, rise * at - GRAVITY / 2 * at * at)

    def heights(self, far: NDArray[np.float64]) -> NDArray[np.float64]:
        """How high it is over where it begins, so far along. [m]"""
        slope = math.radians(self.steep_deg)
        return np.asarray(far * math.tan(slope) - GRAVITY / 2 * (far / (self.speed * math.cos(slope))) ** 2)


def thrown(far: float, up: float, steep_deg: float) -> Throw:
    """The throw that begins so steeply and ends there. Raises InvalidInput where none can. [m, °]

    v² = g d² / (2 cos²θ (d tan θ - h)), from the parabola of a projectile; common practice.
    """
    slope = math.radians(steep_deg)
    over = far * math.tan(slope) - up
    if far <= 0 or over <= 0:
        least = math.degrees(math.atan2(up, far)) if far > 0 else 90.0
        raise InvalidInput(
            f"a throw {up:.1f} m up over {far:.1f} m must begin steeper than {least:.0f}°, not {steep_deg:g}°",
            "steep_deg",
        )
    speed = math.sqrt(GRAVITY * far * far / (2 * math.cos(slope) ** 2 * over))
    return Throw(far, up, steep_deg, speed, far / (speed * math.cos(slope)))
