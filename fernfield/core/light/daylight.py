"""Light on the ground: the sun where it reaches, and the sky where it does not, as planes that add up.

What the sun does not reach is shaded by the sky, from aside and behind, so that its shape is read as well; level ground
has as much of it whatever its direction. Two lights from different sides after the multidirectional shading of
R. K. Mark (1992), U.S. Geological Survey Open-File Report 92-422 (from memory); the figures are our own.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel

SKY_BEARING, SKY_HEIGHT = 150.0, 50.0
"""From where the sky is brightest: the bearing from the sun's on, and how high. [°]"""
SKY_CONTRAST = 1.1
"""How much brighter a slope is that looks there than level ground."""
LOWEST = 0.17
"""Level ground under a sun whose height has a smaller sine than this is no longer as bright as under a high one."""
BRIGHTEST = 1.55
"""A face that looks at the sun is at most so much brighter than level ground."""
SKY_LEAST, SKY_MOST = 0.6, 1.5
"""A face that looks away from the sky, or at it, has so much of it."""
GIVEN_BACK = 0.3
"""What ground that hides the sky gives of its light in its place; common practice: a third of it, less what is dark."""
SKY_INK = (0.36, 0.40, 0.47)
SHAPED, UNSHAPED = 0.46, 0.36
"""How much the sky adds in full shadow, by where a face looks, and what is taken from that."""

Ink = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Daylight:
    """The sun and the sky: where the sun stands [°], and the red, green and blue of both on level ground.

    Level ground in the sun has `sun` and `sky` together, in shadow the sky and what it adds to it.

    relief : how the shape of the ground is shown, and how strongly: "sun", as it is lit; "sides", by light from several
        sides besides; "sky", by the share of sky that each place sees alone; "mixed", by sun and sky
    """

    bearing: float
    height: float
    sun: Ink = (0.64, 0.60, 0.52)
    sky: Ink = SKY_INK
    relief: tuple[str, float] = ("sun", 1.0)
    _ways: tuple[FloatArray, FloatArray] = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        bearing, height = math.radians(self.bearing), math.radians(self.height)
        beyond, over = math.radians(self.bearing + SKY_BEARING), math.radians(SKY_HEIGHT)
        ways = _way(bearing, height), _way(beyond, over) * np.float32(SKY_CONTRAST)
        object.__setattr__(self, "_ways", ways)

    @property
    def ways(self) -> tuple[FloatArray, FloatArray]:
        """Towards the sun, and towards the brightest sky, longer by its contrast: east, north, up."""
        return self._ways

    def told(self) -> dict[str, Any]:
        """What else than the place of the sun is needed to light something in the same way."""
        return {
            "sun_ink": self.sun, "sky_ink": self.sky, "sky_bearing_deg": SKY_BEARING, "sky_height_deg": SKY_HEIGHT,
            "sky_contrast": SKY_CONTRAST, "lowest": LOWEST, "brightest": BRIGHTEST, "sky_least": SKY_LEAST,
            "sky_most": SKY_MOST, "shaped": SHAPED, "unshaped": UNSHAPED, "given_back": GIVEN_BACK,
        }  # fmt: skip


def _way(bearing: float, height: float) -> FloatArray:
    """A unit vector: east, north, up."""
    flat = math.cos(height)
    return np.array([math.sin(bearing) * flat, math.cos(bearing) * flat, math.sin(height)], np.float32)


def daylight(
    heights: FloatArray,
    metres: float,
    sunlit: ByteArray,
    day: Daylight,
    share: FloatArray | None = None,
    other: FloatArray | None = None,
) -> FloatArray:
    """How bright ground is in red, green and blue, 1 for level ground in the sun.

    Parameters
    ----------
    heights : shape (rows + 2, cols + 2), elevation at every pixel and one pixel around [m]
    metres : side of a pixel on the ground [m]
    sunlit : shape (rows, cols), 255 in the sun, 0 in shadow
    day : where the sun stands, and its colours
    share : shape (rows, cols), the share of the sky that is seen there; None where that does not count
    other : shape (3, rows, cols), what other lights add

    Returns
    -------
    shape (3, rows, cols)
    """
    rows, cols = sunlit.shape
    if heights.shape != (rows + 2, cols + 2):
        raise ValueError(f"heights must be {(rows + 2, cols + 2)}, not {heights.shape}")
    out = np.empty((3, rows, cols), np.float32)
    sun, sky = day.ways
    heights = np.ascontiguousarray(heights, np.float32)
    lit = np.ascontiguousarray(sunlit, np.uint8)
    how, strength = day.relief
    inks = np.array(day.sun, np.float32), np.array(day.sky, np.float32)
    if how == "sky":
        # Nothing but the sky gives shape: all the light comes from it.
        inks = np.zeros(3, np.float32), inks[0] + inks[1]
    _daylight(
        heights, float(metres), lit, sun, sky, *inks,
        np.ones((1, 1), np.float32) if share is None else np.ascontiguousarray(share, np.float32), share is not None,
        out,
    )  # fmt: skip
    if how == "sides":
        out *= 1 + np.float32(strength) * (_sides(heights, metres) - 1)
    elif how != "sun" or strength != 1:
        # As strongly as is asked: further from level ground's light, or nearer to it.
        level = np.maximum(inks[0] + inks[1], np.float32(1e-6))[:, None, None]
        out[:] = np.maximum(level + (out - level) * np.float32(strength), 0)
    if other is not None:
        out += other
    return out


