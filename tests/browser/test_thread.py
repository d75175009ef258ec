"""The thread through all eight stages, with the hand on the mouse, checked by figures."""

import io
import json
import re
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Page, expect

from fernfield.formats.asc import asc_lines
from tests.browser.driving import Server, frames, until
from tests.browser.small import SmallTable
from tests.browser.table import WAIT, Table
from tests.core.real_land import heights_png, jacksboro


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def test_2_worlds_are_made_brought_in_and_deleted(page: Page, server: Server, tmp_path: Path) -> None:
    page.goto(server.url)
    expect(page.locator("#worlds .plate")).to_contain_text(["Sallow Reach"])
    assert page.locator("#worlds img").first.evaluate("i => i.decode().then(() => i.naturalWidth)") == 168
    page.get_by_role("link", name="Make a world").click()
    page.get_by_label("Name", exact=True).fill("Try <b>out</b>")
    page.get_by_label("Width, west to east").fill("100.5")
    refused = "“Width, west to east” must be a whole number of spacings"
    expect(page.locator("#make-picture .alert")).to_contain_text(refused, timeout=WAIT)
    page.get_by_role("button", name="Make it").click()
    expect(page.locator("#make .invalid-feedback:visible, #make .form-error:visible")).to_contain_text(refused)
    page.get_by_label("Width, west to east").fill("64")
    page.get_by_label("Depth, south to north").fill("32")
    expect(page.locator("#make-picture")).to_contain_text("65 × 33, 2,145 in all", timeout=WAIT)
    page.get_by_role("button", name="Make it").click()
    page.wait_for_url("**/worlds/w*", timeout=WAIT)
    expect(page.locator(".world-name span")).to_have_text("Try <b>out</b>")

    land = jacksboro()[:60, :80]
    low, high = float(land.min()), float(land.max())
    files = {
        "fault.asc": b"".join(asc_lines(iter([land]), *land.shape, 30.0)),
        "fault.png": heights_png(land, low, high),
        "bad.png": b"not a picture",
    }
    for name, content in files.items():
        (tmp_path / name).write_bytes(content)
        page.goto(f"{server.url}/make")
        page.get_by_role("button", name="From a file").click()
        page.get_by_label("Elevation file").set_input_files(tmp_path / name)
        page.get_by_role("button", name="Read it").click()
        if name == "bad.png":
            expect(page.locator(".job.alert")).to_contain_text("must be one of", timeout=WAIT)
            continue
        form = page.locator("form[data-place]")
        form.get_by_label("Name").fill(name, timeout=WAIT)
        if name.endswith("png"):
            expect(page.locator("[data-facts]")).to_contain_text("as soon as")
            form.get_by_label("Spacing").fill("30")
            form.get_by_label("Lowest").fill(str(low))
            form.get_by_label("Highest").fill(str(high))
        expect(page.locator("[data-facts]")).to_contain_text("80 × 60 posts, 2370 × 1770 m", timeout=WAIT)
        picture = page.locator("[data-land]")
        assert picture.evaluate("i => i.decode().then(() => i.naturalWidth)") == 80
        form.get_by_role("button", name="Bring it in").click()
        expect(page.locator("#make-job .job")).to_contain_text("ready", timeout=WAIT)
    worlds = {w["name"]: w for w in server.get("/api/worlds")}
    assert "bad.png" not in worlds
    for name in ("fault.asc", "fault.png"):
        tract = worlds[name]["tracts"][0]
        back = np.frombuffer(server.bytes_of(f"/api/tracts/{tract['id']}/heights"), "<f4").reshape(land.shape)
        assert np.abs(back - land).max() <= (high - low) / 65_535 / 2 + 1e-4

    page.goto(server.url)
    for name in ("fault.asc", "fault.png", "Try <b>out</b>"):
        key = worlds[name]["id"]
        page.locator(f"#world-{key}").get_by_role("button", name="Put into the bin").click()
        binned = page.locator(f"#bin-{key}")
        expect(binned).to_contain_text(name, timeout=WAIT)
        if name == "fault.asc":
            binned.get_by_role("button", name="Bring it back").click()
            expect(page.locator(f"#world-{key}")).to_contain_text(name, timeout=WAIT)
            page.locator(f"#world-{key}").get_by_role("button", name="Put into the bin").click()
        binned.get_by_role("button", name="Delete for good").click()
        expect(binned).to_contain_text("go for good")
        binned.get_by_role("button", name="Delete it").click()
        expect(binned).to_have_count(0)
    assert [w["name"] for w in server.get("/api/worlds")] == ["Sallow Reach"]


