"""Patterns in the land: scattered grains and sponge-like patches. The same place always has the same pattern."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.noise import Octaves, Spots, fractal
from fernfield.core.settings import Values


@kernel
def _chance(u: int, v: int, seed: int) -> np.float32:
    """A number from 0 to 1 for a cell, always the same."""
    z = np.uint32(u) * np.uint32(0x85EBCA77) ^ np.uint32(v) * np.uint32(0xC2B2AE3D) ^ np.uint32(seed)
    z = (z ^ (z >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    z = (z ^ (z >> np.uint32(12))) * np.uint32(0x297A2D39)
    return np.float32((z ^ (z >> np.uint32(15))) & np.uint32(0xFFFFFF)) * np.float32(1 / 0xFFFFFF)


@kernel
def _grains(out: FloatArray, steps: NDArray[np.float64], grain: float, edge: float, varies: float, seed: int) -> None:
    rows, cols = out.shape
    for r in range(rows):
        for c in range(cols):
            u = (steps[0] + c * steps[2] + r * steps[4]) / grain
            v = (steps[1] + c * steps[3] + r * steps[5]) / grain
            best = np.float32(0)
            for i in range(int(math.floor(u)) - 1, int(math.floor(u)) + 2):
                for j in range(int(math.floor(v)) - 1, int(math.floor(v)) + 2):
                    size = np.float32(0.36) * (np.float32(1) - np.float32(varies) * _chance(i, j, seed + 2))
                    away_u = u - (i + 0.3 + 0.4 * _chance(i, j, seed))
                    away_v = v - (j + 0.3 + 0.4 * _chance(i, j, seed + 1))
                    inside = np.float32((size - math.sqrt(away_u * away_u + away_v * away_v)) * grain / edge + 0.5)
                    best = max(best, inside)
            out[r, c] = min(best, np.float32(1))


def grains(shape: tuple[int, int], spots: Spots, values: Values, spacing: float) -> FloatArray:
    """Round grains, one in every square of ``grain_m``, each pushed about; shape (rows, cols), 0 to 1.

    With ``variability`` 0 all are 0.72 of ``grain_m`` wide, with 1 of any width down to nothing. Edges are soft over
    a post.
    """
    out = np.zeros(shape, np.float32)
    steps = np.array([spots.x, spots.y, spots.col_x, spots.col_y, spots.row_x, spots.row_y], np.float64)
    _grains(out, steps, float(values["grain_m"]), float(spacing), float(values["variability"]), int(values["seed"]) * 3)
    return out


PATCH_OCTAVES, PATCH_PERSISTENCE = 4, 0.55
FEWEST, MOST = 0.3, -0.25
"""Where the noise is over this there is a patch: with no variability few and compact ones, with all many and torn."""


def patches(shape: tuple[int, int], spots: Spots, values: Values, spacing: float) -> FloatArray:
    """Patches like those of a sponge, ``grain_m`` from one to the next; shape (rows, cols), 0 to 1.

    ``variability`` makes them more, larger and more ragged.
    """
    grain, varies = float(values["grain_m"]), float(values["variability"])
    ragged = Octaves(grain * 2, PATCH_OCTAVES, PATCH_PERSISTENCE * (0.3 + 0.7 * varies), int(values["seed"]))
    noise = fractal(shape, spots, ragged, spacing)
    over = noise - np.float32(FEWEST + (MOST - FEWEST) * varies)
    # Soft over a post: the noise climbs by about its height over half of a grain.
    return np.asarray(np.clip(over * np.float32(max(grain / spacing, 1.0)) + 0.5, 0, 1), np.float32)
