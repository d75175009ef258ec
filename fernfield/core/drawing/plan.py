"""What the plan looks like: arrays in, RGBA out.

A sheet of paper under a raking sun and a softer sky: covers in muted inks, shaded relief and cast shadow,
water by depth with a drawn shoreline, brown contours with every fifth one heavier, and
growth as small discs with their own shadow.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel

Ink = tuple[float, float, float]

INDEX_EVERY = 5
"""Every fifth contour is drawn heavier, as on survey sheets (common practice)."""


@dataclass(frozen=True, slots=True)
class Stamp:
    """Things of one sort to draw: places and radii in pixels of the picture, and a colour 0-255."""

    x: FloatArray
    y: FloatArray
    radius: FloatArray
    colour: tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class PlanLook:
    """How the plan is drawn.

    sea_level : [m]; None draws no water
    contour_m : interval of the contours [m]; 0 draws none
    water_ink : how bright water's own colour is, in red, green and blue
    """

    sea_level: float | None
    contour_m: float
    water_ink: Ink = (1.0, 1.0, 1.0)


@kernel
def _grain(row: int, col: int) -> np.float32:
    """A fixed, fine unevenness of the paper, -1 to 1."""
    z = np.uint32(row) * np.uint32(0x9E3779B1) ^ np.uint32(col) * np.uint32(0x85EBCA77)
    z = (z ^ (z >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    z = (z ^ (z >> np.uint32(12))) * np.uint32(0x297A2D39)
    return np.float32((z ^ (z >> np.uint32(15))) & np.uint32(0xFFFF)) * np.float32(1 / 32767.5) - np.float32(1)


@kernel
def _paint(
    heights: FloatArray,
    metres: float,
    ground: FloatArray,
    light: FloatArray,
    lit: bool,
    water: FloatArray,
    wet: bool,
    interval: float,
    grain_row: int,
    grain_col: int,
    over: FloatArray,
    out: ByteArray,
) -> None:
    rows, cols = out.shape[0], out.shape[1]
    k = np.float32(1 / (8 * metres))
    one, zero, two = np.float32(1), np.float32(0), np.float32(2)
    pixel = np.float32(metres)
    falls, under = np.zeros(cols, np.float32), np.empty((3, cols), np.float32)
    for r in range(rows):
        up, mid, low = heights[r], heights[r + 1], heights[r + 2]
        # How far the ground falls across a pixel: lines are as wide whatever that is.
        if wet or interval > 0:
            for c in range(cols):
                p = ((up[c + 2] - up[c]) + two * (mid[c + 2] - mid[c]) + (low[c + 2] - low[c])) * k
                q = ((up[c] - low[c]) + two * (up[c + 1] - low[c + 1]) + (up[c + 2] - low[c + 2])) * k
                falls[c] = np.sqrt(p * p + q * q) * pixel
        for i in range(3):
            for c in range(cols):
                under[i, c] = ground[i, r, c] * light[i, r, c] if lit else ground[i, r, c]
        for c in range(cols):
            fall = falls[c]
            noise = _grain(grain_row + r, grain_col + c)
            h = mid[c + 1]
            depth = water[r, c] - h if wet else zero
            solid = np.float32(255)
            if depth > 0:
                # Light that reaches the bottom, and the water's own colour over it.
                clear = np.exp(-depth * np.float32(0.32)) * np.float32(0.72)
                shade = np.float32(0.1) + np.float32(0.9) * min(light[1, r, c], one) if lit else one
                dim = np.exp(-depth * np.float32(0.045))
                seen = (ground[0, r, c] + ground[1, r, c] + ground[2, r, c]) * clear
                red = (
                    ground[0, r, c] * clear * shade + (one - clear) * (np.float32(46) + np.float32(72) * dim) * over[0]
                )
                green = (
                    ground[1, r, c] * clear * shade + (one - clear) * (np.float32(92) + np.float32(74) * dim) * over[1]
                )
                blue = (
                    ground[2, r, c] * clear * shade + (one - clear) * (np.float32(122) + np.float32(66) * dim) * over[2]
                )
                if not lit:
                    # How much of the colour is the bottom's, and so has light to take.
                    solid = np.rint(
                        np.float32(BOTTOM) + np.float32(MOST_BOTTOM) * min(seen / (red + green + blue), one)
                    )
            else:
                tone = one + np.float32(0.035) * noise
                red, green, blue = under[0, c] * tone, under[1, c] * tone, under[2, c] * tone
            if interval > 0 and fall > 0:
                number = np.rint(h / np.float32(interval))
                away = abs(h - number * np.float32(interval)) / fall
                index = int(number) % 5 == 0
                width = np.float32(0.75) if index else np.float32(0.45)
                ink = min(max(width + np.float32(0.5) - away, zero), one)
                # Almost level ground would be one broad blot: let the ink thin out there.
                ink *= min(fall * np.float32(40) / np.float32(interval), one)
                ink *= np.float32(0.62) if index else np.float32(0.34)
                if depth > 0:
                    ink *= np.float32(0.45)
                red += (np.float32(78) - red) * ink
                green += (np.float32(56) - green) * ink
                blue += (np.float32(38) - blue) * ink
            if wet and fall > 0:
                away = abs(depth) / fall
                ink = min(max(np.float32(1.15) - away, zero), one) * np.float32(0.8)
                ink *= min(fall * np.float32(60), one)
                red += (np.float32(26) - red) * ink
                green += (np.float32(62) - green) * ink
                blue += (np.float32(80) - blue) * ink
            to = out[r, c]
            to[0] = np.uint8(min(max(red, zero), np.float32(255)))
            to[1] = np.uint8(min(max(green, zero), np.float32(255)))
            to[2] = np.uint8(min(max(blue, zero), np.float32(255)))
            to[3] = np.uint8(solid)


BOTTOM, MOST_BOTTOM = 128, 126
"""What alpha says of water in a picture without light: the first of these, and up to the second more by how much of the
colour is the bottom's."""


