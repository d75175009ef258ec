"""Shore: from low land over a beach and bars into the sea."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    bearing = math.radians(v["sea_deg"])
    out = (g.x - g.middle[0]) * math.sin(bearing) + (g.y - g.middle[1]) * math.cos(bearing)
    out = out + 0.28 * g.reach * g.noise(g.reach * 0.8, 4, 0.45, 1)
    beach = v["beach_m"]
    land = smooth_step(-out / (beach * 5)) * (0.75 + 0.5 * g.noise(170, 4, 0.5, 2))
    sand = np.clip(-out / beach, -1, 1) * 1.2
    sea = smooth_step(out / (beach * 8)) * v["depth_m"]
    bars = 0.9 * np.exp(-(((out - beach * 1.6) / (beach * 0.45)) ** 2)) * (out > 0)
    return np.asarray(v["relief_m"] * land + sand - sea + bars, np.float32)


FORM = Landform(
    "shore", "Shore", "From low land over a beach and bars into the sea.",
    (relief(14), Setting("depth_m", "Depth of the sea", "m", 1, 500, 16),
     Setting("beach_m", "Width of the beach", "m", 5, 500, 40),
     Setting("sea_deg", "Sea lies towards", "°", 0, 360, 180)),
    make,
    suits=Suits(("shingle", "sand", "silt", "earth"), 0.1),
    bears_deg=20,
)  # fmt: skip