SIDES = (225.0, 270.0, 315.0, 0.0)
"""Bearings of the lights of R. K. Mark (1992): each counts where the ground lies across it. [°]"""
SIDE_HEIGHT = 30.0


def _sides(heights: FloatArray, metres: float) -> FloatArray:
    """The brightness of the ground by light from several sides, 1 where it is level."""
    k = np.float32(1 / (8 * metres))
    up, mid, low = heights[:-2], heights[1:-1], heights[2:]
    p = ((up[:, 2:] - up[:, :-2]) + 2 * (mid[:, 2:] - mid[:, :-2]) + (low[:, 2:] - low[:, :-2])) * k
    q = ((up[:, :-2] - low[:, :-2]) + 2 * (up[:, 1:-1] - low[:, 1:-1]) + (up[:, 2:] - low[:, 2:])) * k
    upright = 1 / np.sqrt(1 + p * p + q * q)
    aspect = np.arctan2(-p, -q)
    total, weights = np.zeros_like(p), np.zeros_like(p)
    for bearing in SIDES:
        east, north, above = _way(math.radians(bearing), math.radians(SIDE_HEIGHT))
        weight = np.sin(aspect - np.float32(math.radians(bearing))) ** 2
        total += weight * np.clip((above - p * east - q * north) * upright / above, 0, BRIGHTEST)
        weights += weight
    return np.asarray(total / weights, np.float32)


@kernel
def _daylight(
    heights: FloatArray,
    metres: float,
    sunlit: ByteArray,
    sun: FloatArray,
    sky: FloatArray,
    sun_ink: FloatArray,
    sky_ink: FloatArray,
    share: FloatArray,
    shares: bool,
    out: FloatArray,
) -> None:
    rows, cols = sunlit.shape
    seen = np.ones(cols, np.float32)
    back, rest = np.float32(GIVEN_BACK), np.float32(1 - GIVEN_BACK)
    # What the sky adds in shadow is as bright as it is.
    scale = sky_ink[1] / np.float32(SKY_INK[1])
    k = np.float32(1 / (8 * metres))
    one, zero, two = np.float32(1), np.float32(0), np.float32(2)
    most, least, brightest = np.float32(BRIGHTEST), np.float32(SKY_LEAST), np.float32(SKY_MOST)
    shaped, unshaped = np.float32(SHAPED), np.float32(UNSHAPED)
    level = np.float32(1 / (255 * max(sun[2], LOWEST)))
    for r in range(rows):
        up, mid, low, sunny = heights[r], heights[r + 1], heights[r + 2], sunlit[r]
        red, green, blue = out[0, r], out[1, r], out[2, r]
        if shares:
            for c in range(cols):
                seen[c] = back + rest * share[r, c]
        # Without branches: compilers turn it into vector code.
        for c in range(cols):
            p = ((up[c + 2] - up[c]) + two * (mid[c + 2] - mid[c]) + (low[c + 2] - low[c])) * k
            q = ((up[c] - low[c]) + two * (up[c + 1] - low[c + 1]) + (up[c + 2] - low[c + 2])) * k
            upright = one / np.sqrt(one + (p * p + q * q))
            light = (sun[2] - p * sun[0] - q * sun[1]) * upright * (np.float32(sunny[c]) * level)
            light = light if light > zero else zero
            light = light if light < most else most
            above = one + (sky[2] - p * sky[0] - q * sky[1]) * upright - sky[2]
            above = above if above > least else least
            above = above if above < brightest else brightest
            # The more the sun reaches, the less the sky is seen.
            more = above * shaped - unshaped if light < one else zero
            more *= (one - light) * scale
            red[c] = (sky_ink[0] + more) * seen[c] + sun_ink[0] * light
            green[c] = (sky_ink[1] + more) * seen[c] + sun_ink[1] * light
            blue[c] = (sky_ink[2] + more) * seen[c] + sun_ink[2] * light
