"""Moods, the sun by date and place, lamps and hours of sun on an open world, by commands and by the API."""

import json
import math
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from zipfile import ZipFile

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.checks.finding import Finding
from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import Window
from fernfield.core.light.sky import LUMA
from fernfield.core.light.sun import sun_at
from fernfield.core.sites.shipped import KIT
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import Patch, Remove, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lux_posts, share_posts, sun_hours, sun_strip
from fernfield.work.light.moment import moment_of, told
from fernfield.work.light.rows import LAMPS, LIGHT, MOODS, Lamp, Light, Mood, Sun
from fernfield.work.seen.baking import read_bake
from fernfield.work.seen.plan import plan_pixels, sunlit_pixels
from fernfield.work.seen.probe import probe
from fernfield.work.seen.show import Show
from fernfield.work.sites.rows import THINGS
from fernfield.work.studio import Studio
from tests.conftest import draw, ended

NIGHT = Mood(name="Night", sun_bearing_deg=330, sun_height_deg=-25, moon_bearing_deg=140, moon_height_deg=35)
PART = Window(100, 100, 200, 200)


def light(world: OpenWorld, **said: Any) -> None:
    world.edit(Patch(collection="light", key="sun", row=said))


def test_the_sun_stands_where_it_was_said_last(world: OpenWorld) -> None:
    world.edit(put(MOODS, "night", NIGHT))
    said: list[tuple[dict[str, Any], str, tuple[float, float]]] = [
        ({"sun_bearing_deg": 90.0}, "hand", (90, 32)),
        ({"mood": "night"}, "mood", (330, -25)),
        ({"sun_height_deg": 12.0}, "hand", (90, 12)),
        ({"latitude_deg": 52.0, "longitude_deg": 5.0, "time": "2026-06-21T18:30:00+02:00"}, "time", (271.44, 29.21)),
        ({"north_deg": 100.0}, "time", (11.44, 29.21)),
        ({"sun_from": "mood"}, "mood", (330, -25)),
    ]
    for row, source, (bearing, height) in said:
        light(world, **row)
        assert world.only(LIGHT).sun_from == source
        sun = moment_of(world).sun
        assert (sun.sun_bearing_deg, sun.sun_height_deg) == pytest.approx((bearing, height), abs=0.01)
    # A mood that goes leaves the light that was set by hand.
    world.edit(Remove(collection="moods", key="night"))
    assert (world.only(LIGHT).mood, moment_of(world).sun.sun_height_deg) == (None, 12)
    unix = datetime(2026, 6, 21, 16, 30, tzinfo=UTC).timestamp()
    assert float(sun_at(unix, 52, 5).bearing) == pytest.approx(271.44, abs=0.01)
    with pytest.raises(ValueError, match="latitude_deg and longitude_deg go together"):
        Light(latitude_deg=52)
    with pytest.raises(ValueError, match="needs time, latitude_deg and longitude_deg"):
        Light(sun_from="time")


def test_a_mood_is_looked_at_before_it_is_the_worlds_own(world: OpenWorld) -> None:
    land = world.first_land
    sheet = plan_pixels(world, land, 0, PART, Show()).astype(int)
    world.edit(put(MOODS, "night", NIGHT))
    looked = plan_pixels(world, land, 0, PART, Show(mood="night")).astype(int)
    assert np.array_equal(plan_pixels(world, land, 0, PART, Show()), sheet)
    assert looked[..., :3].mean() < 0.5 * sheet[..., :3].mean()
    light(world, mood="night")
    assert np.array_equal(plan_pixels(world, land, 0, PART, Show()), looked)
    # One that has gone is the world's own.
    assert np.array_equal(plan_pixels(world, land, 0, PART, Show(mood="gone")), looked)
    facts = told(world, moment_of(world))
    assert (facts["bearing_deg"], facts["height_deg"], facts["thrown"], facts["stars"]) == (140, 35, True, 1)
    assert len(facts["stars_at"]) > 30
    assert not told(world, moment_of(world, None, Sun(sun_bearing_deg=180, sun_height_deg=50)))["stars_at"]


