"""Plateau and scarp: a level top that breaks off along a winding edge."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    bearing = math.radians(v["faces_deg"])
    out = (g.x - g.middle[0]) * math.sin(bearing) + (g.y - g.middle[1]) * math.cos(bearing)
    out = out + 0.3 * g.reach * g.noise(g.reach, 5, 0.5, 1)
    face = smooth_step(-out / v["scarp_m"] + 0.5)
    scree = smooth_step(-out / (v["scarp_m"] * 5) + 0.9)
    top = 0.05 * g.noise(g.reach * 0.6, 5, 0.5, 2) * face
    foot = 0.03 * (0.7 + g.noise(120, 4, 0.5, 3))
    return np.asarray(v["relief_m"] * (0.74 * face + 0.26 * scree + top + foot), np.float32)


FORM = Landform(
    "plateau", "Plateau and scarp", "A level top that breaks off along a winding edge.",
    (relief(60), Setting("scarp_m", "Scarp wide", "m", 2, 500, 28),
     Setting("faces_deg", "Faces", "°", 0, 360, 200)),
    make,
    suits=Suits(("moor", "grass"), 0.2),
)  # fmt: skip
