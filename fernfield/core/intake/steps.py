"""Samples that stand in steps (8-bit greys, whole metres) made smooth, none by more than half a step."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray

SIGMAS = (8.0, 8.0, 4.0, 4.0, 2.0, 2.0)
"""Widths of the averages, in posts: from wide terraces to narrow ones (our choice)."""

REACH = sum(2 * math.ceil(2.5 * sigma) for sigma in SIGMAS)
"""How far a post's neighbours have a say in it. [posts]"""


def _average(values: FloatArray, sigma: float) -> FloatArray:
    side = 2 * math.ceil(2.5 * sigma) + 1
    return np.asarray(cv2.GaussianBlur(values, (side, side), sigma, borderType=cv2.BORDER_REFLECT_101), np.float32)


def unstepped(samples: FloatArray, step: float) -> FloatArray:
    """Samples without their steps: averaged again and again, and held within half a step of what they were.

    A true value that was rounded to the sample lies within that half step, so nothing is
    lost; terraces narrower than some 20 posts become slopes.

    samples : shape (rows, cols), no NaN
    step : from one sample to the next, > 0, in the samples' own unit
    """
    if not (math.isfinite(step) and step > 0):
        raise GridError(f"step must be finite and above 0, not {step}", "step")
    # A hair less than half, so that rounding gives the sample again.
    low, high = samples - np.float32(0.499 * step), samples + np.float32(0.499 * step)
    found = samples.astype(np.float32)
    for sigma in SIGMAS:
        # Twice the average less its own average: slopes and hollows keep their shape, only what is finer goes.
        soft = _average(found, sigma)
        found = np.clip(2 * soft - _average(soft, sigma), low, high)
    return np.asarray(found, np.float32)
