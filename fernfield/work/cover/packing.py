"""The covers of a tract in a package: the share of each as an 8-bit picture."""

from __future__ import annotations

import json
from contextlib import ExitStack, suppress
from functools import partial
from tempfile import TemporaryFile
from typing import Any

import numpy as np

from fernfield.core.cover.shares import share_bytes, shares_as_bytes
from fernfield.core.errors import NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.formats.pngbands import PngBands
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.ruling import COVER_RULES, RULE_SETS
from fernfield.work.cover.shares import cover_shares, laid
from fernfield.work.cover.textures import texture_of
from fernfield.work.cover.transitions import strips_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands, over
from fernfield.work.kernel.world import OpenWorld


def _with_strips(world: OpenWorld, land: Land, window: Window) -> tuple[FloatArray]:
    return (cover_shares(world, land, window),)


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    covers, grid, land = covers_of(world), tract.grid, world.land_from(tract.row.id)
    pictures = [PngBands(grid.rows, grid.cols, np.uint8) for _ in covers]
    with ExitStack() as stack:
        # Shares come for all covers at once, files go into the ZIP one after the other: keep them beside it.
        files = [stack.enter_context(TemporaryFile()) for _ in covers]
        for file, picture in zip(files, pictures, strict=True):
            file.write(picture.begin())
        # Strips along borders reach beyond a band: their shares are worked out here, and only packed by the crew.
        strips = bool(strips_of(world))
        give = partial(_with_strips, world, land) if strips else partial(laid, world, land)
        for _, shares in over(
            list(bands(grid)),
            give,
            shares_as_bytes if strips else share_bytes,
            crew=package.crew,
            say=step,
            part=(0.0, 0.8),
        ):
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


def put_rules(package: Package, world: OpenWorld) -> None:
    """The rules for covers and the kept sets of them as JSON, and the textures that covers name as 8-bit PNG."""
    sets = {key: row.model_dump(mode="json", exclude_none=True) for key, row in world.each(RULE_SETS)}
    rules = world.only(COVER_RULES).model_dump(mode="json", exclude_none=True)["rules"]
    text = json.dumps({"rules": rules, "sets": sets}, indent=1, ensure_ascii=False)
    package.put("cover-rules.json", iter([text.encode()]))
    for key in sorted({name for _, c in covers_of(world) for name in (c.texture, c.steep_texture) if name is not None}):
        with suppress(NotFound):
            relief = np.rint(texture_of(world, key) * 255).astype(np.uint8)
            picture = PngBands(relief.shape[0], relief.shape[1], np.uint8)
            package.put(f"textures/{key}.png", iter([picture.begin(), picture.add(relief), picture.end()]))


def cover_facts(world: OpenWorld) -> list[dict[str, Any]]:
    """What a package's manifest says of every cover, base first."""
    names = {"name", "colour", "texture", "steep_texture", "tile_m", "turn_deg", "pace", "sound", "hidden"}
    return [{"key": key, **cover.model_dump(mode="json", include=names)} for key, cover in covers_of(world)]
