"""The whole of the work by keyboard alone (WCAG 2.1.1), each step checked by figures; nothing here moves a pointer."""

from __future__ import annotations

import io
import json
import math
import zipfile

import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.small import SmallTable
from tests.browser.table import WAIT, Table
from tests.hands.hands import Keys


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def test_the_whole_thread_without_a_mouse(page: Page, server: Server) -> None:
    keys = Keys(page)
    page.goto(server.url)
    keys.tab_to("a[href='/make']")
    keys.press("Enter")
    page.wait_for_url("**/make")
    keys.fill("#make-name", "By keys")
    keys.fill("#make-width_m", "200")
    keys.fill("#make-depth_m", "160")
    keys.press("Enter")
    page.wait_for_url("**/worlds/w*", timeout=WAIT)
    until(page, "window.fern && document.getElementById('bench').dataset.shows === 'ground'")
    world = page.url.rsplit("/", 1)[1].split("?")[0]
    tract = server.get(f"/api/worlds/{world}")["tracts"][0]["id"]

    def spot(x: float, y: float) -> float:
        return float(server.get(f"/api/tracts/{tract}/spot?x={x}&y={y}")["elevation_m"])

    def revision() -> int:
        return int(server.get(f"/api/worlds/{world}")["revision"])

    def kept(before: int) -> None:
        until(page, "before => fern.state.world.revision > before && fern.state.line === 'kept'", arg=before)

    # Raise: to the map by the first link of the page, to a place by figures, and along with the arrows.
    keys.tab_to("a.skip[href='#flat']")
    keys.press("Enter")
    expect(page.locator("#flat")).to_be_focused()
    keys.jump(60, 80)
    assert spot(70, 80) == pytest.approx(10)
    at = revision()
    keys.stroke("ArrowRight", 20)
    kept(at)
    assert page.evaluate("fern.state.cursor") == {"x": 80, "y": 80}
    raised = spot(70, 80)
    assert raised > 10.5
    keys.told(r"Raise: r\d+ kept, fill [\d,]+ m³")
    # The spot line and the section have followed, and what lies there is read out.
    keys.press("ArrowRight")
    keys.told(r"East 81\.0, north 80\.0, [\d.]+ metres")
    expect(page.locator("#spot")).to_contain_text("E 81.0 N 80.0")
    assert "Elevation profile" in (page.locator("#section-line").get_attribute("aria-label") or "")
    # Enter holds the tool down until it is pressed again; with Shift and Space it is the opposite one.
    at = revision()
    keys.press("Enter")
    keys.press("ArrowUp", 10)
    keys.press("Enter")
    kept(at)
    assert spot(81, 85) > 10.05
    at, high = revision(), spot(81, 85)
    page.keyboard.down("Shift")
    keys.stroke("ArrowDown", 2)
    page.keyboard.up("Shift")
    kept(at)
    assert spot(81, 85) < high
    at = revision()
    keys.press("Control+z")
    kept(at)
    assert spot(81, 85) == pytest.approx(high, abs=1e-4)
    # Shift moves by the brush's radius, Ctrl by a screen.
    keys.jump(60, 80)
    keys.press("Shift+ArrowRight")
    assert page.evaluate("fern.state.cursor.x") == pytest.approx(60 + page.evaluate("fern.state.brushes.raise.radius"))
    keys.press("Control+ArrowRight")
    assert page.evaluate("fern.state.cursor.x") > 150

    # A plot: its corners by Enter, the last one twice.
    keys.tab_to("[data-fold=plots] .fold-button")
    keys.press("Enter")
    keys.fill("form[data-draw=plot] [name=name]", "Yard")
    keys.press("Enter")
    expect(page.locator("#flat")).to_be_focused()
    at = revision()
    for x, y in ((20, 20), (60, 20), (60, 50)):
        keys.jump(x, y)
        keys.press("Enter")
    keys.press("Enter")
    kept(at)
    assert server.get(f"/api/worlds/{world}/plots")[0]["points"] == [[20, 20], [60, 20], [60, 50]]

    # Paint and sow.
    keys.press("2")
    until(page, "document.getElementById('bench').dataset.shows === 'cover'")
    keys.told("Cover stage, tool Paint")
    keys.tab_to("#bench [data-cover]:not([aria-pressed=true])")
    keys.press("Enter")
    keys.map()
    keys.jump(100, 100)
    at = revision()
    keys.stroke("ArrowRight", 40)
    kept(at)
    covers = server.get(f"/api/tracts/{tract}/spot?x=120&y=100")["covers"]
    assert max(covers.values()) < 1 or len(covers) > 1
    keys.press("3")
    until(page, "document.getElementById('bench').dataset.shows === 'growth'")
    at = revision()
    keys.stroke("ArrowLeft", 40)
    kept(at)
    assert server.get(f"/api/tracts/{tract}/spot?x=110&y=100")["growth_within_10_m"] > 0

    # The sun by its dial and by figures.
    keys.press("5")
    until(page, "document.getElementById('bench').dataset.shows === 'light'")
    at, bearing = revision(), server.get(f"/api/worlds/{world}")["sun_bearing_deg"]
    keys.tab_to("#dial")
    keys.press("ArrowRight")
    kept(at)
    assert server.get(f"/api/worlds/{world}")["sun_bearing_deg"] == pytest.approx((bearing + 5) % 360)
    expect(page.locator("#dial")).to_be_focused()
    at = revision()
    keys.fill("#sun-sun_height_deg", "41")
    keys.press("Enter")
    kept(at)
    assert server.get(f"/api/worlds/{world}")["sun_height_deg"] == 41
    # The sea by its mark on the altitude bar, which keeps the focus.
    at = revision()
    keys.tab_to("#altitude [data-level=sea]")
    for _ in range(4):
        keys.press("ArrowUp")
    until(page, "fern.state.world.sea_level_m === 2")
    kept(at + 3)
    # A key that is held moves it as often as it repeats, and is one revision.
    for _ in range(4):
        page.keyboard.down("ArrowDown")
    page.keyboard.up("ArrowDown")
    until(page, "fern.state.world.sea_level_m === 0")
    kept(at + 4)
    assert revision() == at + 5
    expect(page.locator("#altitude [data-level=sea]")).to_be_focused()

    # A start: placed, chosen, turned by its field, moved with Space held.
    keys.tab_to("[data-stage=sites]", back=True)
    keys.press("Enter")
    until(page, "document.getElementById('bench').dataset.shows === 'sites'")
    expect(page.locator("[data-stage=sites]")).to_be_focused()
    keys.tab_to("[data-place=start]")
    keys.press("Enter")
    keys.map()
    keys.jump(150, 40)
    at = revision()
    keys.press("Enter")
    kept(at)
    until(page, "[...fern.rows('things')].length === 1")
    # It is let go of, and its own form is in the next tab.
    keys.press("Escape")
    keys.tab_to("#sites-kit", back=True)
    keys.press("ArrowRight")
    keys.fill("#thing-start-turn_deg", "90")
    at = revision()
    keys.press("Enter")
    kept(at)
    keys.map()
    at = revision()
    keys.stroke("ArrowUp", 12)
    kept(at)
    thing = server.get(f"/api/worlds/{world}/things")[0]
    assert (thing["turn_deg"], thing["x"], thing["y"]) == (90, 150, 52)

    # Walk ten metres, and turn.
    keys.press("7")
    until(page, "document.getElementById('bench').dataset.shows === 'trial'")
    keys.tab_to("[data-walk]")
    keys.press("Enter")
    until(page, "fern.state.walking && fern.walker")
    began = page.evaluate("({ ...fern.walker })")
    page.keyboard.down("ArrowUp")
    until(page, "([x, y]) => Math.hypot(fern.walker.x - x, fern.walker.y - y) > 10", arg=[began["x"], began["y"]])
    page.keyboard.up("ArrowUp")
    page.keyboard.down("ArrowRight")
    until(page, "fern.facing > 120")
    page.keyboard.up("ArrowRight")
    keys.press("Escape")
    until(page, "!fern.state.walking")
    expect(page.locator("#flat")).to_be_focused()

    # Hand over.
    keys.press("8")
    until(page, "document.getElementById('bench').dataset.shows === 'handover'")
    keys.tab_to("[hx-post$='/handover']")
    keys.press("Enter")
    link = page.locator(f"a[href='/api/worlds/{world}/handover.zip']")
    expect(link).to_be_visible(timeout=WAIT)
    assert page.evaluate("document.activeElement !== document.body")
    keys.tab_to(f"a[href='/api/worlds/{world}/handover.zip']")
    package = zipfile.ZipFile(io.BytesIO(server.bytes_of(f"/api/worlds/{world}/handover.zip")))
    assert json.loads(package.read("manifest.json"))["revision"] == revision()
    page.request.delete(f"{server.url}/api/worlds/{world}")
    page.request.delete(f"{server.url}/api/bin/{world}")


