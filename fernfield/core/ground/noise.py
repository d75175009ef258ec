"""Gradient noise in octaves, at places in metres: the same place always gets the same value.

At every corner of a lattice stands a direction; between corners the slopes that they
stand for are mixed by the quintic ``t**3 * (t * (6 * t - 15) + 10)``, whose first and
second derivatives vanish at the corners [1]_. Each octave has half the wavelength of the
one before and ``persistence`` times its height, and a lattice shifted by a part of a cell,
so that corners do not come to lie on each other.

References
----------
.. [1] K. Perlin (2002), Improving noise, ACM Trans. Graph. 21(3), 681-682, doi:10.1145/566654.566636
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

DIRECTIONS = 256
_ANGLES = 2 * np.pi * np.arange(DIRECTIONS) / DIRECTIONS
_EAST = np.cos(_ANGLES).astype(np.float32)
_NORTH = np.sin(_ANGLES).astype(np.float32)

LARGEST = math.sqrt(0.5)
"""Gradient noise of unit slopes in two dimensions stays within plus and minus this: half a cell's diagonal."""

LATTICE_SHIFT = (0.3819660113, 0.7548776662)
"""Each octave's lattice is shifted by so many cells more: their multiples never fall together."""

FINEST_POSTS = 2.0
"""Waves shorter than two posts cannot be held by the grid (the sampling theorem): they are left out."""


@dataclass(frozen=True, slots=True)
class Octaves:
    """feature : longest wavelength [m]; count : of octaves; persistence : height of each as a part of the last; seed"""

    feature: float
    count: int
    persistence: float
    seed: int


@dataclass(frozen=True, slots=True)
class Spots:
    """Where the posts of an array are: x and y of the first [m], and what a column and a row add to each. [m]"""

    x: float
    y: float
    col_x: float
    col_y: float
    row_x: float
    row_y: float


def plain_spots(x: float, y: float, spacing: float) -> Spots:
    """Posts in the tract's own directions: columns run east, rows south."""
    return Spots(x, y, spacing, 0.0, 0.0, -spacing)


def fractal(shape: tuple[int, int], spots: Spots, octaves: Octaves, spacing: float) -> FloatArray:
    """Noise from -1 to 1 at every post of an array of `shape`; its mean over large areas is 0."""
    out = np.zeros(shape, np.float32)
    if octaves.persistence == 1:
        whole = float(octaves.count)
    else:
        whole = (1 - octaves.persistence**octaves.count) / (1 - octaves.persistence)
    for number in range(octaves.count):
        wave = octaves.feature / 2**number
        if number and wave < FINEST_POSTS * spacing:
            break
        shift_u, shift_v = LATTICE_SHIFT[0] * number, LATTICE_SHIFT[1] * number
        height = octaves.persistence**number / (LARGEST * whole)
        seed = (octaves.seed * 8191 + number * 131) & 0xFFFFFFFF
        u, v = spots.x / wave + shift_u, spots.y / wave + shift_v
        if spots.col_y == 0 and spots.row_x == 0:
            _add_straight(out, u, v, spots.col_x / wave, spots.row_y / wave, height, seed, _EAST, _NORTH)
            continue
        _add_octave(
            out, u, v, spots.col_x / wave, spots.col_y / wave, spots.row_x / wave, spots.row_y / wave, height, seed,
            _EAST, _NORTH,
        )  # fmt: skip
    return out


