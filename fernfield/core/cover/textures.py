"""Textures of our own, made by code: the relief of a material as a square that goes on into itself on all sides.

Each is a grey image of 0 to 1 with a mean of one half, so that a ground of one colour keeps it on the whole: how bright
a spot is, and what shows first where two materials meet, both follow from how high it stands. The next one is a
function here and a line in `TEXTURES`.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

SIDE = 256


def _waves(seed: int, longest: float, shortest: float, steep: float = 1.0, along: float = 1.0) -> FloatArray:
    """Noise without a seam: chance, of which only waves between two lengths [pixels] are kept, the longer the stronger
    (by `steep`). With `along` above 1 it is drawn out so many times down the picture. Mean 0, deviation 1."""
    rng = np.random.default_rng(seed)
    down = np.fft.fftfreq(SIDE)[:, None] * along
    right = np.fft.fftfreq(SIDE)[None, :]
    often = np.hypot(down, right)
    band = (often >= 1 / longest) & (often <= 1 / shortest)
    power = np.where(band, np.maximum(often, 1e-6) ** -steep, 0.0)
    found = np.fft.ifft2(np.fft.fft2(rng.standard_normal((SIDE, SIDE))) * power).real
    return np.asarray((found - found.mean()) / found.std(), np.float32)


def _cells(seed: int, count: int) -> tuple[FloatArray, FloatArray, FloatArray]:
    """So many places, spread evenly, none with a seam: the distance to the nearest and to the next [pixels], and a
    number of 0 to 1 for each nearest one."""
    rng = np.random.default_rng(seed)
    side = max(2, round(count**0.5))
    step = SIDE / side
    grid = (np.stack(np.meshgrid(np.arange(side), np.arange(side), indexing="ij"), -1) + 0.5) * step
    places = (grid + rng.uniform(-0.42, 0.42, grid.shape) * step).reshape(-1, 2) % SIDE
    chance = rng.uniform(0, 1, len(places)).astype(np.float32)
    line = np.arange(SIDE, dtype=np.float32)
    first = np.full((SIDE, SIDE), 1e9, np.float32)
    second, own = first.copy(), np.zeros((SIDE, SIDE), np.float32)
    for (row, col), number in zip(places, chance, strict=True):
        down, right = np.abs(line - row), np.abs(line - col)
        down, right = np.minimum(down, SIDE - down), np.minimum(right, SIDE - right)
        away = np.sqrt(down[:, None] ** 2 + right[None, :] ** 2).astype(np.float32)
        nearer = away < first
        second = np.where(nearer, first, np.minimum(second, away))
        own = np.where(nearer, number, own)
        first = np.where(nearer, away, first)
    return first, second, own


def _level(image: NDArray[Any], spread: float) -> FloatArray:
    """With a mean of one half and the stated deviation, within 0 to 1."""
    found = (image - image.mean()) / max(float(image.std()), 1e-6) * spread + 0.5
    for _ in range(6):
        found = np.clip(found, 0, 1)
        found = found + (0.5 - found.mean())
    return np.asarray(np.clip(found, 0, 1), np.float32)


def _turf() -> FloatArray:
    return _level(_waves(1, 60, 3, 0.6) * 0.6 + _waves(2, 10, 2, 0.2, 0.45) + _waves(3, 10, 2, 0.2, 2.2), 0.17)


def _reeds() -> FloatArray:
    return _level(_waves(4, 24, 2, 0.3, 5.0) + 0.5 * _waves(5, 90, 14, 1.0), 0.22)


def _peat() -> FloatArray:
    first, _, own = _cells(6, 64)
    return _level(_waves(7, 90, 6, 1.3) + 0.5 * own - first / 26, 0.19)


def _heath() -> FloatArray:
    first, _, own = _cells(8, 150)
    return _level(-first / 9 + 0.7 * own + 0.5 * _waves(9, 12, 2, 0.3), 0.21)


def _ripples() -> FloatArray:
    down = np.arange(SIDE, dtype=np.float32)[:, None]
    bent: FloatArray = 2 * np.pi * 14 * down / SIDE + 2.2 * _waves(10, 160, 30, 1.5)
    return _level(np.cos(bent) + 0.25 * np.cos(2 * bent) + 0.3 * _waves(11, 20, 2, 0.4), 0.13)


def _pebbles() -> FloatArray:
    first, second, own = _cells(12, 420)
    round_ = np.clip((second - first) / 7, 0, 1) ** 0.7
    return _level(round_ * (0.6 + 0.7 * own) + 0.08 * _waves(13, 8, 2, 0.2), 0.24)


def _trodden() -> FloatArray:
    first, second, own = _cells(14, 260)
    stones = np.where(own > 0.8, np.clip((second - first) / 5, 0, 1), 0)
    return _level(0.6 * _waves(15, 120, 3, 1.0) + 1.6 * stones + 0.3 * _waves(16, 5, 2, 0.1), 0.13)


def _slabs() -> FloatArray:
    first, second, own = _cells(17, 26)
    joints = np.clip((second - first) / 7, 0, 1)
    return _level(joints * (0.9 + 0.5 * own) + 0.3 * _waves(18, 60, 3, 1.0), 0.2)


def _scree() -> FloatArray:
    first, second, own = _cells(19, 240)
    return _level(np.clip((second - first) / 11, 0, 1) * own + 0.25 * _waves(20, 10, 2, 0.3), 0.23)


def _snow() -> FloatArray:
    return _level(_waves(21, 200, 20, 1.6) + 0.12 * _waves(22, 6, 2, 0.2), 0.07)


def _layers() -> FloatArray:
    down = np.arange(SIDE, dtype=np.float32)[:, None]
    bent = 2 * np.pi * 9 * down / SIDE + 1.4 * _waves(23, 180, 24, 1.4)
    return _level(np.sin(bent) + 0.4 * np.sin(3 * bent) + 0.5 * _waves(24, 50, 3, 0.9), 0.21)


TEXTURES: dict[str, tuple[str, Callable[[], FloatArray]]] = {
    "turf": ("Turf", _turf),
    "reeds": ("Reeds", _reeds),
    "peat": ("Peat", _peat),
    "heath": ("Heath", _heath),
    "ripples": ("Ripples", _ripples),
    "pebbles": ("Pebbles", _pebbles),
    "trodden": ("Trodden earth", _trodden),
    "slabs": ("Slabs", _slabs),
    "scree": ("Scree", _scree),
    "layers": ("Layered rock", _layers),
    "snow": ("Snow", _snow),
}
"""Label and maker, by name."""


@cache
def texture(name: str) -> FloatArray:
    """A texture of our own, shape (256, 256), 0 to 1, seamless, mean one half. Raises KeyError."""
    return TEXTURES[name][1]()


def as_texture(image: FloatArray) -> FloatArray:
    """Anybody's grey image (0 to 1) as a texture: of our size, and with a mean of one half."""
    sized = cv2.resize(np.asarray(image, np.float32), (SIDE, SIDE), interpolation=cv2.INTER_AREA)
    return _level(sized, min(float(sized.std()), 0.3)) if float(sized.std()) > 1e-4 else np.full_like(sized, 0.5)


