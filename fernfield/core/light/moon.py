"""Where the moon stands, and how much of it is lit.

The largest periodic terms of the theory ELP-2000/82 as J. Meeus abridges it (Astronomical Algorithms, 2nd edition 1998,
chapter 47; the numbers from memory): some hundredths of a degree, a tenth of the moon's own width.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from fernfield.core.light.sun import Air, Aloft, apparent, delta_t, seen_from

AU_KM, EARTH_KM = 149_597_870.7, 6378.14

# Multiples of the elongation, the anomalies of sun and moon, and the argument of latitude; then what the sine adds to
# the longitude [1e-6 °] and the cosine to the distance [m].
_ALONG = np.array(
    [
        (0, 0, 1, 0, 6_288_774, -20_905_355), (2, 0, -1, 0, 1_274_027, -3_699_111), (2, 0, 0, 0, 658_314, -2_955_968),
        (0, 0, 2, 0, 213_618, -569_925), (0, 1, 0, 0, -185_116, 48_888), (0, 0, 0, 2, -114_332, -3_149),
        (2, 0, -2, 0, 58_793, 246_158), (2, -1, -1, 0, 57_066, -152_138), (2, 0, 1, 0, 53_322, -170_733),
        (2, -1, 0, 0, 45_758, -204_586), (0, 1, -1, 0, -40_923, -129_620), (1, 0, 0, 0, -34_720, 108_743),
        (0, 1, 1, 0, -30_383, 104_755), (2, 0, 0, -2, 15_327, 10_321), (0, 0, 1, 2, -12_528, 0),
        (0, 0, 1, -2, 10_980, 79_661), (4, 0, -1, 0, 10_675, -34_782), (0, 0, 3, 0, 10_034, -23_210),
        (4, 0, -2, 0, 8_548, -21_636),
    ],
    np.float64,
)  # fmt: skip
# The same for the latitude. [1e-6 °]
_ACROSS = np.array(
    [
        (0, 0, 0, 1, 5_128_122), (0, 0, 1, 1, 280_602), (0, 0, 1, -1, 277_693), (2, 0, 0, -1, 173_237),
        (2, 0, -1, 1, 55_413), (2, 0, -1, -1, 46_271), (2, 0, 0, 1, 32_573), (0, 0, 2, 1, 17_198),
        (2, 0, 1, -1, 9_266), (0, 0, 2, -1, 8_822),
    ],
    np.float64,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Moon:
    """Where it stands, and the share of its disc that is lit, 0 at new moon and 1 at full."""

    at: Aloft
    lit_share: NDArray[np.float64]


def moon_at(unix: ArrayLike, latitude: float, longitude: float, air: Air = Air()) -> Moon:
    """The moon at moments, seconds since 1970 in UT, at a place. [°]"""
    unix = np.asarray(unix, np.float64)
    sun = apparent(unix)
    t = (unix / 86400 + 2_440_587.5 + delta_t(unix) / 86400 - 2_451_545) / 36525
    mean = 218.3164477 + 481267.88123421 * t - 0.0015786 * t**2 + t**3 / 538_841
    arguments = np.stack(
        [
            297.8501921 + 445267.1114034 * t - 0.0018819 * t**2 + t**3 / 545_868,
            357.5291092 + 35999.0502909 * t - 0.0001536 * t**2,
            134.9633964 + 477198.8675055 * t + 0.0087414 * t**2 + t**3 / 69_699,
            93.2720950 + 483202.0175233 * t - 0.0036539 * t**2 - t**3 / 3_526_000,
        ],
        axis=-1,
    )
    # The sun's anomaly comes in with the shrinking eccentricity of the earth's way.
    rounder = 1 - 0.002516 * t - 0.0000074 * t**2
    along, across = np.radians(arguments @ _ALONG[:, :4].T), np.radians(arguments @ _ACROSS[:, :4].T)
    weight = rounder[..., None] ** np.abs(_ALONG[:, 1])
    longitude_deg = mean + (weight * _ALONG[:, 4] * np.sin(along)).sum(-1) / 1e6 + sun.nutation
    latitude_deg = (_ACROSS[:, 4] * np.sin(across)).sum(-1) / 1e6
    away_km = 385_000.56 + (weight * _ALONG[:, 5] * np.cos(along)).sum(-1) / 1000
    lam, beta, eps = (np.radians(angle) for angle in (longitude_deg, latitude_deg, sun.obliquity))
    ascension = np.degrees(np.arctan2(np.sin(lam) * np.cos(eps) - np.tan(beta) * np.sin(eps), np.cos(lam))) % 360
    declination = np.degrees(np.arcsin(np.sin(beta) * np.cos(eps) + np.cos(beta) * np.sin(eps) * np.sin(lam)))
    parallax = np.degrees(np.arcsin(EARTH_KM / away_km))
    at = seen_from(ascension, declination, sun.sidereal, parallax, latitude, longitude, air)
    apart = np.arccos(np.cos(beta) * np.cos(lam - np.radians(sun.longitude)))
    turned = np.arctan2(sun.distance * AU_KM * np.sin(apart), away_km - sun.distance * AU_KM * np.cos(apart))
    return Moon(at, (1 + np.cos(turned)) / 2)
