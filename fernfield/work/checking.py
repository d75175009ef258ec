"""What the checks are told of an open world."""

from __future__ import annotations

import math
from collections.abc import Iterator

import cv2
import numpy as np

from fernfield.core.checks.finding import Gap, Hole, Lopsided, Standing, Survey
from fernfield.core.grid import Window
from fernfield.core.light.relief import slope_degrees
from fernfield.core.sites.kit import KIT
from fernfield.work.entries import Thing
from fernfield.work.joining import open_joins
from fernfield.work.layers import HEIGHT, OPENING
from fernfield.work.scene import elevation_at
from fernfield.work.symmetric import check_symmetry
from fernfield.work.world import OpenWorld, Tract

HOLE = 32_768
"""From so much on a post is open."""


def survey(world: OpenWorld) -> Survey:
    """A world as the checks see it: what stands in every tract, its openings, and the symmetry of the first."""
    things, holes = [], []
    for tract in world.tracts.values():
        with world.lock:
            things += [_standing(world, tract, thing) for _, thing in world.things(tract.row.id)]
            holes += list(_holes(world, tract))
    lopsided = None
    if world.symmetry.kind != "off":
        found = check_symmetry(world, world.first_tract)
        lopsided = Lopsided(found["x"], found["y"], found["largest_m"])
    return Survey(things, holes, lopsided, [Gap(*gap) for gap in open_joins(world)])


def _standing(world: OpenWorld, tract: Tract, thing: Thing) -> Standing:
    around = tract.grid.around(thing.x, thing.y, 2 * tract.grid.spacing)
    slope = slope_degrees(tract.cache.read(HEIGHT, around), tract.grid.spacing)
    ground = elevation_at(tract, thing.x, thing.y)
    return Standing(
        thing.name,
        thing.sort,
        thing.x,
        thing.y,
        max(0.0, world.sea_of(tract.row.id) - ground - thing.over_m),
        float(slope[slope.shape[0] // 2, slope.shape[1] // 2]),
        thing.default,
    )


def _holes(world: OpenWorld, tract: Tract) -> Iterator[Hole]:
    """Every opening: posts that are open and touch each other."""
    grid, cache = tract.grid, tract.cache
    window = Window(0, 0, 0, 0)
    for place in cache.ranges:
        if place[0] == OPENING and not cache.blank_tile(place):
            window = window.join(grid.tile_window(place[1], place[2]))
    if window.empty:
        return
    open_posts = (cache.read(OPENING, window) >= HOLE).astype(np.uint8)
    count, marks, stats, middles = cv2.connectedComponentsWithStats(open_posts, connectivity=8)
    pieces = [(thing, KIT[thing.kit]) for _, thing in world.things(tract.row.id) if thing.kit in KIT]
    for number in range(1, count):
        x, y = grid.x_of(window.col0 + middles[number][0]), grid.y_of(window.row0 + middles[number][1])
        rows, cols = np.nonzero(marks == number)
        covered = False
        for thing, kit in pieces:
            # Over some post of it, within the piece's own circle.
            away = np.hypot(
                (window.col0 + cols) * grid.spacing - thing.x,
                (grid.rows - 1 - window.row0 - rows) * grid.spacing - thing.y,
            )
            reach = max(math.hypot(kit.width, kit.depth) / 2, grid.spacing)
            covered = covered or bool((away <= reach).any())
        yield Hole(x, y, float(stats[number][cv2.CC_STAT_AREA]) * grid.spacing**2, covered)