def test_3_ground_follows_the_brush_and_undo_survives_a_restart(table: Table, server: Server) -> None:
    table.open("ground")
    page = table.page
    before = table.under_cursor(560, 560)
    px, py = table.at(560, 560)
    start = table.revision()
    page.mouse.down()
    for i in range(25):
        page.mouse.move(px + i % 3, py)
        frames(page)
    # Live: the land under the cursor has risen while the button is still down.
    until(page, "z => fern.facts.spot.elevation_m > z + 0.5", arg=before["elevation_m"])
    assert page.evaluate("fern.counts.patches") > 0
    assert table.revision() == start
    page.mouse.up()
    table.kept(start)
    raised = table.under_cursor(560, 560)["elevation_m"]
    assert raised > before["elevation_m"] + 1
    expect(page.locator("[data-section=volume]")).to_contain_text("fill", timeout=WAIT)
    expect(page.locator("#section-line .was")).to_have_count(1, timeout=WAIT)

    # The other button lowers; a short click of it opens the menu instead.
    table.drag((560, 560), (566, 560), "right", steps=30)
    assert table.spot(563, 560)["elevation_m"] < raised
    page.mouse.click(*table.at(560, 560), button="right")
    expect(page.locator("#menu")).to_be_visible()
    page.keyboard.press("Escape")

    # Smooth and flatten by their keys; brush settings typed and by bracket.
    page.mouse.move(*table.at(600, 600))
    page.keyboard.press("f")
    expect(page.locator("[data-tool=flatten]")).to_have_attribute("aria-pressed", "true")
    page.locator("#radius").fill("25")
    page.locator("#radius").press("Enter")
    page.locator("#strength").fill("40")
    page.locator("#strength").press("Enter")
    level = table.spot(540, 560)["elevation_m"]
    table.drag((540, 560), (570, 560), steps=40)
    assert table.spot(566, 560)["elevation_m"] == pytest.approx(level, abs=0.3)
    page.keyboard.press("s")
    page.keyboard.press("]")
    expect(page.locator("[data-tool=smooth]")).to_have_attribute("aria-pressed", "true")
    assert page.locator("#radius").input_value() == "35"
    table.drag((540, 575), (570, 575), steps=20)

    # Undo all of it, across a restart of the server.
    revision = table.revision()
    page.locator("#undo").click()
    table.kept(revision)
    server.stop()
    until(page, "document.getElementById('kept').textContent.includes('lost')")
    server.start()
    until(page, "document.getElementById('kept').textContent.includes('kept')")
    page.complaints.clear()  # type: ignore[attr-defined] # the lost line, on purpose
    while table.spot(560, 560)["elevation_m"] != before["elevation_m"]:
        revision = table.revision()
        page.keyboard.press("Control+z")
        table.kept(revision)
        assert table.revision() < 200
    revision = table.revision()
    page.locator("#redo").click()
    table.kept(revision)
    assert table.spot(560, 560)["elevation_m"] == pytest.approx(raised, abs=0.1)
    page.locator("#undo").click()
    table.kept(revision + 1)
    expect(page.locator("[data-section=volume]")).to_have_text("")
    # What an undo takes back leaves no ghost in the section.
    expect(page.locator("#section-line .was")).to_have_count(0)
    page.locator("#logbook").click()
    expect(page.locator("#steps li").first).to_contain_text("Undid")


