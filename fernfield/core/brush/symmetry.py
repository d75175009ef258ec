"""Symmetry: a land that is mirrored across a line, or turned about a point, and how far a land is from it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.kernels import kernel


@dataclass(frozen=True, slots=True)
class Image:
    """A copy of the plane: where (x, y) comes to lie, and how directions turn. [m, °]

    x' = xx * x + xy * y + x0, y' = yx * x + yy * y + y0
    turn : of bearings, clockwise; `flipped` when the copy is mirrored, then bearings are
        first taken negative
    """

    xx: float
    xy: float
    yx: float
    yy: float
    x0: float
    y0: float
    turn: float
    flipped: bool

    def place(self, x: float, y: float) -> tuple[float, float]:
        return self.xx * x + self.xy * y + self.x0, self.yx * x + self.yy * y + self.y0

    def bearing(self, degrees: float) -> float:
        return ((-degrees if self.flipped else degrees) + self.turn) % 360

    def seen_at(self, x: float, y: float) -> Image:
        """The same image in metres whose origin lies at (x, y) of these."""
        at = self.place(x, y)
        return replace(self, x0=at[0] - x, y0=at[1] - y)

    def back(self) -> Image:
        """The image that undoes this one. The matrix is orthogonal: its inverse is its transpose."""
        x0 = -(self.xx * self.x0 + self.yx * self.y0)
        y0 = -(self.xy * self.x0 + self.yy * self.y0)
        return Image(
            self.xx, self.yx, self.xy, self.yy, x0, y0, self.turn if self.flipped else -self.turn % 360, self.flipped
        )


def mirrored(x: float, y: float, bearing: float) -> list[Image]:
    """Mirrored across the line through (x, y) that runs along `bearing`. One image."""
    east, north = math.sin(math.radians(bearing)), math.cos(math.radians(bearing))
    # Reflection: twice the part along the line, less the whole.
    xx, xy, yy = 2 * east * east - 1, 2 * east * north, 2 * north * north - 1
    return [Image(xx, xy, xy, yy, x - xx * x - xy * y, y - xy * x - yy * y, 2 * bearing % 360, True)]


def turned(x: float, y: float, times: int) -> list[Image]:
    """Turned about (x, y) so that `times` equal parts make the whole: one image fewer than that."""
    images = []
    for k in range(1, times):
        turn = 360 * k / times
        cos, sin = round(math.cos(math.radians(turn)), 15), round(math.sin(math.radians(turn)), 15)
        # Clockwise, as bearings are counted.
        x0, y0 = x - cos * x - sin * y, y + sin * x - cos * y
        images.append(Image(cos, sin, -sin, cos, x0, y0, turn, False))
    return images


@dataclass(frozen=True, slots=True)
class Asymmetry:
    """How far a land is from a symmetry: the largest difference, where it is, the mean of all, and how many posts
    were compared (those whose image lies in the tract). [m]"""

    largest: float
    x: float
    y: float
    mean: float
    posts: int


def asymmetry(bands: Iterator[tuple[Window, FloatArray, FloatArray]], grid: Grid, images: list[Image]) -> Asymmetry:
    """Compare a land with its images.

    bands : windows, their heights, and the heights of the whole tract (rows, cols) [m]
    """
    largest, x, y, total, posts = 0.0, 0.0, 0.0, 0.0, 0
    for window, heights, whole in bands:
        for image in images:
            away = np.empty(heights.shape, np.float32)
            _apart(
                away, heights, whole, window.row0, window.col0, grid.rows - 1, grid.spacing,
                np.array([image.xx, image.xy, image.yx, image.yy, image.x0, image.y0]),
            )  # fmt: skip
            known = ~np.isnan(away)
            if not known.any():
                continue
            total += float(away[known].sum(dtype=np.float64))
            posts += int(known.sum())
            most = float(np.nanmax(away))
            if most > largest:
                at = np.unravel_index(int(np.nanargmax(away)), away.shape)
                largest = most
                x, y = grid.x_of(window.col0 + int(at[1])), grid.y_of(window.row0 + int(at[0]))
    return Asymmetry(largest, x, y, total / posts if posts else 0.0, posts)


@kernel
def _apart(
    out: FloatArray, heights: FloatArray, whole: FloatArray, row0: int, col0: int, last: int, spacing: float,
    image: FloatArray,
) -> None:  # fmt: skip
    rows, cols = whole.shape
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            x, y = (col0 + c) * spacing, (last - row0 - r) * spacing
            col = (image[0] * x + image[1] * y + image[4]) / spacing
            row = last - (image[2] * x + image[3] * y + image[5]) / spacing
            if row < -1e-6 or col < -1e-6 or row > rows - 1 + 1e-6 or col > cols - 1 + 1e-6:
                out[r, c] = np.nan
                continue
            r0, c0 = min(max(int(row), 0), rows - 2), min(max(int(col), 0), cols - 2)
            fr, fc = row - r0, col - c0
            top = whole[r0, c0] * (1 - fc) + whole[r0, c0 + 1] * fc
            low = whole[r0 + 1, c0] * (1 - fc) + whole[r0 + 1, c0 + 1] * fc
            out[r, c] = abs(heights[r, c] - (top * (1 - fr) + low * fr))
