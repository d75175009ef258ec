"""Posts that lie farther apart one way than the other, laid out anew on squares."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import Array, FloatArray


def count_of(count: int, spacing: float, wanted: float) -> int:
    """How many posts `wanted` metres apart stand where `count` stand `spacing` metres apart."""
    return int((count - 1) * spacing / wanted + 1e-6) + 1


def between(values: Array, rows: np.ndarray, cols: np.ndarray) -> FloatArray:
    """The values at fractions of rows and columns (shape (n,) and (m,)), bilinear, held at the border."""
    last_row, last_col = values.shape[0] - 1, values.shape[1] - 1
    rows, cols = np.clip(rows, 0, last_row), np.clip(cols, 0, last_col)
    r0, c0 = np.minimum(rows.astype(int), last_row), np.minimum(cols.astype(int), last_col)
    r1, c1 = np.minimum(r0 + 1, last_row), np.minimum(c0 + 1, last_col)
    fr, fc = (rows - r0).astype(np.float32)[:, None], (cols - c0).astype(np.float32)[None, :]
    first = int(r0.min())
    part = np.asarray(values[first : int(r1.max()) + 1], np.float32)
    a, b = part[r0 - first], part[r1 - first]
    a, b = a[:, c0] + (a[:, c1] - a[:, c0]) * fc, b[:, c0] + (b[:, c1] - b[:, c0]) * fc
    return np.asarray(a + (b - a) * fr, np.float32)
