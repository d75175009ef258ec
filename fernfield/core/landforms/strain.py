"""Whether a landform bears the height that is asked of it: figures from a sample of its land."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.settings import Values

SIDE, STEP_M = 513, 4.0
"""The sample, a square of 2,048 m: posts a side, and their spacing. [m]"""

STEEP_PERCENT = 95
"""One place in twenty is steeper than what is called its steep places."""


@dataclass(frozen=True, slots=True)
class Strain:
    """How steep a landform would be at its steep places and how steep it bears to be [°]; `times` as wide it bears it.

    `times` is 1 where it bears its height, or cannot be widened.
    """

    steep_deg: float
    bears_deg: float
    times: float

    @property
    def borne(self) -> bool:
        return self.steep_deg <= self.bears_deg


@lru_cache(maxsize=256)
def _steep(name: str, values: tuple[tuple[str, float], ...]) -> float:
    """Gradient at the steep places of a landform with its own relief, as a tangent."""
    line = np.arange(SIDE) * STEP_M
    x, y = np.meshgrid(line, line[::-1])
    middle = float(line[-1]) / 2
    heights = LANDFORMS[name].make(Ground(x, y, (middle, middle), middle, 1), dict(values))
    down, right = np.gradient(np.asarray(heights, np.float64), STEP_M)
    return float(np.percentile(np.hypot(down, right), STEEP_PERCENT))


def strain(name: str, values: Values, scale: float = 1.0) -> Strain:
    """How a landform bears its settings with all heights times `scale`."""
    form = LANDFORMS[name]
    gradient = _steep(name, tuple(sorted((key, float(value)) for key, value in values.items()))) * scale
    bears = np.tan(np.radians(form.bears_deg))
    times = max(1.0, float(gradient / bears)) if form.widens else 1.0
    return Strain(float(np.degrees(np.arctan(gradient))), form.bears_deg, times)