def test_the_overlook_by_keys(table: Table) -> None:
    table.open("ground", view="overlook")
    page, keys = table.page, Keys(table.page)
    until(page, "fern.overlook && fern.overlook.drawn.frames > 3")
    keys.map("look")
    before = page.evaluate("({ ...fern.overlook.orbit, x0: fern.state.cursor.x, y0: fern.state.cursor.y })")
    keys.press("ArrowUp", 3)
    at = page.evaluate("fern.state.cursor")
    # Three posts away from the eye, along the nearest of the four ways.
    way = math.radians(round((before["bearing"] + 180) / 90) * 90)
    away = math.sin(way), math.cos(way)
    moved = [at["x"] - before["x0"], at["y"] - before["y0"]]
    assert moved == pytest.approx([3 * away[0], 3 * away[1]], abs=0.01)
    keys.press(",")
    keys.press("PageUp")
    after = page.evaluate("({ ...fern.overlook.orbit })")
    assert after["bearing"] == pytest.approx((before["bearing"] + 15) % 360)
    assert after["tilt"] > before["tilt"]
    keys.press("+")
    assert page.evaluate("fern.overlook.orbit.away") < before["away"]
    revision, high = table.revision(), table.spot(at["x"], at["y"])["elevation_m"]
    page.keyboard.down(" ")
    until(page, "fern.state.drawing === 'raise'")
    until(page, "z => fern.facts.spot && fern.facts.spot.elevation_m > z + 0.2", arg=high)
    page.keyboard.up(" ")
    table.kept(revision)
    assert table.spot(at["x"], at["y"])["elevation_m"] > high
    page.keyboard.press("Control+z")
    table.kept(revision + 1)


