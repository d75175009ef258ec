"""Cut and fill: how much ground an edit takes away and brings."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray


def cut_and_fill(before: FloatArray, after: FloatArray, spacing: float) -> tuple[float, float]:
    """Volumes of cut and fill. [m³]

    Every post stands for a cell of `spacing` by `spacing` metres around it, so a volume is
    the sum of the differences times the cell's area (the grid method of earthworks; common
    practice).
    """
    rise = after.astype(np.float64) - before
    area = spacing * spacing
    return -float(rise[rise < 0].sum()) * area, float(rise[rise > 0].sum()) * area
