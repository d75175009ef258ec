"""Who gets where: what each post of a window costs a walker to leave, in each of the eight directions.

The raster says what `tick` does: from one post straight to the next, a walker probes the ground half a metre ahead all
the way, also past the post that it comes to, and goes on where no probe stops it. Between posts the ground is bilinear,
so that along an edge it is a straight line and across a cell a parabola; the probes that rise or fall the most are
known in closed form. Every post is worked out by itself from those around it: any split gives the same bytes.
"""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.travel.walker import LEVEL_DEG, PROBE_M, Obstacle
from fernfield.core.travel.walkers import Gait

GENTLE = 1.5
"""Where no two neighbours rise by more than the limit over this, nothing between them does: the root of 2, and some."""
SUSPECT = 0.9
"""Where no face has more than this part of the square of the limit, none has it between the places looked at."""
HALO = 2
"""So many posts around a window are looked at."""
DIRECTIONS = ((-1, 0), (-1, 1), (0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1))
"""Rows down and columns right: north first, then clockwise."""
WHOLE_PACE = 255
"""What a way costs that is gone at full speed; 0: nobody goes it; between: the share of the speed that is left."""


def passable(
    heights: FloatArray, spacing: float, gait: Gait, *, water: FloatArray, paces: FloatArray | None = None,
) -> ByteArray:  # fmt: skip
    """What each post costs a walker to leave: shape (8, rows, cols), by `DIRECTIONS` and in `WHOLE_PACE`.

    heights, water : of the window with `HALO` posts around it on every side: the ground, and the surface of what lies
    over it (far below where nothing does) [m]; NaN in `heights` where there is no land. Past the land's border the
    ground goes on level
    spacing : from post to post, no less than half a metre for the same as `tick` [m]
    paces : share of the speed that the ground leaves at each post of the window, 0 to 1; all of it when left out.
    What floats knows no paces and no slopes: it goes where the water is as deep as it draws

    Raises
    ------
    GridError
        If `heights` and `water` differ in shape or have no post inside their halo.
    """
    if heights.shape != water.shape or min(heights.shape) <= 2 * HALO:
        raise GridError(f"heights and water must have one shape over {2 * HALO}, not {heights.shape}, {water.shape}")
    rows, cols = heights.shape[0] - 2 * HALO, heights.shape[1] - 2 * HALO
    ground, over = np.ascontiguousarray(heights, np.float32), np.ascontiguousarray(water, np.float32)
    share = np.ones((rows, cols), np.float32) if paces is None else np.ascontiguousarray(paces, np.float32)
    out = np.zeros((8, rows, cols), np.uint8)
    if gait.draught:
        _float(ground, over, out, gait.draught)
        return out
    probe = min(PROBE_M, spacing)
    rise = max(math.tan(math.radians(gait.steepest_deg)) * probe, gait.step)
    fall = max(math.tan(math.radians(gait.steepest_deg)) * probe, gait.drop)
    wade = math.inf if gait.swims else gait.wade
    gentle = _gentle(ground, over, min(rise, fall) * spacing / probe / GENTLE)
    east, south = _slopes(ground, probe / spacing)
    level = math.tan(math.radians(LEVEL_DEG)) * probe
    _leave(ground, east, south, over, share, gentle, out, spacing, probe, rise, fall, level, wade, gait.slowest_share,
           gait.wade)  # fmt: skip
    return out


def _slopes(ground: FloatArray, along: float) -> tuple[FloatArray, FloatArray]:
    """How much the ground rises east and south over a probe at every post that has neighbours; beside a gap it goes on
    level."""
    here = ground[1:-1, 1:-1]
    west, east = ground[1:-1, :-2], ground[1:-1, 2:]
    north, south = ground[:-2, 1:-1], ground[2:, 1:-1]
    if np.isnan(ground).any():
        west, east, north, south = (np.where(np.isnan(one), here, one) for one in (west, east, north, south))
    half = np.float32(0.5 * along)
    return np.ascontiguousarray((east - west) * half), np.ascontiguousarray((south - north) * half)


