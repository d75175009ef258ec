"""Tips and imprints of our own, made by code: grey images from 0 to 1, black at the rim."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.noise import Octaves, fractal, plain_spots

SIDE = 128


def _places() -> tuple[FloatArray, FloatArray, FloatArray]:
    """Down and right from -1 to 1, and the distance from the middle."""
    line = np.linspace(-1, 1, SIDE, dtype=np.float32)
    right, down = np.meshgrid(line, line)
    return down, right, np.hypot(down, right)


def _noise(feature: float, octaves: int, seed: int) -> FloatArray:
    return fractal((SIDE, SIDE), plain_spots(0, 0, 1), Octaves(feature, octaves, 0.55, seed), 1.0)


def _faded(image: FloatArray) -> FloatArray:
    """Stretched to 0 to 1, and led down to black at the rim."""
    _, _, away = _places()
    low, high = float(image.min()), float(image.max())
    rim = np.clip((1 - away) / 0.25, 0, 1)
    return np.asarray((image - low) / (high - low) * rim * rim * (3 - 2 * rim), np.float32)


def _hummock() -> FloatArray:
    _, _, away = _places()
    return _faded(np.clip(1 - away**2, 0, 1) ** 1.4 * (1 + 0.35 * _noise(40, 4, 3)))


def _stipple() -> FloatArray:
    return _faded(np.clip(_noise(9, 2, 5) - 0.12, 0, 1))


def _ridge() -> FloatArray:
    _, right, _ = _places()
    bent = right + 0.3 * _noise(70, 2, 9)
    return _faded(np.clip(1 - np.abs(bent) * 2.2, 0, 1) ** 1.3 * (1 + 0.4 * _noise(26, 3, 2)))


def _furrows() -> FloatArray:
    down, right, _ = _places()
    return _faded(0.5 + 0.5 * np.cos(22 * (right + 0.12 * _noise(60, 2, 4))) + 0 * down)


def _cracks() -> FloatArray:
    return _faded(np.clip(np.abs(_noise(34, 3, 21)) * 5, 0, 1))


def _crater() -> FloatArray:
    _, _, away = _places()
    rough = away + 0.05 * _noise(30, 3, 8)
    rim = np.exp(-(((rough - 0.6) / 0.14) ** 2))
    return _faded(rim + 0.12 * np.clip(1 - rough, 0, 1))


TIPS: dict[str, tuple[str, Callable[[], FloatArray]]] = {
    "hummock": ("Hummock", _hummock),
    "stipple": ("Stipple", _stipple),
    "ridge": ("Ridge", _ridge),
    "furrows": ("Furrows", _furrows),
    "cracks": ("Cracks", _cracks),
    "crater": ("Crater", _crater),
}
"""Name and maker of each by its key: the next is a function and a line."""


@cache
def tip(key: str) -> FloatArray:
    """The image of one of our own tips, (SIDE, SIDE). KeyError when there is none of that key."""
    image = TIPS[key][1]()
    image.flags.writeable = False
    return image
