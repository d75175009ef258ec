"""Plants that stand wrong: found on the land as it is, and put right by one command."""

from __future__ import annotations

import hashlib
import itertools
import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import reduce
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from fernfield.core.checks.finding import Finding
from fernfield.core.checks.growth import SETTLED, TROUBLES, Troubled, troubled
from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window, bilinear_many
from fernfield.core.growth.shapes import FORMS
from fernfield.core.light.relief import slope_degrees
from fernfield.work.asking.conditions import REACHING, RESTS, Condition, reach_of
from fernfield.work.asking.fields import wet_mark
from fernfield.work.growth.listing import id_of
from fernfield.work.growth.rows import mixes_of
from fernfield.work.growth.standing import StandingPlants, bed_of, plant_obstacles, stood
from fernfield.work.growth.touching import MOST_TOUCHED, DropPlants, SettlePlants, drop_plants, settle_plants
from fernfield.work.growth.ways import in_the_way
from fernfield.work.kernel.checking import ByTile
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.says import UNASKED
from fernfield.work.kernel.windows import rows_of
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.rows import LINES

FLOATS_M = 0.4
"""Higher over the ground than this a plant floats (our choice)."""
DEEP_M = 0.4
"""Deeper under water than this a plant that does not like it stands wrong (our choice)."""
STEEP_DEG = 55.0
BESIDE_LINE_M = 1.5
FREE_M = 4.0
"""So far around a start nothing stands that blocks (our choice: two steps and a turn)."""
MOST_LOOKED_AT = 2_049**2
"""Posts of a tract whose plants are gone through: larger ones would keep whoever hands over waiting."""

TroubleName = Literal[
    "floating", "buried", "under_water", "too_steep", "inside_piece", "on_line", "at_start", "blocking"
]
BLOCKING = "blocking"
Mask = NDArray[np.bool_]


class MendPlants(Command):
    """Put right the plants of a tract that have a trouble: all, or the one with an id."""

    do: Literal["mend_plants"] = "mend_plants"
    trouble: Annotated[TroubleName, UNASKED]
    id: Annotated[Annotated[str, Field(max_length=200)] | None, UNASKED] = None


@dataclass(frozen=True)
class Ground:
    """What plants are compared with: heights of a window of a land, their slope, the surface of water. [m, °]"""

    world: OpenWorld
    land: Land
    heights: FloatArray
    slope: FloatArray
    window: Window
    water: FloatArray

    def at(self, values: FloatArray, found: StandingPlants) -> FloatArray:
        grid, p = self.land.grid, found.plants
        return bilinear_many(values, grid.row_of(p.y) - self.window.row0, grid.col_of(p.x) - self.window.col0)


def _floating(found: StandingPlants, ground: Ground) -> Mask:
    return np.asarray(-found.plants.sink > FLOATS_M)


def _buried(found: StandingPlants, ground: Ground) -> Mask:
    return np.asarray(found.plants.sink > 0.5 * found.kind.tall_m * found.plants.height)


def _under_water(found: StandingPlants, ground: Ground) -> Mask:
    if found.kind.in_water:
        return np.zeros(len(found.plants), bool)
    p, grid = found.plants, ground.land.grid
    rows = (np.rint(grid.row_of(p.y)).astype(int) - ground.window.row0).clip(0, ground.water.shape[0] - 1)
    cols = (np.rint(grid.col_of(p.x)).astype(int) - ground.window.col0).clip(0, ground.water.shape[1] - 1)
    return np.asarray(ground.at(ground.heights, found) < ground.water[rows, cols] - DEEP_M)


def _too_steep(found: StandingPlants, ground: Ground) -> Mask:
    if found.kind.leans > 0.5 or FORMS[found.kind.form].stone:
        return np.zeros(len(found.plants), bool)
    return np.asarray(ground.at(ground.slope, found) > STEEP_DEG)


