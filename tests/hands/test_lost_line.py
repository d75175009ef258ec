"""When the line is lost nothing is promised that is not sure, and what is shown is right again by itself."""

from __future__ import annotations

import shutil
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable
from tests.browser.table import Table


@pytest.fixture
def own(tmp_path: Path, demo_data: Path) -> Iterator[Server]:
    """A server of one's own, which can be killed."""
    running = Server(Path(shutil.copytree(demo_data, tmp_path / "data")))
    yield running
    running.stop()


@pytest.fixture(autouse=True)
def nobody_answers(page: Page) -> None:
    """What the browser complains of while the server is away, or stops, is what is tried here."""
    page.forgiven += ["net::ERR_", "WebSocket", "Failed to fetch", "htmx:", "status of 503"]  # type: ignore[attr-defined]


@pytest.fixture
def table(page: Page, own: Server) -> Table:
    return Table(page, own)


def cut_off(table: Table, own: Server, how: signal.Signals) -> float:
    """A stroke during which the server ends, and comes back; the elevation there before it. [m]"""
    page = table.page
    before = float(table.spot(560, 560)["elevation_m"])
    page.mouse.move(*table.at(560, 560))
    page.mouse.down()
    until(page, "z => fern.facts.spot && fern.facts.spot.elevation_m > z + 0.3", arg=before)
    own.stop(how)
    expect(page.locator(".toast.wrong").first).to_contain_text("is known when the line is back")
    page.mouse.up()
    own.start()
    return before


def test_a_stroke_under_way_at_a_kill_is_in_doubt_and_then_told_truly(table: Table, own: Server) -> None:
    table.open("ground")
    before = cut_off(table, own, signal.SIGKILL)
    told = table.page.locator(".toast.wrong").last
    expect(told).to_contain_text("Raise is not kept. The land is as it was before it.")
    assert table.spot(560, 560)["elevation_m"] == pytest.approx(before, abs=1e-4)
    table.page.mouse.move(*table.at(561, 560))
    until(table.page, "z => Math.abs(fern.facts.spot.elevation_m - z) < 0.3", arg=before)


def test_a_stroke_that_the_server_ended_well_is_told_to_be_kept(table: Table, own: Server) -> None:
    """Asked to stop, the server keeps what was drawn up to there."""
    table.open("ground")
    before, revision = cut_off(table, own, signal.SIGTERM), table.revision()
    expect(table.page.locator(".toast.calm").last).to_contain_text(f"kept up to where it broke, as r{revision}")
    assert table.spot(560, 560)["elevation_m"] > before + 0.3


def test_bench_map_and_header_show_the_same_stage_whatever_happens_meanwhile(table: Table, own: Server) -> None:
    table.open("water")
    page = table.page
    own.stop(signal.SIGKILL)
    until(page, "fern.state.line === 'lost'")
    expect(page.locator("#kept")).to_contain_text("line lost")
    page.locator("[data-stage=cover]").click()
    expect(page.locator("#bench")).to_contain_text("The bench of cover could not be fetched")
    expect(page.locator("[data-stage=cover]")).to_have_attribute("aria-current", "step")
    own.start()
    expect(page.locator("#bench")).to_have_attribute("data-shows", "cover")
    expect(page.locator("#bench [data-cover]").first).to_be_visible()
    # What was changed elsewhere meanwhile is there too.
    own.stop(signal.SIGKILL)
    until(page, "fern.state.line === 'lost'")
    own.start()
    page.request.patch(f"{own.url}/api/worlds/{table.world}/water", data={"sea_level_m": 2.5})
    until(page, "fern.state.world.sea_level_m === 2.5")
    table.stage("water")
    expect(page.locator("#sea-sea_level_m")).to_have_value("2.5")


def test_a_tract_that_could_not_be_moved_is_where_it_was(page: Page, own: Server) -> None:
    world = own.get("/api/worlds")[0]["id"]
    page.goto(f"{own.url}/worlds/{world}/layout")
    until(page, "fernLayout.tracts().length === 2")
    page.locator("#tracts button", has_text="Main tract").click()
    was = page.evaluate("fernLayout.tracts().map((t) => [t.x, t.y])")
    own.stop(signal.SIGKILL)
    page.locator("#layout").focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator("#kept")).to_contain_text("line lost")
    assert page.evaluate("fernLayout.tracts().map((t) => [t.x, t.y])") == was
    own.start()
    expect(page.locator("#kept")).to_contain_text("kept")


def test_the_picture_of_a_world_to_be_made_comes_by_itself(page: Page, own: Server) -> None:
    page.goto(f"{own.url}/make")
    expect(page.locator("#make-picture svg").first).to_be_visible()
    own.stop(signal.SIGKILL)
    page.get_by_label("Width, west to east").fill("256")
    expect(page.locator("#make-picture")).to_contain_text("could not be fetched")
    own.start()
    expect(page.locator("#make-picture svg").first).to_be_visible()
    expect(page.locator("#make-picture")).to_contain_text("257 × 513")


def test_a_piece_that_was_not_taken_or_was_let_go_is_where_it_was(page: Page, small: SmallTable) -> None:
    small.open("sites")
    page.forgiven.append("422")  # type: ignore[attr-defined]
    place = "fern.rows('things').filter(t => t.sort === 'piece').map(fern.placeOf).map(t => [t.x, t.y])[0]"

    def drag_east() -> None:
        x, y = small.at(*page.evaluate(place))
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 60, y, steps=5)
        until(page, f"x => ({place})[0] > x + 1", arg=was[0])

    was = page.evaluate(place)
    at = small.revision()
    drag_east()
    page.keyboard.press("Escape")
    until(page, f"was => String({place}) === String(was)", arg=was)
    page.mouse.up()
    refusal = {"status": 422, "title": "Not taken", "detail": "The barn may not stand there.", "errors": []}
    page.route("**/things?in=world", lambda route: route.fulfill(status=422, json=refusal))
    drag_east()
    page.mouse.up()
    expect(page.locator(".toast.wrong")).to_contain_text("may not stand there")
    until(page, f"was => String({place}) === String(was)", arg=was)
    assert small.revision() == at
    # What is taken stays, and is what the server has.
    page.unroute("**/things?in=world")
    drag_east()
    page.mouse.up()
    small.kept(at)
    now = small.server.get(f"/api/worlds/{small.world}/things")
    assert [one["x"] for one in now if one["sort"] == "piece"] == [pytest.approx(page.evaluate(place)[0])]