def test_lamps_are_lit_in_the_dark_and_seen_in_plan_and_figures(world: OpenWorld) -> None:
    land = world.first_land
    world.edit(put(MOODS, "night", NIGHT))
    for key, said in {"one": {}, "late": {"lit": "hours", "from_h": 20, "to_h": 4}}.items():
        place = {"name": key, "x": 150.0, "y": 150.0, "lumens": 1000.0, "over_m": 4.0, "kelvin": 3000.0}
        world.edit(put(LAMPS, key, Lamp.model_validate({**place, **said})))
    dark, day = moment_of(world, "night"), moment_of(world)
    lux = lux_posts(world, land, PART, 1, dark)
    away = np.hypot(*np.mgrid[-50:50, -50:50])
    # 1000 lm over 4 π, 4 m up, beside what the night gives.
    assert lux[50, 50] == pytest.approx(1000 / (4 * np.pi) / 16 + dark.lux, rel=1e-3)
    assert np.allclose(lux[away > 26], dark.lux, rtol=1e-3)
    light(world, time="2026-12-01T22:00:00Z")
    assert lux_posts(world, land, PART, 1, dark)[50, 50] == pytest.approx(
        2 * 1000 / (4 * np.pi) / 16 + dark.lux, rel=1e-3
    )
    seen = plan_pixels(world, land, 0, PART, Show(mood="night", contour_m=0)).astype(int)
    assert seen[50, 50, 0] > 2 * seen[5, 5, 0]
    # Warm light.
    assert seen[50, 50, 0] / seen[5, 5, 0] > 1.3 * seen[50, 50, 2] / seen[5, 5, 2]
    assert day.by_day


def test_hours_of_sun_and_shares_of_sky_know_the_ground(world: OpenWorld) -> None:
    draw(world, path=[(150, 150, 0), (150, 150, 1)], strength=40, radius_m=20, softness=0.2)
    light(world, latitude_deg=52.0, longitude_deg=0.0, time="2026-03-20T12:00:00Z", sun_from="time")
    land = world.first_land
    hours, share = sun_hours(world, land, PART, 1), share_posts(world, land, PART, 1)
    # A day of 12 h, but for the lowest suns; north of the hill it is shorter, and less of the sky is seen.
    assert hours.max() == pytest.approx(11.7, abs=0.4)
    assert hours[26, 50] + 2 < hours[74, 50]
    assert share[26, 50] < 0.95 < share[95, 2]
    part = Window(120, 130, 160, 190)
    inner = slice(20, 60), slice(30, 90)
    assert np.array_equal(sun_hours(world, land, part, 1), hours[inner])
    assert np.array_equal(share_posts(world, land, part, 1), share[inner])
    strip = sun_strip(world, land, land.grid.x_of(150), land.grid.y_of(126))
    assert sum(one or 0 for one in strip) / 2 == pytest.approx(float(hours[26, 50]))
    assert strip[0] is None
    # A mood counts the sky that is seen; the sheet's own light does not.
    world.edit(put(MOODS, "day", Mood(name="Day")))
    blue = sunlit_pixels(world, land, land.clip(PART), 1, Show(mood="day"))[..., 2]
    assert np.abs(blue / 255 - share).max() < 0.003
    light(world, sun_from="hand")
    assert (sunlit_pixels(world, land, PART, 1, Show())[..., 2] == 255).all()


@pytest.mark.parametrize("relief", ["sun", "sides", "sky", "mixed"])
def test_relief_shows_the_shape_and_leaves_level_ground_as_bright(world: OpenWorld, relief: str) -> None:
    draw(world, path=[(150, 150, 0), (150, 150, 1)], strength=30, radius_m=30)
    show, land = Show(contour_m=0, growth=False), world.first_land
    before = plan_pixels(world, land, 0, PART, show).astype(float)[..., :3].mean(2)
    spread = []
    for percent in (0.0, 60.0, 150.0):
        light(world, relief=relief, relief_percent=percent)
        seen = plan_pixels(world, land, 0, PART, show).astype(float)[..., :3].mean(2)
        assert seen[90:, :8].mean() == pytest.approx(before[90:, :8].mean(), rel=0.05)
        spread.append(seen[20:80, 20:80].std())
    assert 1.05 * spread[0] < spread[1] < spread[2] / 1.05