def test_4_covers_are_painted_taken_away_and_follow_the_rule(table: Table) -> None:
    table.open("cover", cover="shingle", folds={"cover-rules": True})
    page = table.page
    before = table.colour(600, 560)
    table.drag((590, 560), (610, 560), steps=40)
    assert table.spot(600, 560)["covers"]["Shingle"] > 0.9
    assert sum(table.spot(600, 560)["covers"].values()) == pytest.approx(1)
    table.colour(600, 560, lambda colour: colour[2] > before[2] + 15)
    table.drag((590, 560), (610, 560), "right", steps=50)
    assert table.spot(600, 560)["covers"]["Shingle"] < 0.1
    table.colour(600, 560, lambda colour: np.abs(colour - before).max() < 12)
    steep = max(
        (table.spot(x, y) for x in range(470, 900, 22) for y in range(600, 860, 26)), key=lambda s: s["slope_deg"]
    )
    assert steep["covers"]["Limestone"] > 0.5
    revision = table.revision()
    page.locator("[data-rule='0']").click()
    page.locator("#condition-0-from").fill("89")
    page.get_by_role("button", name="Keep the rules").click()
    table.kept(revision)
    assert table.spot(steep["x"], steep["y"])["covers"]["Limestone"] == 0
    page.locator("#undo").click()
    table.kept(revision + 1)
    page.locator("[data-rule='0']").click()
    page.locator("#condition-0-from").fill("120")
    assert not page.locator("#condition-0-from").evaluate("f => f.checkValidity()")


def plants(table: Table, row0: int, col0: int, row1: int, col1: int) -> np.ndarray:
    query = f"row0={row0}&col0={col0}&row1={row1}&col1={col1}"
    return np.frombuffer(table.server.bytes_of(f"/api/tracts/{table.tract}/growth?{query}"), "<f4").reshape(-1, 11)


def test_5_growth_is_sown_and_thinned_and_stands_on_the_ground(table: Table) -> None:
    table.open("growth", brushes={"sow": {"strength": 300}, "thin": {"strength": 500}, "raise": {"strength": 3}})
    window = (400, 500, 500, 640)  # N 524 to 624, E 500 to 640
    assert len(plants(table, *window)) == 0
    table.drag((550, 570), (600, 570), steps=50)
    sown = plants(table, *window)
    assert len(sown) > 30
    # The five kinds of the carr, by their numbers among the eight.
    assert {0.0, 1.0, 2.0, 4.0, 7.0} >= set(sown[:, 0].tolist()) > {0.0}
    # Raised by so much, however long a machine takes for a stroke by hand.
    raised = {"tool": "raise", "radius_m": 40, "softness": 1, "strength": 3, "path": [[560, 570, 0], [590, 570, 0.6]]}
    revision = table.revision()
    table.server.send(f"/api/tracts/{table.tract}/strokes", raised)
    table.kept(revision)
    moved = plants(table, *window)
    assert (moved[:, 2:4] == sown[:, 2:4]).all()
    assert (moved[:, 4] - sown[:, 4]).max() > 0.5
    for row in moved[::9]:
        # Its foot is in the ground as deep as its kind sinks, and no deeper.
        over = row[4] - table.spot(float(row[2]), float(row[3]))["elevation_m"]
        assert -0.25 * row[5] - 0.01 <= over <= 0.01
    table.drag((550, 570), (600, 570), "right", steps=60)
    assert len(plants(table, *window)) < 0.2 * len(sown)
    for _ in range(3):
        revision = table.revision()
        table.page.keyboard.press("Control+z")
        table.kept(revision)
    assert len(plants(table, *window)) == 0