@kernel
def _lay_light(picture: ByteArray, light: FloatArray, over: FloatArray) -> None:
    one, half, full = np.float32(1), np.float32(0.5), np.float32(255)
    for r in range(picture.shape[0]):
        for c in range(picture.shape[1]):
            pixel = picture[r, c]
            red, green, blue = light[0, r, c], light[1, r, c], light[2, r, c]
            if pixel[3] == 0:
                continue
            if pixel[3] < 255:
                part = max(np.float32(pixel[3]) - np.float32(BOTTOM), np.float32(0)) / np.float32(MOST_BOTTOM)
                shade = part * (np.float32(0.1) + np.float32(0.9) * min(green, one))
                red, green, blue = (
                    shade + (one - part) * over[0],
                    shade + (one - part) * over[1],
                    shade + (one - part) * over[2],
                )
            # What was cut off below a whole number is half of one on the mean.
            pixel[0] = np.uint8(min((np.float32(pixel[0]) + half) * red, full))
            pixel[1] = np.uint8(min((np.float32(pixel[1]) + half) * green, full))
            pixel[2] = np.uint8(min((np.float32(pixel[2]) + half) * blue, full))
            pixel[3] = np.uint8(255)


def lay_light(picture: ByteArray, light: FloatArray, water_ink: Ink = (1.0, 1.0, 1.0)) -> None:
    """Put light on a picture that was drawn without any (modified), shape (rows, cols, 4): all as in `draw_plan`."""
    _lay_light(picture, np.ascontiguousarray(light, np.float32), np.array(water_ink, np.float32))


@kernel
def _disc(out: ByteArray, x: float, y: float, radius: float, red: float, green: float, blue: float, ink: float) -> None:
    rows, cols = out.shape[0], out.shape[1]
    reach = radius + 0.5
    for r in range(max(0, int(math.ceil(y - reach))), min(rows, int(math.floor(y + reach)) + 1)):
        for c in range(max(0, int(math.ceil(x - reach))), min(cols, int(math.floor(x + reach)) + 1)):
            away = math.sqrt((c - x) * (c - x) + (r - y) * (r - y))
            a = min(max(reach - away, 0.0), 1.0) * ink
            if a > 0:
                out[r, c, 0] = np.uint8(out[r, c, 0] + (red - out[r, c, 0]) * a)
                out[r, c, 1] = np.uint8(out[r, c, 1] + (green - out[r, c, 1]) * a)
                out[r, c, 2] = np.uint8(out[r, c, 2] + (blue - out[r, c, 2]) * a)


@kernel
def _crowns(
    out: ByteArray,
    x: FloatArray,
    y: FloatArray,
    radius: FloatArray,
    red: float,
    green: float,
    blue: float,
    away_x: float,
    away_y: float,
    lit: bool,
) -> None:
    # Discs under half a pixel are drawn half a pixel wide and fainter instead.
    for i in range(x.shape[0]) if lit else range(0):
        size = max(radius[i], 0.5)
        ink = 0.55 * min(radius[i] / size, 1.0)
        _disc(out, x[i] + away_x * size, y[i] + away_y * size, size, 26.0, 30.0, 28.0, ink)
    for i in range(x.shape[0]):
        size = max(radius[i], 0.5)
        ink = 0.92 * min(radius[i] / size, 1.0)
        _disc(out, x[i], y[i], size, red, green, blue, ink)
        if lit and size >= 2.0:
            near = 0.45 * size
            _disc(
                out,
                x[i] - away_x * near,
                y[i] - away_y * near,
                0.5 * size,
                min(red * 1.3 + 8, 255.0),
                min(green * 1.3 + 8, 255.0),
                min(blue * 1.25 + 4, 255.0),
                0.7,
            )


