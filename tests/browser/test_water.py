"""The Water stage in the real page: a hollow is clicked, a pool set by slider, buttons and number, and seen."""

from __future__ import annotations

from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.table import Table

PIT = (801.0, 296.0)


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def hollow(table: Table) -> dict[str, Any]:
    """The hollow of the pit as the land is now: what other tests did to the same world counts."""
    x, y = PIT
    return dict(table.server.get(f"/api/tracts/{table.tract}/hollow?x={x}&y={y}"))


def named(table: Table, name: str) -> list[dict[str, Any]]:
    """The streams of a name."""
    return [one for one in table.server.get(f"/api/worlds/{table.world}/streams") if one["name"] == name]


def level(table: Table) -> float:
    """Of the pool in the pit."""
    pools = table.server.get(f"/api/worlds/{table.world}/pools")
    return float(next(one["level_m"] for one in pools if one["key"] == "clay-pit"))


def test_a_pool_is_clicked_and_set_anew(table: Table) -> None:
    table.open("water")
    page = table.page
    expect(page.locator("#water-sea")).to_have_attribute("aria-selected", "true")
    expect(page.locator("#bench")).to_contain_text("Nothing is looked at yet.")
    pit = hollow(table)
    page.mouse.click(*table.at(*PIT))
    expect(page.locator("#hollow-figures")).to_contain_text(f"{pit['brim_m']:.2f} m")
    expect(page.locator("#hollow-figures")).to_contain_text(f"{pit['greatest_depth_m']:.2f} m")
    expect(page.locator("[data-pool=clay-pit]")).to_have_attribute("aria-pressed", "true")
    expect(page.locator("#pool-name")).to_have_value("Clay pit")
    expect(page.locator("#pool-level_m")).to_have_value("0")
    assert not page.evaluate("fern.washed()")
    # By the button; what that would put under water is seen, and gone again when it is kept as one revision.
    page.locator("[data-fill=two]").click()
    expect(page.locator("#pool-holds")).to_contain_text(f"{pit['floor_m'] + 2:.2f} m: 2.00 m deep")
    until(page, "fern.washed()")
    at = table.revision()
    page.get_by_role("button", name="Set the pool").click()
    table.kept(at)
    until(page, "!fern.washed()")
    assert level(table) == pytest.approx(pit["floor_m"] + 2, abs=0.01)
    at = table.revision()
    page.keyboard.press("Control+z")
    table.kept(at)
    assert level(table) == 0


def test_above_the_brim_it_asks_and_floods_only_when_told(table: Table) -> None:
    table.open("water", tabs={"water": "pools"})
    page = table.page
    page.locator("[data-pool=clay-pit]").click()
    expect(page.locator("#pool-level_m")).to_have_value("0")
    at = table.revision()
    page.locator("#pool-level_m").fill("7")
    expect(page.locator("#pool-holds")).to_contain_text("above the brim")
    expect(page.locator("#pool-holds")).to_contain_text("ha under water, off the land's edge")
    until(page, "fern.washed()")
    page.get_by_role("button", name="Set the pool").click()
    expect(page.locator("[data-above=raise_rim]")).to_contain_text("of fill")
    expect(page.locator("[data-above=flood]")).to_contain_text("off the edge")
    assert table.revision() == at
    page.locator("[data-above=raise_rim]").click()
    table.kept(at)
    assert level(table) == 7
    assert table.spot(*PIT)["water"]["surface_m"] == 7
    at = table.revision()
    # In a field, Ctrl Z takes back what was typed there, else what was done last.
    field = page.locator("#pool-level_m")
    field.press("9")
    field.press("Control+z")
    expect(field).to_have_value("7")
    assert table.revision() == at
    page.locator("#water-pools").focus()
    field.focus()
    page.keyboard.press("Control+z")
    table.kept(at)
    assert table.spot(*PIT)["water"]["surface_m"] == 0


def test_water_stands_in_the_overlook_and_goes_with_its_pool(table: Table) -> None:
    table.open("water")
    page = table.page
    page.get_by_role("button", name="Overlook").click()
    until(page, "fern.overlook && fern.overlook.parts.water.quads > 20")
    quads = page.evaluate("fern.overlook.parts.water.quads")
    at = table.revision()
    page.locator("#water-pools").click()
    page.locator("[data-pool=clay-pit]").click()
    page.locator("[data-pool-act=remove]").click()
    table.kept(at)
    until(page, f"fern.overlook.parts.water.quads < {quads}")
    assert table.spot(*PIT)["water"] is None
    at = table.revision()
    page.keyboard.press("Control+z")
    table.kept(at)
    until(page, f"fern.overlook.parts.water.quads === {quads}")
    page.locator("[data-view=plan]").click()


def test_hollows_of_the_land_are_listed_and_gone_to(table: Table) -> None:
    table.open("water", tabs={"water": "pools"})
    page = table.page
    page.locator("[data-hollows]").click()
    first = table.server.get(f"/api/tracts/{table.tract}/hollows")[1]
    expect(page.locator("#hollows button").nth(1)).to_contain_text(f"{first['greatest_depth_m']:.2f} m deep")
    page.locator("#hollows button").nth(1).click()
    x, y = first["floor"]
    found = table.server.get(f"/api/tracts/{table.tract}/hollow?x={x}&y={y}")
    expect(page.locator("#hollow-figures")).to_contain_text(f"{found['brim_m']:.2f} m")
    # A pool is put there with two clicks: it has a name, and the brim is its level.
    until(page, "fern.washed()")
    at = table.revision()
    page.get_by_role("button", name="Put a pool here").click()
    table.kept(at)
    expect(page.locator("#pools button[aria-pressed=true]")).to_contain_text("Pool ")
    at = table.revision()
    page.locator("[data-pool-act=remove]").click()
    table.kept(at)


