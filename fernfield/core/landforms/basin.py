"""Basin: a hollow with a lake in it, ringed by hills."""

from __future__ import annotations

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.landforms.landform import Ground, Landform, Suits, relief, smooth_step
from fernfield.core.settings import Setting, Values


def make(g: Ground, v: Values) -> FloatArray:
    away = np.hypot(g.x - g.middle[0], g.y - g.middle[1]) / g.reach
    away = away + 0.16 * g.noise(g.reach * 0.9, 3, 0.5, 1)
    bowl = smooth_step((away - 0.32) / 0.6)
    lake = 1 - smooth_step(away / 0.42)
    hills = 0.7 + 0.3 * g.noise(g.reach * 0.5, 6, 0.5, 2)
    return np.asarray(v["relief_m"] * bowl * hills - v["depth_m"] * lake, np.float32)


FORM = Landform(
    "basin", "Basin with a lake", "A hollow with a lake in it, ringed by hills.",
    (relief(75), Setting("depth_m", "Lake deep", "m", 0, 200, 9)), make,
    suits=Suits(("grass", "sedge", "moor"), 0.35),
    bears_deg=35, widens=False,
)  # fmt: skip
