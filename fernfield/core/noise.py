"""Gradient noise in octaves, at places in metres: the same place always gets the same value.

At every corner of a lattice stands a direction; between corners the slopes that they
stand for are mixed by the quintic ``t**3 * (t * (6 * t - 15) + 10)``, whose first and
second derivatives vanish at the corners [1]_. Each octave has half the wavelength of the
one before and ``persistence`` times its height, and a lattice turned by an angle of its
own, since the noise is nought at every corner and rows of them would show.

References
----------
.. [1] K. Perlin (2002), Improving noise, ACM Trans. Graph. 21(3), 681-682, doi:10.1145/566654.566636
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fernfield.core.grid import Array, FloatArray
from fernfield.core.kernels import kernel

DIRECTIONS = 256
_ANGLES = 2 * np.pi * np.arange(DIRECTIONS) / DIRECTIONS
_EAST = np.cos(_ANGLES).astype(np.float32)
_NORTH = np.sin(_ANGLES).astype(np.float32)

LARGEST = math.sqrt(0.5)
"""Gradient noise of unit slopes in two dimensions stays within plus and minus this: half a cell's diagonal."""

FIRST_TURN, NEXT_TURN = 0.46, 0.64
"""How far the first octave's lattice is turned, and each one's further than the last. [rad]"""

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


EVERYWHERE = np.zeros((0, 0), np.float32)


def fractal(
    shape: tuple[int, int],
    spots: Spots,
    octaves: Octaves,
    spacing: float,
    where: FloatArray = EVERYWHERE,
    first: tuple[int, int] = (0, 0),
) -> FloatArray:
    """Noise from -1 to 1 at every post of an array of `shape`; its mean over large areas is 0.

    With `where` (same shape) only posts at which it is not 0 are worked out; the others stay 0. `first` is the row and
    column, counted from `spots`, at which the array begins: so a part is the whole's, to the last bit.
    """
    out = np.zeros(shape, np.float32)
    if octaves.persistence == 1:
        whole = float(octaves.count)
    else:
        whole = (1 - octaves.persistence**octaves.count) / (1 - octaves.persistence)
    for number in range(octaves.count):
        wave = octaves.feature / 2**number
        if number and wave < FINEST_POSTS * spacing:
            break
        turn = FIRST_TURN + NEXT_TURN * number
        cos, sin = math.cos(turn) / wave, math.sin(turn) / wave
        _add_octave(
            out,
            spots.x * cos - spots.y * sin,
            spots.x * sin + spots.y * cos,
            spots.col_x * cos - spots.col_y * sin,
            spots.col_x * sin + spots.col_y * cos,
            spots.row_x * cos - spots.row_y * sin,
            spots.row_x * sin + spots.row_y * cos,
            octaves.persistence**number / (LARGEST * whole),
            (octaves.seed * 8191 + number * 131) & 0xFFFFFFFF,
            _EAST,
            _NORTH,
            where,
            *first,
        )
    return out


