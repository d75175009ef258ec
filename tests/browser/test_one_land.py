"""The demo world's two tracts as one land, with the hand on the mouse across their join."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.browser.driving import Server, until
from tests.browser.table import Table

JOIN_ROW = 1024
"""Row of the shared edge among the land's posts, one to the metre: north of it the main tract, south the holm's."""


@pytest.fixture
def table(page: Any, server: Server) -> Table:
    made = Table(page, server)
    made.open("ground", plan={"zoom": 1.5, "col": 620, "row": JOIN_ROW + 30})
    return made


def in_land(table: Table, x: float, y: float) -> dict[str, Any]:
    return dict(table.server.get(f"/api/lands/{table.tract}/spot?x={x}&y={y}"))


def test_a_stroke_over_the_join_is_seen_on_both_sides_at_once(table: Table) -> None:
    spots = [(600, 40), (600, 0), (600, -40)]
    before = [in_land(table, *spot)["elevation_m"] for spot in spots]
    table.drag((600, 60), (600, -60))
    after = [in_land(table, *spot)["elevation_m"] for spot in spots]
    assert all(new > old + 0.3 for old, new in zip(before, after, strict=True))
    # The facts under the cursor, and the section, go on beyond the edge, in the world's metres.
    table.page.mouse.move(*table.at(600, -40))
    until(table.page, "fern.facts.spot && Math.abs(fern.facts.spot.y + 40) < 3")
    expect(table.page.locator("#spot")).to_contain_text("N −")
    until(table.page, "fern.facts.section && Math.abs(fern.facts.section.y + 40) < 3")
    # One revision: one undo takes it back on both sides.
    revision = table.revision()
    table.page.get_by_role("button", name="Undo", exact=True).click()
    table.kept(revision)
    assert [in_land(table, *spot)["elevation_m"] for spot in spots] == before


def test_a_piece_is_placed_beyond_the_join_and_dragged_across(table: Table) -> None:
    page = table.page
    table.stage("sites")
    tracts = {tract["name"]: tract["id"] for tract in table.server.get(f"/api/worlds/{table.world}")["tracts"]}

    def beacon() -> dict[str, Any]:
        return next(t for t in table.server.get(f"/api/worlds/{table.world}/things") if t["name"] == "Beacon 2")

    revision = table.revision()
    page.locator("[data-place=beacon]").click()
    page.mouse.click(*table.at(650, -120))
    table.kept(revision)
    placed = beacon()
    # Its tract's own metres begin 320 m south of the main tract's.
    assert (placed["tract"], placed["x"], placed["y"]) == (
        tracts["Shingle holm"], pytest.approx(650, abs=1), pytest.approx(200, abs=1),
    )  # fmt: skip
    page.keyboard.press("Escape")
    table.tab("Chosen")
    until(page, "Math.abs(Number(document.querySelector('#chosen [name=y]').value) + 120) < 2")
    revision = table.revision()
    page.mouse.move(*table.at(650, -120))
    page.mouse.down()
    page.mouse.move(*table.at(700, 90), steps=6)
    page.mouse.up()
    table.kept(revision)
    moved = beacon()
    assert (moved["tract"], moved["x"], moved["y"]) == (
        tracts["Main tract"], pytest.approx(700, abs=2), pytest.approx(90, abs=2),
    )  # fmt: skip
    # By its figures too: typed in the world's metres, back to the holm.
    revision = table.revision()
    page.locator("#chosen [name=y]").fill("-150")
    page.get_by_role("button", name="Set", exact=True).click()
    table.kept(revision)
    assert (beacon()["tract"], beacon()["y"]) == (tracts["Shingle holm"], 170)
    page.keyboard.press("Delete")
    until(page, "![...fern.each('things')].some(thing => thing.name === 'Beacon 2')")


def test_the_edges_of_tracts_are_a_line_that_can_be_switched_off(table: Table) -> None:
    page = table.page
    page.mouse.move(150, 740)
    left, top = table.at(300, 0)
    right, _ = table.at(900, 0)
    strip = {"x": max(left, 300), "y": top - 2, "width": min(right, 1180) - max(left, 300), "height": 5}

    def dashes(shot: np.ndarray) -> int:
        """Columns where the middle of the strip is darker than its rim."""
        return int((shot[2] < shot[[0, 4]].min(axis=0) - 6).sum())

    table.strip(strip, lambda shot: dashes(shot) > 60)
    page.locator("#show [data-bs-toggle]").click()
    page.locator("#show input[name=edges]").uncheck()
    table.strip(strip, lambda shot: dashes(shot) < 20)
    page.locator("#show input[name=edges]").check()
    table.strip(strip, lambda shot: dashes(shot) > 60)


def test_a_plot_is_dragged_over_the_join_and_a_corner_of_it_moved(table: Table) -> None:
    page, api = table.page, f"/api/worlds/{table.world}/plots"
    tracts = {tract["name"]: tract["id"] for tract in table.server.get(f"/api/worlds/{table.world}")["tracts"]}
    revision = table.revision()
    corners = [[600, 40], [660, 40], [660, 90], [600, 90]]
    table.server.send(f"{api}?in=world", {"name": "Net loft", "points": corners})
    table.kept(revision)

    def loft() -> dict[str, Any]:
        return next(plot for plot in table.server.get(api) if plot["name"] == "Net loft")

    assert loft()["tract"] == tracts["Main tract"]
    page.locator("[data-bs-target='#fold-plots']").click()
    page.locator(".line", has_text="Net loft").get_by_role("button", name="Move").click()
    expect(page.locator("#asks")).to_contain_text("Drag the plot")
    revision = table.revision()
    page.mouse.move(*table.at(630, 65))
    page.mouse.down()
    page.mouse.move(*table.at(630, -95), steps=6)
    page.mouse.up()
    # A corner by itself; then a click beside it keeps both.
    page.mouse.move(*table.at(600, -120))
    page.mouse.down()
    page.mouse.move(*table.at(580, -140), steps=4)
    page.mouse.up()
    assert table.revision() == revision
    page.mouse.click(*table.at(720, -60))
    table.kept(revision)
    moved = loft()
    assert moved["tract"] == tracts["Shingle holm"]
    # The holm's own metres begin 320 m south of the main tract's.
    wanted = [[580, 180], [660, 200], [660, 250], [600, 250]]
    assert np.abs(np.array(moved["points"]) - wanted).max() < 2
    # Esc leaves it as it is.
    page.locator(".line", has_text="Net loft").get_by_role("button", name="Move").click()
    page.mouse.move(*table.at(640, -100))
    page.mouse.down()
    page.mouse.move(*table.at(640, 60), steps=4)
    page.mouse.up()
    page.keyboard.press("Escape")
    expect(page.locator("#asks")).to_be_hidden()
    assert loft() == moved
