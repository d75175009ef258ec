"""The sea: one level for the whole world."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray


def depth(heights: FloatArray, level: float) -> FloatArray:
    """Depth of the water at every post, 0 where the ground stands above `level`. [m]"""
    return np.asarray(np.maximum(np.float32(level) - heights, np.float32(0)), np.float32)
