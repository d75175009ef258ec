"""One light for the plan and for what is drawn in three dimensions; a turned sun changes numbers, not pictures."""

from __future__ import annotations

import io

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


@pytest.mark.parametrize(("bearing", "height"), [(315, 32), (140, 9)])
def test_plan_and_overlook_show_ground_alike(small: SmallTable, bearing: int, height: int) -> None:
    """Post by post on a hill, in the sun and in its shadow: within 4 of 255."""
    sun = {"sun_bearing_deg": bearing, "sun_height_deg": height}
    small.server.send(f"/api/worlds/{small.world}/light", sun, "PATCH")
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
    assert np.ptp(expected.mean(axis=1)) > 12
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
    small.server.send(f"/api/worlds/{small.world}/light", {"sun_bearing_deg": 315, "sun_height_deg": 30}, "PATCH")
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
