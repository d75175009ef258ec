"""Plants as they stand: where each comes to stand, how it leans, and what of it blocks a walker."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fernfield.core.brush.tool import Tool
from fernfield.core.errors import named
from fernfield.core.grid import FloatArray, Grid, Window, bilinear_many
from fernfield.core.growth.scatter import Habit, Plants, kind_seed, scatter
from fernfield.core.growth.tools import GROWTH
from fernfield.core.light.relief import gradients
from fernfield.core.travel.walker import Obstacle
from fernfield.work.growth.rows import Kind, Mix, kinds_of, mixes_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld


def growth_layer(key: str) -> str:
    return f"{GROWTH}:{key}"


def touched(world: OpenWorld, tool: Tool, mix: str | None) -> list[tuple[str, int]]:
    """The layer that a stroke with a mix works on. Raises NotFound."""
    key = named({key: key for key, _ in mixes_of(world)}, "mix", mix)
    return [(growth_layer(key), tool.sign)]


def plants_of(land: Land, key: str, mix: Mix, number: int, kind: Kind, part: Window) -> Plants | None:
    """The plants of one kind on the cells of `part`; None where nothing is sown.

    They stand where they do in the world, whichever tract they are seen from.
    """
    layer = growth_layer(key)
    wide, part = land.clip(part.pad(1)), land.clip(part)
    if part.empty or land.blank(layer, wide):
        return None
    mask = land.read(layer, wide)
    habit = Habit(kind.density_per_ha, kind.size_min, kind.size_max)
    plants = scatter(mask, wide, land.grid, part, habit, kind_seed(mix.seed, number), land.bounds, land.origin)
    if len(land.parts) > 1:
        plants = plants.those(land.holds_each(plants.x, plants.y))
    return plants if len(plants) else None


@dataclass(frozen=True, slots=True)
class StandingPlants:
    """Plants of one kind with their feet on the ground: z [m], and the way "up" leans, east and north."""

    mix: str
    kind: Kind
    plants: Plants
    z: FloatArray
    lean_east: FloatArray
    lean_north: FloatArray


@dataclass(frozen=True, slots=True)
class Bed:
    """Plants of a part of a land, by mix and kind, and the ground under them: a window of it on a grid. [m]"""

    sown: list[tuple[str, Kind, Plants]]
    heights: FloatArray
    window: Window
    grid: Grid


def bed_of(world: OpenWorld, land: Land, part: Window) -> Bed | None:
    """The plants on the cells of `part`, and the ground as it is now; None where nothing grows."""
    part = land.clip(part)
    if part.empty:
        return None
    with world.lock:
        sown = [
            (key, kind, plants)
            for key, mix, number, kind in kinds_of(world)
            if (plants := plants_of(land, key, mix, number, kind, part)) is not None
        ]
        wide = land.clip(part.pad(2))
        return Bed(sown, land.read(HEIGHT, wide), wide, land.grid) if sown else None


def stood(bed: Bed | None) -> list[StandingPlants]:
    """Plants with their feet on the ground. Upright kinds lean nowhere; for leaning ones `lean_east` and `lean_north`
    are the horizontal parts of the ground's unit normal."""
    found = []
    for key, kind, plants in () if bed is None else bed.sown:
        assert bed is not None
        rows, cols = bed.grid.row_of(plants.y) - bed.window.row0, bed.grid.col_of(plants.x) - bed.window.col0
        z = bilinear_many(bed.heights, rows, cols)
        lean_east = lean_north = np.zeros(len(plants), np.float32)
        if kind.habit == "leaning":
            east, north = gradients(bed.heights, bed.grid.spacing)
            p, q = bilinear_many(east, rows, cols), bilinear_many(north, rows, cols)
            length = np.sqrt(1 + p * p + q * q)
            lean_east, lean_north = (-p / length).astype(np.float32), (-q / length).astype(np.float32)
        found.append(StandingPlants(key, kind, plants, z, lean_east, lean_north))
    return found


def standing_plants(world: OpenWorld, land: Land, part: Window) -> list[StandingPlants]:
    """The plants on the cells of `part`, standing on the ground as it is now."""
    return stood(bed_of(world, land, part))


def plant_obstacles(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """What of the growth stands in a walker's way."""
    for growth in standing_plants(world, land, window):
        kind, plants = growth.kind, growth.plants
        if kind.blocks_m <= 0:
            continue
        for x, y, z, size in zip(plants.x, plants.y, growth.z, plants.size, strict=True):
            top = float(z) + kind.tall_m * float(size)
            yield Obstacle(kind.name.lower(), float(x), float(y), kind.blocks_m * float(size), float(z) - 1, top)