def test_the_menu_and_places_bring_the_focus_back_to_the_map(table: Table) -> None:
    table.open("ground")
    page, keys = table.page, Keys(table.page)
    keys.map()
    keys.jump(500, 600)
    keys.press("Shift+F10")
    expect(page.locator("#menu button").first).to_be_focused()
    keys.press("Escape")
    expect(page.locator("#menu")).to_be_hidden()
    expect(page.locator("#flat")).to_be_focused()
    keys.tab_to("[data-bs-target='#places']", back=True)
    keys.press("Enter")
    expect(page.locator("#places")).to_be_visible()
    keys.tab_to("[data-place-of]")
    keys.press("Enter")
    expect(page.locator("#flat")).to_be_focused()
    keys.told("East 512.0, north 512.0")


def test_escape_closes_what_was_opened_last_and_only_that(table: Table) -> None:
    table.open("sites")
    page, keys = table.page, Keys(table.page)
    page.locator("#logbook").click()
    expect(page.locator("#logbook-sheet")).to_be_focused()
    table.tab("List")
    page.locator("#bench [data-thing]").first.click()
    page.locator("#world-menu > button").click()
    expect(page.locator("#world-menu .dropdown-menu")).to_be_visible()
    chosen = page.evaluate("fern.state.chosen")
    assert chosen
    keys.press("Escape")
    expect(page.locator("#world-menu .dropdown-menu")).to_be_hidden()
    expect(page.locator("#world-menu > button")).to_be_focused()
    assert page.evaluate("fern.state.chosen") == chosen
    keys.press("Escape")
    until(page, "fern.state.chosen === null")
    expect(page.locator("#logbook-sheet")).to_be_visible()
    keys.press("Escape")
    expect(page.locator("#logbook-sheet")).to_be_hidden()
    expect(page.locator("#logbook")).to_be_focused()


FOCUSED = "document.activeElement && document.activeElement !== document.body"