def test_6_the_sea_rises_by_number_and_by_its_mark(table: Table) -> None:
    table.open("water")
    page = table.page
    creek = table.under_cursor(430, 470)
    assert creek["water_depth_m"] > 0.5
    expect(page.locator("#spot")).to_contain_text("depth")
    # Ground that no other test works on.
    land = table.colour(700, 320)
    revision = table.revision()
    page.locator("#sea-sea_level_m").fill("9.5")
    page.get_by_role("button", name="Set the sea").click()
    table.kept(revision)
    assert table.server.get(f"/api/worlds/{table.world}")["sea_level_m"] == 9.5
    table.colour(700, 320, lambda flooded: flooded[2] - flooded[0] > land[2] - land[0] + 30)
    # The bar may just be drawn anew, with the elevations that the new picture has in view.
    sea, mark = page.locator(".sea-mark path").last, None
    for _ in range(50):
        expect(sea).to_be_visible()
        if (mark := sea.bounding_box()) is not None:
            break
    assert mark is not None
    x, y = mark["x"] + 14, mark["y"] + mark["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 40, steps=8)
    page.mouse.up()
    table.kept(revision + 1)
    dragged = table.server.get(f"/api/worlds/{table.world}")["sea_level_m"]
    assert -6 < dragged < 8.5
    for _ in range(2):
        revision = table.revision()
        page.keyboard.press("Control+z")
        table.kept(revision)
    assert table.server.get(f"/api/worlds/{table.world}")["sea_level_m"] == 0


def test_7_the_sun_turns_and_shadows_turn_with_it(table: Table) -> None:
    table.open("light")
    page = table.page
    revision = table.revision()
    seen = table.relief()
    for bearing in ("90", "270"):
        page.locator("#sun-sun_bearing_deg").fill(bearing)
        page.locator("#sun-sun_bearing_deg").press("Enter")
        table.kept(revision)
        revision = table.revision()
        last = seen
        seen = table.relief(lambda grey, last=last: np.abs(grey - last).mean() > 6)  # type: ignore[misc]
    page.locator("#sun-sun_height_deg").fill("6")
    page.locator("#sun-sun_height_deg").press("Enter")
    table.kept(revision)
    # A sun just over the horizon: more of the land lies in shadow.
    table.relief(lambda grey: (grey < 70).mean() > (seen < 70).mean() + 0.02)
    dial = page.locator("#dial").bounding_box()
    assert dial is not None
    revision = table.revision()
    page.mouse.click(dial["x"] + dial["width"] / 2 + 40, dial["y"] + dial["height"] / 2)
    table.kept(revision)
    sun = table.server.get(f"/api/worlds/{table.world}")
    assert sun["sun_bearing_deg"] == pytest.approx(90, abs=2)
    assert sun["sun_height_deg"] == pytest.approx(90 * (1 - 40 / 72), abs=3)
    for _ in range(4):
        revision = table.revision()
        page.keyboard.press("Control+z")
        table.kept(revision)


def test_8_sites_are_placed_chosen_moved_turned_and_deleted(table: Table) -> None:
    table.open("sites")
    page = table.page

    def things() -> dict[str, dict[str, Any]]:
        return {t["name"]: t for t in table.server.get(f"/api/worlds/{table.world}/things")}

    old = set(things())
    revision = table.revision()
    for number, kit in enumerate(("windpump", "stone_barn", "field_wall", "beacon", "peat_stack", "start")):
        page.locator(f"[data-place={kit}]").click()
        page.mouse.click(*table.at(520 + 16 * number, 540))
        table.kept(revision)
        revision = table.revision()
        until(page, "count => fern.rows('things').length === count", arg=len(old) + number + 1)
    page.keyboard.press("Escape")
    new = {n: t for n, t in things().items() if n not in old}
    assert len(new) == 6
    start = next(t for t in new.values() if t["sort"] == "start")
    assert start["team"]
    assert not start["default"]

    # Move it, turn it by its handle, and make it the default by the form.
    page.mouse.click(*table.at(start["x"], start["y"]))
    page.mouse.move(*table.at(start["x"], start["y"]))
    page.mouse.down()
    page.mouse.move(*table.at(660, 500), steps=6)
    page.mouse.up()
    table.kept(revision)
    revision = table.revision()
    moved = things()[start["name"]]
    assert (moved["x"], moved["y"]) == pytest.approx((660, 500), abs=2)
    assert moved["z"] == pytest.approx(table.spot(moved["x"], moved["y"])["elevation_m"], abs=0.01)
    px, py = table.at(moved["x"], moved["y"])
    page.mouse.move(px, py - 46)
    page.mouse.down()
    page.mouse.move(px + 60, py, steps=6)
    page.mouse.up()
    table.kept(revision)
    revision = table.revision()
    assert things()[start["name"]]["turn_deg"] == pytest.approx(90, abs=2)
    page.get_by_label("The default start").check()
    page.get_by_role("button", name="Set", exact=True).click()
    table.kept(revision)
    assert [t["name"] for t in things().values() if t["default"]] == [start["name"]]

    # Pieces stay on the ground when it moves.
    table.stage("ground")
    pump = next(t["name"] for t in new.values() if t["kit"] == "beacon")
    before = things()[pump]["z"]
    table.drag((563, 540), (573, 540), steps=20)
    assert things()[pump]["z"] > before + 0.3
    table.stage("sites")
    table.tab("List")
    page.locator("[data-thing]", has_text=pump).click()
    revision = table.revision()
    page.keyboard.press("Delete")
    table.kept(revision)
    assert pump not in things()
    while set(things()) != old:
        revision = table.revision()
        page.keyboard.press("Control+z")
        table.kept(revision)
    assert things()["West yard"]["default"]


def walker(table: Table) -> dict[str, Any]:
    return dict(table.page.evaluate("window.fern.walker"))


def test_9_a_walk_from_the_default_start_and_from_a_spot(table: Table) -> None:
    table.open("trial")
    page = table.page
    camera = page.evaluate("({...fern.camera})")
    page.locator("[data-walk]").click()
    until(page, "fern.state.walking && fern.walker")
    assert walker(table)["x"] == pytest.approx(196, abs=0.5)
    expect(page.locator("#hud")).to_be_visible()
    page.keyboard.down("w")
    until(page, "Math.hypot(fern.walker.x - 196, fern.walker.y - 506) > 4")
    # 3 m/s, less what the yard's covers take of it.
    expect(page.locator("[data-hud=speed]")).to_have_text(re.compile(r"^(2\.\d|3\.0) m/s$"))
    now = walker(table)
    assert now["z"] == pytest.approx(table.spot(now["x"], now["y"])["elevation_m"], abs=0.05)
    page.keyboard.up("w")
    # The facts of the spot are those of the ground underfoot.
    until(page, "Math.hypot(fern.facts.spot.x - fern.walker.x, fern.facts.spot.y - fern.walker.y) < 0.5")
    # The mouse turns the head.
    box = page.locator("#look").bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 300, box["y"] + 200)
    page.mouse.down()
    # In two moves: drawn by software, each waits for a whole frame, and with both processors busy for half a minute.
    page.mouse.move(box["x"] + 400, box["y"] + 200, steps=2)
    page.mouse.up()
    until(page, "Math.abs(fern.walker.facing - 98) > 5")
    page.keyboard.press("Escape")
    until(page, "!fern.state.walking")
    assert page.evaluate("fern.state.view") == "plan"
    assert page.evaluate("({...fern.camera})") == camera

    # From the map's menu, into the creek: the water slows, then stops, and it says so.
    page.mouse.click(*table.at(378, 470), button="right")
    page.get_by_role("button", name="Trial: walk from here").click()
    until(page, "fern.state.walking && Math.abs(fern.walker.x - 378) < 2")
    assert walker(table)["facing"] == pytest.approx(72.6, abs=1)  # towards the middle of the tract
    page.keyboard.down("Shift")
    page.keyboard.down("d")
    expect(page.locator("[data-hud=blocked]")).to_contain_text(re.compile("stopped by water"), timeout=WAIT)
    page.keyboard.up("d")
    page.keyboard.up("Shift")
    assert walker(table)["water"] == pytest.approx(1.2, abs=0.25)
    page.keyboard.press("Escape")


