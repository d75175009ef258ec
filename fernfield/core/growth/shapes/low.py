"""What grows low or lies about: bushes, ferns, reeds, tussocks, logs. They have no trunk that can be met."""

from __future__ import annotations

import math

from fernfield.core.mesh import BARK, LEAF, Mesh, blade, blob, chance, crossed, joined, tube

CARD = 2


def bush(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """Several balls that sit on the ground."""
    if detail == CARD:
        return crossed(crown, 0, tall, (0.9, 1.0, 0.8, 0.25), LEAF)
    finer, count = (1, 5) if detail == 0 else (0, 3)
    rolls = chance(101, 3 * count).reshape(count, 3)
    parts = []
    for k, (a, b, c) in enumerate(rolls):
        turn = 2 * math.pi * (k / count + 0.1 * a)
        out = crown * (0.4 + 0.12 * b) if k else 0.0
        high = tall * (0.36 + 0.1 * c) if k else tall * 0.52
        radii = (crown * 0.56, crown * 0.56, tall * 0.40 if k else tall * 0.48)
        parts.append(blob((math.cos(turn) * out, math.sin(turn) * out, high), radii, finer, 110 + k, 0.26))
    parts.append(tube([(0, 0, -0.1), (0, 0, tall * 0.3)], [max(trunk, 0.04), max(trunk, 0.04) * 0.6], 4))
    return joined(parts)


def _blades(
    count: int, tall: float, crown: float, bow: float, width: float, pieces: int, seed: int, steep: float
) -> Mesh:
    rolls = chance(seed, 4 * count).reshape(count, 4)
    parts = []
    for k, (a, b, c, d) in enumerate(rolls):
        turn = 2 * math.pi * (k + a) / count
        begin = crown * 0.35 * b * steep
        end = crown * (0.55 + 0.45 * c)
        high = tall * (0.65 + 0.35 * d) if steep > 0.5 else tall * (0.35 + 0.3 * d)
        foot = (math.cos(turn * 1.7) * begin, math.sin(turn * 1.7) * begin, -0.02)
        parts.append(blade(foot, (math.cos(turn) * end, math.sin(turn) * end, high), bow, width, pieces))
    return joined(parts)


def fern(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """Fronds that arch outward from one foot."""
    if detail == CARD:
        return crossed(crown, 0, tall, (0.3, 0.8, 1.0), LEAF)
    near = detail == 0
    return _blades(11 if near else 5, tall, crown, tall * 0.45, crown * 0.34, 4 if near else 2, 131, 0.2)


def reeds(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """Upright blades over the whole of a patch."""
    if detail == CARD:
        return crossed(crown, 0, tall, (0.85, 0.95, 0.8), LEAF)
    near = detail == 0
    count = 34 if near else 12
    rolls = chance(141, 4 * count).reshape(count, 4)
    parts = []
    for a, b, c, d in rolls:
        turn, out = 2 * math.pi * a, crown * math.sqrt(b)
        x, y = math.cos(turn) * out, math.sin(turn) * out
        sway = 0.14 * tall
        tip = (x + sway * (c - 0.5), y + sway * (d - 0.5), tall * (0.72 + 0.28 * c))
        parts.append(blade((x, y, -0.05), tip, 0.0, crown * 0.075, 2 if near else 1))
    return joined(parts)


def tussock(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """Grass that stands in a tuft."""
    if detail == CARD:
        return crossed(crown, 0, tall, (0.45, 0.8, 1.0), LEAF)
    near = detail == 0
    return _blades(22 if near else 8, tall, crown, tall * 0.18, crown * 0.16, 3 if near else 1, 151, 1.0)


def log(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A trunk that lies: twice `crown` long, `tall` thick."""
    thick = tall / 2
    if detail == CARD:
        return tube([(-crown, 0, thick * 0.9), (crown, 0, thick * 0.8)], [thick, thick * 0.7], 3)
    sides = 8 if detail == 0 else 4
    path = [(-crown, 0, thick * 0.85), (0, 0.05 * crown, thick * 0.8), (crown, 0.0, thick * 0.7)]
    parts = [tube(path, [thick, thick * 0.9, thick * 0.62], sides)]
    # Its ends are closed.
    for end, radius, way in ((path[0], thick, -1.0), (path[2], thick * 0.62, 1.0)):
        tip = (end[0] + way * 0.03 * crown, end[1], end[2])
        parts.append(tube([end, tip], [radius, 0.0], sides, BARK))
    if detail == 0:
        for k, (at, turn) in enumerate(((-0.4, 0.9), (0.25, 2.3), (0.6, 0.5))):
            foot = (at * crown, 0.02 * crown, thick)
            end = (at * crown + 0.12 * crown, math.cos(turn) * thick * 1.8, thick + math.sin(turn) * thick * 1.9)
            parts.append(tube([foot, end], [thick * 0.22, thick * 0.05], 3 + (k == 0)))
    return joined(parts)
