"""Where water gathers: the topographic wetness index, for covers that like it and for water itself.

The index is ``ln(a / tan b)`` [1]_: `a` is the area that drains through a metre of contour, `b` the slope there. Each
post hands its area on to all lower neighbours, by their slope times the length of contour towards them [2]_.

References
----------
.. [1] K. J. Beven and M. J. Kirkby (1979), doi:10.1080/02626667909491834
.. [2] P. Quinn, K. Beven, P. Chevallier and O. Planchon (1991), doi:10.1002/hyp.3360050106
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

LEVEL = 0.001
"""Slopes under this count as this: on level ground the index would have no end (common practice)."""

ALONG, ACROSS = 0.5, 0.354
"""Length of contour towards a neighbour in a row or column, and towards one across a corner, in cells: Quinn's."""


@kernel
def _areas(
    heights: FloatArray, order: NDArray[np.int64], area: NDArray[np.float64], out: FloatArray, spacing: float
) -> None:
    rows, cols = heights.shape
    share = np.empty(8, np.float64)
    for at in order:
        r, c = at // cols, at % cols
        z = heights[r, c]
        total, contour, i = 0.0, 0.0, 0
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                if dr == 0 and dc == 0:
                    continue
                share[i] = 0.0
                p, q = r + dr, c + dc
                if 0 <= p < rows and 0 <= q < cols and heights[p, q] < z:
                    corner = dr != 0 and dc != 0
                    long = spacing * (math.sqrt(2.0) if corner else 1.0)
                    width = ACROSS if corner else ALONG
                    share[i] = (z - heights[p, q]) / long * width
                    total += share[i]
                    contour += width
                i += 1
        own = area[r, c]
        if contour > 0:
            # `total` is the sum of slopes times contours, so their mean slope is total / contour.
            out[r, c] = math.log(own / (contour * spacing) / max(total / contour, LEVEL))
            i = 0
            for dr in range(-1, 2):
                for dc in range(-1, 2):
                    if dr == 0 and dc == 0:
                        continue
                    if share[i] > 0:
                        area[r + dr, c + dc] += own * share[i] / total
                    i += 1
        else:
            # Nothing is lower: water stays, over one cell's width.
            out[r, c] = math.log(own / spacing / LEVEL)


def wetness(heights: FloatArray, spacing: float) -> FloatArray:
    """The topographic wetness index of every post; `a` in metres.

    Parameters
    ----------
    heights : shape (rows, cols), at least (2, 2). [m]
    spacing : between posts, above 0. [m]

    Raises
    ------
    GridError
        If `heights` is not 2-D or too small, or `spacing` is not above 0.
    """
    if heights.ndim != 2 or min(heights.shape) < 2:
        raise GridError(f"heights must be 2-D and at least (2, 2), not {heights.shape}")
    if not (math.isfinite(spacing) and spacing > 0):
        raise GridError(f"spacing must be finite and above 0 m, not {spacing}")
    given = np.ascontiguousarray(heights, np.float32)
    # From the highest down; of equal ones the first comes first, so that the order is always the same.
    order = np.argsort(-given, axis=None, kind="stable")
    area = np.full(given.shape, spacing * spacing, np.float64)
    out = np.empty_like(given)
    _areas(given, order, area, out, float(spacing))
    return out
