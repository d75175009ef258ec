"""How far the land of a tract is from the world's symmetry."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from fernfield.core.brush.symmetry import asymmetry
from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.layers import HEIGHT
from fernfield.work.kernel.tracts import Tract
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY

LEAST_M = 0.05
"""Differences below this are rounding. [m]"""


def check_symmetry(world: OpenWorld, tract: Tract) -> dict[str, Any]:
    """The largest difference and where it is, and the mean. Raises Conflict when no symmetry is set."""
    images = world.only(SYMMETRY).images()
    if not images:
        raise Conflict("the world has no symmetry: set a line or a point first")
    with world.lock:
        whole = tract.cache.read(HEIGHT, tract.grid.window)

    def parts() -> Iterator[tuple[Window, FloatArray, FloatArray]]:
        for window in bands(tract.grid):
            yield window, whole[window.inside(tract.grid.window)], whole

    found = asymmetry(parts(), tract.grid, images)
    return {
        "symmetric": found.largest < LEAST_M,
        "largest_m": found.largest,
        "x": found.x,
        "y": found.y,
        "mean_m": found.mean,
        "posts": found.posts,
    }