def test_no_key_of_the_register_loses_the_focus(small: SmallTable) -> None:
    """Each is pressed on the map of a stage where it means something, then Escape: the focus is on something."""
    page = small.page
    # A stage that is left before its panel has come.
    page.forgiven += ["htmx:sendAbort", "htmx:afterRequest"]  # type: ignore[attr-defined]
    small.open("ground")
    told = page.evaluate("JSON.parse(document.body.dataset.boot)")
    for stage in told["stages"]:
        where = ("", "ground") if stage == "ground" else (stage,)
        keys = [one["keys"][0] for one in told["shortcuts"] if one["stage"] in where and one["place"] != "walk"]
        for key in dict.fromkeys(keys):
            if page.evaluate("fern.state.stage") != stage:
                small.stage(stage)
            page.locator("#flat").focus()
            page.keyboard.press(key.replace("Ctrl", "Control"))
            until(page, FOCUSED)
            page.keyboard.press("Escape")
            until(page, f"({FOCUSED}) && !document.querySelector('.modal.show')")
            page.evaluate("fern.state.view = 'plan'")


def test_from_the_bench_to_the_map_and_back_by_one_key(small: SmallTable) -> None:
    small.open("ground")
    page = small.page
    lower, field = page.locator("[data-tool=lower]"), page.locator("#radius")
    for there in (lower, field):
        there.focus()
        page.keyboard.press("F6")
        expect(page.locator("#flat")).to_be_focused()
        page.keyboard.press("F6")
        expect(there).to_be_focused()


def test_one_enter_too_many_is_no_stroke(small: SmallTable) -> None:
    small.open("ground", folds={"plots": True})
    page, keys, at = small.page, Keys(small.page), small.revision()
    keys.fill("form[data-draw=plot] [name=name]", "Once")
    keys.press("Enter")
    for x, y in ((20, 20), (60, 20), (60, 50)):
        keys.jump(x, y)
        keys.press("Enter")
    keys.told("Corner 3 set")
    keys.press("Enter")
    small.kept(at)
    at = small.revision()
    keys.press("Enter")
    keys.told("What was drawn is closed")
    assert page.evaluate("fern.state.drawing") == ""
    assert small.revision() == at
    # Other tests of this file have a plot of their own.
    keys.press("Control+z")
    small.kept(at)
    # What is chosen by a key is told.
    page.evaluate("fern.state.stage = 'sites'")
    until(page, "document.getElementById('bench').dataset.shows === 'sites'")
    page.locator("#flat").focus()
    keys.jump(100, 40)
    keys.press("Enter")
    keys.told("Stone barn.* is chosen")


def test_letters_mean_nothing_on_a_button_and_can_be_turned_off(table: Table) -> None:
    table.open("ground")
    page, keys = table.page, Keys(table.page)
    keys.tab_to("#logbook")
    keys.press("s")
    assert page.evaluate("fern.state.tool") == "raise"
    keys.map()
    keys.press("s")
    until(page, "fern.state.tool === 'smooth'")
    keys.press("?")
    page.locator("[data-keys-off]").check()
    keys.press("Escape")
    expect(page.locator("#keys")).to_be_hidden()
    keys.map()
    keys.press("r")
    page.keyboard.press("ArrowUp")
    assert page.evaluate("fern.state.tool") == "smooth"
    page.evaluate("localStorage.removeItem('fern.keys-off')")


def test_marks_of_a_line_of_the_section_by_keys(table: Table) -> None:
    table.open("ground")
    page, keys = table.page, Keys(table.page)
    keys.tab_to("[data-section=draw]")
    keys.press("Enter")
    expect(page.locator("#flat")).to_be_focused()
    for x, y in ((300, 500), (500, 500)):
        keys.jump(x, y)
        keys.press("Enter")
    keys.press("Enter")
    until(page, "fern.facts.line && Math.abs(fern.facts.line.length_m - 200) < 0.01")
    keys.tab_to("#section-line")
    keys.press("PageUp", 2)
    keys.told(r"40\.0 metres along, [−\d.]+ metres high")
    keys.press("Enter")
    keys.press("PageUp", 5)
    keys.press("Enter")
    expect(page.locator("[data-section=between]")).to_contain_text("100.0 m · rise")


