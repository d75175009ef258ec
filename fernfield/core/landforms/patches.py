"""Several landscapes on one region: patches of stated size that blend into each other."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import Array, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.settings import Values


@dataclass(frozen=True, slots=True)
class Landscape:
    """A landform with its settings, its weight beside the others, how large its patches are [m], and how many times
    as wide as by itself it is made."""

    name: str
    weight: float
    patch: float
    values: Values
    times: float = 1.0


def land(ground: Ground, landscapes: list[Landscape], blend: float, scale: float = 1.0) -> FloatArray:
    """Heights over the region's level. [m]

    ground : where; landscapes : at least one; blend : how far two patches run into each
    other [m]; scale : of all heights
    """
    if len(landscapes) == 1:
        only = landscapes[0]
        made = LANDFORMS[only.name].make(ground.widened(only.times), only.values)
        return np.asarray(made * np.float32(scale), np.float32)
    shares = patch_shares(ground, landscapes, blend)
    out = np.zeros(ground.x.shape, np.float32)
    for landscape, share in zip(landscapes, shares, strict=True):
        if share.any():
            out += share * LANDFORMS[landscape.name].make(ground.widened(landscape.times), landscape.values)
    return out * np.float32(scale)


def patch_shares(ground: Ground, landscapes: list[Landscape], blend: float) -> FloatArray:
    """How much of each landscape every place is, (landscapes, …), adding up to 1.

    Patches grow around points, one in each cell of a lattice as wide as the mean patch,
    anywhere in it; a point takes its landscape by weight.
    """
    size = float(np.mean([landscape.patch for landscape in landscapes]))
    weights = np.cumsum([landscape.weight for landscape in landscapes])
    shares = np.zeros((len(landscapes), ground.x.size), np.float32)
    x, y = ground.warped(size * 0.6, size * 0.22, 91)
    _shares(
        shares, np.ascontiguousarray(x, np.float64).ravel(), np.ascontiguousarray(y, np.float64).ravel(),
        size, max(blend, 1e-3), weights / weights[-1], ground.seed & 0xFFFFFFF,
    )  # fmt: skip
    return shares.reshape(len(landscapes), *ground.x.shape)


@kernel
def _chance(i: int, j: int, seed: int, lane: int) -> float:
    z = np.uint64(i & 0xFFFFFFFF) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(j & 0xFFFFFFFF) * np.uint64(
        0xC2B2AE3D27D4EB4F
    )
    z = z + np.uint64(seed * 4 + lane) * np.uint64(0x165667B19E3779F9)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return float((z ^ (z >> np.uint64(31))) >> np.uint64(11)) / 9007199254740992.0


@kernel
def _shares(shares: FloatArray, x: Array, y: Array, size: float, blend: float, upto: Array, seed: int) -> None:
    for k in range(x.shape[0]):
        u, v = x[k] / size, y[k] / size
        iu, iv = int(np.floor(u)), int(np.floor(v))
        nearest = 1e30
        for i in range(iu - 2, iu + 3):
            for j in range(iv - 2, iv + 3):
                du, dv = i + _chance(i, j, seed, 0) - u, j + _chance(i, j, seed, 1) - v
                nearest = min(nearest, du * du + dv * dv)
        nearest = np.sqrt(nearest) * size
        total = 0.0
        for i in range(iu - 2, iu + 3):
            for j in range(iv - 2, iv + 3):
                du, dv = i + _chance(i, j, seed, 0) - u, j + _chance(i, j, seed, 1) - v
                t = 1 - (np.sqrt(du * du + dv * dv) * size - nearest) / blend
                if t <= 0:
                    continue
                t = t * t * (3 - 2 * t)
                pick = _chance(i, j, seed, 2)
                which = 0
                while which < upto.shape[0] - 1 and pick >= upto[which]:
                    which += 1
                shares[which, k] += t
                total += t
        for which in range(shares.shape[0]):
            shares[which, k] /= total
