"""The light of the world's own mood on the posts of a tract, in a package: pictures with their scale."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import Window
from fernfield.formats.pngbands import png_parts
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lit_posts, lux_posts, share_posts
from fernfield.work.light.moment import moment_of
from fernfield.work.light.rows import LIGHT

LEAST_LUX, LUX_DECADES = 0.001, 8.0
"""What 1 of 65,535 stands for, and over how many powers of ten the rest goes: 0 is darkness."""


def lux_as_16_bit(lux: NDArray[Any]) -> NDArray[np.uint16]:
    """Illuminance on a scale of logarithms. [lx]"""
    tens = np.log10(np.maximum(lux, LEAST_LUX) / LEAST_LUX) / LUX_DECADES
    return np.where(lux < LEAST_LUX, 0, np.rint(1 + np.clip(tens, 0, 1) * 65_534)).astype(np.uint16)


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    own = world.only(LIGHT).mood
    if own is None:
        return {}
    grid, land, moment = tract.grid, world.land_from(tract.row.id), moment_of(world)
    day = moment.day

    def shadow(band: Window) -> NDArray[Any]:
        if not moment.thrown:
            return np.zeros(band.shape, np.uint8)
        return np.ascontiguousarray(lit_posts(world, land, band, 1, day.bearing, day.height))

    planes: dict[str, tuple[Callable[[Window], NDArray[Any]], type[np.uint8] | type[np.uint16]]] = {
        "shadow": (shadow, np.uint8),
        "sky_share": (lambda b: np.rint(share_posts(world, land, b, 1) * 255).astype(np.uint8), np.uint8),
        "lux": (lambda b: lux_as_16_bit(lux_posts(world, land, b, 1, moment)), np.uint16),
    }
    said: dict[str, Any] = {"mood": own, "lux": {"least_lux": LEAST_LUX, "decades": LUX_DECADES}}
    for number, (name, (give, kind)) in enumerate(planes.items()):

        def parts(number: int = number, give: Callable[[Window], NDArray[Any]] = give) -> Iterator[NDArray[Any]]:
            every = list(bands(grid))
            for at, band in enumerate(every):
                step((number + at / len(every)) / len(planes), "")
                yield give(band)

        file = f"light/{tract.row.id}-{name}.png"
        package.put(file, png_parts(parts(), grid.rows, grid.cols, kind))
        said[name] = {**said.get(name, {}), "file": file}
    return {"light": said}


LIGHT_PART = PackagePart("the light of the world's own mood as 8- and 16-bit PNG", _put, weight=2)
