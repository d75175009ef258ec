"""The Growth stage in the real page: ticks, mixes, kinds, single plants, the load gauge, growth in three dimensions."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.driving import Server, until
from tests.browser.table import Table
from tests.growth.test_brought import glb, palm, wrong


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


BOX = {"x0": 820, "y0": 560, "x1": 900, "y1": 620}


def plants(table: Table, **box: float) -> list[dict[str, Any]]:
    x0, y0, x1, y1 = ({**BOX, **box}[name] for name in ("x0", "y0", "x1", "y1"))
    return list(table.server.get(f"/api/tracts/{table.tract}/plants?x0={x0}&y0={y0}&x1={x1}&y1={y1}")["plants"])


def test_a_kind_that_is_not_ticked_is_left_alone(table: Table) -> None:
    table.open("growth", brushes={"sow": {"strength": 300}})
    assert plants(table) == []
    for kind in ("willow", "birch", "erratic", "bracken"):
        table.page.locator(f"[data-tick={kind}]").uncheck()
    table.drag((830, 590), (890, 590), steps=30)
    assert {plant["kind"] for plant in plants(table)} == {"alder"}
    for kind in ("willow", "birch", "erratic", "bracken"):
        table.page.locator(f"[data-tick={kind}]").check()
    at = table.revision()
    table.page.keyboard.press("Control+z")
    table.kept(at)
    assert plants(table) == []


def test_a_mix_is_changed_and_what_is_sown_follows(table: Table) -> None:
    table.open("growth", folds={"growth-mix": True}, brushes={"sow": {"strength": 300}})
    page = table.page
    table.drag((830, 590), (890, 590), steps=30)
    before = len(plants(table))
    assert before > 20
    drawn = table.colour(860, 590)
    density = page.locator("#mix-density_per_ha")
    # The gauge shows what it would be while it is typed.
    density.fill("1900")
    table.fold("growth-load")
    expect(page.locator("[data-load=instances]")).to_contain_text("of 20,000")
    expect(page.locator("[x-data=load]")).to_contain_text("At 1900 a hectare")
    table.fold("growth-mix")
    at = table.revision()
    page.get_by_role("button", name="Set the mix").click()
    table.kept(at)
    assert len(plants(table)) > 2 * before
    table.colour(860, 590, lambda seen: float(np.abs(seen - drawn).max()) > 4)
    expect(page.locator("[x-data=growth] table")).to_contain_text("Alder")
    density.fill("0")
    at = table.revision()
    page.get_by_role("button", name="Set the mix").click()
    table.kept(at)
    expect(page.locator("#bench")).to_contain_text("A density of 0: nothing of this mix stands")
    assert plants(table) == []
    for _ in range(3):
        at = table.revision()
        page.locator("#undo").click()
        table.kept(at)


def test_a_habitat_is_asked_for_and_taken_out(table: Table) -> None:
    table.open("growth", folds={"growth-part": True})
    page = table.page

    def asked() -> list[str]:
        mixes = table.server.get(f"/api/worlds/{table.world}")["mixes"]
        return [one["what"] for one in next(mix for mix in mixes if mix["key"] == "carr")["kinds"][0]["conditions"]]

    first = asked()
    table.tab("Where")
    page.locator("#part-asks-what").select_option("elevation")
    page.locator("#part-asks-to").fill("18")
    page.locator("#part-asks-soft").fill("4")
    at = table.revision()
    page.get_by_role("button", name="Set how it stands").click()
    table.kept(at)
    assert asked() == [*first, "elevation"]
    expect(page.locator("#bench")).to_contain_text("Elevation to 18 m")
    at = table.revision()
    page.get_by_role("button", name="Take it out: Elevation to 18 m").click()
    table.kept(at)
    assert asked() == first


def test_a_kind_is_copied_changed_put_into_a_mix_and_deleted(table: Table) -> None:
    table.open("growth", folds={"growth-kinds": True})
    page = table.page
    page.locator("[data-kind=birch]").click()
    at = table.revision()
    page.locator("[data-kind-act=copy]").click()
    table.kept(at)
    expect(page.locator("[data-kind][aria-pressed=true]")).to_contain_text("Birch again")
    page.locator("#kind-name").fill("Dead birch")
    page.locator("#kind-variant").select_option("dead")
    at = table.revision()
    page.get_by_role("button", name="Set the kind").click()
    table.kept(at)
    table.fold()
    page.locator("[data-mix=strand]").click()
    table.fold("growth-mix")
    at = table.revision()
    page.locator("#mix-add").select_option(label="Dead birch")
    table.kept(at)
    table.fold("growth-kinds")
    expect(page.locator(".its-kinds")).to_contain_text("Dead birch")
    at = table.revision()
    page.locator("[data-kind-act=remove]").click()
    table.kept(at)
    expect(page.locator(".its-kinds")).not_to_contain_text("Dead birch")
    for _ in range(4):
        at = table.revision()
        page.locator("#undo").click()
        table.kept(at)
    table.fold()
    page.locator("[data-mix=carr]").click()


def test_single_plants_are_put_chosen_moved_and_taken_away(table: Table) -> None:
    table.open("growth", folds={"growth-plants": True})
    page = table.page
    page.locator("[data-way=put]").click()
    at = table.revision()
    page.mouse.click(*table.at(860, 590))
    table.kept(at)
    (one,) = plants(table)
    assert (one["kind"], one["by_hand"]) == ("alder", True)
    at = table.revision()
    (x0, y0), (x1, y1) = table.at(840, 580), table.at(842.5, 580)
    page.mouse.move(x0, y0)
    page.mouse.down()
    page.mouse.move((x0 + x1) / 2, y0)
    page.mouse.move(x1, y1)
    page.mouse.up()
    table.kept(at)
    page.locator("[data-way=put]").click()
    page.locator("[data-way=choose]").click()
    page.locator("[data-sort=box]").click()
    page.mouse.click(*table.at(825, 565))
    page.mouse.click(*table.at(895, 615))
    expect(page.locator("#plants-counted")).to_have_text("2 Alder")
    # Dragged together, from one of them.
    at = table.revision()
    (x0, y0), (x1, y1) = table.at(860, 590), table.at(870, 595)
    page.mouse.move(x0, y0)
    page.mouse.down()
    page.mouse.move((x0 + x1) / 2, (y0 + y1) / 2)
    page.mouse.move(x1, y1)
    page.mouse.up()
    table.kept(at)
    moved = {plant["id"]: plant for plant in plants(table)}[one["id"]]
    assert moved["x"] == pytest.approx(one["x"] + 10, abs=1.5)
    assert moved["y"] == pytest.approx(one["y"] + 5, abs=1.5)
    page.locator("#plants-raise_by_m").fill("2")
    at = table.revision()
    page.get_by_role("button", name="Change what is chosen").click()
    table.kept(at)
    assert {plant["id"]: plant for plant in plants(table)}[one["id"]]["z"] == pytest.approx(moved["z"] + 2, abs=0.5)
    expect(page.locator("#plants-counted")).to_have_text("2 Alder")
    at = table.revision()
    page.locator("[data-plants-act=settle]").click()
    table.kept(at)
    at = table.revision()
    page.locator("[data-plants-act=remove]").click()
    table.kept(at)
    assert plants(table) == []
    expect(page.locator("#plants-counted")).to_have_text("Nothing is chosen.")
    page.locator("[data-way=choose]").click()


def test_growth_stands_in_the_overlook_and_a_kind_can_be_hidden(table: Table) -> None:
    table.open("growth", folds={"growth-kinds": True})
    page = table.page
    page.get_by_role("button", name="Overlook").click()
    until(page, "fern.overlook && fern.overlook.parts.growth.shown > 200")
    kinds = "[...fern.overlook.parts.growth.meshes].filter(([, m]) => m.visible).map(([key]) => key.split('/')[0])"
    assert "alder" in page.evaluate(kinds)
    # Few meshes, however many plants: one for each kind, look and distance at most.
    assert page.evaluate("fern.overlook.parts.growth.meshes.size") <= 24
    page.locator("[data-kind=alder]").click()
    page.locator("[data-kind-act=hide]").click()
    until(page, f"!{kinds}.includes('alder')")
    page.locator("[data-kind-act=hide]").click()
    until(page, f"{kinds}.includes('alder')")
    page.locator("[data-view=plan]").click()


def test_a_shape_of_ones_own_is_brought_chosen_and_drawn(table: Table) -> None:
    table.open("growth", folds={"growth-kinds": True})
    page = table.page
    page.locator("[data-kind=erratic]").click()
    refused = {"name": "far.gltf", "mimeType": "model/gltf+json", "buffer": wrong("outside")}
    page.locator("#shape-file").set_input_files(refused)
    page.get_by_role("button", name="Bring it in").click()
    expect(page.locator("body")).to_contain_text("points.bin")
    page.locator("#shape-file").set_input_files(
        {"name": "palm.glb", "mimeType": "model/gltf-binary", "buffer": glb(palm())}
    )
    page.get_by_role("button", name="Bring it in").click()
    expect(page.locator("#kind-model option")).to_have_count(2)
    # The fold stays open when the bench comes anew.
    page.locator("[data-kind=erratic]").click()
    expect(page.locator("#kind-switches")).to_contain_text("turns simpler at")
    page.locator("#kind-model").select_option(index=1)
    at = table.revision()
    page.get_by_role("button", name="Set the kind").click()
    table.kept(at)
    kind = next(one for one in table.server.get(f"/api/worlds/{table.world}")["kinds"] if one["key"] == "erratic")
    assert kind["model"].startswith("m")
    at = table.revision()
    page.keyboard.press("Control+z")
    table.kept(at)
    expect(page.locator("#kind-model")).to_have_value("")


def test_ground_cover_is_added_set_and_seen_near_the_eye_only(table: Table) -> None:
    table.open("growth", folds={"growth-swards": True}, subjects={})
    page = table.page
    at = table.revision()
    page.get_by_label("Name of a new ground cover").fill("Moss")
    page.get_by_role("button", name="Add ground cover").click()
    table.kept(at)
    moss = page.locator("[data-sward]", has_text="Moss")
    expect(moss).to_have_attribute("aria-pressed", "true")
    expect(page.locator("#sward-per_m2")).to_have_value("8")
    table.tab("Grows on")
    at = table.revision()
    page.locator("[data-grows-on=fen-peat]").check()
    table.kept(at)
    at = table.revision()
    table.tab("Habitat")
    page.locator("#sward-asks-what").select_option("elevation")
    expect(page.locator("[data-of=sward] svg.spread path")).to_have_attribute("d", re.compile("^M0 40V"))
    page.locator("#sward-asks-to").fill("40")
    page.get_by_role("button", name="Set the ground cover").click()
    table.kept(at)

    def mine() -> dict[str, Any]:
        every = table.server.get(f"/api/worlds/{table.world}")["swards"]
        return next(dict(one) for one in every if one["name"] == "Moss")

    assert mine()["covers"] == ["fen-peat"]
    assert [(one["what"], one["to"]) for one in mine()["conditions"]] == [("elevation", 40)]
    # From above nothing of it is drawn; at eye level it is.
    table.stage("trial")
    page.locator("[data-walk]").click()
    until(page, "fern.overlook && fern.overlook.parts.swards.shown > 100")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Overlook").click()
    until(page, "fern.overlook.parts.swards.shown === 0")
    page.locator("[data-view=plan]").click()
    table.stage("growth")
    at = table.revision()
    page.locator("[data-sward]", has_text="Moss").click()
    page.locator("[data-sward-act=remove]").click()
    table.kept(at)
    expect(page.locator("[data-sward]", has_text="Moss")).to_have_count(0)
