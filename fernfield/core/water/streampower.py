"""Land that streams made: uplift against incision by stream power, solved implicitly along the ways of the water.

Each post rises by the uplift and is cut by its stream as dh/dt = U - K A^m S^n with n = 1: A its catchment, S its slope
Each post rises by the uplift, and its stream cuts it, as dh/dt = U - K A^m S^n with n = 1: A its catchment, S its slope
it [1]_, so steps may be long. In the steady state S = (U / K) A^-m: m is the concavity of the profiles, and along a
stream whose catchment grows as a power of its length that is Hack's form [2]_.

References
----------
.. [1] J. Braun, S. D. Willett, A very efficient O(n), implicit and parallel method to solve the stream power equation
   (2013), doi:10.1016/j.geomorph.2012.10.008
.. [2] J. T. Hack, Studies of longitudinal stream profiles in Virginia and Maryland (1957), doi:10.3133/pp294B
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.water.drainage import DC, DR, Drainage, catchments, drain


@dataclass(frozen=True, slots=True)
class Power:
    """What streams do to a land.

    uplift : how fast it rises [m/a]; erodes : K, how fast streams cut [m^(1-2m)/a]; concavity : m / n, with n = 1
    """

    uplift: float = 2e-4
    erodes: float = 5e-6
    concavity: float = 0.45

    def __post_init__(self) -> None:
        if not (self.uplift >= 0 and self.erodes > 0 and 0 < self.concavity < 1):
            words = f"uplift must be 0 or more, erodes above 0, concavity 0 to 1, not {self.uplift:g}, {self.erodes:g}"
            raise InvalidInput(f"{words}, {self.concavity:g}", "concavity")

    def slope(self, area: float) -> float:
        """The slope of a stream with so large a catchment [m²] in the steady state."""
        return float(self.uplift / self.erodes * area**-self.concavity)


def cut(
    heights: FloatArray, drainage: Drainage, area: NDArray[np.int32], spacing: float, power: Power, years: float
) -> FloatArray:
    """The land after so many years along ways that are known; outlets stay as high as they are.

    heights : shape (rows, cols) [m]; area : catchments, in posts; spacing [m]
    """
    out = np.array(heights, np.float64)
    _cut(out, drainage.order, drainage.to.reshape(-1), area.reshape(-1), spacing, power.uplift * years,
         power.erodes * years, power.concavity)  # fmt: skip
    return np.asarray(out, np.float32)


@kernel
def _cut(
    heights: NDArray[np.float64], order: NDArray[np.int32], to: ByteArray, area: NDArray[np.int32], spacing: float,
    rise: float, erodes: float, concavity: float,
) -> None:  # fmt: skip
    cols = heights.shape[1]
    flat = heights.reshape(-1)
    cell = spacing * spacing
    for i in range(order.shape[0]):
        at = order[i]
        k = to[at]
        if k >= 8:
            continue
        below = flat[at + DR[k] * cols + DC[k]]
        long = spacing * (math.sqrt(2.0) if k % 2 else 1.0)
        factor = erodes * (area[at] * cell) ** concavity / long
        flat[at] = (flat[at] + rise + factor * below) / (1 + factor)


def _quiet(_done: float) -> None:
    pass


def carved(
    heights: FloatArray, spacing: float, power: Power, years: float, steps: int, say: Callable[[float], None] = _quiet
) -> FloatArray:
    """The land after so many years, its ways looked for anew at each step.

    say : hears which part is done, and may raise to stop it
    """
    land = np.array(heights, np.float32)
    for step in range(steps):
        say(step / steps)
        found = drain(land)
        # Hollows are filled first: their water runs on over the filled surface, and cuts its way from there.
        land = cut(found.filled, found, catchments(found), spacing, power, years / steps)
    say(1.0)
    return land
