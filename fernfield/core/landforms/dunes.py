"""Dunes: ridges across the wind, gentle to windward and steep to lee."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values

CREST = 0.72
"""Where in a wave the crest stands: the lee takes the rest of it."""


def make(g: Ground, v: Values) -> FloatArray:
    wind = math.radians(v["wind_deg"])
    x, y = g.warped(v["spacing_m"] * 3, v["spacing_m"] * 0.9, 5)
    along = (x * math.sin(wind) + y * math.cos(wind)) / v["spacing_m"]
    part = along - np.floor(along)
    wave = np.where(part < CREST, smooth_step(part / CREST), 1 - smooth_step((part - CREST) / (1 - CREST)))
    size = 0.62 + 0.5 * g.noise(v["spacing_m"] * 4, 3, 0.5, 1)
    ripple = 0.02 * g.noise(7, 2, 0.5, 2)
    return np.asarray(v["relief_m"] * (np.clip(size, 0.1, 1.2) * wave + ripple), np.float32)


FORM = Landform(
    "dunes", "Dunes", "Ridges across the wind, gentle to windward and steep to lee.",
    (relief(9, 0.5, 300), Setting("spacing_m", "From crest to crest", "m", 10, 2000, 75),
     Setting("wind_deg", "Wind blows towards", "°", 0, 360, 60)),
    make,
    suits=Suits(("sand", "shingle", "silt", "earth"), 0.05),
    bears_deg=34,
)  # fmt: skip
