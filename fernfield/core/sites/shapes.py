"""Shapes of what is placed, made by code from a few measures: seen in the plan's outline, in three dimensions and alike
by whoever is handed the world. A form is a function and a line in `FORMS`."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.mesh import Mesh, flat, joined
from fernfield.core.sites.kit import KitPiece

BODY, TOP = 0, 1
"""What a triangle is of: walls have the piece's own colour."""
ROOF, POLE = "#5b5349", "#1e2925"
EAVES_M = 0.4
WALL = 0.62
"""How much of a house's height its walls are."""
POLE_M, ARROW_M = 5.0, 2.6


def _quads(corners: list[list[tuple[float, float, float]]], of: int) -> Mesh:
    """Faces of four corners, each counter-clockwise seen from outside."""
    four = np.array(corners, np.float64)
    return flat(np.concatenate([four[:, [0, 1, 2]], four[:, [0, 2, 3]]]), of)


def box(half_width: float, half_depth: float, low: float, high: float, of: int = BODY) -> Mesh:
    """An upright box around the foot's axis, without a floor. [m]"""
    w, d = half_width, half_depth
    ring = [(-w, -d), (w, -d), (w, d), (-w, d)]
    sides = [
        [(*ring[a], low), (*ring[(a + 1) % 4], low), (*ring[(a + 1) % 4], high), (*ring[a], high)] for a in range(4)
    ]
    return _quads([*sides, [(x, y, high) for x, y in ring]], of)


def house(width: float, depth: float, height: float) -> Mesh:
    """Walls under a pitched roof, its ridge along the depth."""
    w, d, wall = width / 2, depth / 2, height * WALL
    gables = [[(-w, s * d, wall), (w, s * d, wall), (0.0, s * d, height)][:: int(-s)] for s in (-1, 1)]
    e, over = w + EAVES_M, d + EAVES_M
    low = wall - EAVES_M * (height - wall) / w
    slopes = [[(e, -over, low), (e, over, low), (0.0, over, height), (0.0, -over, height)],
              [(-e, over, low), (-e, -over, low), (0.0, -over, height), (0.0, over, height)]]  # fmt: skip
    return joined([box(w, d, 0, wall), flat(np.array(gables, np.float64), BODY), _quads(slopes, TOP)])


def block(width: float, depth: float, height: float) -> Mesh:
    return box(width / 2, depth / 2, 0, height)


def _ring(radius: float, depth: float, z: float, sides: int) -> NDArray[np.float64]:
    turn = 2 * math.pi * np.arange(sides) / sides
    return np.stack([radius * np.cos(turn), radius * depth * np.sin(turn), np.full(sides, z)], axis=1)


def _between(low: NDArray[np.float64], high: NDArray[np.float64], of: int) -> Mesh:
    """The faces from a ring to the ring above it, and the lid on that."""
    on = np.roll(np.arange(len(low)), -1)
    top = np.broadcast_to(high.mean(axis=0), high.shape)
    faces = [(low, low[on], high[on]), (low, high[on], high), (high, high[on], top)]
    # A ring that is one point has no area above it.
    kept = [np.stack(face, axis=1) for face in (faces if np.ptp(high[:, :2]) > 1e-6 else faces[:1])]
    return flat(np.concatenate(kept), of)


def shaft(width: float, depth: float, height: float) -> Mesh:
    """A tapered tower of eight sides."""
    return _between(_ring(width / 2, depth / width, 0, 8), _ring(width * 0.3, depth / width, height, 8), BODY)


def mound(width: float, depth: float, height: float) -> Mesh:
    """A heap of eight sides that comes to a point."""
    return _between(_ring(width / 2, depth / width, 0, 8), np.repeat([[0.0, 0.0, height]], 8, axis=0), BODY)


FORMS: dict[str, Callable[[float, float, float], Mesh]] = {
    "house": house, "block": block, "shaft": shaft, "mound": mound,
}  # fmt: skip


def piece_shape(piece: KitPiece) -> FloatArray:
    """The triangles of a piece, shape (corners, 9): x across, y along its facing, z up from its foot [m], normal, and
    colour from 0 to 1."""
    return _coloured(FORMS[piece.form](piece.width, piece.depth, piece.height), piece.colour, ROOF)


def start_shape(colour: str) -> FloatArray:
    """A pole with an arrow the way it faces, as `piece_shape`."""
    tip = np.array([0.0, ARROW_M / 2 + 1, POLE_M])
    back = np.array([[-0.9, 0, 0], [0, 0, -0.9], [0.9, 0, 0], [0, 0, 0.9]]) + tip - [0, ARROW_M, 0]
    arrow = flat(np.array([[back[a], back[(a + 1) % 4], tip] for a in range(4)]), TOP)
    return _coloured(joined([box(0.12, 0.12, 0, POLE_M), arrow]), POLE, colour)


def _coloured(mesh: Mesh, body: str, top: str) -> FloatArray:
    inks = np.array([[int(text[k : k + 2], 16) / 255 for k in (1, 3, 5)] for text in (body, top)], np.float32)
    return np.concatenate([mesh.at, mesh.normal, inks[mesh.of]], axis=1)