def _inside_piece(found: StandingPlants, ground: Ground) -> Mask:
    p, inside = found.plants, np.zeros(len(found.plants), bool)
    for stands in ground.world.house.obstacles:
        if stands is plant_obstacles:
            continue
        for one in stands(ground.world, ground.land, ground.window):
            turn = np.radians(one.turn_deg)
            dx, dy = p.x - one.x, p.y - one.y
            if one.half_width > 0:
                aside, along = dx * np.cos(turn) - dy * np.sin(turn), dx * np.sin(turn) + dy * np.cos(turn)
                inside |= (np.abs(aside) < one.half_width) & (np.abs(along) < one.half_depth)
            else:
                inside |= np.hypot(dx, dy) < one.radius
    return inside


def _on_line(found: StandingPlants, ground: Ground) -> Mask:
    p, on = found.plants, np.zeros(len(found.plants), bool)
    if found.kind.blocks == "nothing":
        return on
    for part in ground.land.parts:
        for _, line in ground.world.each_in(LINES, part.tract.row.id):
            for a, b in itertools.pairwise(np.array(line.points, np.float64) + np.array([part.x, part.y])):
                way = b - a
                length = max(float(way @ way), 1e-9)
                t = np.clip(((p.x - a[0]) * way[0] + (p.y - a[1]) * way[1]) / length, 0, 1)
                on |= np.hypot(p.x - a[0] - t * way[0], p.y - a[1] - t * way[1]) < BESIDE_LINE_M
    return on


def _at_start(found: StandingPlants, ground: Ground) -> Mask:
    p, near = found.plants, np.zeros(len(found.plants), bool)
    if found.kind.blocks == "nothing":
        return near
    for part in ground.land.parts:
        for row in ground.world.rows["things"].values():
            # The room of what stands is not known here: of a row of it, only what every such row has.
            if getattr(row, "sort", "") == "start" and getattr(row, "tract", None) == part.tract.row.id:
                x, y = getattr(row, "x") + part.x, getattr(row, "y") + part.y  # noqa: B009
                near |= np.hypot(p.x - x, p.y - y) < FREE_M
    return near


LOOKS: dict[str, Callable[[StandingPlants, Ground], Mask]] = {
    "floating": _floating, "buried": _buried, "under_water": _under_water, "too_steep": _too_steep,
    "inside_piece": _inside_piece, "on_line": _on_line, "at_start": _at_start,
}  # fmt: skip


Seen = dict[str, Troubled]
"""The troubles of the plants of a tile."""


def _plants(world: OpenWorld, land: Land, window: Window) -> Iterator[tuple[StandingPlants, Ground]]:
    """The plants of a window of a tract's own land, band by band, and the ground under them."""
    grid = world.tract(land.id).grid
    inner = Window(0, 0, grid.rows - 1, grid.cols - 1)
    for band in rows_of(window.meet(inner)):
        bed = bed_of(world, land, band)
        if bed is None:
            continue
        with world.lock:
            water = world.surface(land, bed.window)
        ground = Ground(world, land, bed.heights, slope_degrees(bed.heights, grid.spacing), bed.window, water)
        for found in stood(bed):
            yield found, ground


def _own_id(found: StandingPlants, at: int) -> str:
    p = found.plants
    return id_of(found.mix, found.part.kind, p.block[at], p.number[at], p.put[at])


def troubled_in(world: OpenWorld, tract: Tract, trouble: str) -> list[str]:
    """The ids of all plants of a tract that have a trouble."""
    land = world.land_from(tract.row.id)
    if trouble == BLOCKING:
        return [one.id for one in in_the_way(world, land) if one.tract == tract.row.id]
    return [
        _own_id(found, int(at))
        for found, ground in _plants(world, land, tract.grid.window)
        for at in np.flatnonzero(LOOKS[trouble](found, ground))
    ]


