"""Pieces as they stand: in a walker's way, over an opening, and as the checks see them."""

from __future__ import annotations

import math
from collections.abc import Iterator

import cv2
import numpy as np

from fernfield.core.checks.finding import Hole, Standing
from fernfield.core.grid import Window
from fernfield.core.ground.openings import HOLE, OPENING
from fernfield.core.light.relief import slope_degrees
from fernfield.core.sites.kit import KIT
from fernfield.core.travel.walker import Obstacle
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.rows import THINGS, Thing, things_of

REACH_M = max(piece.width + piece.depth for piece in KIT.values())
"""No piece reaches further from its middle."""


def piece_obstacles(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """The pieces in and around a window of posts, as they stand in a walker's way."""
    grid = land.grid
    west, east = grid.x_of(window.col0) - REACH_M, grid.x_of(window.col1) + REACH_M
    south, north = grid.y_of(window.row1) - REACH_M, grid.y_of(window.row0) + REACH_M
    placed = [
        (thing, thing.x + part.x, thing.y + part.y)
        for part in land.parts
        for _, thing in world.near(
            THINGS, part.tract.row.id, (west - part.x, south - part.y, east - part.x, north - part.y)
        )
    ]
    # Each as far around as it reaches itself.
    placed = [
        (thing, x, y)
        for thing, x, y in placed
        if (piece := KIT.get(thing.kit or "")) is not None
        and max(west - x, x - east, south - y, y - north) + REACH_M <= piece.width + piece.depth
    ]
    foot = land.elevations([x for _, x, _ in placed], [y for _, _, y in placed]).tolist()
    for (thing, x, y), z in zip(placed, foot, strict=True):
        piece, ground = KIT[thing.kit or ""], z + thing.over_m
        yield Obstacle(
            thing.name, x, y, math.hypot(piece.width, piece.depth) / 2, ground - 2, ground + piece.height,
            piece.width / 2, piece.depth / 2, thing.turn_deg,
        )  # fmt: skip


def pieces_in(world: OpenWorld, land: Land) -> Iterator[tuple[str, float, float]]:
    """Key and place of every piece of a land, in its metres."""
    for part in land.parts:
        for key, thing in things_of(world, part.tract.row.id):
            if thing.sort == "piece":
                yield key, thing.x + part.x, thing.y + part.y


def standing(world: OpenWorld) -> Iterator[Standing]:
    """Everything that stands, as the checks see it."""
    for tract in world.tracts.values():
        with world.lock:
            land = world.land_from(tract.row.id)
            found = [_standing(world, land, thing) for _, thing in things_of(world, tract.row.id)]
        yield from found


def _standing(world: OpenWorld, land: Land, thing: Thing) -> Standing:
    around = land.around(thing.x, thing.y, 2 * land.grid.spacing)
    slope = slope_degrees(land.read(HEIGHT, around), land.grid.spacing)
    ground = land.elevation(thing.x, thing.y)
    row, col = round(land.grid.row_of(thing.y)), round(land.grid.col_of(thing.x))
    here = land.clip(Window(row, col, row + 1, col + 1))
    depth = max(0.0, float(world.surface(land, here)[0, 0]) - ground - thing.over_m)
    steep = float(slope[slope.shape[0] // 2, slope.shape[1] // 2])
    return Standing(thing.name, thing.sort, thing.x, thing.y, depth, steep, thing.default, land.id, thing.turn_deg)


def holes(world: OpenWorld) -> Iterator[Hole]:
    """Every opening, and whether a piece stands over it: posts that are open and touch each other."""
    for tract in world.tracts.values():
        with world.lock:
            found = list(_holes(world, tract))
        yield from found


def _holes(world: OpenWorld, tract: Tract) -> Iterator[Hole]:
    grid, cache = tract.grid, tract.cache
    window = Window(0, 0, 0, 0)
    for place in cache.ranges:
        if place[0] == OPENING and not cache.blank_tile(place):
            window = window.join(grid.tile_window(place[1], place[2]))
    if window.empty:
        return
    open_posts = (cache.read(OPENING, window) >= HOLE).astype(np.uint8)
    count, marks, stats, middles = cv2.connectedComponentsWithStats(open_posts, connectivity=8)
    pieces = [(thing, KIT[thing.kit]) for _, thing in things_of(world, tract.row.id) if thing.kit in KIT]
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
        area = float(stats[number][cv2.CC_STAT_AREA]) * grid.spacing**2
        yield Hole(x, y, area, covered, tract.row.id)
