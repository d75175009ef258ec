"""Trees: a trunk, and a crown that is made differently for each form."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.mesh import BARK, LEAF, Mesh, blade, blob, chance, crossed, joined, skirt, tube

CARD = 2


def _trunk(tall: float, radius: float, to: float, sides: int, lean: float = 0.03) -> Mesh:
    """A trunk up to a part of the height, thicker at its foot."""
    top = tall * to
    path = [(0, 0, -0.1 * radius), (lean * top * 0.3, 0, top * 0.25), (lean * top, lean * top * 0.4, top)]
    return tube(path, [radius * 1.35, radius, radius * 0.45], sides)


def broadleaf(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A crown of several balls about the upper two thirds."""
    if detail == CARD:
        return joined([crossed(crown, tall * 0.26, tall, (0.35, 0.95, 1.0, 0.75, 0.2), LEAF),
                       crossed(trunk * 1.3, 0, tall * 0.4, (1.0, 0.8), BARK)])  # fmt: skip
    finer, count = (1, 6) if detail == 0 else (0, 3)
    parts = [_trunk(tall, trunk, 0.62, 7 if detail == 0 else 4)]
    rolls = chance(11, 4 * count).reshape(count, 4)
    for k, (a, b, c, d) in enumerate(rolls):
        turn = 2 * math.pi * (k / count + 0.12 * a)
        out = crown * (0.30 + 0.22 * b) if k else 0.0
        size = crown * (0.55 + 0.12 * c) if k else crown * 0.66
        high = tall * (0.52 + 0.2 * d) if k else tall * 0.78
        flat = size * (tall * 0.30) / max(crown, 1e-6)
        radii = (size, size, min(flat, tall - high) if high + flat > tall else flat)
        parts.append(blob((math.cos(turn) * out, math.sin(turn) * out, high), radii, finer, 20 + k))
    if detail == 0:
        for k in range(3):
            turn = 2.1 * k + 0.4
            end = (math.cos(turn) * crown * 0.5, math.sin(turn) * crown * 0.5, tall * 0.62)
            parts.append(tube([(0, 0, tall * (0.3 + 0.05 * k)), end], [trunk * 0.5, trunk * 0.15], 4))
    return joined(parts)


def slender(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A narrow, airy crown, as of a birch."""
    if detail == CARD:
        return joined([crossed(crown, tall * 0.24, tall, (0.3, 0.85, 1.0, 0.7, 0.12), LEAF),
                       crossed(trunk * 1.3, 0, tall * 0.45, (1.0, 0.7), BARK)])  # fmt: skip
    finer, count = (1, 6) if detail == 0 else (0, 3)
    parts = [_trunk(tall, trunk, 0.82, 6 if detail == 0 else 4)]
    rolls = chance(31, 3 * count).reshape(count, 3)
    for k, (a, b, c) in enumerate(rolls):
        t = k / max(count - 1, 1)
        wide = crown * (0.62 - 0.34 * t) * (0.9 + 0.2 * a)
        turn = 2.4 * k + b
        out = crown * 0.36 * (1 - t)
        radii = (wide, wide, tall * (0.17 - 0.04 * t))
        parts.append(
            blob((math.cos(turn) * out, math.sin(turn) * out, tall * (0.36 + 0.48 * t) + c * 0.02 * tall), radii, finer,
                 40 + k, 0.24)
        )  # fmt: skip
    return joined(parts)


def willow(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A low dome from which strands hang."""
    if detail == CARD:
        return joined([crossed(crown, tall * 0.12, tall, (0.92, 1.0, 0.96, 0.75, 0.3), LEAF),
                       crossed(trunk * 1.4, 0, tall * 0.3, (1.0, 0.9), BARK)])  # fmt: skip
    near = detail == 0
    parts = [_trunk(tall, trunk, 0.5, 7 if near else 4, 0.1)]
    for k in range(5 if near else 3):
        turn = 2 * math.pi * k / (5 if near else 3)
        out = crown * 0.42
        parts.append(
            blob((math.cos(turn) * out, math.sin(turn) * out, tall * 0.7), (crown * 0.5, crown * 0.5, tall * 0.24),
                 1 if near else 0, 60 + k)
        )  # fmt: skip
    parts.append(blob((0, 0, tall * 0.8), (crown * 0.55, crown * 0.55, tall * 0.2), 1 if near else 0, 66))
    strands = 18 if near else 7
    rolls = chance(67, 2 * strands).reshape(strands, 2)
    for k, (a, b) in enumerate(rolls):
        turn = 2 * math.pi * (k + a) / strands
        out = crown * (0.72 + 0.2 * b)
        foot = (math.cos(turn) * out * 0.8, math.sin(turn) * out * 0.8, tall * 0.72)
        end = (math.cos(turn) * out * 1.08, math.sin(turn) * out * 1.08, tall * (0.16 + 0.16 * b))
        parts.append(blade(foot, end, 0.06 * tall, crown * 0.42, 3 if near else 1))
    return joined(parts)


def conifer(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """Tiers of branches, the widest at the bottom."""
    if detail == CARD:
        return joined([crossed(crown, tall * 0.1, tall, (1.0, 0.72, 0.45, 0.02), LEAF),
                       crossed(trunk * 1.3, 0, tall * 0.16, (1.0, 0.9), BARK)])  # fmt: skip
    tiers, sides = (6, 9) if detail == 0 else (3, 5)
    parts = [_trunk(tall, trunk, 0.5, 6 if detail == 0 else 3, 0.0)]
    for k in range(tiers):
        t = k / tiers
        low, high = tall * (0.1 + 0.82 * t), tall * min(1.0, 0.1 + 0.82 * t + 0.36 * (1 - 0.45 * t))
        parts.append(skirt(low, tall if k == tiers - 1 else high, crown * (1 - 0.86 * t), sides, 80 + 3 * k))
    return joined(parts)


def snag(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A dead tree: a bare trunk that has broken off, and some branches."""
    if detail == CARD:
        return crossed(trunk * 1.6, 0, tall, (1.0, 0.7, 0.3), BARK)
    sides = 6 if detail == 0 else 3
    path = [
        (0, 0, -0.1),
        (0.02 * tall, 0.0, tall * 0.4),
        (0.0, 0.03 * tall, tall * 0.8),
        (0.05 * tall, 0.03 * tall, tall),
    ]
    parts = [tube(path, [trunk * 1.5, trunk, trunk * 0.7, trunk * 0.1], sides)]
    for k in range(7 if detail == 0 else 3):
        turn = 2.4 * k + 0.3
        low = tall * (0.36 + 0.075 * k)
        out = crown * (1.0 - 0.09 * k)
        bend = (math.cos(turn) * out * 0.55, math.sin(turn) * out * 0.55, low + tall * 0.06)
        end = (math.cos(turn + 0.3) * out, math.sin(turn + 0.3) * out, low + tall * 0.16)
        parts.append(
            tube([(0, 0, low), bend, end], [trunk * 0.42, trunk * 0.26, trunk * 0.05], 4 if detail == 0 else 3)
        )
    return joined([Mesh(p.at, p.normal, np.full(len(p.at), BARK, np.uint8)) for p in parts])
