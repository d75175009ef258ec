"""Figures of a landform, by which they are told from each other: the table in docs/landforms.md holds them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.light.relief import slope_degrees

SIDE, SPACING, SEED = 513, 4.0, 7


def places(side: int = SIDE, spacing: float = SPACING) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    line = np.arange(side) * spacing
    x, y = np.meshgrid(line, line[::-1])
    return x, y


def made(name: str, seed: int = SEED, side: int = SIDE, spacing: float = SPACING) -> FloatArray:
    """A landform with its first settings on a square of 2,048 m."""
    x, y = places(side, spacing)
    middle = (side - 1) * spacing / 2
    form = LANDFORMS[name]
    return form.make(Ground(x, y, (middle, middle), middle, seed), form.first)


def figures(heights: FloatArray, spacing: float = SPACING) -> dict[str, float]:
    """Relief [m], mean slope [°], share of flat ground (under 5°) [%], and drainage: the length of valley floors for
    each square kilometre [km/km²], a valley floor being a post that lies under both its neighbours across
    some direction by more than a twentieth of a metre, on land that is not flat."""
    slope = slope_degrees(heights, spacing)
    h = heights.astype(float)
    hollow = np.zeros(h.shape, bool)
    for dr, dc in ((0, 2), (2, 0), (2, 2), (2, -2)):
        a, b = np.roll(h, (dr, dc), (0, 1)), np.roll(h, (-dr, -dc), (0, 1))
        hollow |= (h < a - 0.05) & (h < b - 0.05)
    inner = np.s_[4:-4, 4:-4]
    area = h[inner].size * spacing**2 / 1e6
    return {
        "relief": float(h.max() - h.min()),
        "slope": float(slope.mean()),
        "flat": float((slope < 5).mean() * 100),
        "drainage": float(hollow[inner].sum() * spacing / 1000 / area),
    }
