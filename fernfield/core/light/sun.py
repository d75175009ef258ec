"""Where the sun stands: by date, time and place on earth, and when it rises, stands highest and sets.

The algorithm of Reda and Andreas [1]_, good to 0.0003° from the year -2000 to 6000; its tables of periodic terms
(A4.2 and A4.3 there) are `earth_terms.csv`. Times are seconds since 1970-01-01 in UT.

References
----------
.. [1] I. Reda, A. Andreas, Solar position algorithm for solar radiation applications, NREL/TP-560-34302, revised 2008;
   Solar Energy 76 (2004), 577-589, doi:10.1016/j.solener.2003.12.003
"""

from __future__ import annotations

import csv
import math
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache
from importlib import resources
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

Reals = NDArray[np.float64]

SUN_RADIUS_DEG = 0.26667
AT_HORIZON_DEG = 0.5667
"""Half the width of the sun, and by how much the air lifts what stands at the horizon."""
TWILIGHTS = {"civil": -6.0, "nautical": -12.0, "astronomical": -18.0}
"""How high the sun's middle stands, without the air, when each begins or ends. [°]"""
RISEN_DEG = -(SUN_RADIUS_DEG + AT_HORIZON_DEG)
"""How high its middle stands when its upper edge is at the horizon. [°]"""
EVERY_S = 600.0
"""A day is looked at so often for what crosses a height, which is then found to a tenth of a second."""


@dataclass(frozen=True, slots=True)
class Air:
    """What bends light at the place: elevation [m], pressure [hPa], temperature [°C], as in [1]_ where nobody says."""

    elevation_m: float = 0.0
    pressure_hpa: float = 1013.25
    temperature_c: float = 12.0


@dataclass(frozen=True, slots=True)
class Aloft:
    """Where something stands in the sky: bearings clockwise from true north, heights above the horizon as seen through
    the air, and as they would be without it. [°]"""

    bearing: Reals
    height: Reals
    airless: Reals


@cache
def _terms() -> dict[str, Reals]:
    """The tables, by the names that they have in the report: L0 to R4, Y and N."""
    text = resources.files(__package__).joinpath("earth_terms.csv").read_text("ascii")
    found: dict[str, list[list[float]]] = {}
    for series, *numbers in list(csv.reader(text.splitlines()))[1:]:
        found.setdefault(series, []).append([float(number) for number in numbers if number])
    return {series: np.array(rows, np.float64) for series, rows in found.items()}


def seconds_of(time: datetime) -> float:
    """Seconds since 1970 of a moment with an offset."""
    return time.timestamp()


def delta_t(unix: Reals) -> Reals:
    """How far the earth is behind a clock that runs evenly, F. Espenak and J. Meeus (2006), NASA/TP-2006-214141. [s]"""
    year = 1970 + np.asarray(unix, np.float64) / 31_556_952
    near = 62.92 + 0.32217 * (year - 2000) + 0.005589 * (year - 2000) ** 2
    far = -20 + 32 * ((year - 1820) / 100) ** 2
    return np.where((year >= 1986) & (year < 2050), near, far)


def _series(name: str, jme: Reals) -> Reals:
    """The sum of a table's periodic terms, as a polynomial in millennia. [rad, or AU]"""
    total = np.zeros_like(jme)
    for power in range(6):
        table = _terms().get(f"{name}{power}")
        if table is not None:
            a, b, c = table.T
            total += (a * np.cos(b + c * jme[..., None])).sum(-1) * jme**power
    return total / 1e8


@dataclass(frozen=True, slots=True)
class Apparent:
    """What of the sky does not depend on where one stands: the sun's right ascension and declination [°], its distance
    [AU], its apparent longitude, the obliquity, the sidereal time at Greenwich, and the nutation in longitude [°]."""

    ascension: Reals
    declination: Reals
    distance: Reals
    longitude: Reals
    obliquity: Reals
    sidereal: Reals
    nutation: Reals