def _gentle(ground: FloatArray, over: FloatArray, most: float) -> ByteArray:
    """Posts of the window with nothing to look at: dry, and no two neighbours around them that differ by `most`. [m]"""
    between = np.zeros_like(ground)
    between[:, :-1] = np.abs(np.diff(ground, axis=1))
    between[:-1] = np.maximum(between[:-1], np.abs(np.diff(ground, axis=0)))
    between[~(over <= ground)] = np.inf
    np.nan_to_num(between, copy=False, nan=np.inf, posinf=np.inf)
    return np.ascontiguousarray(cv2.dilate(between, np.ones((5, 5), np.uint8))[HALO:-HALO, HALO:-HALO] < most, np.uint8)


@kernel
def _leave(
    h: FloatArray, east: FloatArray, south: FloatArray, w: FloatArray, share: FloatArray, gentle: ByteArray,
    out: ByteArray, spacing: float, probe: float, rise: float, fall: float, level: float, wade: float, slowest: float,
    deep_m: float,
) -> None:  # fmt: skip
    _, rows, cols = out.shape
    along, aslant = probe / spacing, probe / (spacing * math.sqrt(2.0))
    for r in range(rows):
        for c in range(cols):
            a = h[r + 2, c + 2]
            if math.isnan(a) or share[r, c] <= 0:
                continue
            if gentle[r, c]:
                whole = max(1, min(255, int(share[r, c] * 255.0 + 0.5)))
                for d in range(8):
                    out[d, r, c] = whole
                continue
            for d in range(8):
                dr, dc = down_by(d), right_by(d)
                rb, cb = r + 2 + dr, c + 2 + dc
                b = h[rb, cb]
                if math.isnan(b):
                    continue
                after = _or(h[rb + dr, cb + dc], b)
                norm = 1.0
                if dr == 0 or dc == 0:
                    up, on = (b - a) * along, (after - b) * along
                    most, least = max(up, on), min(up, on)
                    quarter, further = a + (b - a) * 0.25, a + (b - a) * 0.75
                    between = _beside(east, south, r + 1, c + 1, rb - 1, cb - 1, dr, up, along)
                    mid = (a + b) * 0.5
                else:
                    norm = math.sqrt(0.5)
                    x, y = _or(h[rb, c + 2], a), _or(h[r + 2, cb], a)
                    x2, y2 = _or(h[rb + dr, cb], b), _or(h[rb, cb + dc], b)
                    u, v = aslant, 1.0 - aslant
                    up = v * v * a + u * v * (x + y) + u * u * b - a
                    last = b - (u * u * a + u * v * (x + y) + v * v * b)
                    on = v * v * b + u * v * (x2 + y2) + u * u * after - b
                    # Half of the probe before the next post, half beyond it.
                    u, v = aslant * 0.5, 1.0 - aslant * 0.5
                    over = (v * v * b + u * v * (x2 + y2) + u * u * after) - (u * u * a + u * v * (x + y) + v * v * b)
                    most, least = max(up, last, over, on), min(up, last, over, on)
                    between = _across(a, b, x, y, along)
                    mid = (a + b + x + y) * 0.25
                    quarter = 0.5625 * a + 0.1875 * (x + y) + 0.0625 * b
                    further = 0.0625 * a + 0.1875 * (x + y) + 0.5625 * b
                if most > rise or -least > fall:
                    continue
                if most > level:
                    # Nobody goes up a face aslant that is too steep to be gone up straight.
                    e0, s0, e1, s1 = (
                        east[r + 1, c + 1],
                        south[r + 1, c + 1],
                        east[rb - 1, cb - 1],
                        south[rb - 1, cb - 1],
                    )
                    f0, f1 = e0 * e0 + s0 * s0, e1 * e1 + s1 * s1
                    if up > level and f0 > rise * rise and (e0 * dc + s0 * dr) * norm > level:
                        continue
                    if max(between * between, f0, f1) > SUSPECT * rise * rise and _refused_aslant(
                        h, r + 2, c + 2, dr, dc, spacing, probe, rise, level
                    ):
                        continue
                # Deeper and too deep: as it goes on over the post's own water, and then over the next one's.
                deep, there = w[r + 2, c + 2] - a, w[rb, cb] - b
                if max(w[r + 2, c + 2], w[rb, cb]) - min(a, quarter, mid, further, b) >= wade:
                    one, two = w[r + 2, c + 2] - quarter, w[r + 2, c + 2] - mid
                    three, four = w[rb, cb] - mid, w[rb, cb] - further
                    if (_drowns(deep, one, wade) or _drowns(one, two, wade) or _drowns(two, three, wade)
                            or _drowns(three, four, wade) or _drowns(four, there, wade)):  # fmt: skip
                        continue
                wet = min(max((max(deep, 0.0) + max(there, 0.0)) * 0.5 / deep_m, 0.0), 1.0)
                left = share[r, c] * (1.0 - (1.0 - slowest) * wet)
                out[d, r, c] = max(1, min(255, int(left * 255.0 + 0.5)))


