"""Ground cover as a world keeps it: grass and small plants by density, drawn near the eye only; never one by one."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Annotated, Any

import numpy as np
from pydantic import Field, model_validator

from fernfield.core.cover import rules as core
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.growth.sward import patched
from fernfield.formats.pngbands import PngBands
from fernfield.work.asking.conditions import Conditions, contradiction
from fernfield.work.asking.fields import Asked, Asking, heights_around, noise
from fernfield.work.growth.rows import Share
from fernfield.work.growth.sowing import below
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.rows import Collection, Colour, Key, Name, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld

MOST_SWARDS = 8
WET_M = 0.1
"""Deeper under the sea than this only what stands in water grows."""


class Sward(Row):
    """Collection "swards": one sort of ground cover.

    per_m2 : tufts on a square metre where it is full; tall_min_m, tall_max_m : how tall they are [m]
    patchy, patch_m : how much thinner it is between patches, and how large these are
    covers : where it grows, by their shares (none: on all); conditions : what it asks of the ground besides
    reach_m : how far from the eye it is drawn; in_water : it grows under the sea too
    """

    name: Annotated[Name, Say("Name")]
    per_m2: Annotated[float, Field(ge=0, le=200), Say("Density", "/m²")] = 8.0
    tall_min_m: Annotated[float, Field(gt=0, le=3), Say("Height, from", "m")] = 0.15
    tall_max_m: Annotated[float, Field(gt=0, le=3), Say("Height, to", "m")] = 0.4
    colour: Annotated[Colour, Say("Colour")] = "#7f8f4e"
    dry_colour: Annotated[Colour, Say("Colour when dry")] = "#b3a35f"
    patchy: Annotated[Share, Say("Patchiness", "%", percent=True)] = 0.4
    patch_m: Annotated[float, Field(ge=1, le=500), Say("Size of patches", "m")] = 12.0
    seed: Annotated[int, Field(ge=0, lt=2**31), Say("Seed")] = 1
    reach_m: Annotated[float, Field(ge=5, le=150), Say("Drawn as far as", "m")] = 40.0
    in_water: Annotated[bool, Say("Grows in water too")] = False
    covers: Annotated[tuple[Annotated[Key, Names("covers", "clear")], ...], Field(max_length=32), UNASKED] = ()
    conditions: Annotated[Conditions, UNASKED] = ()

    @model_validator(mode="after")
    def _fits(self) -> Sward:
        if self.tall_min_m > self.tall_max_m:
            words = f"the least height must not be above the largest, not {self.tall_min_m:g} and {self.tall_max_m:g}"
            raise InvalidInput(words, "tall_min_m")
        clash = contradiction(self.conditions)
        if clash is not None:
            raise InvalidInput(f"where {self.name} grows contradicts itself: {clash}", "conditions")
        return self


SWARDS = Collection("swards", Sward, "ground cover", most=MOST_SWARDS)


def sward_share(world: OpenWorld, land: Land, sward: Sward, posts: Window, step: int = 1) -> FloatArray:
    """How much of its full density a ground cover has at every `step`-th post of a window, 0 to 1."""
    asked = Asked(world, land, posts, step)
    asking = Asking(asked)
    share = np.ones(asked.shape, np.float32)
    if sward.covers:
        there = [asking.share(cover) for cover in sward.covers if cover in world.rows["covers"]]
        share *= np.minimum(sum(there), 1) if there else 0
    heights = heights_around(asked)
    if sward.conditions:
        rule = core.Rule(1, 1.0, tuple(asking.condition(one) for one in sward.conditions))
        share *= core.mixed(heights, asked.spacing, [rule], asking.fields, 2)[1]
    if not sward.in_water:
        share[heights[1:-1, 1:-1] < world.surface(land, posts, step) - WET_M] = 0
    if sward.patchy > 0:
        share = patched(share, noise(asked, sward.patch_m, sward.seed), sward.patchy, below(0.5))
    return share


def sward_bytes(world: OpenWorld, land: Land, posts: Window, step: int = 1) -> np.ndarray:
    """A plane of bytes for each ground cover, 255 its full density: shape (swards, rows, cols)."""
    with world.lock:
        planes = [sward_share(world, land, row, posts, step) for _, row in world.each(SWARDS)]
        taken = world.house.given.taken(world, land, posts, step)
    if taken is not None:
        # Nothing is trodden out of a floor.
        planes = [plane * (1 - taken[: plane.shape[0], : plane.shape[1]]) for plane in planes]
    shape = -(-posts.rows // step), -(-posts.cols // step)
    if not planes:
        return np.zeros((0, *shape), np.uint8)
    return np.rint(np.stack(planes) * 255).astype(np.uint8)


def cover_density(world: OpenWorld, land: Land, posts: Window, step: int = 1) -> FloatArray:
    """Tufts of all ground cover on a square metre, at every `step`-th post."""
    found = np.zeros((-(-posts.rows // step), -(-posts.cols // step)), np.float32)
    for _, row in world.each(SWARDS):
        found += sward_share(world, land, row, posts, step) * np.float32(row.per_m2)
    return found


def _picture(world: OpenWorld, tract: Tract, sward: Sward, say: Step) -> Iterator[bytes]:
    land, grid = world.land_from(tract.row.id), tract.grid
    picture = PngBands(grid.rows, grid.cols, np.uint8)
    yield picture.begin()
    for band in bands(grid):
        with world.lock:
            share = sward_share(world, land, sward, band)
        say((band.row1 + 1) / grid.rows, "")
        yield picture.add(np.rint(share * 255).astype(np.uint8))
    yield picture.end()


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    swards, listed = world.each(SWARDS), []
    for number, (key, row) in enumerate(swards):
        file = f"swards/{tract.row.id}-{key}.png"
        package.put(file, _picture(world, tract, row, partial(_part_of, step, number, len(swards))))
        listed.append({"key": key, "name": row.name, "file": file})
    return {"swards": listed}


def _part_of(step: Step, number: int, of: int, done: float, words: str) -> None:
    step((number + done) / of, words)


SWARDS_PART = PackagePart("the density of each ground cover as 8-bit PNG", _put)
