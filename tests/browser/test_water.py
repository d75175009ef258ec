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


def pools(table: Table) -> list[dict[str, Any]]:
    return list(table.server.get(f"/api/worlds/{table.world}/pools"))


def test_a_hollow_is_clicked_and_its_pool_set(table: Table) -> None:
    table.open("water")
    page = table.page
    expect(page.locator("#bench")).to_contain_text("Nothing is looked at yet.")
    page.mouse.click(*table.at(250, 620))
    expect(page.locator("#bench")).to_contain_text("no hollow around the spot")
    page.mouse.click(*table.at(*PIT))
    expect(page.locator("#hollow-figures")).to_contain_text("4.39 m")
    expect(page.locator("#hollow-figures")).to_contain_text("8.89 m")
    page.locator("[data-pool=clay-pit]").click()
    expect(page.locator("#pool-name")).to_have_value("Clay pit")
    expect(page.locator("#pool-level_m")).to_have_value("0")
    # Twice as deep in words, by the button, and kept as one revision.
    page.locator("[data-fill=two]").click()
    expect(page.locator("#pool-holds")).to_contain_text("-2.50 m: 2.00 m deep")
    at = table.revision()
    page.get_by_role("button", name="Put a pool here").click()
    table.kept(at)
    assert [one["level_m"] for one in pools(table)] == [-2.5]
    assert table.spot(*PIT)["water_depth_m"] == pytest.approx(2, abs=0.01)
    at = table.revision()
    page.keyboard.press("Control+z")
    table.kept(at)
    assert [one["level_m"] for one in pools(table)] == [0]


def test_above_the_brim_it_asks_and_floods_only_when_told(table: Table) -> None:
    table.open("water")
    page = table.page
    page.locator("[data-pool=clay-pit]").click()
    expect(page.locator("#pool-level_m")).to_have_value("0")
    at = table.revision()
    page.locator("#pool-level_m").fill("7")
    page.get_by_role("button", name="Put a pool here").click()
    expect(page.locator("[data-above=raise_rim]")).to_contain_text("of fill")
    expect(page.locator("[data-above=flood]")).to_contain_text("off the edge")
    assert table.revision() == at
    page.locator("[data-above=raise_rim]").click()
    table.kept(at)
    assert [one["level_m"] for one in pools(table)] == [7]
    assert table.spot(*PIT)["water"]["surface_m"] == 7
    at = table.revision()
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
    table.open("water")
    page = table.page
    page.locator("[data-hollows]").click()
    page.locator("#hollows button", has_text="9.11 m deep").click()
    expect(page.locator("#hollow-figures")).to_contain_text("4.39 m")
