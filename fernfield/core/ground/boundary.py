"""The edge of a tract shaped so that nobody walks out: a rim that cannot be climbed, or an edge sunk into the sea.

The tract without a strip of a stated width along its edge is the inner land. Outside it the
ground goes on from the nearest inner post, and rises or falls by the distance from there, so
that it is at least as steep everywhere as was asked for, in the corners too.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Array, FloatArray, Grid
from fernfield.core.noise import Octaves, noise_at

FACE = 0.6
"""Part of the strip that a rim's inner face takes; the rest is its crest."""

CREST = 0.12
"""How much the crest rises and falls, as a part of the rim's height."""


@dataclass(frozen=True, slots=True)
class Boundary:
    """kind : "rim" or "sunk"; width_m : of the strip; steep_deg : of the face; sea_m : sea level

    depth_m : how deep a sunk edge lies under the sea
    """

    kind: str
    width_m: float
    steep_deg: float
    depth_m: float = 6.0
    sea_m: float = 0.0
    seed: int = 1

    def __post_init__(self) -> None:
        if self.kind not in ("rim", "sunk"):
            raise InvalidInput(f"kind must be rim or sunk, not {self.kind!r}", "kind")
        if not (math.isfinite(self.width_m) and self.width_m > 0):
            raise InvalidInput(f"width_m must be finite and above 0 m, not {self.width_m}", "width_m")
        if not 1 <= self.steep_deg <= 85:
            raise InvalidInput(f"steep_deg must be 1 to 85°, not {self.steep_deg}", "steep_deg")

    @property
    def height_m(self) -> float:
        """How high a rim stands over the land inside it. [m]"""
        return self.width_m * FACE * math.tan(math.radians(self.steep_deg))

    def fits(self, grid: Grid) -> None:
        """Raises InvalidInput when the strip leaves no land, or is narrower than two posts can hold."""
        least, most = 3 * grid.spacing, min(grid.width, grid.depth) / 2 - grid.spacing
        if not least <= self.width_m <= most:
            words = f"width_m must be {least:g} m (three posts) to {most:g} m (half the tract)"
            raise InvalidInput(f"{words}, not {self.width_m:g}", "width_m")


def inner_of(grid: Grid, boundary: Boundary, rows: Array, cols: Array) -> tuple[Array, Array]:
    """For posts, the nearest ones of the inner land: whole rows and columns."""
    strip = math.ceil(boundary.width_m / grid.spacing - 1e-9)
    return np.clip(rows, strip, grid.rows - 1 - strip), np.clip(cols, strip, grid.cols - 1 - strip)


def bounded(foot: FloatArray, x: Array, y: Array, away: Array, boundary: Boundary) -> FloatArray:
    """Heights in the strip.

    foot : the ground at the nearest inner post [m]
    x, y : places, for the crest's ups and downs [m]
    away : distance from the inner land, 0 and more [m]
    """
    tan = math.tan(math.radians(boundary.steep_deg))
    if boundary.kind == "sunk":
        floor = np.minimum(foot, boundary.sea_m - boundary.depth_m)
        return np.asarray(np.maximum(foot - away * tan, floor), np.float32)
    face = boundary.width_m * FACE
    crest = np.clip((away - face) / max(boundary.width_m - face, 1e-6), 0, 1)
    waves = noise_at(
        np.asarray(x, np.float32), np.asarray(y, np.float32), Octaves(boundary.width_m, 4, 0.5, boundary.seed)
    )
    return np.asarray(foot + np.minimum(away, face) * tan + crest * (1 + waves) * CREST * boundary.height_m, np.float32)
