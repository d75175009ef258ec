"""Sun, moon, sky, lamps and the share of sky, against published examples, closed forms and other programs."""

import importlib
import math
from datetime import UTC, datetime, timedelta, timezone

import ephem
import numpy as np
import pytest
from pvlib import spa

from fernfield.core.light import sky_share
from fernfield.core.light.lamps import KELVIN, Source, lamp_lux, of_kelvin, planckian
from fernfield.core.light.moon import moon_at
from fernfield.core.light.raking import raking
from fernfield.core.light.sky import LUMA, clear_sky, exposed, on_level_ground, overcast_sky, sky_of, zenith
from fernfield.core.light.sun import Air, sun_at, sun_day

RNG = np.random.default_rng(20031017)
COUNT = 1000
UNIX = np.round(
    RNG.uniform(datetime(1990, 1, 1, tzinfo=UTC).timestamp(), datetime(2049, 1, 1, tzinfo=UTC).timestamp(), COUNT)
)
LATITUDES, LONGITUDES = RNG.uniform(-89, 89, COUNT), RNG.uniform(-180, 180, COUNT)
PLACES = list(zip(UNIX, LATITUDES, LONGITUDES, strict=True))


def apart(a: float, b: float) -> float:
    """Between two bearings. [°]"""
    return abs((a - b + 180) % 360 - 180)


def test_the_worked_example_of_the_sun() -> None:
    """NREL/TP-560-34302 (Reda and Andreas 2004), A.5: Golden, Colorado, 17 October 2003, 12:30:30 at UTC-7."""
    time = datetime(2003, 10, 17, 12, 30, 30, tzinfo=timezone(timedelta(hours=-7)))
    sun = sun_at(time.timestamp(), 39.742476, -105.1786, Air(1830.14, 820, 11), behind_s=67)
    assert 90 - float(sun.height) == pytest.approx(50.11162, abs=1e-4)
    assert float(sun.bearing) == pytest.approx(194.34024, abs=1e-4)
    day = sun_day(time, 39.742476, -105.1786)
    assert day.sunrise is not None
    assert abs(day.sunrise - time.replace(hour=6, minute=12, second=43)) < timedelta(seconds=2)


def test_the_sun_stands_where_pvlib_has_it() -> None:
    """pvlib's implementation of the same algorithm, on 1,000 moments and places."""
    for unix, latitude, longitude in PLACES:
        behind = float(spa.calculate_deltat(datetime.fromtimestamp(unix, UTC).year, 6))
        theirs = spa.solar_position(np.array([unix]), latitude, longitude, 0, 1013.25, 12, behind, 0.5667, 1)
        ours = sun_at(unix, latitude, longitude)
        assert float(ours.height) == pytest.approx(theirs[2][0], abs=0.01)
        assert apart(float(ours.bearing), theirs[4][0]) * math.cos(math.radians(theirs[3][0])) < 0.01


def test_it_rises_and_sets_when_pvlib_says() -> None:
    """Half a minute; nearer than 67° to the poles, where pvlib's three points of a day are too few, they are not held
    to each other."""
    for unix, latitude, longitude in [one for one in PLACES[:60] if abs(one[1]) < 67]:
        midnight = unix // 86400 * 86400
        day = sun_day(datetime.fromtimestamp(midnight, UTC), latitude, longitude)
        theirs = [float(one[0]) for one in spa.transit_sunrise_sunset(np.array([midnight]), latitude, longitude, 67, 1)]
        for moment, seconds in zip((day.noon, day.sunrise, day.sunset), theirs, strict=True):
            assert moment is not None
            away = abs(moment.timestamp() - seconds)
            # Where noon is near midnight by UT each may tell of the neighbouring one.
            assert min(away, abs(away - 86400)) < (200 if away > 40_000 else 30), (latitude, longitude)


@pytest.mark.parametrize(("month", "rises", "dark"), [(6, False, False), (12, False, True), (3, True, False)])
def test_a_polar_day_has_neither_sunrise_nor_sunset(month: int, rises: bool, dark: bool) -> None:
    day = sun_day(datetime(2026, month, 21, 12, tzinfo=UTC), 78.2, 15.6)
    assert (day.sunrise is not None) is rises
    assert (sun_at(day.noon.timestamp(), 78.2, 15.6).height < 0) == dark


