"""Stones: they have no leaves, and stay as they are in every season."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.mesh import STONE, Mesh, blob, chance, flat

CARD = 2


def boulder(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A rounded stone, a third of it in the ground."""
    high = tall * 0.62
    return blob((0, 0, tall - high), (crown, crown * 0.86, high), 1 if detail == 0 else 0, 171, 0.16, STONE)


def slab(tall: float, crown: float, trunk: float, detail: int) -> Mesh:
    """A flat stone with broken edges."""
    sides = 8 if detail == 0 else 5 if detail == 1 else 4
    turn = 2 * math.pi * (np.arange(sides) + 0.3 * chance(181, sides)) / sides
    wide = crown * (0.8 + 0.2 * chance(182, sides))
    low = np.stack([np.cos(turn) * wide, np.sin(turn) * wide * 0.72, np.full(sides, -0.25 * tall)], axis=1)
    top = low * [0.86, 0.86, 0] + [0, 0, 1] * (tall * (0.82 + 0.18 * chance(183, sides)))[:, None]
    middle = top.mean(axis=0)
    triangles = []
    for a in range(sides):
        b = (a + 1) % sides
        triangles += [[low[a], low[b], top[a]], [low[b], top[b], top[a]], [top[a], top[b], middle]]
    return flat(np.array(triangles), STONE)
