"""The covers of a tract in a package: the share of each as an 8-bit picture."""

from __future__ import annotations

from contextlib import ExitStack
from functools import partial
from tempfile import TemporaryFile
from typing import Any

import numpy as np

from fernfield.core.cover.shares import share_bytes
from fernfield.formats.pngbands import PngBands
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.shares import laid
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands, over
from fernfield.work.kernel.world import OpenWorld


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    covers, grid, land = covers_of(world), tract.grid, world.land_from(tract.row.id)
    pictures = [PngBands(grid.rows, grid.cols, np.uint8) for _ in covers]
    with ExitStack() as stack:
        # Shares come for all covers at once, files go into the ZIP one after the other: keep them beside it.
        files = [stack.enter_context(TemporaryFile()) for _ in covers]
        for file, picture in zip(files, pictures, strict=True):
            file.write(picture.begin())
        give = partial(laid, world, land)
        for _, shares in over(list(bands(grid)), give, share_bytes, crew=package.crew, say=step, part=(0.0, 0.8)):
            for file, picture, share in zip(files, pictures, shares, strict=True):
                file.write(picture.add(share))
        listed = []
        for number, (key, cover) in enumerate(covers):
            step(0.8 + 0.2 * number / len(covers), "")
            files[number].write(pictures[number].end())
            files[number].seek(0)
            name = f"covers/{tract.row.id}-{key}.png"
            package.put(name, iter(partial(files[number].read, 1 << 20), b""))
            listed.append({"key": key, "name": cover.name, "file": name})
    return {"covers": listed}


COVERS_PART = PackagePart("the share of each cover as 8-bit PNG", _put, weight=4)
