"""Making land with the hand on the mouse: beginnings, the layout and its joins, bounds, boundaries, dressing."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.table import WAIT


def call(server: Server, method: str, path: str, body: Any = None) -> Any:
    return server.send(path, body, method)


def heights(server: Server, tract: str, rows: int, cols: int) -> np.ndarray:
    return np.frombuffer(server.bytes_of(f"/api/tracts/{tract}/heights"), "<f4").reshape(rows, cols)


@pytest.fixture
def small(server: Server, page: Page) -> Any:
    """A small world of two tracts side by side, gone afterwards."""
    world = call(server, "POST", "/api/worlds", {"name": "Small", "width_m": 128, "depth_m": 128, "spacing_m": 1})
    spec = {"name": "Holm", "x": 150, "y": 7, "width_m": 96, "depth_m": 128, "spacing_m": 1, "elevation_m": 16}
    call(server, "POST", f"/api/worlds/{world['id']}/tracts", spec)
    yield call(server, "GET", f"/api/worlds/{world['id']}")
    page.goto("about:blank")
    call(server, "DELETE", f"/api/worlds/{world['id']}")
    call(server, "DELETE", f"/api/bin/{world['id']}")


def test_a_world_begins_behind_a_rim_and_one_from_a_seed(page: Page, server: Server) -> None:
    page.goto(f"{server.url}/make")
    page.get_by_role("button", name="Rim").click()
    page.get_by_label("Name", exact=True).fill("Walled")
    page.get_by_label("Cells a side").select_option("128")
    expect(page.get_by_label("Width, west to east")).to_have_value("128")
    page.get_by_label("Width of the rim").fill("20")
    image = page.locator("#make-picture image")
    until(
        page, "decodeURIComponent(document.querySelector('#make-picture image')?.getAttribute('href')).includes('20')"
    )
    assert "rim" in (image.get_attribute("href") or "")
    page.get_by_role("button", name="Make it").click()
    page.wait_for_url("**/worlds/w*", timeout=WAIT)
    made = next(w for w in server.get("/api/worlds") if w["name"] == "Walled")
    land = heights(server, made["tracts"][0]["id"], 129, 129)
    assert land[64, 64] == 10
    assert land[0].min() > 25
    page.goto(f"{server.url}/make")
    page.get_by_role("button", name="From a seed").click()
    page.get_by_label("Name", exact=True).fill("Sown")
    page.get_by_label("Cells a side").select_option("128")
    page.locator("[data-settings-of=moor] .more-button").click()
    swells = page.locator("#moor-hummock_m")
    expect(swells).to_be_visible()
    swells.fill("0")
    page.get_by_role("button", name="Weather").click()
    page.get_by_label("Thousands of years of streams").fill("2")
    page.get_by_role("button", name="Make it").click()
    expect(page.locator("#make-job")).to_contain_text("It would suit: Moor", timeout=WAIT)
    # It is in sight, and the next press makes another one only when that is said.
    assert page.locator("#make-job a").evaluate("a => a.getBoundingClientRect().bottom <= innerHeight")
    expect(page.get_by_role("button", name="Make another")).to_be_enabled()
    page.get_by_role("button", name="Growth only").click()
    sown = next(w for w in server.get("/api/worlds") if w["name"] == "Sown")
    until(page, "location.pathname === '/make'")
    recipe = server.get(f"/api/worlds/{sown['id']}/recipes")[0]
    assert recipe["landscapes"][0]["name"] == "moor"
    assert recipe["landscapes"][0]["settings"] == {"hummock_m": 0}
    assert recipe["weathering"]["streams_ka"] == 2
    for world in (made, sown):
        call(server, "DELETE", f"/api/worlds/{world['id']}")
        call(server, "DELETE", f"/api/bin/{world['id']}")


def test_a_tract_is_dragged_until_it_snaps_and_then_joined(page: Page, server: Server, small: Any) -> None:
    west, east = (tract["id"] for tract in small["tracts"])
    page.goto(f"{server.url}/worlds/{small['id']}/layout")
    until(page, "document.querySelectorAll('#layout .tract').length === 2")
    expect(page.locator("#touching").get_by_text("None yet")).to_be_visible()
    box = page.locator(f"[data-tract={east}] rect").bounding_box()
    assert box is not None
    metres = box["width"] / 96
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    # Not quite to the edge: it snaps.
    page.mouse.move(x - 20 * metres, y + 6 * metres, steps=6)
    page.mouse.up()
    expect(page.locator("#touching")).to_contain_text("may be joined; their edges differ by up to 6.00 m", timeout=WAIT)
    place = next(t for t in server.get(f"/api/worlds/{small['id']}")["tracts"] if t["id"] == east)
    assert (place["x"], place["y"]) == (128, 0)
    page.get_by_label("Width of the blend").fill("30")
    page.get_by_role("button", name="Join", exact=True).click()
    expect(page.locator("#touching")).to_contain_text("joined, blended over 30 m", timeout=WAIT)
    a, b = heights(server, west, 129, 129), heights(server, east, 129, 97)
    assert np.array_equal(a[:, -1], b[:, 0])
    assert a[64, -1] == 13
    # With the keyboard it is moved away, and parted by that; undo joins it again.
    pairs = page.locator("#touching .pair")
    page.locator("#layout").focus()
    page.keyboard.press("ArrowRight")
    expect(pairs).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(pairs).to_contain_text("joined, blended over 30 m")
    # A tract of another spacing is told why it cannot be joined.
    call(server, "POST", f"/api/worlds/{small['id']}/tracts",
         {"name": "Coarse", "x": 0, "y": 128, "width_m": 128, "depth_m": 64, "spacing_m": 2})  # fmt: skip
    page.reload()
    expect(page.locator("#touching")).to_contain_text("the spacing differs: Main tract has 1 m, Coarse 2 m")


def test_a_stroke_runs_across_the_join_on_the_page(page: Page, server: Server, small: Any) -> None:
    west, east = (tract["id"] for tract in small["tracts"])
    call(server, "PATCH", f"/api/tracts/{east}", {"x": 128, "y": 0})
    call(server, "POST", f"/api/worlds/{small['id']}/joins", {"first": west, "second": east, "blend_m": 20})
    page.goto(f"{server.url}/worlds/{small['id']}?tract={west}")
    until(page, "window.fern && fern.counts.tiles > 0 && document.getElementById('bench').dataset.shows === 'ground'")
    before, own = heights(server, east, 129, 97).copy(), heights(server, west, 129, 129)
    box = page.locator("#flat").bounding_box()
    assert box is not None
    x, y = page.evaluate("fern.screenAt(126, 64)")
    page.mouse.move(box["x"] + x, box["y"] + y)
    page.mouse.down()
    until(page, "z => fern.facts.spot && fern.facts.spot.elevation_m > z + 0.7", arg=float(own[64, 126]))
    page.mouse.up()
    until(page, "document.getElementById('kept').textContent.includes('kept') && !fern.state.drawing")
    until(page, f"document.getElementById('kept').textContent !== 'r{small['revision'] + 2} kept'")
    after, own = heights(server, east, 129, 97), heights(server, west, 129, 129)
    assert (after - before)[64, 0] > 0.5
    assert np.array_equal(own[:, -1], after[:, 0])
    # The other tract is entered from the trail.
    page.locator("#tract-choice").select_option(east)
    page.wait_for_url(f"**tract={east}", timeout=WAIT)
    until(page, "window.fern && fern.state.world.width_m === 96")


def test_bounds_spacing_and_a_boundary_that_is_proved(page: Page, server: Server, small: Any) -> None:
    world = small["id"]
    page.goto(f"{server.url}/worlds/{world}/setup")
    page.locator("textarea").fill("A small holm and its neighbour.")
    # A click that comes in the moment in which the page is renewed is none that is lost.
    page.evaluate(
        """() => document.addEventListener("htmx:afterSwap", function swapped(event) {
             if (event.detail.target.id !== "icon") return;
             document.removeEventListener("htmx:afterSwap", swapped);
             setTimeout(() => document.querySelector("#icon button").click());
           })"""
    )
    page.get_by_role("button", name="Keep it").click()
    expect(page.locator("#toasts")).to_contain_text("Kept", timeout=WAIT)
    expect(page.locator(".icon-row img")).to_be_visible(timeout=WAIT)
    page.get_by_label("Width", exact=True).fill("30")
    page.get_by_role("button", name="Shape it and prove it").click()
    expect(page.locator("#tract-job")).to_contain_text("It holds: nobody gets out on foot", timeout=WAIT)
    page.get_by_label("Steepness").fill("30")
    page.get_by_role("button", name="Shape it and prove it").click()
    expect(page.locator("#tract-job")).to_contain_text("It does not hold", timeout=WAIT)
    page.get_by_label("A post every").fill("2")
    page.get_by_role("button", name="Show what is lost").click()
    expect(page.locator("#loss-words")).to_contain_text("at 2 m: at most", timeout=WAIT)
    page.get_by_role("button", name="Lay them out anew").click()
    expect(page.locator("#tract-job")).to_contain_text("Undo puts it back", timeout=WAIT)
    page.goto(f"{server.url}/worlds/{world}/setup")
    expect(page.locator(".placing")).to_contain_text("65 × 65 posts, one every 2 m")
    page.get_by_label("East edge").fill("160")
    expect(page.locator("[data-crop-words]")).to_contain_text("160 × 128 m afterwards")
    page.get_by_role("button", name="Set the bounds").click()
    expect(page.locator("#tract-job")).to_contain_text("Undo puts it back", timeout=WAIT)
    assert server.get(f"/api/worlds/{world}")["tracts"][0]["cols"] == 81
