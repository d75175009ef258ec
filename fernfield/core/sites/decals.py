"""Decals: marks that lie on the ground. Shipped ones are made by code: how opaque each place of a square is, 0 to 1.
The next is a function and a line in `DECALS`."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from functools import cache

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.noise import Octaves, fractal, plain_spots

SIDE = 256


def _grid() -> tuple[FloatArray, FloatArray]:
    """Down and right from -1 to 1."""
    line = ((np.arange(SIDE, dtype=np.float32) + 0.5) / SIDE * 2 - 1).astype(np.float32)
    right, down = np.meshgrid(line, line)
    return down, right


def _noise(feature: float, octaves: int, seed: int) -> FloatArray:
    return fractal((SIDE, SIDE), plain_spots(0, 0, 1), Octaves(feature, octaves, 0.55, seed), 1.0)


def _tracks() -> FloatArray:
    """Two ruts along the way it faces, broken where wheels skipped."""
    down, right = _grid()
    bent = right + 0.05 * _noise(90, 2, 4)
    ruts = np.exp(-(((np.abs(bent) - 0.5) / 0.13) ** 2))
    ends = np.clip((1 - np.abs(down)) / 0.12, 0, 1)
    return np.asarray(ruts * ends * np.clip(0.75 + 0.6 * _noise(24, 3, 7), 0, 1), np.float32)


def _stain() -> FloatArray:
    """A blot with a ragged rim."""
    down, right = _grid()
    away = np.hypot(down, right) + 0.22 * _noise(60, 4, 11)
    return np.asarray(np.clip((0.78 - away) / 0.3, 0, 1) * np.clip(0.85 + 0.4 * _noise(30, 3, 3), 0, 1), np.float32)


def _rim() -> FloatArray:
    """The thrown-up rim around a hole, with rays."""
    down, right = _grid()
    away, turn = np.hypot(down, right), np.arctan2(down, right)
    rim = np.exp(-(((away - 0.5 - 0.05 * _noise(40, 3, 21)) / 0.13) ** 2))
    rays = np.clip(np.sin(turn * 11 + 3 * _noise(80, 2, 5)) - 0.35, 0, 1) * np.clip((0.95 - away) / 0.4, 0, 1)
    return np.asarray(np.clip(rim + 0.6 * rays * (away > 0.5), 0, 1), np.float32)


def _arrow() -> FloatArray:
    """Points the way it faces."""
    image = np.zeros((SIDE, SIDE), np.uint8)
    points = np.array([(0.5, 0.06), (0.9, 0.5), (0.63, 0.5), (0.63, 0.94), (0.37, 0.94), (0.37, 0.5), (0.1, 0.5)])
    cv2.fillPoly(image, [np.rint(points * SIDE).astype(np.int32)], 255, cv2.LINE_AA)
    return (image / np.float32(255)).astype(np.float32)


def _cross() -> FloatArray:
    image = np.zeros((SIDE, SIDE), np.uint8)
    for a, b in (((34, 34), (222, 222)), ((222, 34), (34, 222))):
        cv2.line(image, a, b, 255, 40, cv2.LINE_AA)
    return (image / np.float32(255)).astype(np.float32)


def _ring() -> FloatArray:
    image = np.zeros((SIDE, SIDE), np.uint8)
    cv2.circle(image, (SIDE // 2, SIDE // 2), 104, 255, 26, cv2.LINE_AA)
    return (image / np.float32(255)).astype(np.float32)


DECALS: dict[str, tuple[str, Callable[[], FloatArray]]] = {
    "tracks": ("Cart tracks", _tracks), "stain": ("Stain", _stain), "crater_rim": ("Crater's rim", _rim),
    "arrow": ("Arrow", _arrow), "cross": ("Cross", _cross), "ring": ("Ring", _ring),
}  # fmt: skip
LETTERS = "letters"
"""The key of a decal that is written."""


@cache
def decal(name: str) -> FloatArray:
    """A shipped decal by its name, shape (SIDE, SIDE), row 0 ahead. Not to be written to."""
    made = DECALS[name][1]()
    made.setflags(write=False)
    return made


@cache
def lettering(text: str) -> FloatArray:
    """Words in plain strokes, as large as fits a square."""
    font, thick = cv2.FONT_HERSHEY_SIMPLEX, 7
    (wide, high), below = cv2.getTextSize(text, font, 3.0, thick)
    side = max(wide, high + below) + 24
    image = np.zeros((side, side), np.uint8)
    cv2.putText(image, text, ((side - wide) // 2, (side + high - below) // 2), font, 3.0, 255, thick, cv2.LINE_AA)
    return np.asarray(cv2.resize(image, (SIDE, SIDE), interpolation=cv2.INTER_AREA), np.float32) / np.float32(255)


def laid_on(
    ground: FloatArray, picture: FloatArray, place: tuple[float, float], size: tuple[float, float], turn_deg: float,
    colour: tuple[int, int, int], strength: float, scale: float,
) -> None:  # fmt: skip
    """Lay a mark on a picture of the ground, which is changed.

    ground : shape (3, rows, cols), 0 to 255
    place : column and row of its middle [pixels]; size : width and depth [pixels]; turn_deg : clockwise from up
    strength : how much of the ground it hides where it is opaque; scale : of the picture's own pixels to these, for the
    smoothing of what is seen from afar
    """
    turn = math.radians(turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    half = math.hypot(*size) / 2
    rows, cols = ground.shape[1:]
    r0, r1 = max(0, math.floor(place[1] - half)), min(rows, math.ceil(place[1] + half) + 1)
    c0, c1 = max(0, math.floor(place[0] - half)), min(cols, math.ceil(place[0] + half) + 1)
    if r0 >= r1 or c0 >= c1:
        return
    source = picture
    if scale > 1.5:
        side = max(2, round(picture.shape[0] / scale)), max(2, round(picture.shape[1] / scale))
        source = np.asarray(cv2.resize(picture, side[::-1], interpolation=cv2.INTER_AREA), np.float32)
    high, wide = source.shape
    # From pixels of the ground to those of the mark.
    right, down = wide / size[0], high / size[1]
    matrix = np.array([
        [cos * right, sin * right, wide / 2 - 0.5 + right * (cos * (c0 - place[0]) + sin * (r0 - place[1]))],
        [-sin * down, cos * down, high / 2 - 0.5 + down * (-sin * (c0 - place[0]) + cos * (r0 - place[1]))],
    ])  # fmt: skip
    laid = cv2.warpAffine(
        source, matrix, (c1 - c0, r1 - r0), flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
        borderMode=cv2.BORDER_CONSTANT, borderValue=0,
    ) * np.float32(strength)  # fmt: skip
    part = ground[:, r0:r1, c0:c1]
    part += laid * (np.asarray(colour, np.float32)[:, None, None] - part)


# On what can be stood on

UPWARDS = 0.5
"""A face is marked from above where it looks up at least so much: the upward part of its normal."""
Polygon = list[NDArray[np.float64]]


def draped(
    faces: NDArray[np.float64], place: tuple[float, float], size: tuple[float, float], turn_deg: float
) -> NDArray[np.float64]:  # fmt: skip
    """What of the faces of a body lies under a mark, seen from above.

    faces : triangles in the body's frame, shape (n, 3, 3), counter-clockwise from outside [m]
    place, size, turn_deg : the middle of the mark in that frame, its width and depth [m], clockwise [°]
    returns : triangles, shape (m, 3, 5): right, ahead, up [m], and where in the mark that is: right and ahead, 0 to 1
    """
    turn = math.radians(turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    aside = faces[:, :, :2] - place
    across = (aside[:, :, 0] * cos - aside[:, :, 1] * sin) / size[0] + 0.5
    along = (aside[:, :, 0] * sin + aside[:, :, 1] * cos) / size[1] + 0.5
    normal = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    up = normal[:, 2] > UPWARDS * np.linalg.norm(normal, axis=1)
    for one in (across, along):
        up &= (one.max(1) > 0) & (one.min(1) < 1)
    found = []
    for at in np.flatnonzero(up):
        corners = list(np.column_stack([faces[at], across[at], along[at]]))
        for axis, sign, limit in ((3, 1, 0.0), (3, -1, -1.0), (4, 1, 0.0), (4, -1, -1.0)):
            corners = _cut(corners, axis, sign, limit)
        found += [(corners[0], *pair) for pair in itertools.pairwise(corners[1:])]
    return np.array(found, np.float64).reshape(-1, 3, 5)


def _cut(corners: Polygon, axis: int, sign: int, limit: float) -> Polygon:
    """What of a convex polygon lies where `sign` times a number of its corners is at least `limit`."""
    kept = []
    for one, other in zip(corners, [*corners[1:], *corners[:1]], strict=True):
        a, b = sign * one[axis] - limit, sign * other[axis] - limit
        if a >= 0:
            kept.append(one)
        if (a >= 0) != (b >= 0):
            kept.append(one + (other - one) * (a / (a - b)))
    return kept
