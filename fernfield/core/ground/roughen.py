"""Roughen: gradient noise on the land, up to a stated height however often the brush passes."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.pressing import Pressing
from fernfield.core.noise import Octaves, fractal
from fernfield.core.settings import Setting

SETTINGS = (
    Setting("feature_m", "Feature size", "m", 0.5, 5_000, 24),
    Setting("height_m", "Height", "m", 0.01, 1_000, 3),
    Setting("octaves", "Octaves", "", 1, 12, 5, whole=True),
    Setting("persistence", "Persistence", "", 0, 1, 0.5),
    Setting("seed", "Seed", "", 0, 2**31 - 1, 1, whole=True),
)


def roughen(p: Pressing) -> None:
    """Add the part of the noise that the dab has newly earned.

    `amount` metres out of ``height_m`` are earned at full weight; a post that has earned
    the whole height changes no more. So one pass and ten give the same land in the end.
    """
    tall = float(p.values["height_m"])
    before = p.covered.copy()
    np.minimum(before + p.weights * np.float32(p.amount / tall), 1, out=p.covered)
    gained = np.maximum(p.covered - before, 0)
    octaves = Octaves(
        p.values["feature_m"], int(p.values["octaves"]), float(p.values["persistence"]), int(p.values["seed"])
    )
    p.heights += gained * fractal(p.heights.shape, p.spots, octaves, p.spacing, gained) * np.float32(tall)
