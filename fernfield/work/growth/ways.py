"""Plants that close the only way from one start to another."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.core.travel.ways import FREE, TAKEN, ways_from
from fernfield.work.growth.listing import id_of
from fernfield.work.growth.standing import StandingPlants, bed_of, plant_obstacles, stood
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in

MOST_POSTS = 2_049**2
"""Larger lands are not searched: whoever hands over would wait for them."""


@dataclass(frozen=True, slots=True)
class InTheWay:
    """A plant on the only way: what it is called, its kind, where it stands in the land, and in which tract. [m]"""

    id: str
    kind: str
    x: float
    y: float
    tract: str


def _starts(world: OpenWorld, land: Land) -> list[tuple[float, float]]:
    """Where people begin, in the land's metres."""
    found = []
    for part in land.parts:
        for key in sorted(world.rows["things"]):
            row = world.rows["things"][key]
            # The room of what stands is not known here: of a row of it, only what every such row has.
            if getattr(row, "sort", "") == "start" and getattr(row, "tract", None) in (part.tract.row.id, None):
                own = getattr(row, "tract", None) or world.first_tract.row.id
                if own == part.tract.row.id:
                    found.append((getattr(row, "x") + part.x, getattr(row, "y") + part.y))  # noqa: B009
    return found


def _close(posts: ByteArray, land: Land, x: float, y: float, reach: float, mark: int) -> None:
    """Mark the posts around a place that somebody of a walker's width cannot stand on."""
    grid, bounds = land.grid, land.bounds
    far = reach + WALKERS[WALKER].radius
    col0, col1 = math.ceil(grid.col_of(x - far)) - bounds.col0, math.floor(grid.col_of(x + far)) - bounds.col0
    row0, row1 = math.ceil(grid.row_of(y + far)) - bounds.row0, math.floor(grid.row_of(y - far)) - bounds.row0
    for row in range(max(row0, 0), min(row1, posts.shape[0] - 1) + 1):
        for col in range(max(col0, 0), min(col1, posts.shape[1] - 1) + 1):
            east, north = grid.x_of(col + bounds.col0) - x, grid.y_of(row + bounds.row0) - y
            if east * east + north * north < far * far and posts[row, col] == FREE:
                posts[row, col] = mark


def _reaches(found: StandingPlants) -> FloatArray:
    """How far around each plant it blocks. [m]"""
    kind = found.kind
    own = {"nothing": 0.0, "trunk": kind.trunk_m, "box": kind.crown_m, "hull": kind.crown_m}[kind.blocks]
    return np.asarray(found.plants.width * np.float32(own))


def in_the_way(world: OpenWorld, land: Land) -> Iterator[InTheWay]:
    """The plants that have to go so that every start of a land can be reached from the first: those on the way that
    meets the fewest of them. None where a way is free, or where the ground itself has none."""
    starts = _starts(world, land)
    bounds = land.bounds
    if len(starts) < 2 or bounds.rows * bounds.cols > MOST_POSTS:
        return
    bed = bed_of(world, land, bounds)
    plants = [found for found in stood(bed) if found.kind.blocks != "nothing"]
    if not plants:
        return
    leave = passable_in(world, land, bounds, WALKER, without=plant_obstacles)
    posts = np.full((bounds.rows, bounds.cols), FREE, np.uint8)
    for found in plants:
        for x, y, reach in zip(found.plants.x, found.plants.y, _reaches(found), strict=True):
            if reach > 0:
                _close(posts, land, float(x), float(y), float(reach), TAKEN)

    def post(place: tuple[float, float]) -> tuple[int, int]:
        row = round(land.grid.row_of(place[1])) - bounds.row0
        col = round(land.grid.col_of(place[0])) - bounds.col0
        return min(max(row, 0), posts.shape[0] - 1), min(max(col, 0), posts.shape[1] - 1)

    ways = ways_from(posts, *post(starts[0]), leave)
    wanted = set()
    for start in starts[1:]:
        if ways.least[post(start)] > 0:
            wanted |= {at for at in ways.to(*post(start)) if posts[at] == TAKEN}
    if wanted:
        yield from _standing_on(land, plants, wanted)


def _standing_on(land: Land, plants: list[StandingPlants], wanted: set[tuple[int, int]]) -> Iterator[InTheWay]:
    at = [
        (land.grid.x_of(col + land.bounds.col0), land.grid.y_of(row + land.bounds.row0)) for row, col in sorted(wanted)
    ]
    x, y = np.array(at, np.float64).T
    for found, reaches in zip(plants, map(_reaches, plants), strict=True):
        p = found.plants
        for i in range(len(p)):
            if np.min((x - p.x[i]) ** 2 + (y - p.y[i]) ** 2) < (reaches[i] + WALKERS[WALKER].radius) ** 2:
                own = id_of(found.mix, found.part.kind, p.block[i], p.number[i], p.put[i])
                place = float(p.x[i]), float(p.y[i])
                part = land.part_at(*place) or land.parts[0]
                yield InTheWay(own, found.kind.name, place[0] - part.x, place[1] - part.y, part.tract.row.id)