def test_10_the_package_holds_what_was_done_and_says_when_it_is_old(small: SmallTable) -> None:
    small.open("handover")
    page = small.page
    expect(page.locator("#bench")).to_contain_text("has not been handed over yet")
    page.get_by_role("button", name="Hand over").click()
    expect(page.locator("#bench").get_by_text("as it is now")).to_be_visible(timeout=WAIT)
    small.stage("ground")
    before = small.spot(40, 50)["elevation_m"]
    small.drag((38, 50), (42, 50), steps=25)
    raised = small.spot(40, 50)["elevation_m"]
    assert raised > before + 0.5
    small.stage("handover")
    expect(page.locator("[data-stale]")).to_contain_text("hand it over again")
    page.get_by_role("button", name="Hand over").click()
    expect(page.locator("#bench").get_by_text("as it is now")).to_be_visible(timeout=WAIT)
    with page.expect_download() as download:
        page.get_by_role("link", name="Download the package").click()
    package = zipfile.ZipFile(str(download.value.path()))
    manifest = json.loads(package.read("manifest.json"))
    assert manifest["revision"] == small.revision()
    heights = manifest["tracts"][0]["heights"]
    grey = np.asarray(Image.open(io.BytesIO(package.read(heights["file"]))))
    step = (heights["highest_m"] - heights["lowest_m"]) / 65_535
    assert heights["lowest_m"] + step * grey[100 - 50, 40] == pytest.approx(raised, abs=step)
    page.keyboard.press("Control+z")
    small.kept(manifest["revision"])