def apparent(unix: ArrayLike, behind_s: float | None = None) -> Apparent:
    """The sun among the stars; `behind_s` where the difference to an even clock is known. [s]"""
    unix = np.asarray(unix, np.float64)
    jd = unix / 86400 + 2_440_587.5
    jde = jd + (delta_t(unix) if behind_s is None else behind_s) / 86400
    jc, jce = (jd - 2_451_545) / 36525, (jde - 2_451_545) / 36525
    jme = jce / 10
    longitude = np.degrees(_series("L", jme)) + 180
    latitude = -np.degrees(_series("B", jme))
    distance = _series("R", jme)
    # Nutation.
    x = np.stack(
        [
            297.85036 + 445267.111480 * jce - 0.0019142 * jce**2 + jce**3 / 189474,
            357.52772 + 35999.050340 * jce - 0.0001603 * jce**2 - jce**3 / 300000,
            134.96298 + 477198.867398 * jce + 0.0086972 * jce**2 + jce**3 / 56250,
            93.27191 + 483202.017538 * jce - 0.0036825 * jce**2 + jce**3 / 327270,
            125.04452 - 1934.136261 * jce + 0.0020708 * jce**2 + jce**3 / 450000,
        ],
        axis=-1,
    )
    turns = np.radians(x @ _terms()["Y"].T)
    a, b, c, d = _terms()["N"].T
    nutation = ((a + b * jce[..., None]) * np.sin(turns)).sum(-1) / 36e6
    tilt = ((c + d * jce[..., None]) * np.cos(turns)).sum(-1) / 36e6
    u = jme / 10
    powers = (84381.448, -4680.93, -1.55, 1999.25, -51.38, -249.67, -39.05, 7.12, 27.87, 5.79, 2.45)
    obliquity = sum(k * u**n for n, k in enumerate(powers)) / 3600 + tilt
    seen = longitude + nutation - 20.4898 / (3600 * distance)
    lam, beta, eps = np.radians(seen), np.radians(latitude), np.radians(obliquity)
    ascension = np.degrees(np.arctan2(np.sin(lam) * np.cos(eps) - np.tan(beta) * np.sin(eps), np.cos(lam))) % 360
    declination = np.degrees(np.arcsin(np.sin(beta) * np.cos(eps) + np.cos(beta) * np.sin(eps) * np.sin(lam)))
    sidereal = 280.46061837 + 360.98564736629 * (jd - 2_451_545) + 0.000387933 * jc**2 - jc**3 / 38_710_000
    sidereal = (sidereal + nutation * np.cos(eps)) % 360
    return Apparent(ascension, declination, distance, seen, obliquity, sidereal, nutation)


def lifted(height: Reals, air: Air) -> Reals:
    """A height as it is seen through the air; what is under the horizon is not lifted. [°]"""
    bend = air.pressure_hpa / 1010 * 283 / (273 + air.temperature_c)
    with np.errstate(divide="ignore", invalid="ignore"):
        more = bend * 1.02 / (60 * np.tan(np.radians(height + 10.3 / (height + 5.11))))
    return np.where(height >= RISEN_DEG, height + more, height)


def seen_from(
    ascension: Reals,
    declination: Reals,
    sidereal: Reals,
    parallax_deg: Any,
    latitude: float,
    longitude: float,
    air: Air,
) -> Aloft:
    """Where what stands among the stars is seen from a place; `parallax_deg`: its equatorial horizontal parallax."""
    phi = math.radians(latitude)
    hour = np.radians((sidereal + longitude - ascension) % 360)
    dec, xi = np.radians(declination), np.radians(parallax_deg)
    u = math.atan(0.99664719 * math.tan(phi))
    x = math.cos(u) + air.elevation_m / 6_378_140 * math.cos(phi)
    y = 0.99664719 * math.sin(u) + air.elevation_m / 6_378_140 * math.sin(phi)
    shift = np.arctan2(-x * np.sin(xi) * np.sin(hour), np.cos(dec) - x * np.sin(xi) * np.cos(hour))
    low = np.arctan2((np.sin(dec) - y * np.sin(xi)) * np.cos(shift), np.cos(dec) - x * np.sin(xi) * np.cos(hour))
    own = hour - shift
    airless = np.degrees(np.arcsin(math.sin(phi) * np.sin(low) + math.cos(phi) * np.cos(low) * np.cos(own)))
    bearing = np.degrees(np.arctan2(np.sin(own), np.cos(own) * math.sin(phi) - np.tan(low) * math.cos(phi))) + 180
    return Aloft(bearing % 360, lifted(airless, air), airless)


