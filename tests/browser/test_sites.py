"""Sites by hand: the library, placing, choosing many, arranging them, scatters, and what is seen of it in 3D."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.browser.driving import frames, until
from tests.browser.small import SmallTable
from tests.browser.table import Table


def things(table: Table) -> list[dict[str, Any]]:
    return list(table.server.get(f"/api/worlds/{table.world}/things"))


def test_the_kit_is_found_seen_placed_and_said_no_to(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    before = len(things(table))
    page.locator("#kit-find").fill("stone farm")
    expect(page.locator(".kit-line [data-kit]")).to_have_count(3)
    # Each is drawn: its canvas has ink, and another picture once it turns.
    barn = page.locator("canvas[data-kit=stone_barn]")
    expect(barn).to_have_attribute("data-drawn", "stone_barn")
    ink = "key => document.querySelector(`canvas[data-kit=${key}]`).toDataURL()"
    still = page.evaluate(ink, "stone_barn")
    page.emulate_media(reduced_motion="no-preference")
    page.locator("[data-place=stone_barn]").hover()
    until(page, f"([key, was]) => ({ink})(key) !== was", arg=["stone_barn", still])
    page.locator("[data-like=stone_barn]").click()
    page.locator("#kit-find").fill("")
    expect(page.locator(".kit-line [data-kit]").first).to_have_attribute("data-kit", "stone_barn")
    page.locator("[data-like=stone_barn]").click()
    # A click places; a drag gives the turn; where another stands it says why not.
    page.locator("[data-place=cairn]").click()
    revision = table.revision()
    page.mouse.click(*table.at(30, 80))
    table.kept(revision)
    px, py = table.at(50, 80)
    page.mouse.move(px, py)
    page.mouse.down()
    page.mouse.move(px + 80, py, steps=4)
    page.mouse.up()
    table.kept(revision + 1)
    new = sorted(things(table), key=lambda one: one["name"])[:2]
    assert [one["name"] for one in new] == ["Cairn 1", "Cairn 2"]
    assert new[1]["turn_deg"] == pytest.approx(90, abs=2)
    page.mouse.click(*table.at(100, 40))
    expect(page.locator(".toast-body").filter(has_text="would stand in Stone barn 1")).to_be_visible()
    assert len(things(table)) == before + 2
    page.keyboard.press("Escape")
    assert page.evaluate("fern.state.place") is None
    for _ in range(2):
        revision = table.revision()
        page.keyboard.press("Control+z")
        table.kept(revision)


def test_many_are_chosen_moved_turned_copied_and_grouped(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    base = f"/api/worlds/{table.world}/things"
    revision = table.revision()
    table.server.send(
        f"{base}/lay?take=all",
        {
            "of": [{"kit": "hurdle"}],
            "by": "grid",
            "x": 40,
            "y": 75,
            "across": 4,
            "deep": 2,
            "step_x_m": 6,
            "step_y_m": 8,
        },
    )
    until(page, "fern.rows('things').filter(one => one.kit === 'hurdle').length === 8")
    page.mouse.click(*table.at(180, 90))
    page.keyboard.press("b")
    for corner in ((28, 65), (52, 85)):
        page.mouse.click(*table.at(*corner))
    expect(page.locator("#chosen-words")).to_contain_text("8: 8 Hurdle")
    # Dragged by one of them all go along.
    page.mouse.move(*table.at(31, 71))
    page.mouse.down()
    page.mouse.move(*table.at(41, 76), steps=5)
    page.mouse.up()
    table.kept(revision + 1)
    hurdles = [one for one in things(table) if one["kit"] == "hurdle"]
    assert min(one["x"] for one in hurdles) == pytest.approx(41, abs=1)
    assert max(one["x"] for one in hurdles) - min(one["x"] for one in hurdles) == pytest.approx(18, abs=0.01)
    page.get_by_role("button", name="Move, turn, size, copy").click()
    page.locator("#arrange-turn_by_deg").fill("90")
    page.locator("#arrange-about").select_option("last")
    page.get_by_role("button", name="Change what is chosen").click()
    table.kept(revision + 2)
    assert {round(one["turn_deg"]) for one in things(table) if one["kit"] == "hurdle"} == {90}
    page.locator("#arrange-dy_m").fill("-30")
    page.locator("#arrange-copied").check()
    page.get_by_role("button", name="Change what is chosen").click()
    table.kept(revision + 3)
    assert sum(one["kit"] == "hurdle" for one in things(table)) == 16
    expect(page.locator("#chosen-words")).to_contain_text("8: 8 Hurdle")
    page.get_by_role("button", name="Belongs to").click()
    page.locator("#new-group-name").fill("Pen")
    page.get_by_role("button", name="Group", exact=True).click()
    until(page, "fern.rows('things').filter(one => one.group).length === 8")
    table.tab("List")
    expect(page.locator("[data-group]")).to_contain_text("Pen")
    page.locator("#list-find").fill("hurdle pen")
    expect(page.locator(".placed-list [data-thing]")).to_have_count(8)
    page.locator("[data-choose=listed]").click()
    page.keyboard.press("Delete")
    until(page, "fern.rows('things').filter(one => one.kit === 'hurdle').length === 8")
    while table.revision() > revision and any(one["kit"] == "hurdle" for one in things(table)):
        at = table.revision()
        page.keyboard.press("Control+z")
        table.kept(at)
    while any(one["kit"] == "hurdle" for one in things(table)):
        table.server.send(f"/api/worlds/{table.world}/undo")


def test_a_file_of_positions_is_asked_what_its_columns_mean(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    table.tab("List")
    page.locator("#listed-file").click()
    body = b"kit,name,Rechts,Hoch\ncairn,From afar,100,250\n"
    page.locator("#things-given").set_input_files({"name": "t.csv", "mimeType": "text/csv", "buffer": body})
    page.get_by_role("button", name="Look at it").click()
    expect(page.locator("#things-given-words")).to_contain_text("1 refused")
    for column, field in (("Rechts", "x"), ("Hoch", "y")):
        page.locator(f"[data-column={column}]").select_option(field)
    page.locator("#things-unit").select_option("ft")
    page.get_by_role("button", name="Look at it").click()
    expect(page.locator("#things-given-words")).to_have_text("1 new; 0 changed; 0 as they are.")
    assert not [one for one in things(table) if one["name"] == "From afar"]
    revision = table.revision()
    page.get_by_role("button", name="Take what fits").click()
    table.kept(revision)
    (new,) = (one for one in things(table) if one["name"] == "From afar")
    assert (new["x"], new["y"]) == pytest.approx((30.48, 76.2))
    table.server.send(f"/api/worlds/{table.world}/undo")


def test_a_scatter_is_looked_at_rolled_and_kept(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    table.tab("Rules")
    page.locator("[data-scatter-act=add]").click()
    page.locator("[data-scatter-act=look]").click()
    expect(page.locator("#scatter-words")).to_have_text("20 of 20 find a place.")
    page.locator("[data-scatter-act=roll]").click()
    expect(page.locator("#scatter-words")).to_contain_text("with the seed")
    page.locator("[data-scatter-act=keep]").click()
    expect(page.locator("#scatter-words")).to_have_text("20 stand by it.")
    page.locator("#scatter-how").click()
    page.locator("#scatter-count").fill("12")
    page.get_by_role("button", name="Set the scatter").click()
    until(page, "fern.rows('scatters')[0].count === 12")
    page.locator("[data-scatter-act=keep]").click()
    expect(page.locator("#scatter-words")).to_have_text("12 stand by it.")
    for _ in range(6):
        if not table.server.get(f"/api/worlds/{table.world}/scatters"):
            break
        table.server.send(f"/api/worlds/{table.world}/undo")


def test_pieces_stand_in_the_overlook_in_few_calls(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    page.evaluate("fern.state.show.detail = 'low'")
    page.get_by_role("button", name="Overlook", exact=True).click()
    until(page, "fern.overlook && fern.overlook.parts.placed.alike.some(one => one.meshes.some(Boolean))")
    until(page, "fern.overlook.parts.placed.group.children.some(mesh => mesh.visible && mesh.count > 0)")
    foot = """() => { const { placed, land } = fern.overlook.parts;
      const all = placed.alike.flatMap(one => one.ones.map((thing, i) => [thing, one.places, i]));
      const barn = all.find(([one]) => one.row.kit === "stone_barn");
      return [barn[1][barn[2] * 16 + 13], land.heightAt(barn[0].row.x, barn[0].row.y)]; }"""
    # Its ground is drawn a moment after the frame of the land.
    until(page, f"({foot})()[1] !== null")
    z, ground = page.evaluate(foot)
    assert z == pytest.approx(ground, abs=0.01)
    frames(page, 2)
    assert page.evaluate("fern.overlook.parts.renderer.info.render.calls") < 60
    # From far away the barn is a point of its colour, and no body is left but that of the start.
    far = """() => { const { placed, land } = fern.overlook.parts;
      placed.stand(land, placed.eye.clone().set(0, 5000, 0));
      return [placed.far.geometry.drawRange.count, placed.group.children.filter(mesh => mesh.visible).length]; }"""
    assert page.evaluate(far) == [1, 1]
    page.get_by_role("button", name="Plan", exact=True).click()


def test_a_mark_lies_on_a_piece_in_plan_and_overlook(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    mark = {"name": "On it", "picture": "arrow", "x": 100, "y": 40, "width_m": 4, "depth_m": 4, "colour": "#a000ff"}
    table.server.send(f"/api/worlds/{table.world}/decals/on-it", {**mark, "strength": 1}, "PUT")
    purple = [160, 0, 255]
    table.colour(100, 40.5, lambda colour: np.abs(colour - purple).max() < 6)
    page.evaluate("fern.state.show.detail = 'low'")
    page.get_by_role("button", name="Overlook", exact=True).click()
    lies = """() => { const { draped, placed } = fern.overlook?.parts ?? {};
      const [mesh] = draped?.group.children ?? [];
      const barn = mesh && placed.byKey.get(mesh.userData.laid.key)?.[0];
      return Boolean(barn && mesh.visible && mesh.material.uniforms.picture.value.image.width > 1 &&
        barn.place.every((n, i) => n === Math.fround(mesh.matrix.elements[i]))); }"""
    until(page, f"({lies})()")
    table.server.send(f"/api/worlds/{table.world}/decals/on-it", {"tops": False}, "PATCH")
    until(page, "fern.overlook.parts.draped.group.children.length === 0")
    page.get_by_role("button", name="Plan", exact=True).click()
    table.colour(100, 40.5, lambda colour: np.abs(colour - purple).max() > 60)
    table.server.send(f"/api/worlds/{table.world}/decals/on-it", None, "DELETE")


def test_a_road_is_drawn_led_anew_and_found(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    table.tab("Roads")

    def roads() -> list[dict[str, Any]]:
        return list(table.server.get(f"/api/worlds/{table.world}/roads"))

    revision = table.revision()
    page.get_by_role("button", name="Draw a road").click()
    for spot in ((20, 70), (100, 75), (180, 70), (180, 70)):
        page.mouse.click(*table.at(*spot))
    table.kept(revision)
    (first,) = roads()
    assert [pytest.approx(point, abs=1) for point in first["points"]] == [[20, 70], [100, 75], [180, 70]]
    expect(page.locator("#bench dl.figures").first).to_contain_text("Steepest metre")
    # A point is dragged; a small one between two adds another; with Alt one is taken away.
    for start, end, count in (((100, 75), (100, 90), 3), ((60, 80), (60, 84), 4)):
        revision = table.revision()
        page.mouse.move(*table.at(*start))
        page.mouse.down()
        page.mouse.move(*table.at(*end), steps=4)
        page.mouse.up()
        table.kept(revision)
        (now,) = roads()
        assert len(now["points"]) == count
        assert any(point == pytest.approx(end, abs=1) for point in now["points"])
    revision = table.revision()
    page.keyboard.down("Alt")
    page.mouse.click(*table.at(60, 84))
    page.keyboard.up("Alt")
    table.kept(revision)
    assert len(roads()[0]["points"]) == 3
    # A way between two places, built as a road.
    page.get_by_role("button", name="Find a way for one").click()
    page.mouse.click(*table.at(20, 20))
    page.mouse.click(*table.at(170, 30))
    expect(page.get_by_role("button", name="Build way 1")).to_be_visible()
    revision = table.revision()
    page.get_by_role("button", name="Build way 1").click()
    table.kept(revision)
    assert len(roads()) == 2
    for one in roads():
        revision = table.revision()
        page.locator(f"[data-road={one['key']}]").click()
        page.get_by_role("button", name="Delete Del").locator("visible=true").click()
        table.kept(revision)
    assert roads() == []


def test_a_round_is_set_out(small: SmallTable) -> None:
    """Two teams at war, a place to hold, a cue that goes off there, and what wins: all by the bench."""
    table, page = small, small.page
    table.open("sites", tabs={"sites": "round"})
    base = f"/api/worlds/{table.world}"

    def rows(name: str) -> Any:
        return table.server.get(f"{base}/{name}")

    first = table.revision()
    for number in (1, 2):
        page.locator("[data-team-act=add]").click()
        table.kept(first + number - 1)
        expect(page.locator("#team-name")).to_have_value(f"Team {number}")
    page.locator("#team-name").fill("Sluice")
    page.keyboard.press("Enter")
    table.kept(first + 2)
    one, other = rows("teams")
    page.locator(f"[data-one={other['key']}][data-other={one['key']}]").select_option("war")
    table.kept(first + 3)
    expect(page.locator(f"[data-one={one['key']}][data-other={other['key']}]")).to_have_value("war")
    page.locator("#round-aims").click()
    page.locator("[data-place='objective:hold']").click()
    page.mouse.click(*table.at(150, 80))
    table.kept(first + 4)
    (hold,) = rows("objectives")
    assert (hold["x"], hold["y"]) == pytest.approx((150, 80), abs=1)
    # The one that is chosen has its form; the hand moves it.
    page.locator("#aim-hold-for_team").select_option("2")
    page.locator("#aim-hold button[type=submit]").click()
    table.kept(first + 5)
    table.drag((hold["x"], hold["y"]), (160, 70))
    assert rows("objectives")[0]["for_team"] == 2
    assert rows("objectives")[0]["x"] == pytest.approx(160, abs=1)
    page.locator("#round-cues").click()
    page.locator("[data-cue-act=new]").click()
    page.locator("#add-when").select_option("enters")
    page.locator("#when-enters-where-plot").select_option(label="Yard")
    page.locator("form[data-part=when][data-sort=enters] button").click()
    page.locator("#add-then").select_option("end")
    page.locator("#then-end-team").select_option("2")
    page.locator("form[data-part=then][data-sort=end] button").click()
    words = "When somebody enters Yard: the round ends and team 2 has won. Once."
    expect(page.locator(".list.cues")).to_contain_text(words)
    page.locator("#round-laws").click()
    revision = table.revision()
    page.locator("#add-wins").select_option("done")
    page.locator("#wins-done-objective").select_option(hold["key"])
    page.locator("form[data-part=wins][data-sort=done] button").click()
    table.kept(revision)
    assert rows("rules")["wins"] == [[{"sort": "done", "objective": hold["key"]}]]
    # What a cue or a rule names is not taken away without a word.
    page.locator("#round-aims").click()
    page.locator(f"[data-aim='objectives/{hold['key']}']").click()
    page.locator("#aim-hold .btn-outline-danger").click()
    expect(page.locator(".toast-body")).to_contain_text("is named by the rules")


def test_a_wall_is_drawn_with_a_gate(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    page.locator("[data-place=hurdle]").click()
    page.locator("#lay-by").select_option("line")
    page.locator("[data-lay=wall]").click()
    revision = table.revision()
    for x, y in ((20, 85), (60, 85), (60, 70), (60, 70)):
        page.mouse.click(*table.at(x, y))
    table.kept(revision)
    page.locator("#wall-corner").select_option("lamp_post")
    table.kept(revision + 1)
    page.locator("[data-wall-act=gate]").click()
    page.mouse.click(*table.at(40, 85))
    table.kept(revision + 2)
    (wall,) = [one for one in things(table) if one["sort"] == "wall"]
    assert [round(x) for point in wall["points"] for x in point] == [0, 0, 40, 0, 40, -15]
    assert wall["gates"][0]["at_m"] == pytest.approx(20, abs=1)
    kinds = [one["kit"] for one in wall["members"]]
    assert (kinds.count("lamp_post"), kinds.count("gateway")) == (3, 1)
    expect(page.locator("#bench")).to_contain_text(f"{len(kinds)} pieces")


def test_a_part_holds_what_is_chosen_is_switched_off_and_copied(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    before = len(things(table))
    barn = next(one for one in things(table) if one["kit"] == "stone_barn")
    page.mouse.click(*table.at(barn["x"], barn["y"]))
    table.tab("List")
    page.locator("#listed-parts").click()
    page.locator("[data-part-act=add]").click()
    expect(page.locator("#part")).to_be_visible()
    expect(page.get_by_text("It holds 1 thing.")).to_be_visible()
    revision = table.revision()
    page.locator("#part-on").uncheck()
    page.get_by_role("button", name="Set the part").click()
    table.kept(revision)
    assert len(things(table)) == before - 1
    expect(page.get_by_text("Switched off: 1 rows lie aside.")).to_be_visible()
    page.locator("#part-on").check()
    page.get_by_role("button", name="Set the part").click()
    table.kept(revision + 1)
    assert {one["key"]: one for one in things(table)}[barn["key"]]["x"] == barn["x"]
    # Looked at first, then taken: of this world it is a copy.
    page.locator("#part-from").focus()
    page.locator("#part-from").select_option(label="Part 1, of Small")
    page.locator("[data-part-act=look]").click()
    expect(page.locator("#part-told")).to_contain_text("It would bring 1 new")
    page.locator("[data-part-act=take]").click()
    expect(page.locator("#part-told")).to_contain_text("It came: 1 new")
    assert len(things(table)) == before + 1


def test_a_launching_place_says_what_its_throw_meets(small: SmallTable) -> None:
    table, page = small, small.page
    table.open("sites")
    table.tab("Round")
    page.locator("#round-aims").click()
    page.locator("[data-place='way:launch']").click()
    page.mouse.click(*table.at(20, 20))
    expect(page.locator("#way-words")).to_have_text("It leads nowhere yet.")
    page.locator("[data-way-act=lead]").click()
    page.mouse.click(*table.at(60, 20))
    expect(page.locator("#way-words")).to_contain_text("It throws 4")
