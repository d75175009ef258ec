"""A real elevation grid: matplotlib's sample data jacksboro_fault_dem.npz (USGS, 3 arc-seconds, metres)."""

from __future__ import annotations

import io

import matplotlib.cbook
import numpy as np
from PIL import Image

from fernfield.core.grid import FloatArray


def jacksboro() -> FloatArray:
    """344 x 403 posts of the land around the Jacksboro fault, Tennessee, row 0 north. [m]"""
    with matplotlib.cbook.get_sample_data("jacksboro_fault_dem.npz") as data:
        return np.asarray(data["elevation"], np.float32)


def heights_png(heights: FloatArray, lowest_m: float, highest_m: float) -> bytes:
    """Heights as a 16-bit PNG by Pillow's writer, not by ours."""
    grey = np.rint((heights.astype(float) - lowest_m) / (highest_m - lowest_m) * 65_535).astype(np.uint16)
    out = io.BytesIO()
    Image.fromarray(grey).save(out, "PNG")
    return out.getvalue()
