"""The work by fingers and pens: one finger works, two move the map and never draw, a long press opens the menu."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from fernfield.bench.browser import AT_HOME
from tests.browser.driving import PATIENCE, Chromium, Server, until
from tests.browser.table import Table
from tests.hands.hands import Fingers


@pytest.fixture
def table(browser: Chromium, server: Server) -> Iterator[Table]:
    context = browser.now.new_context(viewport={"width": 1024, "height": 768}, has_touch=True)
    context.set_default_timeout(PATIENCE * 1000)
    context.add_init_script(AT_HOME)
    page = context.new_page()
    faults: list[str] = []
    page.on("pageerror", lambda error: faults.append(str(error)))
    yield Table(page, server)
    context.close()
    assert faults == []


def zoom_of(page: Page) -> float:
    return float(page.evaluate("fern.camera.zoom"))


def test_the_thread_by_fingers(table: Table) -> None:
    table.open("ground")
    page, fingers = table.page, Fingers(table.page)
    # One finger raises.
    before, at = table.spot(560, 560)["elevation_m"], table.revision()
    fingers.drag(table.at(545, 560), table.at(575, 560))
    table.kept(at)
    assert table.spot(560, 560)["elevation_m"] > before + 0.2
    # A tap does a little, in one place.
    at, low = table.revision(), table.spot(700, 560)["elevation_m"]
    fingers.tap(*table.at(700, 560))
    table.kept(at)
    assert table.spot(700, 560)["elevation_m"] > low

    # Two fingers pinch and pan, and draw nothing.
    at, zoom, spot = table.revision(), zoom_of(page), page.evaluate("({ ...fern.camera })")
    fingers.pinch((600, 400), 120, 240, by=(30, 12))
    until(page, "z => fern.camera.zoom > 1.8 * z", arg=zoom)
    assert zoom_of(page) == pytest.approx(2 * zoom, rel=0.03)
    assert page.evaluate("fern.state.drawing") == ""
    assert page.evaluate("fern.camera.col") != spot["col"]
    # What would have been a stroke leaves nothing: the next revision is the next undo.
    until(page, "fern.state.line === 'kept'")
    assert table.revision() == at
    fingers.pinch((600, 400), 240, 120, by=(-30, -12))
    until(page, "z => fern.camera.zoom < 1.1 * z", arg=zoom)

    # A tap beside an open menu closes it, and does nothing else.
    fingers.hold(*table.at(600, 600))
    expect(page.locator("#menu")).to_be_visible()
    fingers.tap(*table.at(480, 560))
    expect(page.locator("#menu")).to_be_hidden()
    assert table.revision() == at
    # A long press opens the map's menu at that place.
    fingers.hold(*table.at(600, 600))
    assert table.revision() == at
    fingers.tap(*_middle(page, "#menu button:has-text('Place a start here')"))
    table.kept(at)
    things = table.server.get(f"/api/worlds/{table.world}/things")
    start = max((t for t in things if t["sort"] == "start"), key=lambda t: -abs(t["x"] - 600))
    assert (start["x"], start["y"]) == pytest.approx((600, 600), abs=3)
    # Undo by its button.
    for _ in range(3):
        at = table.revision()
        fingers.tap(*_middle(page, "#undo"))
        table.kept(at)
    assert table.spot(560, 560)["elevation_m"] == pytest.approx(before, abs=1e-4)

    # Stage by its button, a piece chosen and dragged by a finger.
    fingers.tap(*_middle(page, "[data-stage=sites]"))
    until(page, "document.getElementById('bench').dataset.shows === 'sites'")
    thing = next(t for t in things if t["name"] == "Old pump house")
    at = table.revision()
    fingers.drag(table.at(thing["x"], thing["y"]), table.at(thing["x"] + 40, thing["y"]))
    table.kept(at)
    moved = next(t for t in table.server.get(f"/api/worlds/{table.world}/things") if t["key"] == thing["key"])
    assert moved["x"] == pytest.approx(thing["x"] + 40, abs=3)
    at = table.revision()
    fingers.tap(*_middle(page, "#undo"))
    table.kept(at)

    # The sun by its dial.
    fingers.tap(*_middle(page, "[data-stage=light]"))
    until(page, "document.getElementById('bench').dataset.shows === 'light'")
    at, (x, y) = table.revision(), _middle(page, "#dial")
    fingers.drag((x + 30, y), (x, y + 40))
    table.kept(at)
    assert table.server.get(f"/api/worlds/{table.world}")["sun_bearing_deg"] == pytest.approx(180, abs=4)
    at = table.revision()
    fingers.tap(*_middle(page, "#undo"))
    table.kept(at)


def test_two_fingers_turn_the_overlook(table: Table) -> None:
    table.open("ground", view="overlook")
    page, fingers = table.page, Fingers(table.page)
    until(page, "fern.overlook && fern.overlook.drawn.frames > 3")
    at, before = table.revision(), page.evaluate("({ ...fern.overlook.orbit })")
    box = page.locator("#look").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    send = fingers._send
    send("touchStart", (x - 80, y))
    send("touchStart", (x - 80, y), (x + 80, y))
    for k in range(1, 11):
        send("touchMove", (x - 80, y - 6 * k), (x + 80, y + 6 * k))
        page.evaluate("() => new Promise(requestAnimationFrame)")
    send("touchEnd")
    # atan(60 / 80) of turn, and the fingers are further apart by a quarter.
    until(page, "b => Math.abs(((fern.overlook.orbit.bearing - b + 540) % 360) - 180) > 30", arg=before["bearing"])
    after = page.evaluate("({ ...fern.overlook.orbit })")
    assert abs((after["bearing"] - before["bearing"] + 180) % 360 - 180) == pytest.approx(36.87, abs=2)
    assert after["away"] == pytest.approx(before["away"] / 1.25, rel=0.03)
    assert table.revision() == at


def test_a_walk_by_buttons_on_the_screen(table: Table) -> None:
    table.open("trial")
    page, fingers = table.page, Fingers(table.page)
    fingers.tap(*_middle(page, "[data-walk]"))
    until(page, "fern.state.walking && fern.walker")
    began = page.evaluate("({ ...fern.walker })")
    on = _middle(page, "[data-walks=walk-ahead]")
    fingers._send("touchStart", on)
    until(page, "([x, y]) => Math.hypot(fern.walker.x - x, fern.walker.y - y) > 10", arg=[began["x"], began["y"]])
    fingers._send("touchEnd")
    turn = _middle(page, "[data-walks=walk-turn-right]")
    fingers._send("touchStart", turn)
    until(page, "f => fern.facing > f + 20", arg=began["facing"])
    fingers._send("touchEnd")
    fingers.tap(*_middle(page, "[data-leave]"))
    until(page, "!fern.state.walking")
    expect(page.locator("#flat")).to_be_visible()


def test_a_stage_that_is_tapped_ends_the_walk(table: Table) -> None:
    table.open("trial")
    page, fingers = table.page, Fingers(table.page)
    fingers.tap(*_middle(page, "[data-walk]"))
    until(page, "fern.state.walking && fern.walker")
    fingers.tap(*_middle(page, "[data-stage=ground]"))
    until(page, "!fern.state.walking && fern.state.view === 'plan'")


def test_the_other_end_of_a_pen_takes_away(table: Table) -> None:
    """By pointer events as a pen's driver makes them (Pointer Events, W3C: buttons 32 is the eraser)."""
    table.open("ground")
    page = table.page
    before, at = table.spot(640, 600)["elevation_m"], table.revision()
    x, y = table.at(640, 600)
    for end, button, buttons in (("tip", 0, 1), ("other end", 5, 32)):
        page.evaluate(
            """([x, y, button, buttons]) => {
                 const pane = document.getElementById("flat");
                 const say = (name, dx, held) => pane.dispatchEvent(new PointerEvent(name, {
                   pointerId: 7, bubbles: true, pointerType: "pen", pressure: held ? 0.8 : 0, button, buttons: held,
                   clientX: x + dx, clientY: y }));
                 pane.setPointerCapture = () => {};
                 say("pointerdown", 0, buttons);
                 return new Promise((done) => setTimeout(() => {
                   say("pointermove", 4, buttons); say("pointerup", 4, 0); done(0); }, 200));
               }""",
            [x, y, button, buttons],
        )
        table.kept(at)
        at = table.revision()
        now = table.spot(640, 600)["elevation_m"]
        assert now > before if end == "tip" else now < before
        before = now
    for _ in range(2):
        at = table.revision()
        page.locator("#undo").click()
        table.kept(at)


def test_fingers_find_targets_of_44_pixels(table: Table) -> None:
    table.open("ground")
    assert table.page.evaluate("matchMedia('(pointer: coarse)').matches")
    small = table.page.evaluate(
        """[...document.querySelectorAll(
               "header button:not(.world-name), .map-buttons button, .views button, .tools button")]
             .filter((e) => e.getClientRects().length)
             .map((e) => [e.textContent.trim(), e.getBoundingClientRect().height])
             .filter(([, high]) => high < 44 - 0.5)"""
    )
    assert small == []


def _middle(page: Page, selector: str) -> tuple[float, float]:
    page.locator(selector).first.scroll_into_view_if_needed()
    box = page.locator(selector).first.bounding_box()
    assert box is not None, selector
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
