"""The sky: how bright and of what colour each part of it is, and what sun, moon and sky give to level ground.

By day the clear sky is the analytic model of Preetham, Shirley and Smits [1]_: five numbers by turbidity for each of
luminance and chromaticity, no table to ship, and good for the turbidities and heights that are set here (Hosek and
Wilkie's fits better at low suns and needs some thousand coefficients). The overcast sky is that of CIE S 011 [2]_, type
16. Light of the sun comes through the air by the optical depths of [1]_'s appendix, at a wavelength for each of red,
green and blue. Under the horizon what is left of the day falls off as twilight was measured [3]_.

Colours are linear, with the primaries of sRGB; illuminances in lux, luminances in cd/m².

References
----------
.. [1] A. J. Preetham, P. Shirley, B. Smits, A practical analytic model for daylight, SIGGRAPH 1999, 91-100,
   doi:10.1145/311535.311545; its coefficients from memory
.. [2] CIE S 011/E:2003 (ISO 15469:2004), Spatial distribution of daylight; type 16, the traditional overcast sky
.. [3] P. K. Seidelmann (ed.), Explanatory Supplement to the Astronomical Almanac (1992), 9.33: illuminance of level
   ground by the sun's height; from memory, rounded
.. [5] IES Lighting Handbook, 9th ed. (2000), 8-9: level ground under a clear sky, without its sun; from memory
.. [4] K. Krisciunas, B. E. Schaefer, A model of the brightness of moonlight, PASP 103 (1991), 1033-1039
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

Reals = NDArray[np.float64]
Ink = tuple[float, float, float]
Weather = Literal["clear", "overcast"]

LUMA = np.array([0.2126, 0.7152, 0.0722])
XYZ_TO_RGB = np.array([[3.2406, -1.5372, -0.4986], [-0.9689, 1.8758, 0.0415], [0.0557, -0.2040, 1.0570]])
"""IEC 61966-2-1."""

SUN_LUX = 127_500.0
"""Illuminance of the sun outside the air, IES Lighting Handbook. [lx]"""
WAVES_UM = np.array([0.650, 0.570, 0.475])
"""Wavelengths at which the air is asked for red, green and blue; common practice. [µm]"""
FULL_MOON_LUX = 0.267
"""Of a full moon overhead, [4]_. [lx]"""
LOWEST_DEG = 0.5
"""A lower sun has the sky of this one, darker as twilight goes on."""
TWILIGHT = ((0.0, 700.0), (-0.833, 400.0), (-6.0, 3.4), (-12.0, 0.008), (-18.0, 0.0006))
"""Height of the sun [°] and what level ground gets by [3]_ [lx]."""
NIGHT_BLUE: Ink = (0.55, 0.75, 1.5)
"""The colour of a sky that the sun has left; ours."""

LOWEST_UP = 0.06
"""The sine of the height below which a clear sky is as it is there: further down the model's colours run away."""

_PEREZ = {
    "Y": np.array([(0.1787, -1.4630), (-0.3554, 0.4275), (-0.0227, 5.3251), (0.1206, -2.5771), (-0.0670, 0.3703)]),
    "x": np.array([(-0.0193, -0.2592), (-0.0665, 0.0008), (-0.0004, 0.2125), (-0.0641, -0.8989), (-0.0033, 0.0452)]),
    "y": np.array([(-0.0167, -0.2608), (-0.0950, 0.0092), (-0.0079, 0.2102), (-0.0441, -1.6537), (-0.0109, 0.0529)]),
}
_ZENITH = {
    "x": np.array(
        [
            (0.00166, -0.00375, 0.00209, 0.0),
            (-0.02903, 0.06377, -0.03202, 0.00394),
            (0.11693, -0.21196, 0.06052, 0.25886),
        ]
    ),
    "y": np.array(
        [
            (0.00275, -0.00610, 0.00317, 0.0),
            (-0.04214, 0.08970, -0.04153, 0.00516),
            (0.15346, -0.26756, 0.06670, 0.26688),
        ]
    ),
}


def zenith(sun_height: float, turbidity: float) -> tuple[float, float, float]:
    """Luminance straight above [cd/m²], and its chromaticity x and y, [1]_ A.2."""
    theta = math.radians(90 - sun_height)
    chi = (4 / 9 - turbidity / 120) * (math.pi - 2 * theta)
    bright = (4.0453 * turbidity - 4.9710) * math.tan(chi) - 0.2155 * turbidity + 2.4192
    angles, turbid = np.array([theta**3, theta**2, theta, 1.0]), np.array([turbidity**2, turbidity, 1.0])
    x, y = (float(turbid @ _ZENITH[name] @ angles) for name in "xy")
    return max(bright, 0.05) * 1000, x, y


def _perez(name: str, turbidity: float, up: Reals, gamma: Reals) -> Reals:
    a, b, c, d, e = _PEREZ[name] @ (turbidity, 1.0)
    cosine = np.cos(gamma)
    return np.asarray(
        (1 + a * np.exp(b / np.maximum(up, LOWEST_UP))) * (1 + c * np.exp(d * gamma) + e * cosine * cosine)
    )