def test_the_moon_stands_where_ephem_has_it() -> None:
    """PyEphem (VSOP87 and a lunar theory of its own), on 1,000 moments and places: 0.3°, and 1 % of what is lit."""
    for unix, latitude, longitude in PLACES:
        seen = ephem.Observer()
        seen.lat, seen.lon, seen.pressure = str(latitude), str(longitude), 0
        seen.date = ephem.Date(datetime.fromtimestamp(unix, UTC).replace(tzinfo=None))
        theirs, ours = ephem.Moon(seen), moon_at(unix, latitude, longitude)
        height = math.degrees(theirs.alt)
        assert float(ours.at.airless) == pytest.approx(height, abs=0.3)
        assert apart(float(ours.at.bearing), math.degrees(theirs.az)) * math.cos(theirs.alt) < 0.3
        assert float(ours.lit_share) == pytest.approx(theirs.phase / 100, abs=0.01)


def test_the_sky_is_that_of_its_papers() -> None:
    """CIE S 011: three times as bright above as at the horizon, 7/9 π of the zenith's on level ground. Preetham and
    others (1999), A.2, worked by hand for turbidity 2 and a sun 60° high (coefficients from memory)."""
    assert overcast_sky([90, 0], 3000) == pytest.approx([3000, 1000])
    heights = np.broadcast_to((90 - (np.arange(32)[:, None] + 0.5) * 90 / 32), (32, 64))
    assert on_level_ground(overcast_sky(heights, 3000)) == pytest.approx(7 / 9 * math.pi * 3000, rel=2e-3)
    chi = (4 / 9 - 2 / 120) * (math.pi - math.pi / 3)
    bright, x, y = zenith(60, 2)
    assert bright == pytest.approx(1000 * (3.1196 * math.tan(chi) - 0.4310 + 2.4192))
    assert (x, y) == pytest.approx((0.25142, 0.25592), abs=1e-5)
    # What is straight above is the zenith, from wherever it is looked at; the brightest part is at the sun.
    sky = clear_sky(np.full(8, 90.0), np.arange(0, 360, 45), 40, 3) @ LUMA
    assert sky == pytest.approx(np.full(8, zenith(40, 3)[0]), rel=2e-3)
    around = clear_sky(np.full(36, 40.0), np.arange(0, 360, 10), 40, 3) @ LUMA
    assert int(np.argmax(around)) == 0


def test_light_falls_off_from_noon_to_night() -> None:
    lux = [float(LUMA @ (one.sun + one.sky)) for one in map(sky_of, (60, 30, 10, 2, 0, -3, -6, -12, -18))]
    assert lux == sorted(lux, reverse=True)
    assert lux[0] > 90_000
    # Civil and nautical twilight end at 3.4 and 0.008 lx (Explanatory Supplement 1992, from memory).
    assert lux[6] == pytest.approx(3.4, rel=0.02)
    assert lux[7] == pytest.approx(0.008 + 0.001 * 1.0, rel=0.1)
    # A full moon overhead gives 0.27 lx, a half one a tenth of it (Krisciunas and Schaefer 1991).
    full, half = (float(LUMA @ sky_of(-40, moon=(90, share)).moon) for share in (1.0, 0.5))
    assert full == pytest.approx(0.267, rel=0.01)
    assert 0.06 < half / full < 0.12
    # An eye that has got used to a light sees level ground hardly darker; held, it is as dark as it is.
    day, night = np.full(3, 60_000.0), np.full(3, 0.1)
    assert exposed(day).ink(day) == pytest.approx(np.ones(3))
    assert 0.2 < float(exposed(night).ink(night)[1]) < 0.5
    assert float(exposed(day, 0).ink(night)[1]) < 1e-5


