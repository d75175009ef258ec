"""Downs: smooth, rounded hills with dry valleys between them."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    x, y = g.warped(v["feature_m"], v["feature_m"] * 0.2, 5)
    hills = 0.5 + 0.75 * g.noise(v["feature_m"], 3, 0.3, 1, x=x, y=y)
    return np.asarray(v["relief_m"] * smooth_step(hills), np.float32)


FORM = Landform(
    "downs", "Downs", "Smooth, rounded hills with dry valleys between them.",
    (relief(70), Setting("feature_m", "Hills", "m", 60, 4000, 620)), make,
    suits=Suits(("grass", "moor"), 0.3),
    bears_deg=26,
)  # fmt: skip
