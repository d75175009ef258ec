"""Making land from a recipe: a coarse picture first, then a job that puts it into a sheet of its own."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Array, FloatArray, Window
from fernfield.core.ground.frost import NO_WEIGHTS
from fernfield.core.ground.rain import Rain
from fernfield.core.ground.sheets import base_of
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.landforms.patches import Landscape, land
from fernfield.core.landforms.strain import strain
from fernfield.core.water.streampower import Power, carved
from fernfield.work.ground.commands import MakeLand
from fernfield.work.ground.rows import MOST_SHEETS, RECIPES, SHEETS, Recipe, Sheet, Weathering, sheets_of
from fernfield.work.ground.sheeting import UNDER, holding, restack, sheet_layer
from fernfield.work.ground.weathering import frost_in_place, rain_over
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Moves
from fernfield.work.kernel.windows import let_go, over, rows_of, scratch
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit
from fernfield.work.plots.areas import Area, share_of, window_of
from fernfield.work.plots.rows import PLOTS

ROWS_AT_ONCE = 64
"""Rows of land that are made in one piece."""

PREVIEW_SIDE = 220
"""Posts along the longer side of a preview."""


def _area(recipe: Recipe) -> Area:
    return Area(plot=recipe.plot, box=recipe.box, outline=recipe.outline, feather_m=min(recipe.feather_m, 500))


def region(world: OpenWorld, tract: Tract, recipe: Recipe) -> tuple[Window, tuple[float, float], float]:
    """The posts of a recipe's region, its middle, and half its shorter side. [m]"""
    window = window_of(world, world.land_from(tract.row.id), _area(recipe))
    grid = tract.grid
    x0, x1 = grid.x_of(window.col0), grid.x_of(window.col1 - 1)
    y0, y1 = grid.y_of(window.row1 - 1), grid.y_of(window.row0)
    return window, ((x0 + x1) / 2, (y0 + y1) / 2), max(min(x1 - x0, y1 - y0) / 2, grid.spacing)


def warnings(world: OpenWorld, tract: Tract, recipe: Recipe) -> list[str]:
    """What a recipe asks for that its region has no room for."""
    window, _, _ = region(world, tract, recipe)
    return no_room(recipe, (window.cols - 1) * tract.grid.spacing, (window.rows - 1) * tract.grid.spacing)


def no_room(recipe: Recipe, wide: float, deep: float) -> list[str]:
    """What a recipe asks for that a region of so many metres has no room for. [m]"""
    found = []
    count = len(recipe.landscapes)
    if count > 1:
        patch = max(landscape.patch_m for landscape in recipe.landscapes)
        need = math.ceil(math.sqrt(count)) * patch
        if min(wide, deep) < need:
            found.append(
                f"{count} landscapes of {patch:g} m patches need at least {need:g} by {need:g} m; "
                f"the region is {wide:g} by {deep:g} m"
            )
        if recipe.blend_m > patch / 2:
            found.append(f"a blend of {recipe.blend_m:g} m leaves little of patches of {patch:g} m")
    for landscape in recipe.landscapes:
        feature = landscape.values.get("feature_m", 0.0)
        if feature > min(wide, deep):
            found.append(f"{landscape.name} has features of {feature:g} m; the region is {min(wide, deep):g} m across")
    return found + _strained(recipe)


def _strained(recipe: Recipe) -> list[str]:
    """Landforms that do not bear the height that is asked of them, with figures and what can be done."""
    found = []
    for landscape in recipe.landscapes:
        form, own = LANDFORMS[landscape.name], strain(landscape.name, landscape.values, recipe.scale)
        if own.borne or (recipe.widen and form.widens):
            continue
        high = landscape.values[form.relief] * recipe.scale
        found.append(
            f"{form.label} of {high:.3g} m would be steeper than {own.steep_deg:.0f}° at one place in twenty, "
            f"and bears {own.bears_deg:g}°: "
            + (f"widen it {own.times:.1f} times" if form.widens else "make it lower")
            + ", or make it all the same"
        )
    return found


def heights_at(recipe: Recipe, x: Any, y: Any, middle: tuple[float, float], reach: float) -> FloatArray:
    """The recipe's land at places, before any weather. [m]"""
    scapes = [
        Landscape(
            one.name,
            one.weight,
            one.patch_m,
            one.values,
            strain(one.name, one.values, recipe.scale).times if recipe.widen else 1.0,
        )
        for one in recipe.landscapes
    ]
    made = land(Ground(x, y, middle, reach, recipe.seed), scapes, recipe.blend_m, recipe.scale)
    return np.asarray(made + np.float32(recipe.base_m), np.float32)


def land_in(
    recipe: Recipe, xs: Array, ys: Array, middle: tuple[float, float], reach: float
) -> FloatArray:  # fmt: skip
    """The recipe's land at every place of these eastings and northings, before any weather. [m]"""
    return heights_at(recipe, *np.meshgrid(xs, ys), middle, reach)


def preview(world: OpenWorld, tract: Tract, recipe: Recipe) -> tuple[FloatArray, float]:
    """Coarse heights of the recipe's region, and the spacing of their posts. [m]"""
    window, middle, reach = region(world, tract, recipe)
    step = max(1, math.ceil(max(window.shape) / PREVIEW_SIDE))
    x, y = _places(tract, window, step)
    return heights_at(recipe, x, y, middle, reach), tract.grid.spacing * step


def _places(tract: Tract, window: Window, step: int = 1) -> tuple[Any, Any]:
    grid = tract.grid
    x, y = np.meshgrid(grid.xs(window, step), grid.ys(window, step))
    return x, y


