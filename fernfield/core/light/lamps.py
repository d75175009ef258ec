"""Light of lamps on the ground, and the colour of light by its temperature."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.light.sky import LUMA, XYZ_TO_RGB

Ink = tuple[float, float, float]

KELVIN = (1667.0, 25_000.0)
"""Between these the fit of the Planckian locus holds."""
FADES = 0.8
"""From this share of its reach on a lamp's light is led down to nothing: the square law has no end."""
CLEAR_M = 0.05
"""A ray is let past ground that stands so little over it. [m]"""


@dataclass(frozen=True, slots=True)
class Source:
    """A lamp: where it hangs [m], its luminous flux [lm] in red, green and blue, how far its light goes [m], the full
    angle of the cone that it shines into, straight down (360: all around) [°], and whether the ground stops it."""

    x: float
    y: float
    z: float
    lumens: Ink
    reach: float
    cone: float = 360.0
    shadows: bool = False

    @property
    def candela(self) -> Ink:
        """Luminous intensity: the flux by the solid angle of the cone."""
        solid = 2 * math.pi * (1 - math.cos(math.radians(min(self.cone, 360.0) / 2)))
        red, green, blue = self.lumens
        return red / solid, green / solid, blue / solid


def planckian(kelvin: float) -> tuple[float, float]:
    """Chromaticity x and y of a glowing body, by the cubic fit of B. Kang and others (2002), Design of advanced color
    temperature control system for HDTV applications, J. Korean Phys. Soc. 41(6), 865-871 (its numbers from memory)."""
    t = min(max(kelvin, KELVIN[0]), KELVIN[1])
    if t <= 4000:
        x = -0.2661239e9 / t**3 - 0.2343589e6 / t**2 + 0.8776956e3 / t + 0.179910
    else:
        x = -3.0258469e9 / t**3 + 2.1070379e6 / t**2 + 0.2226347e3 / t + 0.240390
    if t <= 2222:
        y = -1.1063814 * x**3 - 1.34811020 * x**2 + 2.18555832 * x - 0.20219683
    elif t <= 4000:
        y = -0.9549476 * x**3 - 1.37418593 * x**2 + 2.09137015 * x - 0.16748867
    else:
        y = 3.0817580 * x**3 - 5.87338670 * x**2 + 3.75112997 * x - 0.37001483
    return x, y


def of_kelvin(kelvin: float) -> Ink:
    """The light of a glowing body in linear red, green and blue, of a luminance of 1."""
    x, y = planckian(kelvin)
    return of_luminance_1(XYZ_TO_RGB @ np.array([x / y, 1.0, (1 - x - y) / y]))


def of_luminance_1(rgb: NDArray[np.float64]) -> Ink:
    """A colour with nothing below zero, as bright as 1."""
    kept = np.maximum(rgb, 0.0)
    total = float(LUMA @ kept)
    red, green, blue = kept / total if total > 0 else np.ones(3)
    return float(red), float(green), float(blue)


def lamp_lux(
    heights: FloatArray, spacing: float, west: float, north: float, around: int, lamps: Sequence[Source]
) -> FloatArray:
    """Illuminance of the ground by lamps, in red, green and blue. [lx]

    Parameters
    ----------
    heights : elevation of the ground, with `around` (at least 1) more posts on every side: light from further off than
        they reach is not stopped by what stands there [m]
    spacing : from post to post [m]
    west, north : where the first of these posts lies: x and y, in the metres of the lamps
    lamps : each by the inverse square of how far off it is and the cosine of its angle with the ground

    Returns
    -------
    shape (3, rows - 2 * around, cols - 2 * around)
    """
    out = np.zeros((3, heights.shape[0] - 2 * around, heights.shape[1] - 2 * around), np.float32)
    heights = np.ascontiguousarray(heights, np.float32)
    for lamp in lamps:
        if lamp.reach > 0:
            _shine(
                heights, spacing, around, (lamp.x - west) / spacing, (north - lamp.y) / spacing, lamp.z,
                np.array(lamp.candela, np.float32), lamp.reach, math.cos(math.radians(min(lamp.cone, 360.0) / 2)),
                lamp.shadows, out,
            )  # fmt: skip
    return out


@kernel
def _shine(
    heights: FloatArray,
    spacing: float,
    around: int,
    col: float,
    row: float,
    z: float,
    candela: FloatArray,
    reach: float,
    rim: float,
    shadows: bool,
    out: FloatArray,
) -> None:
    posts = reach / spacing
    rows, cols = out.shape[1], out.shape[2]
    for r in range(max(0, int(math.ceil(row - posts)) - around), min(rows, int(row + posts) + 1 - around)):
        for c in range(max(0, int(math.ceil(col - posts)) - around), min(cols, int(col + posts) + 1 - around)):
            rr, cc = r + around, c + around
            ground = heights[rr, cc]
            dx, dy, dz = (col - cc) * spacing, (rr - row) * spacing, z - ground
            away2 = dx * dx + dy * dy + dz * dz
            away = math.sqrt(away2)
            if away >= reach or away <= 0 or dz / away < rim:
                continue
            east = (heights[rr, cc + 1] - heights[rr, cc - 1]) / (2 * spacing)
            fall = (heights[rr + 1, cc] - heights[rr - 1, cc]) / (2 * spacing)
            # The ground's own upright is (-east, fall, 1), north positive.
            cosine = (dz - east * dx + fall * dy) / (away * math.sqrt(1 + east * east + fall * fall))
            if cosine <= 0:
                continue
            if shadows and _stopped(heights, rr, cc, ground, row, col, z):
                continue
            part = min((reach - away) / (reach * (1 - FADES)), 1.0)
            light = cosine / away2 * part * part * (3 - 2 * part)
            for i in range(3):
                out[i, r, c] += np.float32(candela[i] * light)


@kernel
def _stopped(heights: FloatArray, r: int, c: int, ground: float, row: float, col: float, z: float) -> bool:
    """Whether ground stands between a post and a lamp."""
    dr, dc = row - r, col - c
    steps = int(max(abs(dr), abs(dc)))
    for k in range(1, steps + 1):
        part = k / (max(abs(dr), abs(dc)))
        rr, cc = r + dr * part, c + dc * part
        r0, c0 = int(math.floor(rr)), int(math.floor(cc))
        if r0 < 0 or c0 < 0 or r0 + 1 >= heights.shape[0] or c0 + 1 >= heights.shape[1]:
            continue
        fr, fc = rr - r0, cc - c0
        here = (heights[r0, c0] * (1 - fc) + heights[r0, c0 + 1] * fc) * (1 - fr)
        here += (heights[r0 + 1, c0] * (1 - fc) + heights[r0 + 1, c0 + 1] * fc) * fr
        if here > ground + (z - ground) * part + CLEAR_M:
            return True
    return False
