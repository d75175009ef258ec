"""What is seen from a place all around: sky and land as one picture, as a light probe has it."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light.sky import COLS, ROWS
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.moment import VISIBLE, Moment, sky_seen, told
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show

EYE_M = 1.7
LOOKS = 240
"""Along each bearing the land is looked at in so many growing steps."""
MOST_PIXELS = 1024


def probe(world: OpenWorld, land: Land, x: float, y: float, width: int, show: Show) -> ByteArray:
    """The surroundings of a place, from `EYE_M` over the ground: shape (width // 2, width, 3).

    Columns are bearings clockwise from north, rows heights from straight above to straight below. Land has the colours
    of the plan in the same light and goes into the haze; growth and pieces are not seen in it. Raises InvalidInput
    outside of the land.
    """
    land.need(x, y, "the place")
    step = 0
    while max(land.grid.rows, land.grid.cols) >> step > MOST_PIXELS:
        step += 1
    posts = 2**step
    rows, cols = -(-land.grid.rows // posts), -(-land.grid.cols // posts)
    show = show.model_copy(update={"contour_m": 0.0, "overlays": (), "plain": False, "growth": False})
    picture = plan_pixels(world, land, step, Window(0, 0, rows, cols), show)
    with world.lock:
        heights = land.seen(HEIGHT, land.bounds, posts)
        water = world.surface(land, land.bounds, posts)
        eye = max(land.elevation(x, y), float(water[_row(land, y) // posts, _col(land, x) // posts])) + EYE_M
    tops = np.maximum(heights, water)
    moment = show.moment(world)
    far = math.hypot(land.grid.width, land.grid.depth)
    away = np.geomspace(land.grid.spacing, far, LOOKS)
    bearings = np.radians((np.arange(width) + 0.5) * 360 / width)
    east, north = x + np.outer(np.sin(bearings), away), y + np.outer(np.cos(bearings), away)
    at_col, at_row = land.grid.col_of(east) / posts, land.grid.row_of(north) / posts
    inside = (at_col >= 0) & (at_row >= 0) & (at_col <= cols - 1) & (at_row <= rows - 1)
    c, r = np.rint(np.clip(at_col, 0, cols - 1)).astype(int), np.rint(np.clip(at_row, 0, rows - 1)).astype(int)
    angles = np.where(inside, np.degrees(np.arctan2(tops[r, c] - eye, away)), -90.0)
    highest = np.maximum.accumulate(angles, axis=1)
    tall = width // 2
    up = 90 - (np.arange(tall) + 0.5) * 180 / tall
    out = _sky(world, moment, up.astype(np.float32), np.degrees(bearings).astype(np.float32))
    ground, haze = picture[..., :3].astype(np.float32), np.array(told(world, moment)["haze_ink"]) * 255
    thick = VISIBLE / (told(world, moment)["haze_m"] if moment.mood is not None else 20_000.0)
    for k in range(width):
        # The first of the land that stands as high as is looked.
        first = np.searchsorted(highest[k], up)
        hit = first < LOOKS
        at = first[hit]
        through = np.exp(-away[at] * thick)[:, None]
        out[hit, k] = ground[r[k, at], c[k, at]] * through + haze * (1 - through)
    return np.asarray(np.rint(np.clip(out, 0, 255)), np.uint8)


def _row(land: Land, y: float) -> int:
    return int(np.clip(round(float(land.grid.row_of(y))), 0, land.grid.rows - 1))


def _col(land: Land, x: float) -> int:
    return int(np.clip(round(float(land.grid.col_of(x))), 0, land.grid.cols - 1))


def _sky(world: OpenWorld, moment: Moment, up: FloatArray, bearings: FloatArray) -> FloatArray:
    """The sky of a moment at heights and bearings; under the horizon its haze. [°]"""
    sky = sky_seen(moment).astype(np.float32)
    row = np.clip(np.rint((90 - up) / 90 * ROWS - 0.5).astype(int), 0, ROWS - 1)
    col = np.rint((bearings - moment.sun.sun_bearing_deg) % 360 / 360 * COLS - 0.5).astype(int) % COLS
    out = np.asarray(sky[row][:, col], np.float32)
    out[up < 0] = np.array(told(world, moment)["haze_ink"], np.float32) * 255
    return out
