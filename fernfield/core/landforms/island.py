"""Island: land that falls into the sea on every side."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.noise import RIDGED
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    away = np.hypot(g.x - g.middle[0], g.y - g.middle[1]) / g.reach
    coast = 0.74 + 0.2 * g.noise(g.reach * 0.9, 4, 0.5, 1)
    inland = smooth_step((coast - away) / 0.5)
    hills = 0.35 + 0.65 * g.noise(g.reach * 0.55, 6, 0.5, 2, RIDGED)
    sea = smooth_step((away - coast) / 0.3)
    rough = 0.012 * g.noise(40, 4, 0.55, 3)
    return np.asarray(
        v["relief_m"] * (inland * hills + rough * inland) - v["depth_m"] * sea + 1.5 * (inland > 0), np.float32
    )


FORM = Landform(
    "island", "Island", "Land that falls into the sea on every side.",
    (relief(80), Setting("depth_m", "Depth of the sea", "m", 1, 500, 22)), make,
    suits=Suits(("grass", "moor"), 0.35),
    bears_deg=40, widens=False,
)  # fmt: skip
