"""Fells: high mountains with sharp ridges and deep valleys."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief
from fernfield.core.noise import RIDGED
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    x, y = g.warped(v["feature_m"] * 0.7, v["feature_m"] * 0.16, 5)
    ridges = g.noise(v["feature_m"], 6, v["roughness"], 1, RIDGED, x=x, y=y)
    mass = 0.55 + 0.45 * g.noise(v["feature_m"] * 2, 2, 0.5, 2)
    grain = g.noise(v["feature_m"] / 6, 4, 0.62, 3)
    return np.asarray(v["relief_m"] * (ridges * mass * 1.25 + 0.035 * grain), np.float32)


FORM = Landform(
    "fells", "Fells", "High mountains with sharp ridges and deep valleys.",
    (relief(420), Setting("feature_m", "Between ridges", "m", 100, 10_000, 1200),
     Setting("roughness", "Roughness", "", 0.3, 0.8, 0.71)),
    make,
    suits=Suits(("ling", "moor", "grass"), 0.12),
    bears_deg=66,
)  # fmt: skip
