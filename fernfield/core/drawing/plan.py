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

INDEX_EVERY = 5
"""Every fifth contour is drawn heavier, as on survey sheets (common practice)."""


SKY_BEARING, SKY_HEIGHT = 150.0, 50.0
"""From where the sky is brightest: the bearing from the sun's on, and how high. [°]

What the sun does not reach is shaded by the sky, from aside and behind, so that its shape is read as well; level ground
has as much of it whatever its direction. Two lights from different sides after the multidirectional shading of
R. K. Mark (1992), U.S. Geological Survey Open-File Report 92-422 (from memory); the figures are our own.
"""
SKY_CONTRAST = 1.1
"""How much brighter a slope is that looks there than level ground."""


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

    sun_bearing, sun_height : of the sun [°]
    sea_level : [m]; None draws no water
    contour_m : interval of the contours [m]; 0 draws none
    """

    sun_bearing: float
    sun_height: float
    sea_level: float | None
    contour_m: float


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
    lit: ByteArray,
    sun: FloatArray,
    sky: FloatArray,
    water: FloatArray,
    wet: bool,
    interval: float,
    grain_row: int,
    grain_col: int,
    out: ByteArray,
) -> None:
    rows, cols = out.shape[0], out.shape[1]
    k = np.float32(1 / (8 * metres))
    one, zero, two = np.float32(1), np.float32(0), np.float32(2)
    pixel = np.float32(metres)
    most = np.float32(1.55)
    level = np.float32(1 / (255 * max(sun[2], 0.17)))
    lights, skies, falls = np.empty(cols, np.float32), np.empty(cols, np.float32), np.empty(cols, np.float32)
    dimmest, brightest = np.float32(0.6), np.float32(1.5)
    for r in range(rows):
        up, mid, low, sunny = heights[r], heights[r + 1], heights[r + 2], lit[r]
        # A loop of its own without branches, which compilers turn into vector code.
        for c in range(cols):
            p = ((up[c + 2] - up[c]) + two * (mid[c + 2] - mid[c]) + (low[c + 2] - low[c])) * k
            q = ((up[c] - low[c]) + two * (up[c + 1] - low[c + 1]) + (up[c + 2] - low[c + 2])) * k
            steep = p * p + q * q
            upright = one / np.sqrt(one + steep)
            light = (sun[2] - p * sun[0] - q * sun[1]) * upright * (np.float32(sunny[c]) * level)
            light = light if light > zero else zero
            lights[c] = light if light < most else most
            above = one + (sky[2] - p * sky[0] - q * sky[1]) * upright - sky[2]
            above = above if above > dimmest else dimmest
            above = above if above < brightest else brightest
            # The more the sun reaches, the less the sky is seen.
            skies[c] = above * np.float32(0.46) - np.float32(0.36) if lights[c] < one else zero
            skies[c] *= one - lights[c]
            falls[c] = np.sqrt(steep) * pixel
        for c in range(cols):
            light, above, fall = lights[c], skies[c], falls[c]
            red, green, blue = ground[0, r, c], ground[1, r, c], ground[2, r, c]
            noise = _grain(grain_row + r, grain_col + c)
            h = mid[c + 1]
            depth = water[r, c] - h if wet else zero
            if depth > 0:
                # Light that reaches the bottom, and the water's own colour over it.
                clear = np.exp(-depth * np.float32(0.32)) * np.float32(0.72)
                shade = np.float32(0.55) + np.float32(0.45) * min(light, one)
                dim = np.exp(-depth * np.float32(0.045))
                red = red * clear * shade + (one - clear) * (np.float32(46) + np.float32(72) * dim)
                green = green * clear * shade + (one - clear) * (np.float32(92) + np.float32(74) * dim)
                blue = blue * clear * shade + (one - clear) * (np.float32(122) + np.float32(66) * dim)
            else:
                tone = one + np.float32(0.035) * noise
                red *= (np.float32(0.36) + np.float32(0.64) * light + above) * tone
                green *= (np.float32(0.40) + np.float32(0.60) * light + above) * tone
                blue *= (np.float32(0.47) + np.float32(0.52) * light + above) * tone
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
            to[3] = np.uint8(255)


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
def _stamp(
    out: ByteArray,
    x: FloatArray,
    y: FloatArray,
    radius: FloatArray,
    red: float,
    green: float,
    blue: float,
    away_x: float,
    away_y: float,
) -> None:
    # Discs under half a pixel are drawn half a pixel wide and fainter instead.
    for i in range(x.shape[0]):
        size = max(radius[i], 0.5)
        ink = 0.55 * min(radius[i] / size, 1.0)
        _disc(out, x[i] + away_x * size, y[i] + away_y * size, size, 26.0, 30.0, 28.0, ink)
    for i in range(x.shape[0]):
        size = max(radius[i], 0.5)
        ink = 0.92 * min(radius[i] / size, 1.0)
        _disc(out, x[i], y[i], size, red, green, blue, ink)
        if size >= 2.0:
            lit = 0.45 * size
            _disc(
                out,
                x[i] - away_x * lit,
                y[i] - away_y * lit,
                0.5 * size,
                min(red * 1.3 + 8, 255.0),
                min(green * 1.3 + 8, 255.0),
                min(blue * 1.25 + 4, 255.0),
                0.7,
            )


def draw_plan(
    heights: FloatArray,
    metres: float,
    ground: FloatArray,
    lit: ByteArray,
    look: PlanLook,
    stamps: Sequence[Stamp] = (),
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
    lit : shape (rows, cols), 255 in the sun, 0 in shadow
    look : sun, sea, contours
    stamps : growth, drawn over the ground in this order
    water : shape (rows, cols), elevation of its surface, in the place of the look's sea level [m]
    grain_at : row and column of the first pixel, so that the paper's grain does not move

    Returns
    -------
    shape (rows, cols, 4), red, green, blue, alpha (always 255)
    """
    rows, cols = ground.shape[1:]
    if heights.shape != (rows + 2, cols + 2) or lit.shape != (rows, cols):
        raise ValueError(
            f"heights must be {(rows + 2, cols + 2)} and lit {(rows, cols)}, not {heights.shape} and {lit.shape}"
        )
    bearing, height = math.radians(look.sun_bearing), math.radians(look.sun_height)
    sun = np.array(
        [math.sin(bearing) * math.cos(height), math.cos(bearing) * math.cos(height), math.sin(height)],
        np.float32,
    )
    beyond, over = math.radians(look.sun_bearing + SKY_BEARING), math.radians(SKY_HEIGHT)
    sky = np.array(
        [math.sin(beyond) * math.cos(over), math.cos(beyond) * math.cos(over), math.sin(over)], np.float32
    ) * np.float32(SKY_CONTRAST)
    out = np.empty((rows, cols, 4), np.uint8)
    _paint(
        np.ascontiguousarray(heights, np.float32),
        float(metres),
        np.ascontiguousarray(ground, np.float32),
        np.ascontiguousarray(lit, np.uint8),
        sun,
        sky,
        _level(look, rows, cols) if water is None else np.ascontiguousarray(water, np.float32),
        look.sea_level is not None or water is not None,
        float(look.contour_m),
        int(grain_at[0]),
        int(grain_at[1]),
        out,
    )
    draw_stamps(out, stamps, look.sun_bearing)
    return out


def _level(look: PlanLook, rows: int, cols: int) -> FloatArray:
    return np.full((rows, cols), 0.0 if look.sea_level is None else look.sea_level, np.float32)


def draw_stamps(picture: ByteArray, stamps: Sequence[Stamp], sun_bearing: float) -> None:
    """Draw growth over a picture (modified), with its shadow away from the sun's bearing. [°]"""
    bearing = math.radians(sun_bearing)
    for stamp in stamps:
        if len(stamp.x):
            red, green, blue = (float(v) for v in stamp.colour)
            away = -math.sin(bearing) * 0.6, math.cos(bearing) * 0.6
            _stamp(picture, stamp.x, stamp.y, stamp.radius, red, green, blue, *away)
