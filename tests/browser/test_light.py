"""One light for the plan and for what is drawn in three dimensions; a turned sun changes numbers, not pictures."""

from __future__ import annotations

import io
import re

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page

from tests.browser.driving import Server, frames, until
from tests.browser.small import SmallTable
from tests.browser.table import Table

HERE = "fern.overlook && fern.overlook.drawn.frames > 2 && fern.overlook.parts.land.waits === 0"
LIT = """
() => { const { material, pictureKey } = fern.overlook.parts.land.chunks[0];
  const { picture, slopes, farAt } = material.uniforms;
  return pictureKey.startsWith("0/") && slopes.value.image.width > 1 && farAt.value.z > 0; }
"""
PIXELS = """
(spots) => {
  const { renderer, scene, lens } = fern.overlook.parts;
  const gl = renderer.getContext();
  renderer.render(scene, lens);
  const ratio = renderer.getPixelRatio();
  return spots.map(([x, y]) => {
    const [px, py] = fern.overlook.pixelOf(x, y);
    const found = new Uint8Array(4);
    const [at, up] = [Math.floor(px * ratio), gl.drawingBufferHeight - 1 - Math.floor(py * ratio)];
    gl.readPixels(at, up, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, found);
    return [...found].slice(0, 3);
  });
}
"""


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


MOOD = {"name": "Mood", "haze_m": 200_000, "sun_bearing_deg": 250, "sun_height_deg": 14}
NIGHT = {"name": "Night", "haze_m": 200_000, "sun_height_deg": -25, "moon_bearing_deg": 120, "moon_height_deg": 40}


@pytest.mark.parametrize(("bearing", "height", "mood"), [(315, 32, None), (140, 9, None), (0, 0, MOOD), (0, 0, NIGHT)])
def test_plan_and_overlook_show_ground_alike(
    small: SmallTable, bearing: int, height: int, mood: dict[str, object] | None
) -> None:
    """Post by post on a hill, in the sun and in its shadow, by day and by night: within 4 of 255."""
    light: dict[str, object] = {"sun_bearing_deg": bearing, "sun_height_deg": height, "mood": None, "sun_from": "hand"}
    if mood is not None:
        small.server.send(f"/api/worlds/{small.world}/moods/own", mood, "PUT")
        light = {"mood": "own", "sun_from": "mood"}
    small.server.send(f"/api/worlds/{small.world}/light", light, "PATCH")
    show = {"contour_m": 0, "growth": False, "water": False, "detail": "low"}
    small.open("ground", view="overlook", show=show, camera={"x": 45, "y": 50, "away": 75, "bearing": 200, "tilt": 88})
    until(small.page, HERE)
    until(small.page, LIT)
    spots = [(x, y) for x in range(34, 58, 2) for y in range(36, 66, 3)]
    drawn = np.array(small.page.evaluate(PIXELS, spots), float)
    query = "contour_m=0&growth=false&water=false"
    tile = small.server.bytes_of(f"/api/tracts/{small.tract}/plan/0/0/0.webp?{query}")
    plan = np.asarray(Image.open(io.BytesIO(tile)), float)
    # The plan's own light says which spots lie in shadow.
    expected = np.array([plan[100 - y, x, :3] for x, y in spots])
    assert np.ptp(expected.mean(axis=1)) > (3 if mood is NIGHT else 12)
    away = np.abs(drawn - expected).max(axis=1)
    assert np.mean(away <= 4) >= 0.97, sorted(away)[-8:]


def test_a_turned_sun_asks_only_where_it_reaches(table: Table) -> None:
    """While it is turned and when it is set: no picture of the land, no plant, tuft or water is asked for again."""
    page = table.page
    asked: list[str] = []
    page.on("request", lambda one: asked.append(one.url))
    table.open("growth", view="overlook")
    until(page, f"{HERE} && fern.overlook.parts.growth.shown > 50")
    until(page, "fern.overlook.parts.land.chunks.every((chunk) => !chunk.loading && chunk.pictureKey)")
    before = set(asked)
    asked.clear()
    here = 'bearing => fern.sunlit?.sunlitFar.includes(`bearing":${bearing},`)'
    page.evaluate("fern.state.sun = { sun_bearing_deg: 100, sun_height_deg: 12 }")
    until(page, here, 100)
    page.evaluate("fern.state.sun = null")
    table.server.send(f"/api/worlds/{table.world}/light", {"sun_bearing_deg": 120, "sun_height_deg": 12}, "PATCH")
    until(page, here, 120)
    frames(page, 3)
    assert [url for url in asked if "sunlit.png" in url]
    light = ("sunlit.png", "sky.png", "/daylight")
    assert [url for url in asked if url in before and not any(one in url for one in light)] == []


