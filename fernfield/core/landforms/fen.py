"""Fen: all but level wet ground, cut by winding creeks."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    x, y = g.warped(v["creek_m"] * 0.8, v["creek_m"] * 0.3, 5)
    # A creek runs where slow noise changes its sign.
    away = np.abs(g.noise(v["creek_m"] * 2, 2, 0.4, 1, x=x, y=y))
    creek = 1 - smooth_step((away - 0.012) / 0.085)
    ground = 0.5 + 0.5 * g.noise(160, 4, 0.5, 2)
    tussock = 0.12 * g.noise(9, 2, 0.5, 3)
    return np.asarray(v["relief_m"] * (0.6 * ground + tussock) - v["depth_m"] * creek, np.float32)


FORM = Landform(
    "fen", "Fen", "All but level wet ground, cut by winding creeks.",
    (relief(1.6, 0.2, 20), Setting("creek_m", "Between creeks", "m", 40, 2000, 220),
     Setting("depth_m", "Creeks deep", "m", 0, 20, 3.6)),
    make,
    suits=Suits(("peat", "sedge", "silt", "earth"), 0.3),
    bears_deg=15,
)  # fmt: skip