def test_what_plays_badly_is_found(world: OpenWorld) -> None:
    start = {"sort": "start", "name": "East gate", "x": 60.0, "y": 60.0, "turn_deg": 88.0}
    barn = {"sort": "piece", "kit": "stone_barn", "name": "Barn", "x": 150.0, "y": 150.0}
    for key, thing in {"start": start, "barn": barn}.items():
        world.edit(put(THINGS, key, THINGS.checked(thing)))
    light(world, sun_bearing_deg=95.0, sun_height_deg=8.0)
    hung = {"in": (150, 150, 2, 20), "high": (80, 200, 30, 20), "good": (80, 90, 3, 20)}
    hung |= {f"many{k}": (220.0 + k, 220, 3, 30) for k in range(9)}
    for key, (x, y, over, reach) in hung.items():
        world.edit(put(LAMPS, key, Lamp(name=key, x=x, y=y, over_m=over, reach_m=reach)))

    def found() -> list[tuple[str, str]]:
        checks = {check.name: check for room in world.house.rooms for check in room.checks}
        made: list[Finding] = [one for name in ("start into the sun", "lamps") for one in checks[name].find(world)]
        return [(one.check, one.words) for one in made]

    words = found()
    assert words[:3] == [
        ("start into the sun", "East gate looks into the sun, 8° high."),
        ("lamps", "The light of high does not come to the ground."),
        ("lamps", "in hangs inside Barn."),
    ]
    crowd = "9 lamps reach many0: more than 8 are drawn slowly. So do they at 8 others."
    assert words[3:] == [("lamps", crowd)]
    light(world, sun_bearing_deg=120.0)
    assert len(found()) == 3


def test_light_over_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 256, "depth_m": 256, "spacing_m": 2}).json()
    world, tract = made["id"], made["tracts"][0]["id"]
    day = client.get(
        "/api/sun", params={"latitude_deg": 52, "longitude_deg": 5, "time": "2026-06-21T12:00:00+02:00"}
    ).json()
    assert day["sunrise"].startswith("2026-06-21T05:19")
    assert day["dawn"] < day["sunrise"] < day["noon"] < day["sunset"] < day["dusk"]
    assert len(day["hours"]) == 25
    polar = {"latitude_deg": 79, "longitude_deg": 5, "time": "2026-06-21T12:00:00Z"}
    assert client.get("/api/sun", params=polar).json()["sunset"] is None
    client.put(f"/api/worlds/{world}/moods/night", json=NIGHT.model_dump(mode="json"))
    at = f"/api/tracts/{tract}"
    for what, kind in (("shadow", np.uint8), ("sky_share", np.uint8), ("sun_hours", "<f4"), ("lux", "<f4")):
        answer = client.get(f"{at}/light", params={"what": what, "row1": 64, "col1": 48, "step": 4, "mood": "night"})
        assert answer.headers["X-Shape"] == "16,12"
        assert np.frombuffer(answer.content, kind).size == 16 * 12
    refused = {
        f"{at}/light?what=lux&mood=noon": (404, "there is no 'noon' among the moods of this world; there is night"),
        f"{at}/light?what=glow": (422, "not 'glow'"),
        f"{at}/light?what=lux&step=3": (422, "step must be 1, 2, 4"),
        "/api/sun?latitude_deg=52&longitude_deg=5&time=2026-06-21T12:00:00": (422, "with an offset"),
        "/api/sun?latitude_deg=52&longitude_deg=5&time=0001-01-01T00:00:00%2B14:00": (422, "the years 1900 to 2150"),
        "/api/sun?latitude_deg=91&longitude_deg=5&time=2026-06-21T12:00:00Z": (422, "91"),
        f"{at}/raking?x0=-90&y0=-90&x1=-80&y1=-80": (422, "at least 2 × 2 posts"),
    }
    for path, (status, words) in refused.items():
        answer = client.get(path)
        assert (answer.status_code, words in answer.json()["detail"]) == (status, True), (path, answer.text)


def test_a_piece_throws_a_shadow_as_long_as_it_is_high_by_the_sun(world: OpenWorld) -> None:
    """Height over the tangent of the sun's height, to a post."""
    light(world, sun_bearing_deg=270.0, sun_height_deg=30.0)
    beacon = {"sort": "piece", "kit": "beacon", "name": "Beacon", "x": 120.0, "y": 150.0}
    world.edit(put(THINGS, "beacon", THINGS.checked(beacon)))
    top = max(solid.z1 for solid in KIT["beacon"].bodies)
    row = sunlit_pixels(world, world.first_land, PART, 1, Show())[50, :, 0]
    dark = np.flatnonzero(row < 128) + PART.col0
    assert dark[0] - 120 in (1, 2)
    assert dark[-1] == pytest.approx(120 + (top - 0.25) / np.tan(np.radians(30)), abs=1)
    assert len(dark) == dark[-1] - dark[0] + 1