@kernel
def _float(h: FloatArray, w: FloatArray, out: ByteArray, draught: float) -> None:
    """Ways of what floats: the water is deep enough all the way. Half of it has the one post's level, half the
    other's; between them the ground is a straight line, or across a cell a parabola."""
    _, rows, cols = out.shape
    for r in range(rows):
        for c in range(cols):
            a, level = h[r + 2, c + 2], w[r + 2, c + 2]
            if math.isnan(a) or level - a < draught:
                continue
            for d in range(8):
                dr, dc = down_by(d), right_by(d)
                b, other = h[r + 2 + dr, c + 2 + dc], w[r + 2 + dr, c + 2 + dc]
                if math.isnan(b) or other - b < draught:
                    continue
                x, y = 0.5 * (a + b), 0.5 * (a + b)
                if dr != 0 and dc != 0:
                    x, y = _or(h[r + 2 + dr, c + 2], a), _or(h[r + 2, c + 2 + dc], a)
                free = True
                for k in range(1, 16):
                    t = k / 16
                    ground = (1 - t) * (1 - t) * a + t * (1 - t) * (x + y) + t * t * b
                    deep = min(level, other) - ground if k == 8 else (level if k < 8 else other) - ground
                    free = free and deep >= draught
                if free:
                    out[d, r, c] = 255


@kernel
def down_by(d: int) -> int:
    return -1 if d == 7 or d < 2 else 1 if 3 <= d <= 5 else 0


@kernel
def right_by(d: int) -> int:
    return 1 if 1 <= d <= 3 else -1 if d >= 5 else 0


@kernel
def _drowns(before: float, now: float, wade: float) -> bool:
    return now >= wade and now > before


@kernel
def _or(value: float, other: float) -> float:
    return other if math.isnan(value) else value


@kernel
def _refused_aslant(
    h: FloatArray, r: int, c: int, dr: int, dc: int, spacing: float, probe: float, rise: float, level: float
) -> bool:
    """Whether somewhere on the way to the next post a face is gone up aslant that is too steep to be gone up straight:
    looked at every tenth of a metre."""
    long = math.sqrt(float(dr * dr + dc * dc))
    steps = int(math.ceil(long * spacing * 10.0))
    far, half = probe / (spacing * long), 0.5 * probe / spacing
    for k in range(steps + 1):
        row, col = r + dr * k / steps, c + dc * k / steps
        east = _at(h, row, col + half) - _at(h, row, col - half)
        south = _at(h, row + half, col) - _at(h, row - half, col)
        if east * east + south * south <= rise * rise or (east * dc + south * dr) / long <= level:
            continue
        if _at(h, row + dr * far, col + dc * far) - _at(h, row, col) > level:
            return True
    return False


