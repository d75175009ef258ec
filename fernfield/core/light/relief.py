"""Gradients, slope, aspect and relief shading of the ground."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

_BANDS = ThreadPoolExecutor(max_workers=2, thread_name_prefix="relief")
_BAND_POSTS = 1 << 20


@kernel
def _row_beyond(heights: FloatArray, row: int, out: FloatArray) -> FloatArray:
    """The row at `row`, or where that is past the border, the straight continuation in `out`."""
    rows = heights.shape[0]
    if 0 <= row < rows:
        inside: FloatArray = heights[row]
        return inside
    edge, inner = (heights[0], heights[1]) if row < 0 else (heights[rows - 1], heights[rows - 2])
    for i in range(out.shape[0]):
        out[i] = np.float32(2) * edge[i] - inner[i]
    return out


@kernel
def _gradient_row(
    up: FloatArray, mid: FloatArray, low: FloatArray, scale: float, east: FloatArray, north: FloatArray
) -> None:
    """Horn's weighted differences for one row; `scale` is 1 / (8 * spacing)."""
    n = mid.shape[0]
    k, two = np.float32(scale), np.float32(2)
    for i in range(1, n - 1):
        east[i] = ((up[i + 1] - up[i - 1]) + two * (mid[i + 1] - mid[i - 1]) + (low[i + 1] - low[i - 1])) * k
        north[i] = ((up[i - 1] - low[i - 1]) + two * (up[i] - low[i]) + (up[i + 1] - low[i + 1])) * k
    # With the heights going on in a straight line, the differences at the two ends are
    # one-sided across, and along the border those of the border column itself.
    east[0] = ((up[1] - up[0]) + two * (mid[1] - mid[0]) + (low[1] - low[0])) * two * k
    east[n - 1] = ((up[n - 1] - up[n - 2]) + two * (mid[n - 1] - mid[n - 2]) + (low[n - 1] - low[n - 2])) * two * k
    four = np.float32(4)
    north[0] = (up[0] - low[0]) * four * k
    north[n - 1] = (up[n - 1] - low[n - 1]) * four * k


@kernel
def _gradients(heights: FloatArray, spacing: float, first: int, last: int, east: FloatArray, north: FloatArray) -> None:
    above = np.empty(heights.shape[1], np.float32)
    below = np.empty(heights.shape[1], np.float32)
    for r in range(first, last):
        up = _row_beyond(heights, r - 1, above)
        low = _row_beyond(heights, r + 1, below)
        _gradient_row(up, heights[r], low, 1 / (8 * spacing), east[r], north[r])


@kernel
def _relief(
    heights: FloatArray,
    spacing: float,
    sun_east: float,
    sun_north: float,
    sun_up: float,
    first: int,
    last: int,
    out: FloatArray,
) -> None:
    cols = heights.shape[1]
    above, below = np.empty(cols, np.float32), np.empty(cols, np.float32)
    east, north = np.empty(cols, np.float32), np.empty(cols, np.float32)
    se, sn, su = np.float32(sun_east), np.float32(sun_north), np.float32(sun_up)
    one, zero = np.float32(1), np.float32(0)
    for r in range(first, last):
        up = _row_beyond(heights, r - 1, above)
        low = _row_beyond(heights, r + 1, below)
        _gradient_row(up, heights[r], low, 1 / (8 * spacing), east, north)
        line = out[r]
        for i in range(cols):
            p, q = east[i], north[i]
            line[i] = max((su - p * se - q * sn) / np.sqrt(one + p * p + q * q), zero)


def _check(heights: FloatArray, spacing: float) -> FloatArray:
    if heights.ndim != 2 or min(heights.shape) < 2:
        raise GridError(f"heights must be 2-D and at least (2, 2), not {heights.shape}")
    if not (math.isfinite(spacing) and spacing > 0):
        raise GridError(f"spacing must be finite and above 0 m, not {spacing}")
    return np.ascontiguousarray(heights, np.float32)


def gradients(heights: FloatArray, spacing: float) -> tuple[FloatArray, FloatArray]:
    """Rise towards the east and towards the north at every post, metres a metre.

    3 x 3 weighted central differences [1]_; beyond the border the heights go on in a
    straight line (our choice), so a tilted plane is exact up to its edges.

    Parameters
    ----------
    heights : shape (rows, cols), at least (2, 2), row 0 north. [m]
    spacing : distance between neighbours; finite, > 0. [m]

    Returns
    -------
    east, north : two arrays of the same shape

    Raises
    ------
    GridError
        If `heights` is not 2-D or too small, or `spacing` is not above 0.

    References
    ----------
    .. [1] B. K. P. Horn (1981), Hill shading and the reflectance map,
       Proc. IEEE 69(1), 14-47, doi:10.1109/PROC.1981.11918
    """
    heights = _check(heights, spacing)
    east, north = np.empty_like(heights), np.empty_like(heights)
    _gradients(heights, float(spacing), 0, heights.shape[0], east, north)
    return east, north


def slope_degrees(heights: FloatArray, spacing: float) -> FloatArray:
    """Steepness of the ground at every post, 0 up to 90. [°]  Arguments as in `gradients`."""
    east, north = gradients(heights, spacing)
    return np.degrees(np.arctan(np.hypot(east, north))).astype(np.float32)


def aspect_degrees(heights: FloatArray, spacing: float) -> FloatArray:
    """Bearing that the ground falls towards, clockwise from north, 0 up to 360; NaN where level. [°]"""
    east, north = gradients(heights, spacing)
    bearing = np.degrees(np.arctan2(-east, -north)) % 360
    return np.where((east == 0) & (north == 0), np.nan, bearing).astype(np.float32)


def sun_vector(bearing: float, height: float) -> tuple[float, float, float]:
    """Unit vector towards the sun: east, north, up. Bearing clockwise from north, both in degrees."""
    b, h = math.radians(bearing), math.radians(height)
    return math.sin(b) * math.cos(h), math.cos(b) * math.cos(h), math.sin(h)


def relief(heights: FloatArray, spacing: float, bearing: float, height: float) -> FloatArray:
    """Brightness of a matt surface under the sun at every post, 0 to 1.

    The cosine of the angle between the ground's normal (from `gradients`, Horn 1981) and
    the direction of the sun; faces turned away are 0. Shadows that one hill throws on
    another are not part of it.

    Parameters
    ----------
    heights : shape (rows, cols), at least (2, 2), row 0 north. [m]
    spacing : distance between neighbours. [m]
    bearing, height : of the sun; clockwise from north, and above the horizon. [°]
    """
    heights = _check(heights, spacing)
    rows, cols = heights.shape
    out = np.empty_like(heights)
    sun = sun_vector(bearing, height)
    if rows * cols < _BAND_POSTS:
        _relief(heights, float(spacing), *sun, 0, rows, out)
        return out
    step = max(2, _BAND_POSTS // cols)
    waits = [
        _BANDS.submit(_relief, heights, float(spacing), *sun, first, min(rows, first + step), out)
        for first in range(0, rows, step)
    ]
    for wait in waits:
        wait.result()
    return out