def clear_sky(heights: ArrayLike, aside: ArrayLike, sun_height: float, turbidity: float) -> Reals:
    """The clear sky by day.

    Parameters
    ----------
    heights : above the horizon, any shape [°]
    aside : bearings from the sun's on, of the same shape [°]
    sun_height : above the horizon [°]
    turbidity : 2 for very clear air, 6 for haze

    Returns
    -------
    shape (…, 3), luminance in red, green and blue [cd/m²]
    """
    above, turn = np.radians(np.asarray(heights, np.float64)), np.radians(np.asarray(aside, np.float64))
    height = math.radians(sun_height)
    up = np.sin(above)
    gamma = np.arccos(np.clip(up * math.sin(height) + np.cos(above) * math.cos(height) * np.cos(turn), -1, 1))
    known = dict(zip("Yxy", zenith(sun_height, turbidity), strict=True))
    over, apart = np.ones(1), np.full(1, math.pi / 2 - height)
    found = {k: v * _perez(k, turbidity, up, gamma) / _perez(k, turbidity, over, apart) for k, v in known.items()}
    x, y, bright = found["x"], found["y"], found["Y"]
    return _rgb(np.stack([x / y * bright, bright, (1 - x - y) / y * bright], axis=-1))


def _rgb(xyz: Reals) -> Reals:
    return np.asarray(np.maximum(xyz @ XYZ_TO_RGB.T, 0))


def clear_sky_lux(sun_height: float) -> float:
    """What level ground gets of a clear sky, without its sun, [5]_: [1]_ has too much of it under low suns. [lx]"""
    return 800 + 15_500 * math.sqrt(max(math.sin(math.radians(sun_height)), 0.0))


def overcast_sky(heights: ArrayLike, zenith_cd_m2: float) -> Reals:
    """Luminance of the overcast sky, [2]_: three times as bright above as at the horizon. [cd/m²]"""
    return np.asarray(zenith_cd_m2 * (1 + 2 * np.sin(np.radians(np.asarray(heights, np.float64)))) / 3)


def air_mass(sun_height: float) -> float:
    """How much air light comes through, 1 from above; F. Kasten (1966) as in [1]_."""
    height = max(sun_height, -0.8)
    return 1 / (math.sin(math.radians(height)) + 0.15 * math.pow(height + 3.885, -1.253))


def through_air(sun_height: float, turbidity: float) -> Reals:
    """The share of the sun's red, green and blue that gets through the air, [1]_ A.1."""
    beta = max(0.04608 * turbidity - 0.04586, 0.0)
    depth = 0.008735 * WAVES_UM**-4.08 + beta * WAVES_UM**-1.3
    return np.asarray(np.exp(-air_mass(sun_height) * depth))


def twilight_lux(sun_height: float) -> float:
    """What level ground gets of the sky's light under a sun at or below the horizon. [lx]"""
    heights, lux = zip(*reversed(TWILIGHT), strict=True)
    return float(np.exp(np.interp(sun_height, heights, np.log(lux))))


def moon_lux(moon_height: float, lit_share: float) -> float:
    """What level ground gets of the moon by its height [°] and the share of it that is lit, [4]_. [lx]"""
    phase = math.degrees(math.acos(min(max(2 * lit_share - 1, -1.0), 1.0)))
    fainter = 10 ** (-0.4 * (0.026 * phase + 4e-9 * phase**4))
    return FULL_MOON_LUX * fainter * max(math.sin(math.radians(moon_height)), 0.0)


ROWS, COLS = 32, 64


@dataclass(frozen=True, slots=True)
class Sky:
    """The sky of a moment.

    radiance : shape (ROWS, COLS, 3), its luminance in red, green and blue [cd/m²]; row 0 above, the last at the
        horizon, column 0 at the sun's bearing, the others clockwise from there
    sun, moon : what of each comes to level ground, in red, green and blue [lx]
    sky : the same of all of the sky [lx]
    """

    radiance: Reals
    sun: Reals
    moon: Reals
    sky: Reals


def _places() -> tuple[Reals, Reals]:
    """Heights and bearings from the sun's on of the middles of a sky's parts. [°]"""
    above, turn = 90 - (np.arange(ROWS) + 0.5) * 90 / ROWS, (np.arange(COLS) + 0.5) * 360 / COLS
    return np.repeat(above[:, None], COLS, 1), np.repeat(turn[None, :], ROWS, 0)


def on_level_ground(radiance: Reals) -> Reals:
    """Illuminance of level ground by a sky, shape (ROWS, COLS, …). [lx]"""
    above = np.radians(_places()[0])
    part = np.cos(above) * math.radians(90 / ROWS) * math.radians(360 / COLS) * np.sin(above)
    return np.asarray(np.tensordot(part, radiance, axes=2))


