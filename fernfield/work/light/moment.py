"""The light that a world is shown in: where the sun stands, and what of it, the moon and the sky reaches the ground."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.grid import FloatArray
from fernfield.core.light.daylight import Daylight
from fernfield.core.light.lamps import KELVIN, Ink, of_kelvin, of_luminance_1
from fernfield.core.light.moon import Moon, moon_at
from fernfield.core.light.sky import LUMA, Exposed, Sky, exposed, sky_of, sky_picture
from fernfield.core.light.stars import stars_at
from fernfield.core.light.sun import Aloft, seconds_of, sun_at
from fernfield.work.kernel.rows import Look
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT, MOODS, WATER, Lamp, Light, Mood, Sun

LOWEST_DEG = 1.0
"""A sun or moon that stands lower throws no shadows that are followed."""
DARK_LUX = 60.0
"""Lamps that are lit when it is dark are lit when level ground gets less."""
DAY_LUX = 5000.0
"""In more light than this nothing is seen of lamps."""
LAMP_POWER, LAMP_TINT = 0.22, 0.6
"""How fast what is seen grows with the light beside that of the night, and how much of its colour is left."""
SOME_NIGHT = (1_774_051_200.0, 52.0, 0.0)
"""The stars of a world without a place on earth: those of midnight on 21 March 2026 at 52° north."""
OF_THE_SHEET = Mood(name="the sheet's own")
VISIBLE = 3.912
"""How thick haze is over the distance that one sees: what is left is a fiftieth, H. Koschmieder (1924)."""


def on_map(aloft: Aloft, north_deg: float) -> tuple[float, float]:
    """Bearing on the map, and height, of one that stands in the sky. [°]"""
    return float(aloft.bearing + north_deg) % 360, float(aloft.height)


def sun_of(light: Light, mood: Mood | None) -> Sun:
    """Where the sun stands by what a world says of it."""
    if light.sun_from == "time" and light.time is not None and light.latitude_deg is not None:
        at = sun_at(seconds_of(light.time), light.latitude_deg, light.longitude_deg or 0.0)
        bearing, height = on_map(at, light.north_deg)
        return Sun(sun_bearing_deg=round(bearing, 4) % 360, sun_height_deg=round(height, 4))
    if light.sun_from == "mood" and mood is not None:
        return Sun(sun_bearing_deg=mood.sun_bearing_deg, sun_height_deg=mood.sun_height_deg)
    return Sun(sun_bearing_deg=light.sun_bearing_deg, sun_height_deg=light.sun_height_deg)


def moon_of(light: Light, mood: Mood) -> tuple[float, float, float]:
    """Bearing and height of the moon [°], and the share of it that is lit."""
    if light.sun_from == "time" and light.time is not None and light.latitude_deg is not None:
        moon: Moon = moon_at(seconds_of(light.time), light.latitude_deg, light.longitude_deg or 0.0)
        return *on_map(moon.at, light.north_deg), float(moon.lit_share)
    return mood.moon_bearing_deg, mood.moon_height_deg, mood.moon_lit


@dataclass(frozen=True, slots=True)
class Moment:
    """A light.

    sun : where it stands
    day : how the ground is lit, for pictures
    mood : what it is of; None for the sheet's own light, which is drawn and not measured
    sky, view : how bright the sky is, and how that is shown; None where it is drawn
    moon : bearing, height [°] and lit share
    shares : whether the share of the sky that each place sees counts
    """

    sun: Sun
    day: Daylight
    mood: Mood | None
    sky: Sky | None
    view: Exposed | None
    moon: tuple[float, float, float]
    shares: bool

    @property
    def lux(self) -> float:
        """What level ground gets. [lx]"""
        if self.sky is None:
            return 0.0
        return float(LUMA @ (self.sky.sun + self.sky.moon + self.sky.sky))

    @property
    def thrown(self) -> bool:
        """Whether anything throws shadows."""
        return max(self.day.sun) > 0.01

    @property
    def level_ink(self) -> Ink:
        """How bright level ground is."""
        red, green, blue = (min(sun + sky, 1.2) for sun, sky in zip(self.day.sun, self.day.sky, strict=True))
        return red, green, blue

    @property
    def water_ink(self) -> Ink:
        """How bright water's own colour is, and of what tint."""
        if self.mood is None:
            return 1.0, 1.0, 1.0
        tint = (int(self.mood.water[i : i + 2], 16) / int(WATER[i : i + 2], 16) for i in (1, 3, 5))
        red, green, blue = (min(ink * by, 2.0) for ink, by in zip(self.level_ink, tint, strict=True))
        return red, green, blue

    @property
    def by_day(self) -> bool:
        """Whether nothing is seen of lamps."""
        return self.sky is None or self.lux >= DAY_LUX

    def ink_of(self, lux: FloatArray | None) -> FloatArray | None:
        """What lamps add to level ground, shape (3, rows, cols) [lx], as it is shown: an eye that is used to the dark
        sees the pools under them as bright as by day, and hardly anything of them in the evening."""
        if lux is None or self.by_day:
            return None
        least, bright = max(self.lux, 1e-3), float(LUMA @ self.level_ink)
        total = np.tensordot(LUMA.astype(np.float32), lux, axes=1)
        more = bright * ((1 + total / least) ** LAMP_POWER - 1)
        tint = (lux / np.maximum(total, 1e-9)) ** LAMP_TINT
        return np.asarray(more * tint, np.float32)

    @property
    def lamps(self) -> bool:
        """Whether lamps are lit that are lit in the dark."""
        return self.mood is not None and self.mood.lamps and self.lux < DARK_LUX


