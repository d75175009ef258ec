"""A surface of triangles seen from straight above, as heights on a grid."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

NEAR = 1e-7
"""How far outside a triangle, as a part of it, a post still belongs to it: its edges are nobody's gap."""


def own_spacing(points: NDArray[np.float64]) -> float:
    """Spacing of posts that suits a surface: that of its own points where they lie on a grid, else their mean. [m]

    points : shape (n, 3), x east, y north, z up [m]
    """
    low, high = points[:, :2].min(axis=0), points[:, :2].max(axis=0)
    wide, deep = (high - low).tolist()
    size = max(wide, deep)
    if size <= 0:
        raise GridError("the surface must have an extent as seen from above", "file")
    xs, ys = (np.unique(np.round(points[:, axis] / size, 7)) for axis in (0, 1))
    if len(xs) * len(ys) == len(points) and len(xs) > 1 and len(ys) > 1:
        return float(max(wide / (len(xs) - 1), deep / (len(ys) - 1)))
    return float(math.sqrt(max(wide * deep, size * size * 1e-6) / max(len(points), 4)))


def seen_from_above(
    points: NDArray[np.float64], triangles: NDArray[np.int64], rows: int, cols: int, spacing: float
) -> FloatArray:
    """The highest of the surface over every post.

    points : shape (n, 3), x east, y north, z up, from the surface's south-west corner [m]
    triangles : shape (m, 3), rows of `points`

    Returns shape (rows, cols), row 0 north; NaN where there is no surface. [m]
    """
    out = np.full((rows, cols), np.nan, np.float32)
    _draw(out, np.ascontiguousarray(points, np.float64), np.ascontiguousarray(triangles, np.int64), spacing)
    return out


@kernel
def _draw(out: FloatArray, points: NDArray[np.float64], triangles: NDArray[np.int64], spacing: float) -> None:
    rows, cols = out.shape
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, az = points[a, 0] / spacing, (rows - 1) - points[a, 1] / spacing, points[a, 2]
        bx, by, bz = points[b, 0] / spacing, (rows - 1) - points[b, 1] / spacing, points[b, 2]
        cx, cy, cz = points[c, 0] / spacing, (rows - 1) - points[c, 1] / spacing, points[c, 2]
        area = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(area) < 1e-12:
            continue
        near = NEAR * max(1.0, abs(area)) / abs(area)
        r0 = max(0, int(math.ceil(min(ay, by, cy) - 1e-6)))
        r1 = min(rows - 1, int(math.floor(max(ay, by, cy) + 1e-6)))
        c0 = max(0, int(math.ceil(min(ax, bx, cx) - 1e-6)))
        c1 = min(cols - 1, int(math.floor(max(ax, bx, cx) + 1e-6)))
        for r in range(r0, r1 + 1):
            for q in range(c0, c1 + 1):
                v = ((q - ax) * (cy - ay) - (cx - ax) * (r - ay)) / area
                w = ((bx - ax) * (r - ay) - (q - ax) * (by - ay)) / area
                if v >= -near and w >= -near and v + w <= 1 + near:
                    z = az + v * (bz - az) + w * (cz - az)
                    if not out[r, q] >= z:
                        out[r, q] = z
