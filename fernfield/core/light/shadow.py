"""Shadows that the ground throws on itself.

Rays run across the grid away from the sun, one for each line of posts, sheared so that
each follows the sun exactly. Along a ray the height of the shadow's upper edge is carried
and sinks with the sun's slope: one pass over the posts, whatever the sun's height.
"""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.kernels import kernel

SOFT_EDGE_M = 0.5
"""A post this far below the edge of a shadow is wholly dark; our choice, to soften the edge. [m]"""


@kernel
def _sweep(
    heights: FloatArray, shift: float, phase: float, drop: float, soft: float, upwards: bool, out: ByteArray
) -> None:
    """Carry shadows from row 0 downwards, or from the last row `upwards`.

    Rays move `shift` columns (-1..1) and sink `drop` metres with every row; on the first
    row they stand `phase` (0..1) of a column east of the posts.
    """
    rows, cols = heights.shape
    reach = int(math.ceil(abs(shift) * (rows - 1))) + 2
    lead = reach if shift > 0 else 0
    # Ray k stands at column k - lead + phase + shift * step.
    edge = np.full(cols + reach + 1, np.float32(-1e9))
    dark = np.zeros(cols + reach + 1, np.float32)
    fall, scale = np.float32(drop), np.float32(1 / soft)
    zero, one, full = np.float32(0), np.float32(1), np.float32(255)
    for step in range(rows):
        r = rows - 1 - step if upwards else step
        move = phase + shift * step
        whole = int(math.floor(move))
        part = np.float32(move - whole)
        rest = one - part
        line = heights[r]
        # Rays whose two neighbouring posts both lie on this row.
        first = max(0, lead - whole)
        last = min(edge.shape[0], cols - 1 - whole + lead)
        if last > first:
            here = line[first - lead + whole : last - lead + whole + 1]
            top, shade = edge[first:last], dark[first:last]
            for i in range(top.shape[0]):
                ground = here[i] * rest + here[i + 1] * part
                carried = top[i] - fall
                shade[i] = min(max((carried - ground) * scale, zero), one)
                top[i] = max(carried, ground)
        # Beyond either end a ray has only its one neighbour on the grid, or none.
        for k, c in ((lead - whole - 1, 0), (lead - whole + cols - 1, cols - 1)):
            if 0 <= k < edge.shape[0]:
                carried = edge[k] - fall
                dark[k] = min(max((carried - line[c]) * scale, zero), one)
                edge[k] = max(carried, line[c])
        to = out[r]
        base = lead - whole
        if base >= 1:
            left, right = dark[base - 1 : base - 1 + cols], dark[base : base + cols]
            for c in range(cols):
                to[c] = np.uint8(full - (left[c] * part + right[c] * rest) * full)
        else:
            right = dark[base : base + cols]
            to[0] = np.uint8(full - right[0] * full)
            for c in range(1, cols):
                to[c] = np.uint8(full - (right[c - 1] * part + right[c] * rest) * full)


def check_sun(bearing: float, height: float) -> None:
    """Raise InvalidInput unless the bearing is finite and the height above 0 and at most 90 degrees."""
    if not math.isfinite(bearing):
        raise InvalidInput(f"sun bearing must be finite, not {bearing}", "sun_bearing_deg")
    if not 0 < height <= 90:
        raise InvalidInput(f"sun height must be above 0 and at most 90 degrees, not {height}", "sun_height_deg")


def sunlit(
    heights: FloatArray,
    spacing: float,
    bearing: float,
    height: float,
    soft: float = SOFT_EDGE_M,
    origin: tuple[int, int] = (0, 0),
) -> ByteArray:
    """How much of the sun each post gets past the ground between: 255 in the sun, 0 in shadow.

    Parameters
    ----------
    heights : shape (rows, cols), row 0 north. [m]
    spacing : distance between neighbours. [m]
    bearing : of the sun, clockwise from north. [°]
    height : of the sun above the horizon, above 0 up to 90. [°]
    soft : depth below the edge of the shadow over which it grows dark; > 0. [m]
    origin : row and column of the first post in the whole tract. Rays keep their places in
        the tract, so that a part that holds its `casters` looks as it does in the whole.

    Returns
    -------
    shape (rows, cols), 0 to 255. Ground outside the array throws nothing.
    """
    check_sun(bearing, height)
    heights = np.ascontiguousarray(heights, np.float32)
    east, north = math.sin(math.radians(bearing)), math.cos(math.radians(bearing))
    along_rows = abs(north) >= abs(east)
    work = heights if along_rows else np.asarray(cv2.transpose(heights), np.float32)
    # `toward` is the sun along the sweep (towards row 0 is positive), `across` along a row.
    toward, across = (north, east) if along_rows else (-east, -north)
    out = np.empty(work.shape, np.uint8)
    drop = spacing / abs(toward) * math.tan(math.radians(min(height, 89.999)))
    shift, first = -across / abs(toward), origin[0 if along_rows else 1]
    # Rays lie where they would if the sweep had begun at row 0 of the tract.
    phase = (shift * first if toward >= 0 else -shift * (first + work.shape[0] - 1)) % 1.0
    _sweep(work, shift, phase, drop, float(soft), toward < 0, out)
    return out if along_rows else np.asarray(cv2.transpose(out), np.uint8)


def reach_posts(relief_m: float, spacing: float, height: float) -> int:
    """Longest shadow that a fall of `relief_m` metres can throw under a sun of this height. [posts]"""
    return math.ceil(max(0.0, relief_m) / math.tan(math.radians(min(height, 89.0))) / spacing) + 1


def _stretch(window: Window, bearing: float, posts: int) -> Window:
    """`window` carried `posts` towards `bearing`, with everything between and two posts around it.

    Two, because the rays beside a post lie between it and its neighbours.
    """
    east, north = posts * math.sin(math.radians(bearing)), posts * math.cos(math.radians(bearing))
    return window.grow(*(math.ceil(max(0.0, way)) + 2 for way in (north, -east, -north, east)))


def casters(window: Window, bearing: float, posts: int) -> Window:
    """The posts that can throw a shadow of up to `posts` into `window`."""
    return _stretch(window, bearing, posts)


def shaded_by(window: Window, bearing: float, posts: int) -> Window:
    """The posts that a shadow of up to `posts` thrown from `window` can fall on."""
    return _stretch(window, bearing + 180, posts)
