"""Colours of a screen and the light that they stand for."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def linear_of(screen: NDArray[Any]) -> NDArray[np.float64]:
    """Values from 0 to 1 as a screen codes them (sRGB), as shares of light. IEC 61966-2-1"""
    coded = np.asarray(screen, np.float64)
    return np.where(coded <= 0.04045, coded / 12.92, ((coded + 0.055) / 1.055) ** 2.4)