def _look(world: OpenWorld, land: Land, window: Window) -> Seen | None:
    seen: Seen = {}
    for found, ground in _plants(world, land, window):
        for trouble, look in LOOKS.items():
            wrong, p = np.flatnonzero(look(found, ground)), found.plants
            if len(wrong):
                at = int(wrong[0])
                own = Troubled(
                    trouble, len(wrong), found.kind.name, float(p.x[at]), float(p.y[at]), land.id, _own_id(found, at)
                )
                seen[trouble] = _with(seen[trouble], own) if trouble in seen else own
    return seen or None


def _with(first: Troubled, other: Troubled) -> Troubled:
    return replace(first, count=first.count + other.count)


def _tell(world: OpenWorld, seen: Mapping[str, list[Seen]]) -> Iterator[Finding]:
    for tiles in seen.values():
        for trouble in LOOKS:
            some = [tile[trouble] for tile in tiles if trouble in tile]
            if some:
                yield troubled(reduce(_with, some))


def _around(world: OpenWorld, land: Land) -> int:
    """So many posts around a tile decide what grows in it, besides the water that comes from far away."""
    far = [reach_of(one) for one in _asked(world) if one.what in (*REACHING, *RESTS)]
    far += [FREE_M, *(one.near_m for _, mix in mixes_of(world) for one in mix.kinds)]
    return math.ceil(max(far) / land.grid.spacing) + 3 + world.house.given.covers_rest_on(world, land)[0]


def _near(world: OpenWorld, land: Land, window: Window) -> tuple[object, ...]:
    """What stands around, where water stands there, and how wet it is: that may change with what is done far away."""
    wide = land.clip(window.pad(3))
    stands = tuple(world.house.given.stand_near(world, land, land.clip(window.pad(_around(world, land)))))
    surface = world.surface(land, wide)
    levels = np.where(surface > land.read(HEIGHT, wide), surface, np.float32(0))
    wet = wet_mark(world, land, wide) if _drained(world, land) else ""
    return stands, hashlib.sha256(levels.tobytes()).hexdigest(), wet


def _drained(world: OpenWorld, land: Land) -> bool:
    """Whether what grows, or the cover that it asks for, asks how wet the ground is."""
    asked = any(one.what == "wetness" for one in _asked(world))
    return asked or world.house.given.covers_rest_on(world, land)[1]


def _asked(world: OpenWorld) -> list[Condition]:
    """All that mixes and their kinds ask of the ground."""
    mixes = [mix for _, mix in mixes_of(world)]
    return [
        one for mix in mixes for asked in (mix.conditions, *(part.conditions for part in mix.kinds)) for one in asked
    ]


def _skips(tract: Tract) -> bool:
    return tract.grid.rows * tract.grid.cols > MOST_LOOKED_AT


PLANTS = ByTile(_look, _tell, _around, _near, _skips)


def blocking(world: OpenWorld) -> Iterator[Finding]:
    """The plants that close the only way from a start to another, in every tract."""
    for land in world.lands():
        closing = list(in_the_way(world, land))
        for key in land.tract_ids:
            mine = [one for one in closing if one.tract == key]
            if mine:
                yield troubled(Troubled(BLOCKING, len(mine), mine[0].kind, mine[0].x, mine[0].y, key, mine[0].id))


def mend_plants(world: OpenWorld, tract: Tract, command: MendPlants) -> Outcome:
    """Settle, or take away, what has a trouble; one revision. Raises Conflict when there is none."""
    with world.lock:
        ids = troubled_in(world, tract, command.trouble)[:MOST_TOUCHED]
        if command.id is not None:
            ids = [own for own in ids if own == command.id]
        if not ids:
            raise Conflict(f"no plants {TROUBLES[command.trouble].words}: nothing was done")
        if command.trouble in SETTLED:
            return settle_plants(world, [tract.row.id], SettlePlants(ids=ids))
        return drop_plants(world, DropPlants(ids=ids))
