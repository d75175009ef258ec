"""Light as it falls on the posts of an open land: the sun past hills, the share of sky, lamps, and hours of sun."""

from __future__ import annotations

import math
from collections import OrderedDict
from datetime import timedelta
from threading import Lock
from weakref import WeakKeyDictionary

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light import sky_share
from fernfield.core.light.lamps import Source, lamp_lux
from fernfield.core.light.relief import gradients
from fernfield.core.light.shadow import casters, reach_posts, sunlit
from fernfield.core.light.sky import LUMA
from fernfield.core.light.sun import midnight, seconds_of, sun_at
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.moment import Moment, is_lit, lamp_ink
from fernfield.work.light.rows import LAMPS, LIGHT, Lamp

SUN_STEPS = 48
"""A day is looked at so often for hours of sun."""
LOWEST_SUN_DEG = 2.0
"""Lower suns are not followed over the land for hours of sun: their shadows go on for kilometres."""
LEVEL_DAY = (52.0, 0.0)
"""Latitude and longitude of a world that has no place on earth, for hours of sun: at the equinox."""


def lit_posts(world: OpenWorld, land: Land, posts: Window, step: int, bearing: float, height: float) -> ByteArray:
    """How much of a light comes to every `step`-th post past the ground between: 255 for all of it, 0 for none.

    bearing, height : where it comes from, above the horizon [°]
    """
    low, _ = land.height_range(posts)
    _, high = land.all_heights()
    reach = reach_posts(high - low, land.grid.spacing, height)
    wide = casters(posts, bearing, reach)
    # Beyond the land nothing throws a shadow; keep to the steps of `posts`.
    clip = land.bounds
    up = max(0, min(posts.row0 - wide.row0, posts.row0 - clip.row0) // step)
    left = max(0, min(posts.col0 - wide.col0, posts.col0 - clip.col0) // step)
    down = max(0, min(wide.row1 - posts.row1, clip.row1 - posts.row1) // step)
    right = max(0, min(wide.col1 - posts.col1, clip.col1 - posts.col1) // step)
    wide = posts.grow(up * step, left * step, down * step, right * step)
    heights = with_bodies(world, land, wide, step, land.seen(HEIGHT, wide, step))
    origin = wide.row0 // step, wide.col0 // step
    lit = sunlit(heights, land.grid.spacing * step, bearing, height, origin=origin)
    rows, cols = -(-posts.rows // step), -(-posts.cols // step)
    return lit[up : up + rows, left : left + cols]


FINEST_BODIES = 2
"""From further away than with so many posts to a pixel no piece is seen to throw a shadow."""


def with_bodies(world: OpenWorld, land: Land, window: Window, step: int, heights: FloatArray) -> FloatArray:
    """The heights of every `step`-th post of a window, as high as the pieces that stand on it."""
    if step > FINEST_BODIES:
        return heights
    grid, out = land.grid, heights
    for body in world.house.given.bodies(world, land, window):
        row, col = (grid.row_of(body.y) - window.row0) / step, (grid.col_of(body.x) - window.col0) / step
        reach = body.radius / grid.spacing / step + 1
        r0, r1 = max(0, math.ceil(row - reach)), min(len(heights), math.floor(row + reach) + 1)
        c0, c1 = max(0, math.ceil(col - reach)), min(heights.shape[1], math.floor(col + reach) + 1)
        if r0 >= r1 or c0 >= c1:
            continue
        north, east = np.mgrid[r0:r1, c0:c1].astype(np.float32)
        north, east = (row - north) * grid.spacing * step, (east - col) * grid.spacing * step
        turn = math.radians(body.turn_deg)
        across, along = east * math.cos(turn) - north * math.sin(turn), east * math.sin(turn) + north * math.cos(turn)
        # What is narrower than from post to post stands on the posts beside it.
        half = grid.spacing * step / 2
        if body.half_width > 0:
            inside = (abs(across) <= max(body.half_width, half)) & (abs(along) <= max(body.half_depth, half))
        elif body.corners:
            inside = np.ones(east.shape, bool)
            for (ax, ay), (bx, by) in zip(body.corners, (*body.corners[1:], body.corners[0]), strict=True):
                inside &= (east - ax) * (by - ay) - (north - ay) * (bx - ax) <= half * math.hypot(bx - ax, by - ay)
        else:
            inside = east * east + north * north <= max(body.radius, half) ** 2
        if out is heights:
            out = heights.copy()
        part = out[r0:r1, c0:c1]
        part[inside] = np.maximum(part[inside], np.float32(body.z1))
    return out


MOST_SHARES = 96
_SHARES: WeakKeyDictionary[OpenWorld, OrderedDict[object, FloatArray]] = WeakKeyDictionary()
_SHARES_LOCK = Lock()


def share_posts(world: OpenWorld, land: Land, posts: Window, step: int) -> FloatArray:
    """The share of sky that every `step`-th post sees, 0 to 1. No sun changes it: the last are kept."""
    state = world.state_name()
    of = state, land.id, posts, step
    with _SHARES_LOCK:
        kept = _SHARES.setdefault(world, OrderedDict())
        if state is not None and of in kept:
            kept.move_to_end(of)
            return kept[of]
    spacing = land.grid.spacing * step
    around = sky_share.reach_posts(spacing)
    heights = land.seen(HEIGHT, posts.pad(around * step), step)
    found = sky_share.sky_share(heights, spacing, around)
    if state is not None:
        with _SHARES_LOCK:
            kept[of] = found
            while len(kept) > MOST_SHARES:
                kept.popitem(last=False)
    return found


def lamps_near(world: OpenWorld, land: Land, window: Window) -> list[tuple[str, Lamp, float, float]]:
    """Key, row and place (in the land's metres) of the lamps whose light may come into a window."""
    grid, most = land.grid, 200.0
    west, east = grid.x_of(window.col0) - most, grid.x_of(window.col1) + most
    south, north = grid.y_of(window.row1) - most, grid.y_of(window.row0) + most
    found = []
    for part in land.parts:
        box = west - part.x, south - part.y, east - part.x, north - part.y
        for key, lamp in world.near(LAMPS, part.tract.row.id, box):
            x, y, reach = lamp.x + part.x, lamp.y + part.y, lamp.reach_m + grid.spacing
            if west + most - reach <= x <= east - most + reach and south + most - reach <= y <= north - most + reach:
                found.append((key, lamp, x, y))
    return found


def sources_in(world: OpenWorld, land: Land, window: Window, moment: Moment) -> list[Source]:
    """The lamps that are lit and whose light may come into a window."""
    time = world.only(LIGHT).time
    near = [one for one in lamps_near(world, land, window) if is_lit(one[1], moment, time)]
    feet = land.elevations([x for _, _, x, _ in near], [y for _, _, _, y in near]).tolist()
    found = []
    for (_, lamp, x, y), foot in zip(near, feet, strict=True):
        red, green, blue = (lamp.lumens * part for part in lamp_ink(lamp))
        found.append(Source(x, y, foot + lamp.over_m, (red, green, blue), lamp.reach_m, lamp.cone_deg, lamp.shadows))
    if not moment.by_day:
        grid = land.grid
        west, east = grid.x_of(window.col0) - SHINES_M, grid.x_of(window.col1) + SHINES_M
        south, north = grid.y_of(window.row1) - SHINES_M, grid.y_of(window.row0) + SHINES_M
        for one in world.house.given.shining(world, land, (west, south, east, north)):
            own = Lamp(
                name="lamp",
                x=one.x,
                y=one.y,
                over_m=max(one.over_m, 0.0),
                lumens=one.lumens,
                kelvin=None,
                colour=one.colour,
            )
            red, green, blue = (own.lumens * part for part in lamp_ink(own))
            foot = land.elevation(one.x, one.y)
            found.append(
                Source(one.x, one.y, foot + one.over_m, (red, green, blue), own.reach_m, own.cone_deg, own.shadows)
            )
    return found


SHINES_M = 60.0
"""So far around a window the lights of pieces are looked for."""


def lamplight(world: OpenWorld, land: Land, posts: Window, step: int, moment: Moment) -> FloatArray | None:
    """Illuminance by lamps at every `step`-th post, shape (3, rows, cols) [lx]; None where none is lit near."""
    lamps = sources_in(world, land, posts, moment)
    if not lamps:
        return None
    spacing = land.grid.spacing * step
    thrown = max((lamp.reach for lamp in lamps if lamp.shadows), default=0.0)
    around = 1 + math.ceil(thrown / spacing)
    wide = posts.pad(around * step)
    heights = land.seen(HEIGHT, wide, step)
    return lamp_lux(heights, spacing, land.grid.x_of(wide.col0), land.grid.y_of(wide.row0), around, lamps)


def lux_posts(world: OpenWorld, land: Land, posts: Window, step: int, moment: Moment) -> FloatArray:
    """Illuminance of the ground at every `step`-th post: by the sun or moon past hills, by the share of sky that is
    seen there, and by lamps. [lx]"""
    rows, cols = -(-posts.rows // step), -(-posts.cols // step)
    out = np.zeros((rows, cols), np.float32)
    if moment.sky is not None:
        day = moment.day
        out += float(LUMA @ moment.sky.sky) * share_posts(world, land, posts, step)
        up = math.sin(math.radians(day.height))
        thrown = float(LUMA @ (moment.sky.sun + moment.sky.moon)) / up if max(day.sun) > 0 else 0.0
        if thrown > 0:
            heights = land.seen(HEIGHT, posts.pad(step), step)
            east, north = gradients(heights, land.grid.spacing * step)
            toward = day.ways[0]
            facing = (toward[2] - east * toward[0] - north * toward[1]) / np.sqrt(1 + east * east + north * north)
            lit = lit_posts(world, land, posts, step, day.bearing, day.height).astype(np.float32) / 255
            out += thrown * np.maximum(facing[1:-1, 1:-1][:rows, :cols], 0) * lit
    lamps = lamplight(world, land, posts, step, moment)
    if lamps is not None:
        out += np.tensordot(LUMA.astype(np.float32), lamps, axes=1)
    return out


def day_suns(world: OpenWorld) -> list[tuple[float, float]]:
    """Bearing on the map and height of the sun at `SUN_STEPS` moments of the world's day, evenly apart. [°]"""
    light = world.only(LIGHT)
    if light.time is not None and light.latitude_deg is not None:
        latitude, longitude, first = light.latitude_deg, light.longitude_deg or 0.0, seconds_of(midnight(light.time))
    else:
        latitude, longitude, first = *LEVEL_DAY, 1_774_051_200.0
    apart = timedelta(days=1).total_seconds() / SUN_STEPS
    aloft = sun_at(first + (np.arange(SUN_STEPS) + 0.5) * apart, latitude, longitude)
    bearings = (aloft.bearing + light.north_deg) % 360
    return list(zip(bearings.tolist(), aloft.height.tolist(), strict=True))


def sun_hours(world: OpenWorld, land: Land, posts: Window, step: int) -> FloatArray:
    """For how long of the world's day the sun comes to every `step`-th post past the ground. [h]"""
    out = np.zeros((-(-posts.rows // step), -(-posts.cols // step)), np.float32)
    for bearing, height in day_suns(world):
        if height >= LOWEST_SUN_DEG:
            out += lit_posts(world, land, posts, step, bearing, height)
    return out * np.float32(24 / SUN_STEPS / 255)


def sun_strip(world: OpenWorld, land: Land, x: float, y: float) -> list[float | None]:
    """How much of the sun comes to a place at each of the moments of a day: 0 to 1, None where it has set."""
    if not land.grid.holds(x, y):
        raise InvalidInput(f"the place must be on the land, not at {x:g}, {y:g}", "x")
    row, col = round(land.grid.row_of(y)), round(land.grid.col_of(x))
    posts = land.clip(Window(row, col, row + 1, col + 1))
    return [
        float(lit_posts(world, land, posts, 1, bearing, height)[0, 0]) / 255 if height >= LOWEST_SUN_DEG else None
        for bearing, height in day_suns(world)
    ]
