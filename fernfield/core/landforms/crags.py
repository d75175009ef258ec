"""Crags: hills broken into ledges and short cliffs."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    # Few octaves: finer ones would break the ledges into lumps.
    hills = np.clip(0.5 + 0.85 * g.noise(v["feature_m"], 3, 0.42, 1), 0, 1.2)
    height = v["relief_m"] * hills + 3 * g.noise(60, 4, 0.6, 2)
    # A ledge is level for most of a step and steep at its end.
    step = v["ledge_m"] * (1 + 0.35 * g.noise(v["feature_m"], 2, 0.5, 3))
    level = np.floor(height / step)
    part = height / step - level
    ledges = (level + smooth_step((part - 0.68) / 0.22)) * step
    rubble = 0.5 * g.noise(14, 3, 0.6, 4)
    return np.asarray(0.28 * height + 0.72 * ledges + rubble, np.float32)


FORM = Landform(
    "crags", "Crags", "Hills broken into ledges and short cliffs.",
    (relief(110), Setting("feature_m", "Hills", "m", 60, 4000, 440), Setting("ledge_m", "Ledges", "m", 1, 100, 14)),
    make,
    suits=Suits(("ling", "moor", "grass"), 0.15),
)  # fmt: skip
