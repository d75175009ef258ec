"""Gorge: high ground with a deep winding cut through it."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    feature = v["feature_m"]
    x, y = g.warped(feature * 0.5, feature * 0.12, 5)
    course = g.noise(feature, 2, 0.35, 1, x=x, y=y)
    # How fast the course changes turns its value into metres from the stream.
    away = np.abs(course) * feature * 0.45
    side = smooth_step((away - v["floor_m"] / 2) / v["sides_m"])
    top = 0.86 + 0.14 * g.noise(feature * 0.4, 4, 0.5, 2)
    rubble = 0.02 * g.noise(22, 4, 0.6, 3) * side
    return np.asarray(v["relief_m"] * (side * top + rubble), np.float32)


FORM = Landform(
    "gorge", "Gorge", "High ground with deep winding cuts through it.",
    (relief(95), Setting("feature_m", "Between gorges", "m", 100, 8000, 900),
     Setting("floor_m", "Floor wide", "m", 2, 500, 22), Setting("sides_m", "Sides wide", "m", 5, 1000, 70)),
    make,
    suits=Suits(("grass", "ling", "moor"), 0.4),
)  # fmt: skip
