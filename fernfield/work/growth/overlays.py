"""What growth shows over the plan."""

from __future__ import annotations

from typing import Any

import numpy as np

from fernfield.core.drawing.overlays import marked
from fernfield.core.grid import FloatArray, Window
from fernfield.work.growth.sowing import density_at
from fernfield.work.growth.swards import cover_density
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Laid
from fernfield.work.kernel.world import OpenWorld

DENSE_PER_HA = 1_000.0
"""What is as dense as this or denser has the full colour."""
DENSE_PER_M2 = 20.0
"""The same, of tufts of ground cover."""


def _density(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return np.asarray(np.minimum(density_at(world, land, window, step) / DENSE_PER_HA, 1), np.float32)


def _sward(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return np.asarray(np.minimum(cover_density(world, land, window, step) / DENSE_PER_M2, 1), np.float32)


OVERLAYS = (
    Laid(marked("density", "Density of growth", "how many plants stand on a hectare where",
                f"{DENSE_PER_HA:,.0f} /ha and more", f"{DENSE_PER_HA / 2:,.0f} /ha", "none"), _density),
    Laid(marked("sward", "Density of ground cover", "how many tufts stand on a square metre where",
                f"{DENSE_PER_M2:g} /m² and more", f"{DENSE_PER_M2 / 2:g} /m²", "none"), _sward),
)  # fmt: skip
