"""What is known of a place: the spot under the cursor, and how high the land in view is."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import cast

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.grid import Window
from fernfield.core.light.relief import aspect_degrees, slope_degrees
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.shares import cover_shares
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.outlines import holds_point
from fernfield.work.plots.rows import PLOTS
from fernfield.work.water.flowing import WaterHere, water_at
from fernfield.work.water.rows import Tide, liquid_of, sea_level, tide_level

NEAR_M = 10.0


class SpotTold(TypedDict):
    """What is known of a place [m]. `plots`: the names of those that it lies in; `covers`: the share of each, by name;
    `walk`: "climbable", "too steep" or "too deep"."""

    x: float
    y: float
    plots: list[str]
    elevation_m: float
    over_sea_m: float
    slope_deg: float
    slope_percent: float
    aspect_deg: float | None
    water_depth_m: float
    water: WaterHere | None
    walk: str
    covers: dict[str, float]
    growth_within_10_m: int


class Levels(TypedDict):
    """How the elevations of a window are spread: counts in equal steps from the bottom to the top. [m]"""

    bottom_m: float
    top_m: float
    counts: list[int]
    sea_level_m: float


def spot(world: OpenWorld, land: Land, x: float, y: float, tide: Tide | None = None) -> SpotTold:
    """Everything known about the point (x, y) [m], the sea as at a tide. Raises InvalidInput outside the tract."""
    grid = land.grid
    land.need(x, y, "the point")
    with world.lock:
        z = land.elevation(x, y)
        row, col = round(grid.row_of(y)), round(grid.col_of(x))
        wide = land.clip(Window(row, col, row + 1, col + 1).pad(1))
        heights = land.read(HEIGHT, wide)
        at = row - wide.row0, col - wide.col0
        covers = covers_of(world)
        shares = cover_shares(world, land, Window(row, col, row + 1, col + 1))[:, 0, 0]
        near = sum(
            int(np.count_nonzero(np.hypot(found.plants.x - x, found.plants.y - y) <= NEAR_M))
            for found in standing_plants(world, land, land.around(x, y, NEAR_M + grid.spacing))
        )
    slope = float(slope_degrees(heights, grid.spacing)[at])
    aspect = float(aspect_degrees(heights, grid.spacing)[at])
    gait, water = WALKERS[WALKER], water_at(world, land, x, y, tide_level(world, tide))
    depth = 0.0 if water is None else water.surface_m - z
    wade = gait.wade if water is None else liquid_of(world, water.liquid).wade_m
    walk = "too deep" if 0 < wade <= depth else "too steep" if slope > gait.steepest_deg else "climbable"
    plots = [
        plot.name
        for part in land.parts
        for _, plot in world.each_in(PLOTS, part.tract.row.id)
        if holds_point(plot.points, x - part.x, y - part.y)
    ]
    return {
        "x": x,
        "y": y,
        "plots": plots,
        "elevation_m": z,
        "over_sea_m": z - sea_level(world),
        "slope_deg": slope,
        "slope_percent": math.tan(math.radians(slope)) * 100,
        "aspect_deg": None if math.isnan(aspect) else aspect,
        "water_depth_m": depth,
        "water": None if water is None else cast(WaterHere, asdict(water)),
        "walk": walk,
        "covers": {cover.name: float(share) for (_, cover), share in zip(covers, shares, strict=True)},
        "growth_within_10_m": near,
    }


def levels(world: OpenWorld, land: Land, window: Window, bins: int = 48) -> Levels:
    """A histogram of the elevations in `window`, from at most about 256 x 256 values of it."""
    window = land.clip(window)
    if window.empty:
        window = land.bounds
    step = 1 << max(0, (max(window.shape) // 128).bit_length() - 1)
    window = Window(window.row0 // step * step, window.col0 // step * step, window.row1, window.col1)
    with world.lock:
        heights = land.seen(HEIGHT, window, step)
        low, high = land.all_heights()
        void = land.void(np.arange(window.row0, window.row1, step), np.arange(window.col0, window.col1, step))
    if void is not None and not void.all():
        heights = heights[~void]
    sea = sea_level(world)
    bottom, top = min(low, sea) - 2, max(high, sea) + 2
    counts, _ = np.histogram(heights, bins=bins, range=(bottom, top))
    return {"bottom_m": bottom, "top_m": top, "counts": counts.tolist(), "sea_level_m": sea}
