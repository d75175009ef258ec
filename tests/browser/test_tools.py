"""The ground in full, with the hand on the mouse: every tool, limits, sheets, overlays, lines, the past."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from fernfield.bench.browser import AT_HOME
from tests.browser.driving import Chromium, Server, frames, until
from tests.browser.table import WAIT, Table
from tests.waits import until_true


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def land(table: Table, x0: int, y0: int, x1: int, y1: int, **query: Any) -> np.ndarray:
    """Every post of a box of the demo tract, which is 1,024 m square at 1 m."""
    rows = {"row0": 1024 - y1, "col0": x0, "row1": 1025 - y0, "col1": x1 + 1, **query}
    path = "&".join(f"{name}={value}" for name, value in rows.items())
    body = table.server.bytes_of(f"/api/tracts/{table.tract}/heights?{path}")
    return np.frombuffer(body, "<f4").reshape(y1 - y0 + 1, x1 - x0 + 1)


def test_every_tool_has_its_settings_and_works(table: Table) -> None:
    table.open("ground")
    page = table.page
    box = (520, 470, 680, 530)
    for key, name in (("n", "roughen"), ("e", "weather"), ("f", "flatten"), ("s", "smooth"), ("i", "imprint")):
        page.mouse.move(*table.at(530, 500))
        page.keyboard.press(key)
        expect(page.locator(f"[data-tool={name}]")).to_have_attribute("aria-pressed", "true")
        expect(page.locator(f"form[data-own={name}]")).to_be_visible()
        expect(page.locator("form[data-own]").filter(visible=True)).to_have_count(1)
        before = land(table, *box)
        table.drag((540, 500), (640, 505), steps=30)
        assert not np.array_equal(land(table, *box), before), name
    # A setting that is out of range is refused where it is typed.
    field = page.locator("#own-imprint-size_m")
    field.fill("0.2")
    field.press("Tab")
    assert not field.evaluate("f => f.checkValidity()")
    assert page.evaluate("fern.state.brushes.imprint.own.size_m") == 80


def test_flatten_by_fill_only_fills(table: Table) -> None:
    table.open("ground")
    page = table.page
    page.keyboard.press("f")
    page.locator("#own-flatten-by").select_option("fill")
    page.locator("#own-flatten-target_m").fill("9")
    page.locator("#own-flatten-target_m").press("Tab")
    page.locator("#strength").fill("60")
    page.locator("#strength").press("Enter")
    before = land(table, 540, 440, 640, 540).astype(float)
    table.drag((560, 490), (620, 490), steps=40)
    rise = land(table, 540, 440, 640, 540) - before
    assert rise.min() == 0
    assert rise.max() > 1
    assert not (before + rise)[rise > 0].max() > 9.0001
    # The settings stay with the tool.
    page.reload()
    table.ready()
    expect(page.locator("#own-flatten-by")).to_have_value("fill")
    expect(page.locator("#own-flatten-target_m")).to_have_value("9")


def test_a_grade_says_its_slope_while_it_is_dragged(table: Table) -> None:
    table.open("ground")
    page = table.page
    page.mouse.move(*table.at(560, 420))
    page.keyboard.press("g")
    expect(page.locator("[data-brush]")).to_be_hidden()
    page.locator("#own-grade-from_m").fill("6")
    page.locator("#own-grade-to_m").fill("18")
    page.locator("#own-grade-to_m").press("Tab")
    start = table.revision()
    page.mouse.move(*table.at(560, 420))
    page.mouse.down()
    for i in range(1, 21):
        page.mouse.move(*table.at(560 + 7.5 * i, 420))
        frames(page)
    until(page, "fern.state.progress && fern.state.progress.percent > 0")
    page.mouse.move(*table.at(711, 420))
    until(page, "fern.state.progress.length_m > 140")
    facts = page.evaluate("fern.state.progress")
    assert facts["percent"] == pytest.approx(12 / facts["length_m"] * 100, abs=0.05)
    assert facts["climbs"] == "cart"
    assert table.revision() == start
    page.mouse.up()
    table.kept(start)
    expect(page.locator("[data-section=volume]")).to_contain_text("fill", timeout=WAIT)
    z = [table.spot(x, 420)["elevation_m"] for x in (590, 660)]
    assert (z[1] - z[0]) / 70 * 100 == pytest.approx(8, abs=0.3)
    revision = table.revision()
    page.keyboard.press("Control+z")
    table.kept(revision)


def test_a_stroke_keeps_to_a_plot_that_was_drawn(table: Table) -> None:
    table.open("ground")
    page = table.page
    table.fold("plots")
    form = page.locator("form[data-draw=plot]")
    form.get_by_label("Name of a new plot").fill("Test plot")
    revision = table.revision()
    form.get_by_role("button").click()
    expect(page.locator("#asks")).to_contain_text("Click the corners")
    corners = [(520, 480), (600, 480), (600, 560), (520, 560)]
    for x, y in corners:
        page.mouse.click(*table.at(x, y))
    page.keyboard.press("Enter")
    table.kept(revision)
    expect(page.locator("#asks")).to_be_hidden()
    until(page, "fern.rows('plots').some(p => p.name === 'Test plot')")
    expect(page.locator("[data-keep] label", has_text="Test plot")).to_have_count(1)
    table.fold("keep")
    page.locator("[data-keep]").get_by_label("Test plot").check()
    expect(page.locator("[data-keep-words]")).to_have_text("in 1 plot")
    # What is kept out is hatched: the picture outside the plot has dark lines, inside it has none.
    until(page, "fern.state.show.overlays.includes('kept')")
    before = land(table, 480, 440, 640, 600)
    page.mouse.move(*table.at(560, 520))
    page.keyboard.press("r")
    table.drag((500, 520), (630, 520), steps=30)
    rise = land(table, 480, 440, 640, 600) - before
    assert rise[80, 60:100].min() > 0.2
    assert rise[80, 123:].max() == 0
    assert rise[80, :38].max() == 0
    assert "Test plot" in table.under_cursor(560, 520)["plots"]
    expect(page.locator("#spot")).to_contain_text("“Test plot”")
    table.fold("keep")
    page.get_by_role("button", name="Keep to nothing").click()
    expect(page.locator("[data-keep-words]")).to_have_text("everywhere")
    # A plot that is gone is kept to no more, and the map does not ask for it.
    page.locator("[data-keep]").get_by_label("Test plot").check()
    expect(page.locator("[data-keep-words]")).to_have_text("in 1 plot")
    table.fold("plots")
    line = page.locator("[data-fold=plots] .line", has_text="Test plot")
    line.get_by_role("button", name="Delete").click()
    expect(page.locator("[data-keep-words]")).to_have_text("everywhere")
    assert page.evaluate("fern.state.keepTo") is None


def test_a_sheet_is_added_worked_into_hidden_and_merged(table: Table) -> None:
    table.open("ground")
    page = table.page
    box = (560, 600, 620, 640)
    before = land(table, *box)
    table.fold("sheets")
    revision = table.revision()
    page.get_by_label("Name of a new sheet").fill("Banks")
    page.get_by_role("button", name="Add a sheet").click()
    table.kept(revision)
    expect(page.locator("button[data-sheet][aria-pressed=true]")).to_contain_text("Banks")
    page.mouse.move(*table.at(590, 620))
    page.keyboard.press("r")
    table.drag((580, 620), (600, 620), steps=20)
    raised = land(table, *box)
    assert (raised - before).max() > 0.5
    form = page.locator("form[data-sheet-form]")
    table.fold("sheets")

    def settle(label: str) -> None:
        revision = table.revision()
        form.get_by_label(label).set_checked(not form.get_by_label(label).is_checked())
        form.get_by_role("button", name="Set").click()
        table.kept(revision)

    settle("hidden")
    assert np.abs(land(table, *box) - before).max() < 1e-5
    # Nothing can be drawn into what is not seen, and the page says so.
    px, py = table.at(590, 620)
    page.mouse.move(px, py)
    page.mouse.down()
    page.mouse.move(px + 4, py)
    page.mouse.up()
    expect(page.locator("#toasts")).to_contain_text("Banks is hidden")
    settle("hidden")
    assert np.abs(land(table, *box) - raised).max() < 1e-5
    revision = table.revision()
    form.get_by_role("button", name="Merge into").click()
    form.get_by_role("button", name="the base").click()
    table.kept(revision)
    expect(page.locator("button[data-sheet][aria-pressed=true]")).to_contain_text("Base")
    assert np.abs(land(table, *box) - raised).max() < 1e-4


def test_overlays_have_legends_and_contours_figures(table: Table) -> None:
    table.open("ground")
    page = table.page
    plain = table.relief()
    page.locator("#show > button").click()
    choice = page.get_by_label("Colour the land by")
    choice.select_option("slopes")
    expect(page.locator("#legend")).to_contain_text("nobody climbs")
    # One colours the land at a time; the one before it stands on top of the list, and what is kept out is beside it.
    choice.select_option("tint")
    expect(page.locator("#legend")).to_contain_text("Elevation")
    expect(page.locator("#legend")).not_to_contain_text("nobody climbs")
    last = choice.locator("optgroup").first.locator("option")
    expect(last).to_have_text(["Elevation tint", "Slope classes"])
    page.get_by_label("What is kept out").check()
    assert page.evaluate("fern.state.show.overlays") == ["tint", "kept"]
    page.get_by_label("What is kept out").uncheck()
    page.mouse.click(*table.at(620, 520))
    table.relief(lambda grey: bool(np.abs(grey - plain).mean() > 4))
    page.keyboard.press("Control+z")
    page.locator("#show > button").click()
    choice.select_option("")
    expect(page.locator("#legend")).to_be_hidden()


def test_a_line_of_the_section_is_drawn_measured_and_kept(table: Table) -> None:
    table.open("ground")
    page = table.page
    page.locator("[data-section=draw]").click()
    for x, y in ((540, 500), (640, 500), (640, 580)):
        page.mouse.click(*table.at(x, y))
    page.keyboard.press("Enter")
    expect(page.locator("[data-section=words]")).to_contain_text("along a line, 180 m")
    box = page.locator("#section-line").bounding_box()
    assert box is not None
    for part in (0.25, 0.5):
        page.mouse.click(box["x"] + box["width"] * part, box["y"] + 40)
    expect(page.locator("[data-section=between]")).to_contain_text("45.0 m · rise")
    a, b = (table.spot(x, 500)["elevation_m"] for x in (585, 630))
    words = page.locator("[data-section=between]").inner_text()
    rise = float(re.search(r"rise ([+−][\d.]+)", words)[1].replace("−", "-"))  # type: ignore[index]
    assert rise == pytest.approx(b - a, abs=0.2)
    revision = table.revision()
    page.locator("[data-section=keep]").click()
    table.kept(revision)
    expect(page.locator("[data-section=lines] option")).to_have_count(2)
    page.locator("[data-section=lines]").select_option(label="Line 1")
    page.locator("[data-section=lines]").select_option("")
    expect(page.locator("[data-section=words]")).to_contain_text("west to east", timeout=WAIT)


def test_the_level_book_is_filled_from_the_map_and_flattened_to(table: Table) -> None:
    table.open("ground")
    page = table.page
    z = table.spot(600, 540)["elevation_m"]
    revision = table.revision()
    page.mouse.click(*table.at(600, 540), button="right")
    page.get_by_role("button", name="Remember this elevation").click()
    table.kept(revision)
    until(page, "fern.rows('levels').some(l => l.name === 'E 600 N 540')")
    expect(page.locator("#altitude .level", has_text="E 600 N")).to_have_count(1)
    table.fold("levels")
    page.locator("[data-fold=levels] .line", has_text="E 600 N 540").locator("[data-take-level]").click()
    expect(page.locator("[data-tool=flatten]")).to_have_attribute("aria-pressed", "true")
    assert page.evaluate("fern.state.brushes.flatten.own.target_m") == pytest.approx(z, abs=0.006)
    table.fold("levels")
    # Its elevation by figures: one revision, and the bar follows.
    revision = table.revision()
    field = page.get_by_label("E 600 N 540, elevation in metres")
    field.fill("12.25")
    field.press("Enter")
    table.kept(revision)
    [level] = [one for one in table.server.get(f"/api/worlds/{table.world}/levels") if one["name"] == "E 600 N 540"]
    assert level["elevation_m"] == 12.25
    mark = page.locator("#altitude .level", has_text="E 600 N")
    expect(mark).to_have_attribute("aria-valuetext", "12.25 metres")
    # A click on the bare bar takes the level there.
    bar = page.locator("#altitude").bounding_box()
    assert bar is not None
    page.mouse.click(bar["x"] + 60, bar["y"] + 120)
    until(page, "z => fern.state.brushes.flatten.own.target_m > z + 5", arg=z)


def test_the_past_is_looked_at_named_and_brought_back(table: Table) -> None:
    table.open("ground")
    page = table.page
    box = (600, 500, 660, 560)
    then, number = land(table, *box), table.revision()
    table.drag((610, 530), (650, 530), steps=30)
    now = land(table, *box)
    picture = table.relief()
    page.locator("#logbook").click()
    row = page.locator(f"[data-revision='{number}']")
    row.get_by_label(re.compile("Name of the keepsake")).fill("Before the bank")
    row.get_by_role("button", name="Keep").click()
    expect(page.locator(f"[data-revision='{number}'] .keepsake")).to_have_text("Before the bank")
    until(page, "n => document.querySelector(`[data-revision='${n}'] img`).naturalWidth === 64", arg=number + 1)
    page.locator(f"[data-look='{number}']").click()
    expect(page.locator("#past")).to_contain_text(f"You look at r{number}")
    page.locator("#logbook-close").click()
    table.relief(lambda grey: bool(np.abs(grey - picture).max() > 30))
    # Looking changes nothing, and nothing can be drawn there.
    assert np.array_equal(land(table, *box), now)
    px, py = table.at(620, 540)
    page.mouse.move(px, py)
    page.mouse.down()
    page.mouse.move(px + 5, py)
    page.mouse.up()
    expect(page.locator("#toasts")).to_contain_text("This is the past")
    assert table.revision() == number + 1
    page.get_by_role("button", name="Bring its ground back").click()
    table.kept(number + 1)
    expect(page.locator("#past")).to_be_hidden()
    assert np.array_equal(land(table, *box), then)


def test_weather_over_a_tract_shows_progress_and_can_be_cancelled(table: Table) -> None:
    table.open("ground")
    page = table.page
    table.fold("area")
    before = land(table, 500, 600, 900, 900)
    form = page.locator("[data-area-work=weather]")
    form.locator("[name=kind]").select_option("frost")
    expect(form.locator("[name=drops_per_m2]")).to_be_hidden()
    form.locator("[name=passes]").fill("20000")
    form.get_by_role("button", name="Let it weather").click()
    expect(page.locator("#area-job [role=progressbar]")).to_be_visible()
    page.locator("#area-job").get_by_role("button", name="Cancel").click()
    expect(page.locator("#area-job")).to_contain_text("Cancelled; nothing was changed")
    assert np.array_equal(land(table, 500, 600, 900, 900), before)
    form.locator("[name=passes]").fill("20")
    revision = table.revision()
    form.get_by_role("button", name="Let it weather").click()
    table.kept(revision)
    expect(page.locator("#area-job")).to_contain_text("Done, as r")
    assert not np.array_equal(land(table, 500, 600, 900, 900), before)


def test_a_rectangle_of_land_is_copied_to_a_place_picked_on_the_map(table: Table) -> None:
    table.open("ground")
    page = table.page
    table.fold("area")
    page.get_by_role("tab", name="Move land").click()
    form = page.locator("[data-area-work=move]")
    page.locator("[data-way=box]").click()
    page.mouse.click(*table.at(540, 500))
    page.mouse.click(*table.at(600, 550))
    expect(page.locator("[data-area-words]")).to_contain_text("a rectangle of 60 by 50 m")
    form.locator("[data-pick]").click()
    page.mouse.click(*table.at(660, 560))
    until(page, "document.getElementById('move-x').value !== '512'")
    form.get_by_role("button", name="Changed").click()
    form.get_by_label("Blended edge").fill("0")
    form.get_by_label("a copy").check()
    place = page.evaluate(
        "fern.state && [document.getElementById('move-x').value, document.getElementById('move-y').value]"
    )
    source = land(table, 545, 505, 595, 545)
    revision = table.revision()
    form.get_by_role("button", name="Move it").click()
    table.kept(revision)
    words = table.server.get(f"/api/worlds/{table.world}/revisions?most=1")[0]["words"]
    assert words.startswith("Copied 60 by 50 m to")
    # The corners were clicked to a fraction of a metre, so the land lies between the posts.
    x, y = round(float(place[0])), round(float(place[1]))
    copied = land(table, x - 25, y - 20, x + 25, y + 20)
    assert copied.mean() == pytest.approx(source.mean(), abs=0.3)
    assert np.corrcoef(copied.ravel(), source.ravel())[0, 1] > 0.9 or source.std() < 0.2


def test_land_from_a_seed_is_previewed_made_and_made_anew(table: Table) -> None:
    table.open("ground")
    page = table.page
    before = land(table, 500, 500, 700, 700)
    table.fold("seed")
    form = page.locator("form[data-make]")
    for scape in ("crags", "downs"):
        form.locator(f"[data-scape={scape}]").click()
    form.get_by_label("Name of the land").fill("Crag test")
    form.get_by_role("button", name="Preview").click()
    until(page, "document.querySelector('[data-preview]').naturalWidth > 100")
    revision = table.revision()
    form.get_by_role("button", name="Make it").click()
    table.kept(revision)
    until(page, "fern.rows('sheets').some(s => s.name === 'Crag test')")
    one = land(table, 500, 500, 700, 700)
    assert not np.allclose(one, before, atol=1)
    # Its recipe is there to be changed and made again, into the same sheet.
    form.locator("[name=sheet]").select_option(label="Crag test, anew")
    until(page, "document.querySelector('[data-landform=crags]').value === '1'")
    form.locator("[name=seed]").fill("77")
    revision = table.revision()
    form.get_by_role("button", name="Make it").click()
    table.kept(revision)
    assert not np.allclose(land(table, 500, 500, 700, 700), one, atol=1)
    assert sum(s["name"] == "Crag test" for s in table.server.get(f"/api/worlds/{table.world}/sheets")) == 1
    for _ in range(2):
        revision = table.revision()
        page.locator("#undo").click()
        table.kept(revision)
    assert np.array_equal(land(table, 500, 500, 700, 700), before)


def test_a_picture_of_ones_own_and_a_bad_one(table: Table, tmp_path: Path) -> None:
    image = np.zeros((32, 32), np.uint8)
    image[8:24, 8:24] = 255
    good, bad = tmp_path / "Plinth.png", tmp_path / "Photo.png"
    Image.fromarray(image).save(good)
    Image.fromarray(np.zeros((8, 8, 3), np.uint8)).save(bad)
    table.open("ground")
    page = table.page
    page.keyboard.press("r")
    table.fold("form")
    page.locator("#picture-file").set_input_files(bad)
    page.get_by_role("button", name="Add a grey PNG").click()
    expect(page.locator("[data-picture]")).to_contain_text("must be greyscale of 8 or 16 bits, not 8-bit colour")
    page.complaints.clear()  # type: ignore[attr-defined] # the refusal, on purpose
    page.locator("#picture-file").set_input_files(good)
    page.get_by_role("button", name="Add a grey PNG").click()
    expect(page.locator("#form-tip")).to_contain_text("Plinth")
    page.mouse.move(*table.at(600, 540))
    page.keyboard.press("i")
    page.locator("#own-imprint-image").select_option(label="Plinth")
    page.locator("#own-imprint-size_m").fill("40")
    page.locator("#own-imprint-size_m").press("Tab")
    z = table.spot(600, 540)["elevation_m"]
    revision = table.revision()
    page.mouse.click(*table.at(600, 540))
    table.kept(revision)
    assert table.spot(600, 540)["elevation_m"] == pytest.approx(z + 12, abs=0.3)
    assert table.spot(600, 565)["elevation_m"] == pytest.approx(table.spot(600, 565)["elevation_m"])


def test_the_ring_lies_on_the_land_in_the_overlook_with_its_words(table: Table) -> None:
    table.open("ground", view="overlook")
    page = table.page
    until(page, "window.fern.overlook && fern.overlook.drawn.frames > 2")
    until(page, "fern.overlook.parts.land.heightAt(512, 512) !== null")
    page.keyboard.press("r")
    page.mouse.move(700, 400)
    page.mouse.move(740, 420)
    expect(page.locator("#ring-words")).to_contain_text("r 40 m · 6 m/s")
    points = page.evaluate(
        """() => { const { ring, land } = fern.overlook.parts;
        const p = ring.children[0].geometry.getAttribute("position");
        return [...Array(p.count).keys()].map((i) => [p.getY(i), land.heightAt(p.getX(i), -p.getZ(i))]); }"""
    )
    assert len(points) == 72
    assert all(abs(y - z - 0.4) < 1e-3 for y, z in points)


def test_two_people_in_one_place_end_with_the_same_land_on_both_screens(
    browser: Chromium, page: Page, server: Server
) -> None:
    one = Table(page, server)
    one.open("ground")
    context = browser.now.new_context(viewport={"width": 1280, "height": 800})
    context.add_init_script(AT_HOME)
    two = Table(context.new_page(), server)
    two.open("ground")
    two.page.keyboard.press("g")
    start = one.revision()
    for table, x in ((one, 560), (two, 570)):
        table.page.mouse.move(*table.at(x, 470))
        table.page.mouse.down()
    for i in range(20):
        one.page.mouse.move(*one.at(560 + 4 * i, 470))
        two.page.mouse.move(*two.at(570 + 4 * i, 474))
        frames(one.page)
    two.page.mouse.up()
    one.page.mouse.up()
    for table in (one, two):
        until(table.page, "n => fern.state.world.revision >= n + 2", arg=start)

    def seen(table: Table) -> np.ndarray:
        table.page.mouse.move(150, 740)
        frames(table.page, 2)
        shot = table.page.screenshot(clip={"x": 420, "y": 160, "width": 560, "height": 420})
        return np.asarray(Image.open(io.BytesIO(shot)).convert("RGB")).astype(int)

    # A picture of what moved and one of the whole tile may differ by a rounding of their shades, and where that decides
    # on which side of a line a pixel lies: in one of ten thousand at most.
    def alike() -> bool:
        apart = np.abs(seen(one) - seen(two)).max(axis=2)
        return bool((apart > 8).mean() <= 1e-4 and apart.mean() < 0.05)

    until_true(alike)
    context.close()


def test_a_veil_by_its_share(table: Table) -> None:
    """The share is typed; Enter takes it and keeps the page; no strength is asked for; the spot says the figure."""
    table.open("cover")
    page = table.page
    cover = page.evaluate("fern.rows('covers')[1]")
    page.locator(f"[data-cover={cover['key']}]").click()
    page.locator("[data-tool=veil]").click()
    expect(page.locator("#strength")).to_be_hidden()
    page.evaluate("window.same = true")
    page.locator("#own-veil-share").fill("50")
    page.locator("#own-veil-share").press("Enter")
    until(page, "fern.state.brushes.veil.own.share === 0.5")
    table.drag((520, 540), (560, 540))
    assert page.evaluate("window.same")
    assert table.spot(540, 540)["covers"][cover["name"]] == pytest.approx(0.5, abs=0.004)
    page.locator("[data-tool=soften]").click()
    expect(page.locator("#strength")).to_be_visible()
    expect(page.locator("#own-soften-width_m")).to_be_visible()
    expect(page.locator("#own-veil-share")).to_be_hidden()


def test_covers_of_the_area_in_the_hand(table: Table) -> None:
    """A rectangle that is drawn on Cover is filled, and swapped back; the words say how many posts changed."""
    table.open("cover", folds={"cover-area": True})
    page = table.page
    base, cover = page.evaluate("fern.rows('covers').slice(0, 2)")
    before = table.spot(560, 500)["covers"]
    page.locator("#bench [data-way=box]").click()
    for x, y in ((540, 480), (580, 520)):
        page.mouse.click(*table.at(x, y))
    expect(page.locator("[data-area-words]")).to_contain_text("a rectangle of")
    at = table.revision()
    page.locator("#fill-cover").select_option(cover["key"])
    page.get_by_role("button", name="Fill it").click()
    table.kept(at)
    expect(page.locator(".toast.calm")).to_contain_text("posts changed")
    assert table.spot(560, 500)["covers"][cover["name"]] == pytest.approx(1, abs=0.01)
    assert table.spot(530, 500)["covers"] != table.spot(560, 500)["covers"]
    table.tab("Swap")
    page.locator("#swap-from").select_option(cover["key"])
    page.locator("#swap-to").select_option(base["key"])
    at = table.revision()
    page.get_by_role("button", name="Swap them").click()
    table.kept(at)
    assert table.spot(560, 500)["covers"][base["name"]] == pytest.approx(1, abs=0.01)
    # The same area is in the hand on Ground.
    table.stage("ground")
    expect(page.locator("[data-area-words]")).to_contain_text("a rectangle of")
    for _ in range(2):
        at = table.revision()
        page.keyboard.press("Control+z")
        table.kept(at)
    assert table.spot(560, 500)["covers"] == before