@lru_cache(maxsize=256)
def _sky(mood: Mood, sun_height: float, moon: tuple[float, float, float]) -> Sky:
    return sky_of(sun_height, mood.sky, mood.turbidity, (moon[1], moon[2]), mood.night_lux)


def _ink(view: Exposed, lux: Any) -> Ink:
    red, green, blue = view.ink(lux).tolist()
    return red, green, blue


def moment_of(world: OpenWorld | Look, mood_key: str | None = None, sun: Sun | None = None) -> Moment:
    """The light of a world: as it is kept, or in another of its moods, or under another sun. A mood that is not there
    is the world's own."""
    light = world.only(LIGHT)
    looked = world.get(MOODS, mood_key or "")
    mood = looked or world.get(MOODS, light.mood or "")
    if looked is not None and sun is None:
        sun = Sun(sun_bearing_deg=looked.sun_bearing_deg, sun_height_deg=looked.sun_height_deg)
        light = light.model_copy(update={"sun_from": "hand"})
    sun = sun or sun_of(light, mood)
    relief = light.relief, light.relief_percent / 100
    if mood is None and light.sun_from != "time" and sun.sun_height_deg >= LOWEST_DEG:
        day = Daylight(sun.sun_bearing_deg, sun.sun_height_deg, relief=relief)
        return Moment(sun, day, None, None, None, (0.0, -90.0, 0.0), light.relief in ("sky", "mixed"))
    own = mood or OF_THE_SHEET
    moon = moon_of(light, own)
    sky = _sky(own, sun.sun_height_deg, moon)
    view = exposed(sky.sun + sky.moon + sky.sky, own.exposure_stops)
    # Shadows are thrown by whichever of the two gives more; under neither there are none.
    by_sun = float(LUMA @ sky.sun) >= float(LUMA @ sky.moon)
    bearing, height = (sun.sun_bearing_deg, sun.sun_height_deg) if by_sun else moon[:2]
    thrown, other = (sky.sun, sky.moon) if by_sun else (sky.moon, sky.sun)
    if height < LOWEST_DEG:
        thrown, other = np.zeros(3), thrown + other
    day = Daylight(bearing, min(max(height, LOWEST_DEG), 90.0), _ink(view, thrown), _ink(view, sky.sky + other), relief)
    return Moment(sun, day, own, sky, view, moon, True)


def sky_seen(moment: Moment) -> NDArray[np.uint8]:
    """The sky as it is seen, as `sky_picture` has it; over the sheet's own light the clear one of its sun."""
    if moment.sky is not None and moment.view is not None:
        return sky_picture(moment.sky, moment.view)
    sky = _sky(OF_THE_SHEET, moment.sun.sun_height_deg, moment.moon)
    return sky_picture(sky, exposed(sky.sun + sky.moon + sky.sky))