@kernel
def _at(h: FloatArray, row: float, col: float) -> float:
    """The ground between posts; where one of them is none, as high as the nearest. [m]"""
    r, c = int(math.floor(row)), int(math.floor(col))
    v, u = row - r, col - c
    r1, c1 = min(r + 1, h.shape[0] - 1), min(c + 1, h.shape[1] - 1)
    near = h[r if v < 0.5 else r1, c if u < 0.5 else c1]
    if math.isnan(near):
        near = h[r, c]
    a, b, x, y = _or(h[r, c], near), _or(h[r, c1], near), _or(h[r1, c], near), _or(h[r1, c1], near)
    return (a * (1.0 - u) + b * u) * (1.0 - v) + (x * (1.0 - u) + y * u) * v


@kernel
def _beside(
    east: FloatArray, south: FloatArray, r: int, c: int, rb: int, cb: int, dr: int, up: float, along: float
) -> float:
    """How much the ground rises over a probe up its fall line between two posts along an edge, whose own rise is `up`:
    the larger of what it is a quarter of a metre from each."""
    one, other = (south[r, c], south[rb, cb]) if dr == 0 else (east[r, c], east[rb, cb])
    near = min(0.5, 0.5 * along)
    first, last = one + near * (other - one), other - near * (other - one)
    return math.sqrt(up * up + max(first * first, last * last))


@kernel
def _across(a: float, b: float, x: float, y: float, along: float) -> float:
    """The same on the way across a cell from `a` to `b`, a quarter of a metre from each; x, y : its other corners."""
    near = min(0.5, 0.5 * along)
    best = 0.0
    for k in range(2):
        u = near if k == 0 else 1.0 - near
        one, other = ((y - a) * (1.0 - u) + (b - x) * u) * along, ((x - a) * (1.0 - u) + (b - y) * u) * along
        best = max(best, one * one + other * other)
    return math.sqrt(best)


# What stands in the way


def obstacle_table(obstacles: list[Obstacle]) -> NDArray[np.float64]:
    """Obstacles as a table: x, y, radius, half width and depth [m], sine and cosine of the turn, z0, z1 [m]; how many
    corners a polygon has, and these about its place [m]."""
    turns = [math.radians(one.turn_deg) for one in obstacles]
    most = max((len(one.corners) for one in obstacles), default=0)
    out = np.zeros((len(obstacles), 10 + 2 * most), np.float64)
    for row, (o, t) in zip(out, zip(obstacles, turns, strict=True), strict=True):
        row[:10] = o.x, o.y, o.radius, o.half_width, o.half_depth, math.sin(t), math.cos(t), o.z0, o.z1, len(o.corners)
        row[10 : 10 + 2 * len(o.corners)] = [value for corner in o.corners for value in corner]
    return out


def close_ways(
    out: ByteArray, heights: FloatArray, x0: float, y0: float, spacing: float, gait: Gait, table: NDArray[np.float64]
) -> None:
    """Close the ways on which a walker's body would touch an obstacle that is higher than a step. Writes to `out`.

    x0, y0 : the place of the window's north-west post [m]; heights : with `HALO` posts around, as for `passable`
    """
    _close(out, np.ascontiguousarray(heights, np.float32), x0, y0, spacing, gait.radius, gait.step, gait.eye, table)


