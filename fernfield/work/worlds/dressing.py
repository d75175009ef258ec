"""Covers and growth that suit made land: proposed with it, and laid only when they are taken."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground, Suits
from fernfield.core.landforms.patches import Landscape, patch_shares
from fernfield.core.light.relief import slope_degrees
from fernfield.work.cover.rows import COVERS, Cover, covers_of
from fernfield.work.cover.shares import cover_layer
from fernfield.work.ground.rows import RECIPES, Recipe
from fernfield.work.growth.rows import MIXES, mixes_of
from fernfield.work.growth.standing import growth_layer
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit
from fernfield.work.plots.areas import Area, share_of, window_of
from fernfield.work.plots.rows import PLOTS

SOLID = 65_535


class Dress(Command):
    """Take what is proposed for the land of a recipe: the covers of its landscapes, their growth, or both."""

    do: Literal["dress"] = "dress"
    sheet: Key
    covers: bool = True
    growth: bool = True


@dataclass(frozen=True, slots=True)
class Proposal:
    """For one landscape: the cover that suits it, if the world has one, and how full its growth is."""

    landscape: str
    cover: str | None
    growth: float
    words: str


def _cover_for(world: OpenWorld, suits: Suits) -> tuple[str, Cover] | None:
    """The first of the words that a cover's key or name holds."""
    for word in suits.covers:
        for key, cover in covers_of(world):
            if word in key.lower() or word in cover.name.lower():
                return key, cover
    return None


def proposals(world: OpenWorld, recipe: Recipe) -> list[Proposal]:
    """What is proposed for each landscape of a recipe."""
    found = []
    for scape in recipe.landscapes:
        form = LANDFORMS[scape.name]
        cover = _cover_for(world, form.suits)
        on = "no cover of this world" if cover is None else cover[1].name
        words = f"{form.label}: {on}, growth at {form.suits.growth * 100:.0f} %"
        found.append(Proposal(scape.name, None if cover is None else cover[0], form.suits.growth, words))
    return found


def dress(world: OpenWorld, tract: Tract, command: Dress) -> Outcome:
    """Lay the covers and sow the growth that suit the land of a sheet's recipe, as one revision."""
    recipe = world.row(RECIPES, command.sheet)
    wanted = proposals(world, recipe)
    if not (command.covers or command.growth):
        raise Conflict("nothing was taken: covers, growth, or both")
    if command.growth and not mixes_of(world):
        raise Conflict("this world has no mix to sow: take the covers alone")

    def begin() -> Sweep:
        area = Area(plot=recipe.plot, box=recipe.box, outline=recipe.outline)
        land = world.land_from(tract.row.id)
        window = window_of(world, land, area)
        parts = {(own.row.id, tile): (whole, part) for own, tile, whole, part in land.tiles(window)}

        def draw(draft: Draft, unit: Unit) -> None:
            whole, part = parts[unit]
            shares = _shares(land, recipe, window, part)
            within = share_of(world, land, area, part, min(recipe.feather_m, 500.0))
            at, box = (unit[0], *unit[1]), part.inside(whole)
            if command.covers:
                _lay(world, draft, at, box, wanted, shares, within)
            if command.growth:
                _sow(world, land, draft, at, box, part, wanted, shares, within)

        what = " and ".join(w for w, on in (("covers", command.covers), ("growth", command.growth)) if on)
        words = f"Took the {what} that suit the made land"
        still = world.rests_on(PLOTS.name, COVERS.name, MIXES.name)
        return Sweep(list(parts), draw, lambda: Ended(words, said(command)), still)

    return world.sweep(begin)


def _shares(land: Land, recipe: Recipe, window: Window, part: Window) -> FloatArray:
    """How much of each landscape the posts of `part` are, as they were made."""
    grid = land.grid
    x, y = np.meshgrid(grid.xs(part), grid.ys(part))
    scapes = [Landscape(one.name, one.weight, one.patch_m, one.values) for one in recipe.landscapes]
    if len(scapes) == 1:
        return np.ones((1, *part.shape), np.float32)
    reach = max(min(window.rows, window.cols) * grid.spacing / 2, grid.spacing)
    middle = (grid.x_of((window.col0 + window.col1 - 1) / 2), grid.y_of((window.row0 + window.row1 - 1) / 2))
    return patch_shares(Ground(x, y, middle, reach, recipe.seed), scapes, recipe.blend_m)


def _lay(
    world: OpenWorld, draft: Draft, at: tuple[str, int, int], box: tuple[slice, slice], wanted: list[Proposal],
    shares: FloatArray, within: FloatArray,
) -> None:  # fmt: skip
    covers = [key for key, _ in covers_of(world)]
    for key in covers[1:]:
        own = sum(
            (share for share, one in zip(shares, wanted, strict=True) if one.cover == key),
            np.zeros(within.shape, np.float32),
        )
        mask = draft.tile(at[0], (cover_layer(key), *at[1:]))
        was = mask[box].astype(np.float64)
        mask[box] = np.rint(was + (own * SOLID - was) * within).astype(np.uint16)


def _sow(
    world: OpenWorld, land: Land, draft: Draft, at: tuple[str, int, int], box: tuple[slice, slice], part: Window,
    wanted: list[Proposal], shares: FloatArray, within: FloatArray,
) -> None:  # fmt: skip
    wide = land.clip(part.pad(1))
    with world.lock:
        heights = land.read(HEIGHT, wide)
    slope = slope_degrees(heights, land.grid.spacing)[part.inside(wide)]
    dry = heights[part.inside(wide)] - world.sea_of(land.id)
    full = np.zeros(part.shape, np.float64)
    for share, one in zip(shares, wanted, strict=True):
        suits = LANDFORMS[one.landscape].suits
        fits = np.clip((suits.below_deg - slope) / 6, 0, 1) * np.clip((dry - suits.above_sea_m) / 0.6, 0, 1)
        full += share * one.growth * fits
    mask = draft.tile(at[0], (growth_layer(mixes_of(world)[0][0]), *at[1:]))
    was = mask[box].astype(np.float64)
    mask[box] = np.clip(np.rint(was + (full * SOLID - was) * within), 0, SOLID).astype(np.uint16)


def suits(world: OpenWorld, recipe: Recipe) -> list[str]:
    """What is proposed for each landscape, in words."""
    return [proposal.words for proposal in proposals(world, recipe)]
