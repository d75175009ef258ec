"""The ground of a tract in a package: heights as 16-bit PNG, openings as a picture; and as an ASCII grid by itself."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.ground.openings import HOLE, OPENING
from fernfield.formats.asc import asc_lines
from fernfield.formats.png import heights_png_parts
from fernfield.formats.pngbands import png_parts
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld


def asc_of(world: OpenWorld, tract: Tract) -> Iterator[bytes]:
    """The ground of a tract as an ESRI ASCII grid, line by line."""

    def parts() -> Iterator[FloatArray]:
        for window in bands(tract.grid):
            with world.lock:
                yield tract.cache.read(HEIGHT, window)

    return asc_lines(parts(), tract.grid.rows, tract.grid.cols, tract.grid.spacing)


RULE = "elevation = lowest_m + grey / 65535 * (highest_m - lowest_m)"
"""What 16-bit numbers stand for."""


def range_of(land: Land) -> tuple[float, float]:
    """What 16 bits reach from and to. Joined tracts share it: so the posts of their common edge are the same grey in
    both. [m]"""
    lowest, highest = land.all_heights()
    return lowest, highest if highest > lowest else lowest + 1.0


def _heights(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    lowest, highest = range_of(world.land(tract.row.id))

    def parts() -> Iterator[FloatArray]:
        for window in bands(tract.grid):
            step(window.row0 / tract.grid.rows, "")
            yield tract.cache.read(HEIGHT, window)

    file = f"heights/{tract.row.id}.png"
    package.put(file, heights_png_parts(parts(), tract.grid.rows, tract.grid.cols, lowest, highest))
    return {"heights": {"file": file, "lowest_m": lowest, "highest_m": highest, "rule": RULE}}


def _openings(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    """Where the ground is open, as an 8-bit picture; nothing when it is whole."""
    grid, cache = tract.grid, tract.cache
    if cache.blank(OPENING, grid.window):
        return {}

    def parts() -> Iterator[NDArray[np.uint8]]:
        for window in bands(grid):
            step(window.row0 / grid.rows, "")
            yield ((cache.read(OPENING, window) >= HOLE) * np.uint8(255)).astype(np.uint8)

    file = f"openings/{tract.row.id}.png"
    package.put(file, png_parts(parts(), grid.rows, grid.cols, np.uint8))
    return {"openings": {"file": file, "rule": "255 is a hole"}}


HEIGHTS_PART = PackagePart("heights as 16-bit PNG", _heights)
OPENINGS_PART = PackagePart("openings as 8-bit PNG", _openings, weight=0.2)