def test_11_plan_and_overlook_show_one_land_and_the_brush_works_in_both(table: Table) -> None:
    table.open("ground", show={"growth": True})
    page = table.page
    zoom = page.evaluate("fern.camera.zoom")
    px, py = table.at(560, 520)
    page.mouse.move(px, py)
    page.mouse.wheel(0, -600)
    until(page, "z => fern.camera.zoom > 3 * z", arg=zoom)
    assert table.at(560, 520) == pytest.approx((px, py), abs=1.5)
    page.keyboard.down(" ")
    page.mouse.down()
    page.mouse.move(px + 80, py + 30, steps=5)
    page.mouse.up()
    page.keyboard.up(" ")
    assert table.at(560, 520) == pytest.approx((px + 80, py + 30), abs=2)
    assert page.evaluate("fern.level()") < 0

    page.get_by_role("button", name="Overlook", exact=True).click()
    until(
        page,
        "fern.overlook && fern.overlook.parts.land.chunks.every(c => c.mesh && c.pictureKey) &&"
        " fern.overlook.parts.growth.shown > 50",
    )
    before = table.spot(560, 540)["elevation_m"]
    frames(page, 2)
    # The picture has land in it: many colours, and the sky above.
    box = page.locator("#look").bounding_box()
    assert box is not None
    shot = np.asarray(Image.open(io.BytesIO(page.screenshot(clip=box))).convert("RGB"))
    assert len(np.unique(shot.reshape(-1, 3) // 16, axis=0)) > 40
    ox, oy = page.evaluate("fern.overlook.pixelOf(560, 540)")
    under = page.evaluate("([x, y]) => fern.overlook.spotUnder(x, y)", [ox, oy])
    assert (under["x"], under["y"]) == pytest.approx((560, 540), abs=12)
    standing = {"sort": "piece", "kit": "beacon", "name": "On it", "x": under["x"], "y": under["y"]}
    table.server.send(f"/api/worlds/{table.world}/things", standing)
    until(page, "fern.rows('things').some((thing) => thing.name === 'On it')")
    revision = table.revision()
    page.mouse.move(box["x"] + ox, box["y"] + oy)
    page.mouse.down()
    higher = "([x, y, z]) => fern.overlook.parts.land.heightAt(x, y) > z + 0.6"
    for i in range(200):
        page.mouse.move(box["x"] + ox + i % 2, box["y"] + oy)
        frames(page)
        # By so much, however many frames that takes.
        if page.evaluate(higher, [under["x"], under["y"], before]):
            break
    page.mouse.up()
    table.kept(revision)
    assert table.spot(under["x"], under["y"])["elevation_m"] > before + 0.5
    # The mesh has followed, without being fetched again as a whole.
    until(
        page, "([x, y, z]) => fern.overlook.parts.land.heightAt(x, y) > z + 0.5", arg=[under["x"], under["y"], before]
    )
    # What stands there stands on it.
    until(
        page,
        """([x, y]) => { const { land, placed } = fern.overlook.parts;
          const one = [...placed.byKey.values()].flat().find((one) => one.row.name === "On it");
          return one && Math.abs(one.foot - one.body.over - land.heightAt(x, y)) < 1e-3; }""",
        arg=[under["x"], under["y"]],
    )
    page.get_by_role("button", name="Both", exact=True).click()
    expect(page.locator("#flat")).to_be_visible()
    expect(page.locator("#look")).to_be_visible()
    for more in (1, 2):
        page.keyboard.press("Control+z")
        table.kept(revision + more)


def test_an_undo_asked_for_at_once_takes_back_the_stroke_just_drawn(table: Table) -> None:
    """Not the edit before it: the stroke's end and the undo go to the server by different ways."""
    table.open("ground")
    page = table.page
    first = table.revision()
    table.drag((700, 560), (705, 560), steps=10)
    between = table.spot(700, 560)["elevation_m"]
    page.mouse.move(*table.at(640, 560))
    page.mouse.down()
    until(page, "z => fern.facts.spot.elevation_m > z", arg=table.spot(640, 560)["elevation_m"])
    page.mouse.up()
    page.keyboard.press("Control+z")
    until(page, "r => fern.state.world.revision >= r", arg=first + 3)
    steps = table.server.get(f"/api/worlds/{table.world}/revisions?most=3")
    assert [(r["sort"], r["target"]) for r in steps] == [("undo", first + 2), ("edit", None), ("edit", None)]
    assert table.spot(700, 560)["elevation_m"] == between
    # While the button is down, undo takes back the stroke under way: no revision, and the ground as it was.
    before = table.spot(640, 560)["elevation_m"]
    page.mouse.down()
    until(page, "z => fern.facts.spot.elevation_m > z + 0.3", arg=before)
    page.keyboard.press("Control+z")
    expect(page.locator("#kept")).to_have_text(f"r{first + 3} kept")
    page.mouse.up()
    until(page, "z => Math.abs(fern.facts.spot.elevation_m - z) < 0.001", arg=before)
    assert table.revision() == first + 3
    page.keyboard.press("Control+z")
    table.kept(first + 3)


def test_the_view_is_as_it_was_left_and_two_pages_show_every_change(table: Table, server: Server) -> None:
    table.open("growth", view="plan", plan={"zoom": 2, "col": 500, "row": 470})
    page = table.page
    assert page.evaluate("[fern.state.stage, fern.camera.zoom, fern.camera.col]") == ["growth", 2, 500]
    other = page.context.new_page()
    second = Table(other, server)
    other.goto(f"{server.url}/worlds/{table.world}")
    second.ready()
    until(other, "fern.camera.zoom === 2")
    table.stage("ground")
    patches = other.evaluate("fern.counts.patches")
    table.drag((495, 554), (505, 554), steps=30)
    until(other, "count => fern.counts.patches > count", arg=patches)
    until(other, "r => fern.state.world.revision === r", arg=table.revision())
    shown = table.colour(506, 566)
    second.colour(506, 566, lambda colour: np.abs(colour - shown).max() < 6)
    revision = table.revision()
    second.page.keyboard.press("Control+z")
    table.kept(revision)
    expect(page.locator("#kept")).to_have_text(f"r{revision + 1} kept")


def test_what_is_being_typed_is_not_taken_away_by_a_change_from_elsewhere(table: Table, server: Server) -> None:
    table.open("growth", folds={"growth-mix": True})
    page = table.page
    density = page.locator("#mix-density_per_ha")
    density.fill("123")
    density.evaluate("f => f.blur()")
    # Two changes at once, from elsewhere: the page is told of them, and asks for nothing.
    revision = table.revision()
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if request.method == "GET" else None)
    page.evaluate(
        "async ([url, ...levels]) => { for (const level of levels) await fetch(url, {method: 'PATCH',"
        " headers: {'content-type': 'application/json'}, body: JSON.stringify({sea_level_m: level})}); }",
        [f"/api/worlds/{table.world}", 0.5, 1.0],
    )
    table.kept(revision + 1)
    until(page, "fern.only('water').sea_level_m === 1")
    assert not [url for url in asked if "/bench/" in url or url.endswith((table.world, "/things"))]
    expect(density).to_have_value("123")
    # A form that nobody types in follows the world.
    table.stage("water")
    expect(page.locator("#sea-sea_level_m")).to_have_value("1")
    revision = table.revision()
    page.keyboard.press("Control+z")
    table.kept(revision)
    expect(page.locator("#sea-sea_level_m")).to_have_value("0.5")
    page.keyboard.press("Control+z")
    table.kept(revision + 1)