def test_what_is_clicked_opens(table: Table) -> None:
    """A stream, the sea, a dry spot without a hollow; a tab stays open when the stage is come back to."""
    table.open("water")
    page = table.page
    streams = table.server.get(f"/api/worlds/{table.world}/streams")
    x, y = next(one["course"] for one in streams if one["key"] == "sallow-creek")[-6][:2]
    page.mouse.click(*table.at(x, y))
    expect(page.locator("#water-streams")).to_have_attribute("aria-selected", "true")
    expect(page.locator("#stream-name")).to_have_value("Sallow creek")
    expect(page.locator("#stream-figures")).to_contain_text("in the sea")
    table.stage("ground")
    table.stage("water")
    expect(page.locator("#water-streams")).to_have_attribute("aria-selected", "true")
    assert table.spot(410, 440)["water"]["key"] == "sea"
    page.mouse.click(*table.at(410, 440))
    expect(page.locator("#water-sea")).to_have_attribute("aria-selected", "true")
    page.mouse.click(*table.at(560, 480))
    expect(page.locator("#water-pools")).to_have_attribute("aria-selected", "true")


def test_the_sea_is_shown_at_a_tide_and_walked_in_as_shown(table: Table) -> None:
    table.open("water")
    page = table.page
    x, y = 410, 440
    depth = table.spot(x, y)["water_depth_m"]
    level, high = (table.server.get(f"/api/worlds/{table.world}")[name] for name in ("sea_level_m", "tide_high_m"))
    page.locator("#show button").first.click()
    with page.expect_request(lambda request: "tide=high" in request.url):
        page.locator("select[name=tide]").select_option("high")
    page.keyboard.press("Escape")
    expect(page.locator("#show")).to_contain_text("water at high tide")
    table.stage("trial")
    page.mouse.click(*table.at(x, y))
    until(page, f"fern.walker && Math.abs(fern.walker.water - {depth + high - level}) < 0.3")
    page.keyboard.press("Escape")
    until(page, "!fern.state.walking")


def test_a_stream_is_seen_before_it_is_put_and_goes_again(table: Table) -> None:
    table.open("water", tabs={"water": "streams"})
    page = table.page
    before = table.spot(720, 520)["elevation_m"]
    page.locator("[data-stream-from=line]").click()
    for spot in ((760, 560), (720, 520)):
        page.mouse.click(*table.at(*spot))
    page.keyboard.press("Enter")
    # Where it would run and what it would cut is told; nothing is changed.
    expect(page.locator("[data-hollow-way=cut], #stream-figures tr").first).to_be_visible()
    if page.locator("[data-hollow-way=cut]").count():
        page.locator("[data-hollow-way=cut]").click()
    expect(page.locator("#stream-figures")).to_contain_text("m³")
    at = table.revision()
    page.locator("#stream-name").fill("Trial beck")
    page.locator("#stream-width_m").fill("5")
    page.get_by_role("button", name="Put the stream").click()
    table.kept(at)
    assert [one["width_m"] for one in named(table, "Trial beck")] == [5]
    spot = table.spot(720, 520)
    assert spot["water"]["name"] == "Trial beck"
    assert spot["elevation_m"] < before
    # A point is dragged: where it would run is told meanwhile; Escape lets it go where it was.
    length = page.locator("#stream-figures tr").first.inner_text()
    page.mouse.move(*table.at(760, 560))
    page.mouse.down()
    page.mouse.move(*table.at(775, 580), steps=4)
    expect(page.locator("#stream-figures tr").first).not_to_have_text(length.replace("\t", ""))
    page.keyboard.press("Escape")
    page.mouse.up()
    expect(page.locator("#stream-figures tr").first).to_have_text(length.replace("\t", ""))
    page.mouse.move(*table.at(760, 560))
    page.mouse.down()
    page.mouse.move(*table.at(770, 570), steps=4)
    page.mouse.up()
    at = table.revision()
    page.get_by_role("button", name="Set the stream").click()
    table.kept(at)
    assert [round(v) for v in named(table, "Trial beck")[0]["points"][0]] == pytest.approx([770, 570], abs=2)
    at = table.revision()
    page.locator("[data-stream-act=remove]").click()
    table.kept(at)
    assert table.spot(720, 520)["elevation_m"] == before
    expect(page.locator("#streams")).not_to_contain_text("Trial beck")


def test_a_flood_is_tried_and_a_shore_is_seen_while_the_sea_is_dragged(table: Table) -> None:
    table.open("water", tabs={"water": "floods"})
    page = table.page
    at = table.revision()
    page.locator("#flood-rain").fill("200")
    page.locator("[data-flood=rain]").click()
    expect(page.locator("#flood-told")).to_contain_text("run off the land")
    until(page, "fern.washed()")
    page.locator("[data-flood=dry]").click()
    expect(page.locator("#flood-told")).to_be_hidden()
    until(page, "!fern.washed()")
    page.locator("[data-flood=spring]").click()
    page.mouse.click(*table.at(600, 640))
    expect(page.locator("#flood-told")).to_contain_text("m³ stand on")
    page.locator("[data-flood=dry]").click()
    # The sea is held: its shore is shown, and let go where it was nothing is kept.
    box = page.locator(".sea-mark").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y - 60, steps=4)
    until(page, "fern.washed()")
    page.keyboard.press("Escape")
    until(page, "!fern.washed()")
    page.mouse.up()
    assert table.revision() == at