DARK, BRIGHT = 0.62, 1.38
"""How bright the lowest and the highest of a texture are, beside the colour of its cover."""


def brightness(relief: FloatArray) -> FloatArray:
    """How bright a texture is where it is so high, beside the colour: 1 on the mean."""
    return np.asarray(DARK + (BRIGHT - DARK) * relief, np.float32)


def coarser(image: FloatArray, pixel_m: float, tile_m: float) -> FloatArray:
    """The texture halved until one of its pixels is about as wide as one of the picture's, so that nothing flickers."""
    found = image
    while found.shape[0] > 1 and tile_m / found.shape[0] * 1.5 < pixel_m:
        found = found.reshape(found.shape[0] // 2, 2, found.shape[1] // 2, 2).mean(axis=(1, 3))
    return found


def laid_out(image: FloatArray, x: FloatArray, y: FloatArray, tile_m: float, turn_deg: float) -> FloatArray:
    """A texture at places in the land, x east along columns and y north along rows: shape (rows, cols). [m]

    Read twice, at another size and turn the second time, and mixed by place: so that its repetition is not seen.
    """
    found = []
    for turn, size in ((turn_deg, tile_m), (turn_deg + 37.0, tile_m * 1.73)):
        cos, sin = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        side = image.shape[0]
        u = (x[None, :] * cos - y[:, None] * sin) / size * side
        v = (x[None, :] * sin + y[:, None] * cos) / size * side
        rows, cols = np.floor(v).astype(np.int64) % side, np.floor(u).astype(np.int64) % side
        found.append(image[rows, cols])
    span = tile_m * 4.3
    share = 0.5 + 0.5 * np.sin(2 * np.pi * x[None, :] / span + 1.7 * np.sin(2 * np.pi * y[:, None] / (span * 1.4)))
    return np.asarray(found[0] + (found[1] - found[0]) * share, np.float32)