def sun_at(
    unix: ArrayLike, latitude: float, longitude: float, air: Air = Air(), behind_s: float | None = None
) -> Aloft:
    """Where the sun stands.

    Parameters
    ----------
    unix : any shape, seconds since 1970 in UT
    latitude, longitude : north and east are positive [°]
    air : what bends its light
    behind_s : how far the earth is behind an even clock, where it is known [s]
    """
    sun = apparent(unix, behind_s)
    parallax = 8.794 / (3600 * sun.distance)
    return seen_from(sun.ascension, sun.declination, sun.sidereal, parallax, latitude, longitude, air)


@dataclass(frozen=True, slots=True)
class SunDay:
    """What happens on a day, in the offset that it was asked for; None where it does not.

    noon : when the sun crosses the meridian; sunrise, sunset : its upper edge at the horizon
    twilights : when each begins before the day and ends after it, by its name
    """

    noon: datetime
    sunrise: datetime | None
    sunset: datetime | None
    twilights: dict[str, tuple[datetime | None, datetime | None]]


def midnight(time: datetime) -> datetime:
    """The beginning of the day of a moment, by its own offset."""
    return time.replace(hour=0, minute=0, second=0, microsecond=0)


def crossings(unix: Reals, height: Callable[[Reals], Reals], level: float) -> tuple[float | None, float | None]:
    """The first moment between `unix` when a height rises past a level, and the last one when it falls. [s]"""
    over = height(unix) - level
    out: list[float | None] = []
    for places in (
        np.flatnonzero((over[:-1] < 0) & (over[1:] >= 0))[:1],
        np.flatnonzero((over[:-1] >= 0) & (over[1:] < 0))[-1:],
    ):
        if not len(places):
            out.append(None)
            continue
        low, high = float(unix[places[0]]), float(unix[places[0] + 1])
        rising = over[places[0]] < 0
        while high - low > 0.1:
            fine = np.linspace(low, high, 9)
            past = (height(fine) >= level) == rising
            k = int(np.argmax(past)) or 8
            low, high = float(fine[k - 1]), float(fine[k])
        out.append((low + high) / 2)
    return out[0], out[1]


def sun_day(time: datetime, latitude: float, longitude: float) -> SunDay:
    """The sun's day at a place: that of a moment with an offset."""
    begin = midnight(time)
    first = seconds_of(begin)
    unix = first + np.arange(0, 86_400 + EVERY_S, EVERY_S)

    def height(at: Reals) -> Reals:
        return sun_at(at, latitude, longitude).airless

    def moment(at: float | None) -> datetime | None:
        if at is None:
            return None
        return (datetime.fromtimestamp(0, UTC) + timedelta(seconds=at)).astimezone(begin.tzinfo)

    noon = first + 43_200
    for _ in range(4):
        sun = apparent(noon)
        noon -= float((sun.sidereal + longitude - sun.ascension + 180) % 360 - 180) * 240
    rise, fall = crossings(unix, height, RISEN_DEG)
    twilights = {}
    for name, level in TWILIGHTS.items():
        dawn, dusk = crossings(unix, height, level)
        twilights[name] = moment(dawn), moment(dusk)
    found = moment(noon)
    assert found is not None
    return SunDay(found, moment(rise), moment(fall), twilights)
