"""Edits of whole areas of ground: resetting them, weathering them, pressing a file into them."""

from __future__ import annotations

from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.intake.square import between
from fernfield.work.ground.commands import PressFile, Reset, Weather
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.windows import let_go
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import draw_ground
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Say, Sweep
from fernfield.work.plots.areas import area_words, corners_of, mixed, share_of, window_of
from fernfield.work.plots.rows import PLOTS

RESTS_ON = (PLOTS.name, "covers")
"""The collections that say how much of a post belongs to an area."""


def reset(world: OpenWorld, tract: Tract, command: Reset, past: OpenWorld | None) -> Outcome:
    """Bring an area back to an elevation, or to the ground of `past`, the world as it was."""

    def begin() -> Sweep:
        land = world.land_from(tract.row.id)
        older = None if past is None else land.as_in(past.tracts)
        window = window_of(world, land, command)

        def new(part: Window, was: FloatArray) -> FloatArray:
            share = share_of(world, land, command, part, command.feather_m)
            if older is None or past is None:
                return mixed(was, np.full_like(was, command.elevation_m), share)
            with past.lock:
                then = older.read(HEIGHT, part)
            return mixed(was, then, share)

        to = {"base": "to the base", "revision": f"to r{command.revision}"}.get(
            command.to, f"to {command.elevation_m or 0:g} m"
        )
        words = f"Reset {area_words(world, command)} {to}"
        return draw_ground(world, land, window, command.sheet, new, lambda: Ended(words, said(command)), *RESTS_ON)

    return world.sweep(begin)


def weathered(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, after: Any, say: Say
) -> Outcome:
    """Write what weathering came to. Where the ground has changed meanwhile, what it did is added to that."""

    def begin() -> Sweep:
        def new(part: Window, was: FloatArray) -> FloatArray:
            box = part.inside(window)
            old, then = np.array(before[box], np.float32), np.array(after[box], np.float32)
            let_go(before)
            let_go(after)
            return np.where(was == old, then, was + (then - old)).astype(np.float32)

        how = (
            f"frost, {command.passes} passes to {command.repose_deg:g}°"
            if command.kind == "frost"
            else f"rain, {command.drops_per_m2:g} drops/m²"
        )
        words = f"Weathered {area_words(world, command)} by {how}"
        land = world.land_from(tract.row.id)
        return draw_ground(world, land, window, command.sheet, new, lambda: Ended(words, said(command)))

    return world.sweep(begin, say)


def press_file(world: OpenWorld, tract: Tract, command: PressFile, heights: Any) -> Outcome:
    """Press heights of another grid into an area, stretched to its bounds. [m]"""

    def begin() -> Sweep:
        land = world.land_from(tract.row.id)
        window = window_of(world, land, command)
        corners = corners_of(world, land, command)
        xs, ys = (
            ([x for x, _ in corners], [y for _, y in corners])
            if corners
            else ([0.0, tract.grid.width], [0.0, tract.grid.depth])
        )
        rows0, cols0 = tract.grid.row_of(max(ys)), tract.grid.col_of(min(xs))
        down = (heights.shape[0] - 1) / max(tract.grid.row_of(min(ys)) - rows0, 1e-9)
        across = (heights.shape[1] - 1) / max(tract.grid.col_of(max(xs)) - cols0, 1e-9)
        # A finer file is averaged first, or its detail would alias.
        coarser = max(1, int(min(down, across)))
        source = _averaged(heights, coarser)

        def new(part: Window, was: FloatArray) -> FloatArray:
            rows = (np.arange(part.row0, part.row1) - rows0) * down
            cols = (np.arange(part.col0, part.col1) - cols0) * across
            middle = (coarser - 1) / 2
            pressed = between(source, (rows - middle) / coarser, (cols - middle) / coarser)
            share = share_of(world, land, command, part, command.feather_m)
            return mixed(was, pressed + np.float32(command.lift_m), share)

        words = f"Pressed a file into {area_words(world, command)}"
        return draw_ground(world, land, window, command.sheet, new, lambda: Ended(words, said(command)), *RESTS_ON)

    return world.sweep(begin)


def _averaged(heights: Any, block: int) -> Any:
    """Means of blocks of posts, band by band; the last ones of what is left."""
    if block == 1:
        return heights
    rows, cols = heights.shape[0] // block, heights.shape[1] // block
    out = np.empty((max(rows, 1), max(cols, 1)), np.float32)
    for row in range(len(out)):
        band = np.asarray(heights[row * block : (row + 1) * block, : out.shape[1] * block], np.float64)
        out[row] = band.reshape(len(band), out.shape[1], -1).mean(axis=(0, 2))
    return out