@kernel
def _corner(u: int, v: int, seed: int) -> int:
    z = np.uint32(u) * np.uint32(0x9E3779B1) ^ np.uint32(v) * np.uint32(0x85EBCA77) ^ np.uint32(seed)
    z = (z ^ (z >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    z = (z ^ (z >> np.uint32(12))) * np.uint32(0x297A2D39)
    return int((z ^ (z >> np.uint32(15))) & np.uint32(255))


@kernel
def _slopes_at(
    cells: NDArray[np.int64], v: int, seed: int, east: FloatArray, north: FloatArray, e: FloatArray, n: FloatArray
) -> None:
    """The slopes at the corners (cell, v) of every column."""
    last = -(1 << 40)
    a = b = np.float32(0)
    for c in range(cells.shape[0]):
        if cells[c] != last:
            last = cells[c]
            k = _corner(last, v, seed)
            a, b = east[k], north[k]
        e[c], n[c] = a, b


@kernel
def _mix(
    line: FloatArray, fu: FloatArray, su: FloatArray, e0: FloatArray, n0: FloatArray, e1: FloatArray, n1: FloatArray,
    fv: np.float32, share: np.float32,
) -> None:  # fmt: skip
    """Add `share` of what the corners on one side of a row say to it."""
    one = np.float32(1)
    for c in range(line.shape[0]):
        a = e0[c] * fu[c] + n0[c] * fv
        b = e1[c] * (fu[c] - one) + n1[c] * fv
        line[c] += share * (a + (b - a) * su[c])


@kernel
def _add_straight(
    out: FloatArray, u0: float, v0: float, col_u: float, row_v: float, height: float, seed: int, east: FloatArray,
    north: FloatArray,
) -> None:  # fmt: skip
    """The same as `_add_octave` where columns run along the lattice: corners are looked up once for a row of cells."""
    rows, cols = out.shape
    six, fifteen, ten = np.float32(6), np.float32(15), np.float32(10)
    cells = np.empty(cols, np.int64)
    nexts = np.empty(cols, np.int64)
    fu, su = np.empty(cols, np.float32), np.empty(cols, np.float32)
    for c in range(cols):
        u = u0 + c * col_u
        cells[c] = math.floor(u)
        nexts[c] = cells[c] + 1
        f = np.float32(u - cells[c])
        fu[c] = f
        su[c] = f * f * f * (f * (f * six - fifteen) + ten)
    corners = np.empty((8, cols), np.float32)
    last = -(1 << 40)
    for r in range(rows):
        v = v0 + r * row_v
        iv = math.floor(v)
        if iv != last:
            last = iv
            _slopes_at(cells, iv, seed, east, north, corners[0], corners[1])
            _slopes_at(nexts, iv, seed, east, north, corners[2], corners[3])
            _slopes_at(cells, iv + 1, seed, east, north, corners[4], corners[5])
            _slopes_at(nexts, iv + 1, seed, east, north, corners[6], corners[7])
        f = np.float32(v - iv)
        s = f * f * f * (f * (f * six - fifteen) + ten)
        tall = np.float32(height)
        one = np.float32(1)
        _mix(out[r], fu, su, corners[0], corners[1], corners[2], corners[3], f, tall * (one - s))
        _mix(out[r], fu, su, corners[4], corners[5], corners[6], corners[7], f - one, tall * s)


@kernel
def _add_octave(
    out: FloatArray,
    u0: float,
    v0: float,
    col_u: float,
    col_v: float,
    row_u: float,
    row_v: float,
    height: float,
    seed: int,
    east: FloatArray,
    north: FloatArray,
) -> None:
    rows, cols = out.shape
    tall = np.float32(height)
    one = np.float32(1)
    six, fifteen, ten = np.float32(6), np.float32(15), np.float32(10)
    for r in range(rows):
        line = out[r]
        last_u, last_v = -(1 << 40), -(1 << 40)
        e00 = n00 = e10 = n10 = e01 = n01 = e11 = n11 = np.float32(0)
        for c in range(cols):
            u, v = u0 + c * col_u + r * row_u, v0 + c * col_v + r * row_v
            iu, iv = math.floor(u), math.floor(v)
            if iu != last_u or iv != last_v:
                # The same four corners serve every post of a cell.
                last_u, last_v = iu, iv
                k = _corner(iu, iv, seed)
                e00, n00 = east[k], north[k]
                k = _corner(iu + 1, iv, seed)
                e10, n10 = east[k], north[k]
                k = _corner(iu, iv + 1, seed)
                e01, n01 = east[k], north[k]
                k = _corner(iu + 1, iv + 1, seed)
                e11, n11 = east[k], north[k]
            fu, fv = np.float32(u - iu), np.float32(v - iv)
            a = e00 * fu + n00 * fv
            b = e10 * (fu - one) + n10 * fv
            d = e01 * fu + n01 * (fv - one)
            e = e11 * (fu - one) + n11 * (fv - one)
            su = fu * fu * fu * (fu * (fu * six - fifteen) + ten)
            sv = fv * fv * fv * (fv * (fv * six - fifteen) + ten)
            low = a + (b - a) * su
            high = d + (e - d) * su
            line[c] += tall * (low + (high - low) * sv)
