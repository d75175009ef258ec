"""A real elevation grid: matplotlib's sample data jacksboro_fault_dem.npz (USGS, 3 arc-seconds, metres)."""

from __future__ import annotations

import matplotlib.cbook
import numpy as np

from fernfield.core.grid import FloatArray


def jacksboro() -> FloatArray:
    """344 x 403 posts of the land around the Jacksboro fault, Tennessee, row 0 north. [m]"""
    with matplotlib.cbook.get_sample_data("jacksboro_fault_dem.npz") as data:
        return np.asarray(data["elevation"], np.float32)