def test_the_plan_follows_the_dial_before_it_is_let_go(small: SmallTable) -> None:
    """A hillside in the north-west is bright under a sun there, and dark when the sun is held in the south-east."""
    page = small.page
    light = {"sun_bearing_deg": 315, "sun_height_deg": 30, "mood": None, "sun_from": "hand"}
    small.server.send(f"/api/worlds/{small.world}/light", light, "PATCH")
    small.open("light", show={"contour_m": 0, "edges": False})
    bright, revision = small.colour(50, 64).mean(), small.revision()
    box = page.locator("#dial").bounding_box()
    assert box is not None
    middle = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(middle[0] - 30, middle[1] - 30)
    page.mouse.down()
    page.mouse.move(middle[0] + 40, middle[1] + 40, steps=4)
    small.colour(50, 64, lambda colour: bool(colour.mean() < bright - 15), aside=False)
    assert small.revision() == revision
    page.mouse.up()
    small.kept(revision)
    small.colour(50, 64, lambda colour: bool(colour.mean() < bright - 15))
    assert page.evaluate("fern.state.sun") is None


def test_a_mood_is_looked_at_made_the_worlds_own_and_left(small: SmallTable) -> None:
    """By hand: its light is seen before anything is kept; the sun that a key rakes with goes back by the same key."""
    page, light = small.page, f"/api/worlds/{small.world}/light"
    small.server.send(light, {"mood": None, "sun_from": "hand", "sun_bearing_deg": 300, "sun_height_deg": 40}, "PATCH")
    small.server.send(f"/api/worlds/{small.world}/moods/dark", NIGHT, "PUT")
    small.open("light", show={"contour_m": 0, "edges": False, "labels": False})
    day, revision = small.colour(20, 20).mean(), small.revision()
    small.tab("Moods")
    page.locator("[data-mood=dark]").click()
    small.colour(20, 20, lambda colour: bool(colour.mean() < 0.6 * day), aside=False)
    assert small.revision() == revision
    page.get_by_role("button", name="Make it the world's own").click()
    small.kept(revision)
    small.tab("Lamps")
    page.get_by_role("button", name="Hang a lamp").click()
    page.mouse.click(*small.at(30, 80))
    until(page, "fern.rows('lamps').some((lamp) => Math.abs(lamp.x - 30) < 2 && Math.abs(lamp.y - 80) < 2)")
    small.colour(31, 78, lambda colour: bool(colour.mean() > 1.5 * small.colour(20, 20).mean()), aside=False)
    small.tab("Sun")
    page.locator("#flat").focus()
    page.keyboard.press("r")
    until(page, "fern.state.raked && fern.only('light').sun_from === 'hand'")
    page.keyboard.press("r")
    until(page, "!fern.state.raked && fern.only('light').sun_from === 'mood'")
    small.tab("Moods")
    page.get_by_role("button", name="Bake the light").click()
    page.locator("#bakes [data-job-state=done]").wait_for()
    page.get_by_role("button", name="The sheet's own light").click()
    small.colour(20, 20, lambda colour: bool(colour.mean() > 0.9 * day), aside=False)


def test_an_hour_of_the_day_is_looked_at_and_kept(small: SmallTable) -> None:
    page = small.page
    small.open("light", show={"contour_m": 0})
    page.locator("#sun-sun_from").select_option("time")
    until(page, "document.querySelector('#sun-day b') && fern.only('light').sun_from === 'time'")
    assert page.locator("#dial-hours text").count() > 1
    slider = page.locator("#sun-hour")
    slider.evaluate("(it) => { it.value = '0'; it.dispatchEvent(new Event('input')); }")
    until(page, "fern.state.sun && fern.state.sun.sun_height_deg < -5")
    slider.evaluate("(it) => { it.value = '61'; it.dispatchEvent(new Event('change')); }")
    until(page, "fern.only('light').time.includes('T01:01') && fern.state.sun === null")
    small.server.send(f"/api/worlds/{small.world}/light", {"sun_from": "hand"}, "PATCH")


def test_eye_level_has_a_sky_of_its_sun(small: SmallTable) -> None:
    """Blue above, brighter at the horizon, and no picture of paper."""
    page = small.page
    small.open("trial")
    page.get_by_role("button", name=re.compile("^Walk from")).first.click()
    until(page, f"{HERE} && fern.sky")
    frames(page, 3)
    box = page.locator("#look").bounding_box()
    assert box is not None
    shot = np.asarray(Image.open(io.BytesIO(page.screenshot())).convert("RGB")).astype(int)
    x, top = int(box["x"] + box["width"] / 2), int(box["y"])
    above, low = (
        shot[top + 70 : top + 80, x - 40 : x + 40].mean((0, 1)),
        shot[top + 250 : top + 260, x - 40 : x + 40].mean((0, 1)),
    )
    assert above[2] > above[0] + 25
    assert low.mean() > above.mean() + 8
    page.keyboard.press("Escape")