class DaylightTold(TypedDict):
    """What a page needs to light the land, its growth and what stands there: where the light comes from [°], the inks
    of it and of the sky on level ground, the haze and what lies beyond it, what is drawn in the sky, and whether lamps
    are lit that are in the dark, and that always are."""

    sun: dict[str, float]
    bearing_deg: float
    height_deg: float
    sun_ink: Ink
    sky_ink: Ink
    thrown: bool
    drawn: bool
    shares: bool
    haze_ink: Ink
    haze_m: float
    haze_top_m: float | None
    beyond: str
    water: str
    weather: str
    wind_m_s: float
    moon: dict[str, float]
    stars: float
    stars_at: list[tuple[float, float, float]]
    lux: float
    lamps_in_dark: bool
    lamps_always: bool
    mists_ink: Ink
    water_ink: Ink


def told(world: OpenWorld, moment: Moment) -> DaylightTold:
    """A light as a page is told of it."""
    stars = 0.0
    if moment.sky is not None and moment.mood is not None and moment.mood.sky == "clear":
        stars = float(np.interp(math.log10(max(moment.lux, 1e-4)), (-1.5, 0.5), (1.0, 0.0)))
    day, mood = moment.day, moment.mood or OF_THE_SHEET
    # That of the whole horizon: not of the part where the sun is.
    red, green, blue = np.median(sky_seen(moment)[-3:].astype(float) / 255, axis=(0, 1)).tolist()
    haze = mists = red, green, blue
    if moment.sky is not None:
        lit = [min(sun * 0.5 + sky, 1.0) * 0.92 for sun, sky in zip(day.sun, day.sky, strict=True)]
        mists = lit[0], lit[1], lit[2]
    return {
        "sun": {"bearing_deg": moment.sun.sun_bearing_deg, "height_deg": moment.sun.sun_height_deg},
        "bearing_deg": day.bearing, "height_deg": day.height, "sun_ink": day.sun, "sky_ink": day.sky,
        "thrown": max(day.sun) > 0.01, "drawn": moment.sky is None, "shares": moment.shares, "haze_ink": haze,
        "haze_m": mood.haze_m, "haze_top_m": mood.haze_top_m, "beyond": mood.beyond, "water": mood.water,
        "weather": mood.weather, "wind_m_s": mood.wind_m_s,
        "moon": {"bearing_deg": moment.moon[0], "height_deg": moment.moon[1], "lit_share": moment.moon[2]},
        "stars": stars, "stars_at": _stars(world) if stars > 0 else [],
        "lux": moment.lux, "lamps_in_dark": moment.lamps, "lamps_always": mood.lamps,
        "mists_ink": mists, "water_ink": moment.water_ink,
    }  # fmt: skip


def _stars(world: OpenWorld) -> list[tuple[float, float, float]]:
    """Bearing on the map, height [°] and magnitude of the stars that are up."""
    light = world.only(LIGHT)
    if light.time is None or light.latitude_deg is None:
        return stars_at(*SOME_NIGHT)
    found = stars_at(seconds_of(light.time), light.latitude_deg, light.longitude_deg or 0.0)
    return [((bearing + light.north_deg) % 360, height, bright) for bearing, height, bright in found]


def lamp_ink(lamp: Lamp) -> Ink:
    """The colour of a lamp's light, of a luminance of 1."""
    if lamp.kelvin is not None:
        return of_kelvin(min(max(lamp.kelvin, KELVIN[0]), KELVIN[1]))
    # Coded as on a screen.
    coded = np.array([int(lamp.colour[i : i + 2], 16) / 255 for i in (1, 3, 5)])
    return of_luminance_1(coded**2.2)


def is_lit(lamp: Lamp, moment: Moment, time: datetime | None) -> bool:
    """Whether a lamp is lit in a light, and at a time of the world."""
    if lamp.lit == "always":
        return moment.mood is None or moment.mood.lamps
    if lamp.lit == "dark":
        return moment.lamps
    if time is None:
        return False
    hour = time.hour + time.minute / 60
    return lamp.from_h <= hour < lamp.to_h if lamp.from_h <= lamp.to_h else hour >= lamp.from_h or hour < lamp.to_h