@kernel
def _darken(sunlit: ByteArray, x: FloatArray, y: FloatArray, radius: FloatArray, away_x: float, away_y: float) -> None:
    rows, cols = sunlit.shape
    for i in range(x.shape[0]):
        size = max(radius[i], 0.5)
        ink = IN_SHADE * min(radius[i] / size, 1.0)
        px, py, reach = x[i] + away_x * size, y[i] + away_y * size, size + 0.5
        for r in range(max(0, int(math.ceil(py - reach))), min(rows, int(math.floor(py + reach)) + 1)):
            for c in range(max(0, int(math.ceil(px - reach))), min(cols, int(math.floor(px + reach)) + 1)):
                away = math.sqrt((c - px) * (c - px) + (r - py) * (r - py))
                sunlit[r, c] = np.uint8(sunlit[r, c] * (1 - min(max(reach - away, 0.0), 1.0) * ink))


def draw_plan(
    heights: FloatArray,
    metres: float,
    ground: FloatArray,
    light: FloatArray | None,
    look: PlanLook,
    grain_at: tuple[int, int] = (0, 0),
    water: FloatArray | None = None,
) -> ByteArray:
    """The plan of one rectangle of ground.

    Parameters
    ----------
    heights : shape (rows + 2, cols + 2)
        Elevation at every pixel and one pixel around. [m]
    metres : side of a pixel on the ground. [m]
    ground : shape (3, rows, cols), red, green and blue of the covers, 0 to 255
    light : shape (3, rows, cols), how bright the ground is in each (`core.light.daylight`); None: its colours alone
    look : sea, contours
    grain_at : row and column of the first pixel, so that the paper's grain does not move
    water : shape (rows, cols), elevation of its surface, in the place of the look's sea level [m]

    Returns
    -------
    shape (rows, cols, 4), red, green, blue, and 255; without light the fourth is less under water (`BOTTOM`)
    """
    rows, cols = ground.shape[1:]
    if heights.shape != (rows + 2, cols + 2) or (light is not None and light.shape != (3, rows, cols)):
        given = None if light is None else light.shape
        raise ValueError(
            f"heights must be {(rows + 2, cols + 2)} and light {(3, rows, cols)}, not {heights.shape} and {given}"
        )
    out = np.empty((rows, cols, 4), np.uint8)
    _paint(
        np.ascontiguousarray(heights, np.float32),
        float(metres),
        np.ascontiguousarray(ground, np.float32),
        np.empty((3, 1, 1), np.float32) if light is None else np.ascontiguousarray(light, np.float32),
        light is not None,
        _level(look, rows, cols) if water is None else np.ascontiguousarray(water, np.float32),
        look.sea_level is not None or water is not None,
        float(look.contour_m),
        int(grain_at[0]),
        int(grain_at[1]),
        np.array((1, 1, 1) if light is None else look.water_ink, np.float32),
        out,
    )
    return out


def _level(look: PlanLook, rows: int, cols: int) -> FloatArray:
    return np.full((rows, cols), 0.0 if look.sea_level is None else look.sea_level, np.float32)


def draw_stamps(
    picture: ByteArray, stamps: Sequence[Stamp], sun_bearing: float | None, ink: Ink = (1.0, 1.0, 1.0)
) -> None:
    """Draw growth over a picture (modified), with light and shadow by the sun's bearing [°]; None: with neither.

    ink : how bright it is in red, green and blue
    """
    away = _away(0.0 if sun_bearing is None else sun_bearing)
    for stamp in stamps:
        if len(stamp.x):
            red, green, blue = (min(v * by, 255.0) for v, by in zip(stamp.colour, ink, strict=True))
            _crowns(picture, stamp.x, stamp.y, stamp.radius, red, green, blue, *away, sun_bearing is not None)


def shade_stamps(sunlit: ByteArray, stamps: Sequence[Stamp], sun_bearing: float) -> None:
    """Take the sun from the ground that growth throws its shadow on: as `draw_stamps` draws it, in a plane of 0 to 255
    (modified)."""
    for stamp in stamps:
        _darken(sunlit, stamp.x, stamp.y, stamp.radius, *_away(sun_bearing))


IN_SHADE = 0.8
"""How much of the sun a crown keeps from the ground."""


def _away(sun_bearing: float) -> tuple[float, float]:
    """Where the shadow of a crown lies, in radii: along a row, and down."""
    bearing = math.radians(sun_bearing)
    return -math.sin(bearing) * 0.6, math.cos(bearing) * 0.6
