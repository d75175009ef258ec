"""Moor: broad swells with hummocks and peat hags."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief
from fernfield.core.noise import BILLOWED
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    swell = 0.5 + 0.5 * g.noise(v["feature_m"], 4, 0.42, 1)
    hags = g.noise(26, 3, 0.55, 2, BILLOWED)
    wet = 0.5 + 0.5 * g.noise(v["feature_m"] * 0.6, 2, 0.5, 3)
    return np.asarray(v["relief_m"] * swell + v["hummock_m"] * (hags - 0.4) * (0.4 + wet), np.float32)


FORM = Landform(
    "moor", "Moor", "Broad swells with hummocks and peat hags.",
    (relief(34), Setting("feature_m", "Swells", "m", 60, 4000, 480), Setting("hummock_m", "Hummocks", "m", 0, 10, 1.4)),
    make,
    suits=Suits(("ling", "moor", "peat", "earth"), 0.08),
    bears_deg=20,
)  # fmt: skip