@kernel
def _corner(u: int, v: int, seed: int) -> int:
    z = np.uint32(u) * np.uint32(0x9E3779B1) ^ np.uint32(v) * np.uint32(0x85EBCA77) ^ np.uint32(seed)
    z = (z ^ (z >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    z = (z ^ (z >> np.uint32(12))) * np.uint32(0x297A2D39)
    return int((z ^ (z >> np.uint32(15))) & np.uint32(255))


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
    where: FloatArray,
    row0: int,
    col0: int,
) -> None:
    rows, cols = out.shape
    some = where.shape[0] > 0
    tall = np.float32(height)
    one = np.float32(1)
    six, fifteen, ten = np.float32(6), np.float32(15), np.float32(10)
    # A row is gone over three times: where its posts lie, what stands at their corners, the mixing. The first and the
    # last become vector code, which takes half the time of one loop over all of it.
    cell_u, cell_v = np.empty(cols, np.int32), np.empty(cols, np.int32)
    part_u, part_v = np.empty(cols, np.float32), np.empty(cols, np.float32)
    slopes, mix = np.empty((8, cols), np.float32), np.empty(cols, np.float32)
    e00, n00, e10, n10 = slopes[0], slopes[1], slopes[2], slopes[3]
    e01, n01, e11, n11 = slopes[4], slopes[5], slopes[6], slopes[7]
    for r in range(rows):
        begin, end = 0, cols
        if some:
            while begin < end and where[r, begin] == 0:
                begin += 1
            while begin < end and where[r, end - 1] == 0:
                end -= 1
        line, count, left = out[r, begin:end], end - begin, col0 + begin
        for c in range(count):
            u, v = u0 + (c + left) * col_u + (r + row0) * row_u, v0 + (c + left) * col_v + (r + row0) * row_v
            down_u, down_v = np.floor(u), np.floor(v)
            cell_u[c], cell_v[c] = np.int32(down_u), np.int32(down_v)
            part_u[c], part_v[c] = np.float32(u - down_u), np.float32(v - down_v)
        ea = na = eb = nb = ec = nc = ed = nd = np.float32(0)
        for c in range(count):
            iu, iv = cell_u[c], cell_v[c]
            if c == 0 or iu != cell_u[c - 1] or iv != cell_v[c - 1]:
                # The same four corners serve every post of a cell.
                k = _corner(iu, iv, seed)
                ea, na = east[k], north[k]
                k = _corner(iu + 1, iv, seed)
                eb, nb = east[k], north[k]
                k = _corner(iu, iv + 1, seed)
                ec, nc = east[k], north[k]
                k = _corner(iu + 1, iv + 1, seed)
                ed, nd = east[k], north[k]
            e00[c], n00[c], e10[c], n10[c] = ea, na, eb, nb
            e01[c], n01[c], e11[c], n11[c] = ec, nc, ed, nd
        for c in range(count):
            fu, fv = part_u[c], part_v[c]
            a = e00[c] * fu + n00[c] * fv
            b = e10[c] * (fu - one) + n10[c] * fv
            d = e01[c] * fu + n01[c] * (fv - one)
            e = e11[c] * (fu - one) + n11[c] * (fv - one)
            su = fu * fu * fu * (fu * (fu * six - fifteen) + ten)
            sv = fv * fv * fv * (fv * (fv * six - fifteen) + ten)
            low = a + (b - a) * su
            high = d + (e - d) * su
            mix[c] = tall * (low + (high - low) * sv)
        if some:
            for c in range(count):
                if where[r, begin + c] != 0:
                    line[c] += mix[c]
        else:
            for c in range(count):
                line[c] += mix[c]


PLAIN, RIDGED, BILLOWED = 0, 1, 2
"""How octaves are added: as they are, as sharp ridges (one less their size, squared), or as billows (their size)."""


def noise_at(x: FloatArray, y: FloatArray, octaves: Octaves, mode: int = PLAIN) -> FloatArray:
    """Noise at any places, x and y of one shape [m]: -1 to 1, or 0 to 1 when ridged or billowed.

    In a ridged sum an octave counts the more the higher the one before stands, so that
    valleys stay smooth and ridges are rough (as in ridged multifractals [2]_).

    References
    ----------
    .. [2] D. S. Ebert et al. (2003), Texturing and Modeling, 3rd ed., chapter 16; from memory
    """
    out = np.empty(x.shape, np.float32)
    _noise_at(
        out.ravel(), np.ascontiguousarray(x, np.float64).ravel(), np.ascontiguousarray(y, np.float64).ravel(),
        octaves.feature, octaves.count, octaves.persistence, octaves.seed & 0xFFFFFFF, mode, _EAST, _NORTH,
    )  # fmt: skip
    return out


@kernel
def _one(u: float, v: float, seed: int, east: FloatArray, north: FloatArray) -> float:
    iu, iv = math.floor(u), math.floor(v)
    fu, fv = u - iu, v - iv
    k = _corner(iu, iv, seed)
    a = east[k] * fu + north[k] * fv
    k = _corner(iu + 1, iv, seed)
    b = east[k] * (fu - 1) + north[k] * fv
    k = _corner(iu, iv + 1, seed)
    c = east[k] * fu + north[k] * (fv - 1)
    k = _corner(iu + 1, iv + 1, seed)
    d = east[k] * (fu - 1) + north[k] * (fv - 1)
    su = fu * fu * fu * (fu * (fu * 6 - 15) + 10)
    sv = fv * fv * fv * (fv * (fv * 6 - 15) + 10)
    low, high = a + (b - a) * su, c + (d - c) * su
    return float((low + (high - low) * sv) / 0.7071067811865476)


@kernel
def _noise_at(
    out: FloatArray, x: Array, y: Array, feature: float, count: int, persistence: float, seed: int,
    mode: int, east: FloatArray, north: FloatArray,
) -> None:  # fmt: skip
    for i in range(out.shape[0]):
        total, whole, height, wave, before = 0.0, 0.0, 1.0, feature, 1.0
        for number in range(count):
            turn = 0.46 + 0.64 * number
            cos, sin = math.cos(turn) / wave, math.sin(turn) / wave
            n = _one(x[i] * cos - y[i] * sin, x[i] * sin + y[i] * cos, seed * 8191 + number * 131, east, north)
            if mode == 1:
                # A little rounded, or a single post could stand on the crest.
                n = 1 - math.sqrt(n * n + 0.0025)
                n = n * n * before
                before = min(max(n * 1.6, 0.0), 1.0)
            elif mode == 2:
                n = abs(n)
            total += n * height
            whole += height
            height *= persistence
            wave *= 0.5
        out[i] = total / whole