@kernel
def _close(
    out: ByteArray, h: FloatArray, x0: float, y0: float, spacing: float, body: float, step: float, eye: float,
    table: NDArray[np.float64],
) -> None:  # fmt: skip
    _, rows, cols = out.shape
    for k in range(len(table)):
        x, y = table[k, 0], table[k, 1]
        count = int(table[k, 9])
        box = table[k, 3] > 0 and count == 0
        reach = math.hypot(table[k, 3], table[k, 4]) if box else table[k, 2]
        far = reach + body + spacing * 1.5
        c0, c1 = max(0, int(math.ceil((x - far - x0) / spacing))), min(cols - 1, int((x + far - x0) / spacing))
        r0, r1 = max(0, int(math.ceil((y0 - y - far) / spacing))), min(rows - 1, int((y0 - y + far) / spacing))
        for r in range(r0, r1 + 1):
            for c in range(c0, c1 + 1):
                z = h[r + 2, c + 2]
                if table[k, 8] <= z + step or table[k, 7] >= z + eye:
                    continue
                px, py = x0 + c * spacing - x, y0 - r * spacing - y
                for d in range(8):
                    if out[d, r, c] == 0:
                        continue
                    qx, qy = px + right_by(d) * spacing, py - down_by(d) * spacing
                    if count > 0:
                        gap = _to_polygon(px, py, qx, qy, table[k, 10 : 10 + 2 * count])
                    elif box:
                        sin, cos = table[k, 5], table[k, 6]
                        gap = _to_box(px * cos - py * sin, px * sin + py * cos, qx * cos - qy * sin,
                                      qx * sin + qy * cos, table[k, 3], table[k, 4])  # fmt: skip
                    else:
                        gap = _to_point(px, py, qx, qy, 0.0, 0.0) - table[k, 2]
                    if gap < body:
                        out[d, r, c] = 0


@kernel
def _to_point(px: float, py: float, qx: float, qy: float, x: float, y: float) -> float:
    """How far a point lies from the line between two others. [m]"""
    dx, dy = qx - px, qy - py
    t = min(max(((x - px) * dx + (y - py) * dy) / (dx * dx + dy * dy), 0.0), 1.0)
    return math.hypot(px + t * dx - x, py + t * dy - y)


@kernel
def _to_polygon(px: float, py: float, qx: float, qy: float, corners: NDArray[np.float64]) -> float:
    """How far the line between two points lies from a convex polygon; 0 where it meets it. [m]"""
    n = len(corners) // 2
    # The share of the line that lies inside of every side.
    t0, t1, best = 0.0, 1.0, 1e30
    for i in range(n):
        ax, ay = corners[2 * i], corners[2 * i + 1]
        j = (i + 1) % n
        bx, by = corners[2 * j], corners[2 * j + 1]
        ex, ey = bx - ax, by - ay
        a = (px - ax) * ey - (py - ay) * ex
        b = (qx - ax) * ey - (qy - ay) * ex
        if a > 0 and b > 0:
            t0 = 2.0
        elif a > 0 or b > 0:
            t = a / (a - b)
            if a > 0:
                t0 = max(t0, t)
            else:
                t1 = min(t1, t)
        long = ex * ex + ey * ey
        if long > 0:
            best = min(best, _to_point(ax, ay, bx, by, px, py), _to_point(ax, ay, bx, by, qx, qy))
        best = min(best, _to_point(px, py, qx, qy, ax, ay))
    return 0.0 if t0 <= t1 else best


@kernel
def _to_box(px: float, py: float, qx: float, qy: float, wide: float, deep: float) -> float:
    """How far the line between two points lies from a rectangle about the origin, of half its sides; 0 where it meets
    it. [m]"""
    t0, t1 = 0.0, 1.0
    for axis in range(2):
        p, q, half = (px, qx, wide) if axis == 0 else (py, qy, deep)
        if abs(q - p) < 1e-12:
            if abs(p) > half:
                t0 = 2.0
            continue
        a, b = (-half - p) / (q - p), (half - p) / (q - p)
        t0, t1 = max(t0, min(a, b)), min(t1, max(a, b))
    if t0 <= t1:
        return 0.0
    best = min(_from_box(px, py, wide, deep), _from_box(qx, qy, wide, deep))
    for k in range(4):
        x, y = wide if k < 2 else -wide, deep if k % 2 == 0 else -deep
        best = min(best, _to_point(px, py, qx, qy, x, y))
    return best


@kernel
def _from_box(x: float, y: float, wide: float, deep: float) -> float:
    return math.hypot(max(abs(x) - wide, 0.0), max(abs(y) - deep, 0.0))