def test_a_question_takes_the_focus_and_escape_means_no(page: Page, server: Server) -> None:
    made = page.request.post(
        f"{server.url}/api/worlds",
        data={"name": "To go", "width_m": 64, "depth_m": 64, "spacing_m": 1, "elevation_m": 1, "sea_level_m": 0},
    ).json()["id"]
    page.goto(server.url)
    keys = Keys(page)
    keys.tab_to(f"#world-{made} [hx-delete]")
    keys.press("Enter")
    expect(page.locator(f"#bin-{made}")).to_be_visible()
    until(page, "document.activeElement !== document.body")
    keys.tab_to(f"#bin-{made} [hx-get$='/ask']")
    keys.press("Enter")
    expect(page.get_by_role("button", name="Keep it")).to_be_focused()
    keys.press("Escape")
    expect(page.locator("[role=alertdialog]")).to_have_count(0)
    until(page, "document.activeElement !== document.body")
    keys.tab_to(f"#bin-{made} [hx-get$='/ask']")
    keys.press("Enter")
    keys.tab_to("[role=alertdialog] [hx-delete]")
    keys.press("Enter")
    expect(page.locator(f"#bin-{made}")).to_have_count(0)


def test_a_mouse_that_passes_by_does_not_take_the_tool_from_the_keyboard(table: Table) -> None:
    table.open("ground")
    page, keys = table.page, Keys(table.page)
    keys.map()
    keys.jump(640, 560)
    at = table.revision()
    page.keyboard.down(" ")
    until(page, "fern.state.drawing === 'raise'")
    page.mouse.move(*table.at(500, 500))
    page.mouse.move(*table.at(520, 500))
    assert page.evaluate("fern.state.cursor") == {"x": 640, "y": 560}
    page.keyboard.up(" ")
    table.kept(at)
    assert page.evaluate("fern.state.drawing") == ""
    # Esc takes back what Enter put down, and the next Enter puts it down anew.
    at, high = table.revision(), table.spot(640, 560)["elevation_m"]
    page.locator("#flat").focus()
    keys.press("ArrowUp")
    keys.press("Enter")
    until(page, "fern.state.drawing === 'raise'")
    keys.press("Escape")
    until(page, "fern.state.drawing === ''")
    keys.press("Enter")
    until(page, "fern.state.drawing === 'raise'")
    keys.press("Enter")
    table.kept(at)
    assert table.revision() == at + 1
    assert table.spot(640, 561)["elevation_m"] > high - 1
    for _ in range(2):
        at = table.revision()
        keys.press("Control+z")
        table.kept(at)


def test_a_plot_is_reshaped_by_keys(page: Page, small: SmallTable) -> None:
    """A corner is taken with Enter, moved with the arrows, put down with Enter; Enter beside the plot keeps it."""
    small.open("ground", folds={"plots": True})
    keys = Keys(page)
    at = small.revision()
    keys.tab_to("[data-fold=plots] .line [data-key]:not([data-of])")
    keys.press("Enter")
    expect(page.locator("#asks")).to_contain_text("one of its corners")
    expect(page.locator("#flat")).to_be_focused()
    keys.jump(60, 50)
    keys.press("Enter")
    keys.press("ArrowRight", 10)
    keys.press("ArrowUp", 5)
    keys.press("Enter")
    keys.jump(150, 20)
    keys.press("Enter")
    small.kept(at)
    [plot] = [one for one in small.server.get(f"/api/worlds/{small.world}/plots") if one["name"] == "Yard"]
    assert plot["points"][:2] == [[20, 20], [60, 20]]
    assert plot["points"][2] == pytest.approx([70, 55], abs=0.6)
    # Escape leaves it as it is.
    keys.tab_to("[data-fold=plots] .line [data-key]:not([data-of])")
    keys.press("Enter")
    keys.jump(20, 20)
    keys.press("Enter")
    keys.press("ArrowDown", 5)
    keys.press("Enter")
    keys.press("Escape")
    expect(page.locator("#asks")).to_be_hidden()
    assert small.server.get(f"/api/worlds/{small.world}/plots")[0]["points"] == plot["points"]