def sky_of(
    sun_height: float,
    weather: Weather = "clear",
    turbidity: float = 2.5,
    moon: tuple[float, float] | None = None,
    night_lux: float = 0.001,
) -> Sky:
    """The sky under a sun of a height, in any weather, by day and by night.

    Parameters
    ----------
    sun_height : above the horizon; below 0 it has set [°]
    weather : clear, or wholly overcast
    turbidity : of clear air; 2 to 6
    moon : its height [°] and the share of it that is lit; None where it is not up
    night_lux : what level ground gets of the night's sky alone [lx]
    """
    heights, aside = _places()
    day = max(sun_height, LOWEST_DEG)
    radiance = clear_sky(heights, aside, day, turbidity)
    radiance *= clear_sky_lux(day) / float(LUMA @ on_level_ground(radiance))
    direct = SUN_LUX * through_air(sun_height, turbidity) * max(math.sin(math.radians(sun_height)), 0.0)
    if sun_height < LOWEST_DEG:
        # The sky of a sun at the horizon, as bright as it was measured, and the bluer the further down that is.
        left = min(twilight_lux(min(sun_height, 0.0)) / clear_sky_lux(day), 1.0)
        night = np.array(NIGHT_BLUE) / (LUMA @ NIGHT_BLUE)
        gone = min(max(-sun_height / 12, 0.0), 1.0)
        tone = radiance / np.maximum(radiance @ LUMA, 1e-9)[..., None]
        radiance = left * (radiance @ LUMA)[..., None] * (tone * (1 - gone) + night * gone)
        direct = direct * min(left * 2, 1.0)
    if weather == "overcast":
        # Of a clear day's light a third comes through a thick layer of cloud; common practice.
        total = float(LUMA @ (direct + on_level_ground(radiance))) / 3
        dome = overcast_sky(heights, total * 9 / (7 * math.pi))
        radiance = dome[..., None] * np.array([0.96, 1.0, 1.12])
        direct = np.zeros(3)
    by_moon = np.zeros(3)
    if moon is not None and moon[0] > 0:
        lit = moon_lux(*moon) * (0.2 if weather == "overcast" else 1.0)
        by_moon = np.array([0.95, 1.0, 1.1]) * lit
        radiance = radiance + np.array(NIGHT_BLUE) * lit * 0.12 / math.pi
    radiance = radiance + np.array(NIGHT_BLUE) * night_lux / math.pi
    return Sky(radiance, direct, by_moon, on_level_ground(radiance))


@dataclass(frozen=True, slots=True)
class Exposed:
    """How light is turned into what a screen shows: a factor for each of red, green and blue. [1/lx]

    Level ground that gets `lux` is `lux * gain` of its colour; a sky that bright all around is as bright as white
    ground under it.
    """

    gain: Ink

    def ink(self, lux: Reals) -> Reals:
        return np.asarray(lux * np.array(self.gain))


BRIGHT_LUX = 60_000.0
"""Ground that gets as much has its own colours."""
EYE_POWER = 0.085
"""How much less than the light what is seen falls off, for an eye that has got used to it."""
EYE_WHITE, NIGHT_WHITE = 0.72, 0.25
"""How much of the light's colour such an eye takes for white, by day and by night: what is dim looks blue to it."""
EYE_LUX = (1e-4, 1e5)


def exposed(lux: Reals, stops: float | None = None) -> Exposed:
    """For ground that gets so much light in red, green and blue: as an eye sees it that has got used to it, or held at
    so many stops over what shows full daylight as it is."""
    total = min(max(float(LUMA @ lux), EYE_LUX[0]), EYE_LUX[1])
    bright = (total / BRIGHT_LUX) ** EYE_POWER / total if stops is None else 2.0**stops / BRIGHT_LUX
    used = float(np.interp(math.log10(total), (-1.5, 2.5), (NIGHT_WHITE, EYE_WHITE)))
    white = np.maximum(lux / max(float(LUMA @ lux), 1e-12), 0.05) ** -used
    gain = bright * white / float(LUMA @ white)
    return Exposed((float(gain[0]), float(gain[1]), float(gain[2])))


def sky_picture(sky: Sky, view: Exposed) -> NDArray[np.uint8]:
    """A sky as it is seen: shape (ROWS, COLS, 3), as `Sky.radiance` lies; white ground is as bright as its ink."""
    lux = sky.sun + sky.moon + sky.sky
    bright = float(LUMA @ view.ink(lux))
    beside = math.pi * view.ink(sky.radiance) / bright
    # What is brighter than white ground comes near to white the slower.
    seen = bright * SKY_BRIGHTER * (beside / (1 + 0.35 * (beside @ LUMA)[..., None])) ** (1 / 2.2)
    return np.asarray(np.rint(255 * seen / np.maximum(seen.max(-1, keepdims=True), 1)), np.uint8)


SKY_BRIGHTER = 1.3
"""How much brighter a sky is shown than ground that gives off as much: an eye looks at each by itself."""
