"""Covers in the page: rules are set by sight, tried out and kept; the list is changed; the hand gives back."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable
from tests.browser.table import Table


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def test_a_rule_is_set_by_sight_tried_out_and_kept(table: Table) -> None:
    table.open("cover", folds={"cover-rules": True})
    page = table.page
    rules = f"/api/worlds/{table.world}/cover-rules"
    first = len(table.server.get(rules)["rules"])
    at, before = table.revision(), table.spot(300, 620)["covers"]
    page.locator("[data-rule-act=add]").click()
    page.locator("#rule-cover").select_option(label="Ling")
    page.locator("#rule-ask").select_option("elevation")
    # How it is spread over the land comes with it.
    until(page, "document.querySelector('.condition .spread path').getAttribute('d').length > 200")
    page.locator("#condition-0-from").fill("-200")
    page.locator("#rule-amount").fill("60")
    # It is shown alone, while nothing is kept.
    until(page, "fern.state.show.overlays.includes('rule') && JSON.parse(fern.state.tried).amount === 0.6")
    expect(page.locator("#legend")).to_contain_text("Rule tried out")
    assert table.revision() == at
    assert table.spot(300, 620)["covers"] == before
    page.locator("[data-rule-act=keep]").click()
    table.kept(at)
    assert len(table.server.get(rules)["rules"]) == first + 1
    until(page, "!fern.state.show.overlays.includes('rule')")
    ling = table.spot(300, 620)["covers"]["Ling"]
    assert ling >= 0.59 * (1 - sum(v for k, v in before.items() if k not in ("Moor grass", "Ling"))) - 0.01
    # Left as they were: what is turned and not kept is gone.
    page.locator("[data-rule='0']").click()
    page.locator("#rule-amount").fill("10")
    expect(page.locator("[data-rule-act=leave]")).to_be_enabled()
    page.locator("[data-rule-act=leave]").click()
    assert table.server.get(rules)["rules"][0]["amount"] == 0.6
    at = table.revision()
    page.keyboard.press("Control+z")
    table.kept(at)
    assert table.spot(300, 620)["covers"] == before


def test_what_is_refused_of_a_rule_is_said_and_stays_on_the_bench(table: Table) -> None:
    table.open("cover", folds={"cover-rules": True})
    page = table.page
    at = table.revision()
    page.locator("[data-rule-act=add]").click()
    page.locator("#rule-ask").select_option("slope")
    page.locator("#condition-0-to").fill("10")
    page.locator("[data-rule-act=keep]").click()
    expect(page.locator("#condition-0-from-error")).to_contain_text("smaller number comes first")
    expect(page.locator(".toast")).to_have_count(0)
    assert table.revision() == at
    expect(page.locator("#condition-0-to")).to_have_value("10")
    # Another person's revision does not take it away either.
    table.server.send(f"/api/worlds/{table.world}/levels", {"name": "Of another", "elevation_m": 3})
    table.kept(at)
    expect(page.locator("#condition-0-to")).to_have_value("10")


def test_a_cover_is_added_moved_hidden_and_deleted(table: Table) -> None:
    table.open("cover", folds={"cover-list": True})
    page = table.page

    def covers() -> list[str]:
        return [cover["name"] for cover in table.server.get(f"/api/worlds/{table.world}/covers")]

    first = covers()
    at = table.revision()
    page.get_by_label("Name of a new cover").fill("Marram")
    page.get_by_role("button", name="Add a cover").click()
    table.kept(at)
    assert covers() == [*first, "Marram"]
    expect(page.locator("[data-cover][aria-pressed=true]")).to_contain_text("Marram")
    at = table.revision()
    page.locator("[data-cover-act=down]").click()
    table.kept(at)
    assert covers()[-2:] == ["Marram", first[-1]]
    at = table.revision()
    page.locator("[data-cover-act=hide]").click()
    table.kept(at)
    expect(page.locator("[data-cover][aria-pressed=true]")).to_contain_text("hidden")
    at = table.revision()
    page.locator("[data-cover-act=remove]").click()
    table.kept(at)
    assert covers() == first
    table.fold("cover-areas")
    expect(page.locator("#bench table.sums tbody tr")).to_have_count(len(first))
    # The base is the base.
    table.fold()
    page.locator("[data-cover='moor-grass']").click()
    table.fold("cover-list")
    for act in ("up", "down", "hide", "remove"):
        expect(page.locator(f"[data-cover-act={act}]")).to_be_disabled()


def test_the_share_of_the_cover_in_the_hand_is_mapped(table: Table) -> None:
    table.open("cover")
    page = table.page
    page.locator("[data-cover='silt']").click()
    page.evaluate("() => { fern.state.show.overlays = ['share']; fern.state.shown += 1; }")
    with page.expect_response(lambda answer: "overlays=share" in answer.url and "cover=sedge" in answer.url):
        page.locator("[data-cover='sedge']").click()
    expect(page.locator("#legend")).to_contain_text("Share of a cover")


def test_the_ground_near_the_eye_has_texture(table: Table) -> None:
    """At eye level, in full detail: what lies near is known, its textures are there, and the picture is rougher."""
    table.open("trial", show={"detail": "middle"})
    page = table.page
    page.get_by_role("button", name="Walk from").click()
    until(page, "fern.near && fern.near.layers.includes('turf') && fern.near.covers.length > 3", seconds=60)
    first = "fern.overlook.drawn.frames"

    def rough() -> float:
        frames = page.evaluate(first)
        page.evaluate("fern.overlook.parts.land.request()")
        until(page, f"{first} > {frames}")
        low = table.strip({"x": 400, "y": 560, "width": 600, "height": 80}, lambda seen: True).astype(float)
        return float(abs(low[1:] - low[:-1]).mean())

    textured = rough()
    page.evaluate("() => { fern.state.show.detail = 'low'; }")
    assert textured > rough() * 1.1


def test_a_guise_is_looked_at_set_and_set_back(table: Table) -> None:
    table.open("cover", folds={"cover-guises": True})
    page = table.page
    at = table.revision()
    page.locator("#guise-name").fill("Dry year")
    page.locator("#guise-cover-from-1").select_option("moor-grass")
    page.locator("#guise-cover-to-1").select_option("fen-peat")
    page.get_by_role("button", name="Keep the guise").click()
    table.kept(at)
    before = table.spot(700, 300)["covers"]
    with page.expect_response(lambda answer: "guise=" in answer.url):
        page.locator("[data-guise-act=look]").click()
    at = table.revision()
    page.locator("[data-guise-act=set]").click()
    table.kept(at)
    assert table.spot(700, 300)["covers"]["Moor grass"] == pytest.approx(0, abs=0.01)
    at = table.revision()
    page.locator("[data-guise-act=back]").click()
    table.kept(at)
    for name, share in before.items():
        assert table.spot(700, 300)["covers"][name] == pytest.approx(share, abs=0.01) or name in (
            "Moor grass",
            "Fen peat",
        )
    for _ in range(2):
        at = table.revision()
        page.locator("#undo").click()
        table.kept(at)
    # A transition is laid and taken away again.
    at = table.revision()
    table.fold("cover-transitions")
    page.locator("#transition-name").fill("Edge")
    page.locator("#transition-second").select_option("worn-path")
    page.locator("#step-cover-1").select_option("shingle")
    page.get_by_role("button", name="Lay the transition").click()
    table.kept(at)
    laid = table.server.get(f"/api/worlds/{table.world}/transitions")
    assert [(step["cover"], step["width_m"]) for step in laid[0]["steps"]] == [("shingle", 3)]
    at = table.revision()
    page.locator("[data-transition]").click()
    table.kept(at)
    assert table.server.get(f"/api/worlds/{table.world}/transitions") == []


def test_flecks_are_mended_by_one_click_on_handover(small: SmallTable) -> None:
    small.open("handover")
    page = small.page
    for body in (
        {"cover": "path", "box": [90, 60, 130, 90]},
        {"cover": "grass", "box": [109.8, 74.8, 110.2, 75.2]},
    ):
        at = small.revision()
        small.server.send(f"/api/tracts/{small.tract}/covers/fill", body)
        small.kept(at)
    page.reload()
    small.ready()
    expect(page.locator("#bench")).to_contain_text("1 fleck under 4 m²")
    at = small.revision()
    page.get_by_role("button", name="Mend them all").click()
    small.kept(at)
    expect(page.locator("#bench")).not_to_contain_text("fleck")
    assert small.spot(110, 75)["covers"]["Path"] == pytest.approx(1, abs=0.01)