def test_a_bake_is_mended_only_where_something_has_changed(studio: Studio, world: OpenWorld) -> None:
    with pytest.raises(NotFound, match="no mood to bake"):
        studio.start_bake(world.id)
    world.edit(put(MOODS, "night", NIGHT))
    with pytest.raises(NotFound, match="there is no 'noon' among the moods"):
        studio.start_bake(world.id, ("noon",))

    def baked() -> tuple[int, int]:
        job = ended(studio.start_bake(world.id, ("night",)))
        assert job.result is not None, job.message
        return job.result["made"], job.result["blocks"]

    assert studio.bakes(world.id) == []
    # Four tiles meet at post 256: 301 posts are four blocks.
    assert baked() == (4, 4)
    assert baked() == (0, 4)
    world.edit(put(LAMPS, "one", Lamp(name="One", x=20, y=8, reach_m=8)))
    (told,) = studio.bakes(world.id)
    assert told["stale"] == [[256, 0, 301, 256]]
    assert baked() == (1, 4)
    kept = read_bake(world, studio.data, "night", world.first_tract.row.id)
    land = world.first_land
    assert np.array_equal(kept.shadow, sunlit_pixels(world, land, land.bounds, 1, Show(mood="night"))[..., 1])
    assert np.abs(kept.sky_share / 255 - share_posts(world, land, land.bounds, 1)).max() < 0.003
    assert LUMA @ kept.lamps[:, 292, 20] == pytest.approx(800 / (4 * np.pi) / 9, rel=0.01)
    # One that is cut off leaves nothing half done, and one of a mood that has gone is told of no more.
    (folder,) = studio.data.glob("bakes/*/night/*")
    for path in sorted(folder.iterdir())[:2]:
        path.unlink()
    (folder / "cut.part").write_bytes(b"half")
    assert len(studio.bakes(world.id)[0]["stale"]) == 2
    assert baked() == (2, 4)
    world.edit(Remove(collection="moods", key="night"))
    assert studio.bakes(world.id) == []


def test_the_light_of_the_worlds_own_mood_is_handed_over(studio: Studio, world: OpenWorld, tmp_path: Path) -> None:
    world.edit(put(MOODS, "night", NIGHT))
    world.edit(put(LAMPS, "one", Lamp(name="One", x=150, y=150, over_m=4, lumens=1000, kelvin=3000)))
    light(world, mood="night")
    write_package(world, tmp_path / "p.zip", lambda done, words: None)
    with ZipFile(tmp_path / "p.zip") as package:
        manifest = json.loads(package.read("manifest.json"))
        (said,) = [tract["light"] for tract in manifest["tracts"]]
        planes = {n: np.asarray(Image.open(package.open(said[n]["file"]))) for n in ("shadow", "sky_share", "lux")}
        assert set(json.loads(package.read("light/moods.json"))) == {"night"}
    assert (manifest["mood"]["key"], said["mood"]) == ("night", "night")
    assert all(plane.shape == (301, 301) for plane in planes.values())
    lux = 10 ** ((planes["lux"].astype(float) - 1) / 65_534 * said["lux"]["decades"]) * said["lux"]["least_lux"]
    expected = lux_posts(world, world.first_land, world.first_land.bounds, 1, moment_of(world))
    assert np.allclose(lux, expected, rtol=3e-4)


def test_a_probe_sees_the_sky_and_the_hill_where_they_are(world: OpenWorld) -> None:
    draw(world, path=[(200, 150, 0), (200, 150, 1)], strength=60, radius_m=25, softness=0)
    world.edit(put(MOODS, "evening", Mood(name="Evening", sun_bearing_deg=270, sun_height_deg=10, haze_m=200_000)))
    seen = probe(world, world.first_land, 120, 150, 360, Show(mood="evening")).astype(int)
    sky = probe(world, world.first_land, 120, 150, 360, Show()).astype(int)
    assert seen.shape == (180, 360, 3)
    # The hill's edge is 55 m off in the east and 60 m high over ground at 10 m: 46.6° over the eye.
    top = next(row for row in range(180) if seen[row, 90, 2] < seen[row, 90, 1])
    assert 90 - top == pytest.approx(math.degrees(math.atan2(60 - 1.7, 55)), abs=2)
    # Elsewhere the horizon is level; the west, where the sun stands, is brightest.
    assert seen[80, 180, 2] > seen[100, 180, 2]
    assert seen[80:88, 270, 0].sum() > seen[80:88, 180, 0].sum()
    assert (sky != seen).any()
    with pytest.raises(InvalidInput, match="the place"):
        probe(world, world.first_land, 900, 150, 64, Show())
