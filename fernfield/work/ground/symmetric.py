"""How far a land is from the world's symmetry."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.brush.symmetry import asymmetry
from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.windows import bands, scratch, take_out
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY

LEAST_M = 0.05
"""Differences below this are rounding. [m]"""


class AsymmetryTold(TypedDict):
    """The largest difference from the symmetry and where it is, the mean, and of how many posts. [m]"""

    symmetric: bool
    largest_m: float
    x: float
    y: float
    mean_m: float
    posts: int


def check_symmetry(world: OpenWorld, tract: Tract) -> AsymmetryTold:
    """The largest difference and where it is in the tract's metres, and the mean. Raises Conflict when no symmetry is
    set."""
    land, place = world.land(tract.row.id), world.place_of(tract.row.id)
    grid = land.grid
    images = [image.seen_at(grid.west, grid.south) for image in world.only(SYMMETRY).images()]
    if not images:
        raise Conflict("the world has no symmetry: set a line or a point first")
    with scratch((grid.rows, grid.cols), np.float32) as whole:
        take_out(world.lock, partial(land.read, HEIGHT), grid.window, whole)

        def parts() -> Iterator[tuple[Window, FloatArray, FloatArray]]:
            for window in bands(grid):
                yield window, np.asarray(whole[window.inside(grid.window)]), np.asarray(whole)

        found = asymmetry(parts(), grid, images)
    return {
        "symmetric": found.largest < LEAST_M,
        "largest_m": found.largest,
        "x": found.x - place.x,
        "y": found.y - place.y,
        "mean_m": found.mean,
        "posts": found.posts,
    }