@pytest.mark.parametrize(
    ("land", "share"),
    [
        ("plane", 1.0),
        ("endless wall", 0.5),  # half of the sky
        ("right-angled valley", math.cos(math.radians(45))),  # Johnson and Watson (1984): cos of the slope
        ("valley of 27°", math.cos(math.atan(0.5))),
        ("pit", 70**2 / (70**2 + 40**2)),  # a cone's, with a level floor: cos² of the height of its rim
        ("shaft", 20**2 / (20**2 + 15**2)),
    ],
)
def test_the_share_of_sky_is_that_of_closed_forms(land: str, share: float) -> None:
    around = sky_share.reach_posts(1.0)
    y, x = np.mgrid[-around : around + 1, -around : around + 1].astype(np.float32)
    away = np.hypot(x, y)
    heights = {
        "plane": 0 * x,
        "endless wall": np.where(x > 0, 1e6, 0),
        "right-angled valley": abs(y),
        "valley of 27°": abs(x) / 2,
        "pit": np.clip(away - 30, 0, 40),
        "shaft": np.where(away < 20, 0, 15),
    }[land]
    assert float(sky_share.sky_share(heights.astype(np.float32), 1.0, around)[0, 0]) == pytest.approx(share, abs=0.01)


def test_a_window_of_the_share_of_sky_is_that_of_the_whole() -> None:
    around = sky_share.reach_posts(8.0)
    heights = RNG.normal(0, 20, (2 * around + 80, 2 * around + 90)).astype(np.float32)
    whole = sky_share.sky_share(heights, 8.0, around)
    assert np.array_equal(sky_share.sky_share(heights[20:, 30:][:-10, :-40], 8.0, around), whole[20:-10, 30:-40])


def test_a_lamp_shines_by_the_inverse_square_and_the_cosine() -> None:
    flat = np.zeros((103, 103), np.float32)
    lux = lamp_lux(flat, 0.5, -25.5, 25.5, 1, [Source(0, 0, 4, (900, 1000, 1100), 200)])
    for away in (0, 3, 6, 10, 20):
        assert lux[1, 50, 50 + 2 * away] == pytest.approx(1000 / (4 * math.pi) * 4 / math.hypot(away, 4) ** 3, rel=1e-4)
    # A cone has all of the flux in its part of the sphere, and none beside it.
    cone = lamp_lux(flat, 0.5, -25.5, 25.5, 1, [Source(0, 0, 4, (1000, 1000, 1000), 200, cone=90)])
    assert cone[1, 50, 50] / lux[1, 50, 50] == pytest.approx(2 / (1 - math.cos(math.radians(45))), rel=1e-4)
    assert cone[1, 50, 50 + 2 * 5] == 0
    # A wall keeps it from what lies behind, if the lamp throws shadows.
    flat[:, 60] = 3
    for shadows in (False, True):
        behind = lamp_lux(flat, 0.5, -25.5, 25.5, 1, [Source(0, 0, 4, (1000, 1000, 1000), 200, shadows=shadows)])
        assert (behind[1, 50, 64] > 0) is not shadows


def test_kelvin_is_a_colour_on_the_planckian_locus() -> None:
    """Kang and others (2002) against Planck's law as colour-science integrates it: within 0.002 in x and y."""
    with np.printoptions():
        # It sets how numbers are printed, for everybody.
        colour = importlib.import_module("colour")
    for kelvin in np.linspace(*KELVIN, 40):
        theirs = colour.temperature.CCT_to_xy(kelvin, method="Kang 2002")
        assert planckian(float(kelvin)) == pytest.approx(tuple(theirs), abs=1e-6)
        xyz = colour.sd_to_XYZ(colour.sd_blackbody(kelvin)) if kelvin < 12_000 else None
        if xyz is not None:
            assert planckian(float(kelvin)) == pytest.approx(tuple(colour.XYZ_to_xy(xyz)), abs=0.002)
    assert of_kelvin(2000)[0] > of_kelvin(6500)[0] > of_kelvin(12_000)[0]
    assert float(LUMA @ of_kelvin(2700)) == pytest.approx(1)


def test_a_raking_light_comes_across_the_folds() -> None:
    y, x = np.mgrid[0:200, 0:200].astype(np.float32)
    for waves, across in (
        (np.sin(x / 9), {90, 270}),
        (np.sin(y / 9), {0, 180}),
        (np.sin((x + y) / 12), {45, 135, 225, 315}),
    ):
        bearing, height = raking(2 * waves, 1.0)
        assert min(apart(bearing, one) for one in across) <= 5
        assert 5 < height <= 40
    assert raking(0 * x, 1.0)[1] == 6
