"""Shapes that people bring: fitted to the measures of a kind, and made simpler from further away."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.mesh import BARK, LEAF, Mesh, flat

SIMPLER_TRIANGLES, CARD_TRIANGLES = 240, 20
"""The most of a shape that is seen from further off, and from far away: as those made by code."""
MOST_GROUPS = 8
CELLS = (32, 24, 18, 14, 11, 9, 7, 5, 4, 3, 2)


@dataclass(frozen=True, slots=True)
class Brought:
    """Triangles, three corners each: x east, y north, z up from the middle of the foot [m], and colours (0 to 1).

    at, colour : shape (corners, 3)
    """

    at: FloatArray
    colour: FloatArray

    @property
    def triangles(self) -> int:
        return len(self.at) // 3

    @property
    def tall(self) -> float:
        return float(self.at[:, 2].max())

    @property
    def wide(self) -> float:
        """The radius around the middle of its foot. [m]"""
        return float(np.hypot(self.at[:, 0], self.at[:, 1]).max())


def fitted(shape: Brought, tall: float, crown: float, detail: int) -> tuple[Mesh, FloatArray]:
    """A shape in the measures of a kind [m], and the colour of each corner. What is green counts as leaves."""
    scale = np.array([crown / max(shape.wide, 1e-6)] * 2 + [tall / max(shape.tall, 1e-6)], np.float64)
    corners = (shape.at * scale).reshape(-1, 3, 3)
    colour = shape.colour.reshape(-1, 3, 3).mean(axis=1)
    if detail > 0:
        corners, colour = _simpler(corners, colour, (SIMPLER_TRIANGLES, CARD_TRIANGLES)[detail - 1])
    mesh = flat(corners, BARK)
    ink = np.repeat(colour, 3, axis=0).astype(np.float32)
    green = (ink[:, 1] > ink[:, 0]) & (ink[:, 1] > ink[:, 2])
    return Mesh(mesh.at, mesh.normal, np.where(green, LEAF, BARK).astype(np.uint8)), ink


def _simpler(corners: np.ndarray, colour: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """At most so many triangles: what has a colour of its own is made simpler by itself, so that a thin stem stays; of
    more than a few colours, all of it at once. Far away it is the hull of the farthest points."""
    if len(corners) <= most:
        return corners, colour
    if most <= CARD_TRIANGLES:
        return _hull(corners.reshape(-1, 3), colour, most)
    _, group = np.unique(np.rint(colour * 255), axis=0, return_inverse=True)
    group = group.reshape(-1)
    if group.max() >= MOST_GROUPS:
        group = np.zeros(len(corners), np.int64)
    counts = np.bincount(group)
    made = []
    for at, count in enumerate(counts):
        own = group == at
        made.append(_clustered(corners[own], colour[own], max(CARD_TRIANGLES, most * int(count) // len(corners) - 8)))
    out = np.concatenate([found for found, _ in made]), np.concatenate([ink for _, ink in made])
    return out if len(out[0]) <= most else _hull(corners.reshape(-1, 3), colour, CARD_TRIANGLES)


def _clustered(corners: np.ndarray, colour: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """Points that share a cell become one (vertex clustering, Rossignac and Borrel 1993), with larger cells until at
    most so many triangles are left; cells are as long in each direction as the shape is."""
    if len(corners) <= most:
        return corners, colour
    points = corners.reshape(-1, 3)
    low = points.min(axis=0)
    extent = np.maximum(points.max(axis=0) - low, 1e-9)
    for cells in CELLS:
        at = np.floor((points - low) / (extent * (1 + 1e-9)) * cells).astype(np.int64)
        _, own = np.unique(at, axis=0, return_inverse=True)
        own = own.reshape(-1)
        count = np.bincount(own)
        middle = np.stack([np.bincount(own, points[:, k]) / count for k in range(3)], axis=1)
        faces = own.reshape(-1, 3)
        keep = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
        _, first = np.unique(np.sort(faces[keep], axis=1), axis=0, return_index=True)
        # Where several fall together, the colour of the first stands for them.
        found = np.flatnonzero(keep)[np.sort(first)]
        if len(found) <= most and len(found) >= min(8, most):
            return middle[faces[found]], colour[found]
    return _hull(points, colour, CARD_TRIANGLES)


def _hull(points: np.ndarray, colour: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """The hull of the points that lie farthest in so few directions that it has at most so many triangles."""
    from scipy.spatial import ConvexHull, QhullError  # heavy: imported where it is used

    count = most // 2 + 2 - 6
    up = 1 - 2 * (np.arange(count) + 0.5) / count
    around = np.pi * (1 + 5**0.5) * np.arange(count)
    ways = np.stack([np.cos(around) * np.sqrt(1 - up**2), np.sin(around) * np.sqrt(1 - up**2), up], axis=1)
    ways = np.concatenate([np.eye(3), -np.eye(3), ways])
    picked = np.unique((points @ ways.T).argmax(axis=0))
    try:
        hull = ConvexHull(points[picked])
        corners = points[picked][hull.simplices]
        outward = np.einsum("ij,ij->i", np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]),
                            hull.equations[:, :3]) >= 0  # fmt: skip
        corners[~outward] = corners[~outward][:, ::-1]
    except (QhullError, ValueError):
        # Flat, or a line: its first triangles stand for it.
        corners = points.reshape(-1, 3, 3)[:most]
    return corners, np.repeat(colour.mean(axis=0)[None], len(corners), axis=0)
