"""Meshes of few triangles, and what they are put together from: blobs, tubes, cones, blades."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

LEAF, BARK, STONE = range(3)
"""What a triangle is of: says which colour of its kind it has."""

Vector = Sequence[float]


@dataclass(frozen=True, slots=True)
class Mesh:
    """Triangles, three corners each, one after the other: x east, y north, z up from the foot. [m]

    at, normal : shape (corners, 3); of : shape (corners,), LEAF, BARK or STONE
    """

    at: FloatArray
    normal: FloatArray
    of: NDArray[np.uint8]

    @property
    def triangles(self) -> int:
        return len(self.at) // 3


def joined(parts: Sequence[Mesh]) -> Mesh:
    """One mesh from several."""
    return Mesh(
        np.concatenate([p.at for p in parts]), np.concatenate([p.normal for p in parts]),
        np.concatenate([p.of for p in parts]),
    )  # fmt: skip


def _unit(v: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-9))


def _mesh(at: NDArray[np.float64], normal: NDArray[np.float64], of: int) -> Mesh:
    return Mesh(at.astype(np.float32), normal.astype(np.float32), np.full(len(at), of, np.uint8))


def flat(corners: NDArray[np.float64], of: int) -> Mesh:
    """Triangles (n, 3, 3), each with its own normal."""
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal = np.repeat(_unit(across), 3, axis=0)
    return Mesh(
        corners.reshape(-1, 3).astype(np.float32), normal.astype(np.float32), np.full(len(normal), of, np.uint8)
    )


def chance(seed: int, count: int) -> NDArray[np.float64]:
    """Fixed numbers from 0 to 1, so that a form always looks the same."""
    return np.random.default_rng(seed).random(count)


def _sphere(finer: int) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """An icosahedron on the unit sphere, each face cut into four so many times: points and faces."""
    g = (1 + math.sqrt(5)) / 2
    points = [(-1, g, 0), (1, g, 0), (-1, -g, 0), (1, -g, 0), (0, -1, g), (0, 1, g), (0, -1, -g), (0, 1, -g),
              (g, 0, -1), (g, 0, 1), (-g, 0, -1), (-g, 0, 1)]  # fmt: skip
    faces = [(0, 11, 5), (0, 5, 1), (0, 1, 7), (0, 7, 10), (0, 10, 11), (1, 5, 9), (5, 11, 4), (11, 10, 2), (10, 7, 6),
             (7, 1, 8), (3, 9, 4), (3, 4, 2), (3, 2, 6), (3, 6, 8), (3, 8, 9), (4, 9, 5), (2, 4, 11), (6, 2, 10),
             (8, 6, 7), (9, 8, 1)]  # fmt: skip
    at = [tuple(p) for p in _unit(np.array(points, np.float64))]
    for _ in range(finer):
        known: dict[tuple[int, int], int] = {}

        def middle(a: int, b: int, known: dict[tuple[int, int], int] = known) -> int:
            pair = (min(a, b), max(a, b))
            if pair not in known:
                known[pair] = len(at)
                at.append(tuple(_unit(np.add(at[a], at[b]))))
            return known[pair]

        cut = []
        for a, b, c in faces:
            ab, bc, ca = middle(a, b), middle(b, c), middle(c, a)
            cut += [(a, ab, ca), (b, bc, ab), (c, ca, bc), (ab, bc, ca)]
        faces = cut
    return np.array(at), np.array(faces)


def blob(middle: Vector, radii: Vector, finer: int, seed: int, rough: float = 0.18, of: int = LEAF) -> Mesh:
    """An uneven ball; foliage is lit as a round whole, stone face by face."""
    at, faces = _sphere(finer)
    uneven = 1 + rough * (2 * chance(seed, len(at)) - 1)
    points = at * uneven[:, None] * np.asarray(radii, np.float64) + np.asarray(middle, np.float64)
    corners = points[faces]
    if of == STONE:
        return flat(corners, of)
    normal = _unit(at / np.asarray(radii, np.float64))[faces].reshape(-1, 3)
    return Mesh(
        corners.reshape(-1, 3).astype(np.float32), normal.astype(np.float32), np.full(len(normal), of, np.uint8)
    )


def tube(path: Sequence[Vector], radii: Sequence[float], sides: int, of: int = BARK) -> Mesh:
    """A tube along points, as thick as is said at each; open at both ends."""
    points = np.asarray(path, np.float64)
    along = _unit(np.gradient(points, axis=0))
    helper = np.where(np.abs(along[:, 2:3]) < 0.9, [[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]])
    u = _unit(np.cross(along, helper))
    v = np.cross(along, u)
    turn = 2 * math.pi * np.arange(sides) / sides
    round_ = np.cos(turn)[None, :, None] * u[:, None] + np.sin(turn)[None, :, None] * v[:, None]
    rings = points[:, None] + round_ * np.asarray(radii, np.float64)[:, None, None]
    triangles, normals = [], []
    for a in range(len(points) - 1):
        for s in range(sides):
            t = (s + 1) % sides
            for one in (((a, s), (a, t), (a + 1, s)), ((a, t), (a + 1, t), (a + 1, s))):
                triangles.append([rings[i] for i in one])
                normals.append([round_[i] for i in one])
    at = np.array(triangles).reshape(-1, 3)
    return _mesh(at, np.array(normals).reshape(-1, 3), of)


def skirt(low: float, high: float, radius: float, sides: int, seed: int, rough: float = 0.12) -> Mesh:
    """A cone with an uneven rim: a tier of a conifer."""
    turn = 2 * math.pi * (np.arange(sides) + chance(seed, 1)[0]) / sides
    uneven = radius * (1 + rough * (2 * chance(seed + 1, sides) - 1))
    drop = low - 0.08 * (high - low) * chance(seed + 2, sides)
    rim = np.stack([np.cos(turn) * uneven, np.sin(turn) * uneven, drop], axis=1)
    tip = np.array([0.0, 0.0, high])
    corners = np.array([[rim[s], rim[(s + 1) % sides], tip] for s in range(sides)])
    slope = radius / max(high - low, 1e-6)
    out = np.stack([np.cos(turn), np.sin(turn), np.full(sides, slope)], axis=1)
    tilt = np.array([[out[s], out[(s + 1) % sides], out[s] + out[(s + 1) % sides]] for s in range(sides)])
    return _mesh(corners.reshape(-1, 3), _unit(tilt.reshape(-1, 3)), LEAF)


def blade(foot: Vector, tip: Vector, bow: float, width: float, pieces: int) -> Mesh:
    """A leaf from foot to tip that bows upward on its way; seen from both sides, lit from above."""
    begin, end = np.asarray(foot, np.float64), np.asarray(tip, np.float64)
    t = np.linspace(0, 1, pieces + 1)[:, None]
    line = begin + (end - begin) * t + np.array([0.0, 0.0, bow]) * (4 * t * (1 - t))
    way = end[:2] - begin[:2]
    aside = np.array([-way[1], way[0], 0.0])
    aside = aside / max(float(np.linalg.norm(aside)), 1e-6)
    if float(np.linalg.norm(way)) < 1e-6:
        aside = np.array([1.0, 0.0, 0.0])
    half = width / 2 * (1 - t) ** 0.6
    left, right = line - aside * half, line + aside * half
    triangles = []
    for a in range(pieces):
        triangles.append([left[a], right[a], line[a + 1] if a == pieces - 1 else left[a + 1]])
        if a < pieces - 1:
            triangles.append([right[a], right[a + 1], left[a + 1]])
    made = flat(np.array(triangles), LEAF)
    up = np.where(made.normal[:, 2:3] < 0, -made.normal, made.normal)
    return Mesh(made.at, up.astype(np.float32), made.of)


def crossed(half: float, low: float, high: float, outline: Sequence[float], of: int) -> Mesh:
    """Two upright sheets through each other, as wide at equal steps of height as is said (factors of `half`): what is
    seen from far away."""
    steps = np.linspace(low, high, len(outline))
    widths = np.asarray(outline, np.float64) * half
    triangles, normals = [], []
    for east, north in ((1.0, 0.0), (0.0, 1.0)):
        way = np.array([east, north, 0.0])
        left = -way * widths[:, None] + np.array([0, 0, 1.0]) * steps[:, None]
        right = way * widths[:, None] + np.array([0, 0, 1.0]) * steps[:, None]
        for a in range(len(outline) - 1):
            for one in ((left[a], right[a], left[a + 1]), (right[a], right[a + 1], left[a + 1])):
                if np.linalg.norm(np.cross(one[1] - one[0], one[2] - one[0])) > 1e-9:
                    triangles.append(one)
                    # Lit as the round whole that they stand for.
                    normals.append([_unit(c * [1, 1, 0] / max(half, 1e-6) + [0, 0, 0.6]) for c in one])
    at = np.array(triangles).reshape(-1, 3)
    return _mesh(at, np.array(normals).reshape(-1, 3), of)