def make_land(
    job: Job, world: OpenWorld, tract: Tract, command: MakeLand, suits: Callable[[OpenWorld, Recipe], list[str]]
) -> dict[str, Any]:
    """Make the land and write it as one revision; returns the outcome as the API shows it, and what was warned of.

    suits : what is proposed to lie and grow on it, in words
    """
    recipe = command.recipe
    window, middle, reach = region(world, tract, recipe)
    with scratch(window.shape, np.float32) as made:

        def give(part: Window) -> tuple[Any, ...]:
            return recipe, tract.grid.xs(part), tract.grid.ys(part), middle, reach

        parts = rows_of(window, ROWS_AT_ONCE)
        words = "Making the land"
        for part, heights in over(parts, give, land_in, crew=job.crew, say=job.step, words=words, part=(0.02, 0.52)):
            made[part.inside(window)] = heights
            let_go(made)
        if recipe.weathering is not None:
            _weather(recipe, tract.grid.spacing, made, job)
        outcome = _write(job, world, tract, command, window, made)
    return {
        **outcome.public(),
        "sheet": command.key,
        "tract": tract.row.id,
        "suits": suits(world, recipe),
        "warnings": warnings(world, tract, recipe),
    }


def _weather(recipe: Recipe, spacing: float, made: Any, job: Job) -> None:
    weathering = recipe.weathering
    assert weathering is not None
    if weathering.streams_ka > 0:
        _streams(weathering, spacing, made, job)
    drops = round(made.shape[0] * made.shape[1] * spacing**2 * weathering.drops_per_m2)
    if drops and min(made.shape) >= 3:
        with scratch(made.shape, np.float64) as exact:
            exact[...] = made
            rain_over(exact, spacing, drops, recipe.seed, Rain(), NO_WEIGHTS, job, (0.52, 0.82))
            made[...] = exact
    if weathering.passes:
        frost_in_place(made, spacing, weathering.repose_deg, weathering.passes, NO_WEIGHTS, job, (0.82, 0.92))


STREAMED_SIDE, STREAM_STEPS = 4_097, 40
"""Streams are looked for on all of a land at once: on so many posts a side at most; in so many steps of time."""


def _streams(weathering: Weathering, spacing: float, made: Any, job: Job) -> None:
    if max(made.shape) > STREAMED_SIDE:
        words = f"streams run on at most {STREAMED_SIDE:,} posts a side, not on {made.shape[0]:,} by {made.shape[1]:,}"
        raise InvalidInput(f"{words}: make the land in parts, or with a wider spacing", "streams_ka")
    power = Power(weathering.uplift_mm / 1_000, weathering.erodes * 1e-6, weathering.concavity)

    def say(done: float) -> None:
        job.step(0.52 + 0.2 * done, f"Streams: {done * weathering.streams_ka:,.0f} thousand years")

    made[...] = carved(np.array(made), spacing, power, weathering.streams_ka * 1_000, STREAM_STEPS, say)


def _write(job: Job, world: OpenWorld, tract: Tract, command: MakeLand, window: Window, made: Any) -> Outcome:
    recipe, layer = command.recipe, sheet_layer(command.key)

    def begin() -> Sweep:
        sheets = sheets_of(world)
        old = dict(sheets).get(command.key)
        if old is None and len(sheets) >= MOST_SHEETS:
            raise Conflict(f"a world holds at most {MOST_SHEETS} sheets")
        if old is not None and old.locked:
            raise Conflict(f"the sheet {old.name} is locked: unlock it to make its land anew")
        sheet = Sheet(name=command.name, position=len(sheets)) if old is None else old
        stack = [*((k, s) for k, s in sheets if k != command.key), (command.key, sheet)]
        land = world.land_from(tract.row.id)
        parts = {one.tract.row.id: one for one in land.parts}

        def draw(draft: Draft, unit: Unit) -> None:
            one, (tract_id, tile) = parts[unit[0]], unit
            whole = one.tract.grid.tile_window(*tile).shifted(one.row, one.col)
            part = whole.meet(window)
            own = draft.tile(tract_id, (layer, *tile))
            ground, under = draft.tile(tract_id, (HEIGHT, *tile)), draft.tile(tract_id, (UNDER, *tile))
            base = base_of(ground, under).copy()
            own[...] = 0
            if not part.empty:
                share = share_of(world, land, _area(recipe), part, recipe.feather_m)
                box = part.inside(whole)
                own[box] = (np.asarray(made[part.inside(window)], np.float32) - base[box]) * share
            draft.cache(tract_id).widen_range((layer, *tile), own)
            restack(draft, unit, stack, base)

        names = ", ".join(landscape.name for landscape in recipe.landscapes)
        verb = "Made" if old is None else "Made anew"
        words = f"{verb} the land {sheet.name} from seed {recipe.seed}: {names}"
        moves: Moves = {
            (SHEETS.name, command.key): sheet,
            (RECIPES.name, command.key): recipe.model_copy(update={"tract": tract.row.id}),
        }
        there = {(tract.row.id, tile) for tract, tile, _, _ in land.tiles(window)}
        units = sorted(there | {unit for unit in holding(world.caches, command.key) if unit[0] in parts})
        still = world.rests_on(SHEETS.name, PLOTS.name)
        return Sweep(units, draw, lambda: Ended(words, said(command), moves), still)

    return world.sweep(begin, lambda done: job.step(0.93 + 0.06 * done, "Writing the ground"))
