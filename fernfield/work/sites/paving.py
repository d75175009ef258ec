"""Roads as they are seen from above, and the ground that they keep free of growth."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray, Window
from fernfield.core.sites.roads import paved
from fernfield.core.sites.solids import rgb
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.roads import ROADS, Road, beds_in, on_roads, road_posts
from fernfield.work.sites.standing import clear_of_pieces, taken_up

TRODDEN = "#9c8663"
"""What a road is made of that says nothing."""
SOLID = 0.92
"""How much of the ground a road hides."""


def colour_of(world: OpenWorld, row: Road) -> tuple[float, float, float]:
    """0 to 255."""
    cover = world.rows["covers"].get(row.cover or "")
    red, green, blue = rgb(getattr(cover, "colour", TRODDEN))
    return 255 * red, 255 * green, 255 * blue


def lay_roads(world: OpenWorld, land: Land, level: int, part: Window, ground: FloatArray) -> None:
    """Lay the roads of a land on a picture of its ground, which is changed: shape (3, rows, cols), 0 to 255.

    part : the pixels of a level (pixel 0 is on post 0)
    """
    if not world.rows[ROADS.name]:
        return
    pixel = 2.0**level
    posts = Window(
        int(part.row0 * pixel) - 2, int(part.col0 * pixel) - 2, int(part.row1 * pixel) + 3, int(part.col1 * pixel) + 3
    )  # fmt: skip
    for _, row, bed in beds_in(world, land, posts):
        cover = paved(
            bed.col / pixel - part.col0, bed.row / pixel - part.row0, bed.half / land.grid.spacing / pixel,
            (ground.shape[1], ground.shape[2]),
        ) * np.float32(SOLID)  # fmt: skip
        ground += cover * (np.array(colour_of(world, row), np.float32)[:, None, None] - ground)


def clear_of_all(world: OpenWorld, land: Land, x: FloatArray, y: FloatArray) -> NDArray[np.bool_]:
    """Which places lie clear of what stands there, of what that keeps free, and of roads."""
    return clear_of_pieces(world, land, x, y) & ~on_roads(world, land, x, y)


def taken_by_all(world: OpenWorld, land: Land, window: Window, step: int) -> FloatArray | None:
    """1 at every so-many-th post of a window where something stands or a road lies; None where nothing does."""
    stands, posts = taken_up(world, land, window, step), road_posts(world, land, window)
    if posts is None:
        return stands
    roads = posts[::step, ::step].astype(np.float32)
    return roads if stands is None else np.maximum(stands, roads)
