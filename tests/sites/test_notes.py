"""Notes: their routes, undo, what becomes of them with the land, the package, and pinning one on the map."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from zipfile import ZipFile

import geojson
import pytest
from fastapi.testclient import TestClient
from playwright.sync_api import Page, expect

from fernfield.work.ground.commands import MoveLand
from fernfield.work.ground.moving import move_land
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.notes import NOTES, Note
from fernfield.work.studio import Studio
from fernfield.work.worlds.tracts import CropTract
from tests.browser.driving import Server, until
from tests.browser.table import Table
from tests.conftest import ended

NOTE = {"text": "Raise this bank\nby two metres", "x": 40, "y": 60}


@pytest.fixture
def notes(client: TestClient) -> str:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 300, "depth_m": 300, "spacing_m": 1})
    return f"/api/worlds/{made.json()['id']}/notes"


def test_a_note_is_put_changed_field_by_field_undone_and_deleted(client: TestClient, notes: str) -> None:
    assert client.put(f"{notes}/bank", json=NOTE).status_code == 200
    (first,) = client.get(notes).json()
    assert first.pop("tract")
    assert first == {"key": "bank", **NOTE, "colour": "#a2431f", "done": False, "facing": None, "part": None}
    client.patch(f"{notes}/bank", json={"done": True})
    client.patch(f"{notes}/bank", json={"colour": "#2c6647"})
    # A put that leaves fields out leaves them as they were.
    client.put(f"{notes}/bank", json={**NOTE, "x": 41})
    (found,) = client.get(notes).json()
    assert (found["done"], found["colour"], found["x"]) == (True, "#2c6647", 41)
    words = client.get(f"{notes.removesuffix('/notes')}/revisions?most=1").json()[0]["words"]
    assert words == "Changed the note Raise this bank"
    for _ in range(2):
        client.post(f"{notes.removesuffix('/notes')}/undo")
    (found,) = client.get(notes).json()
    assert (found["done"], found["colour"], found["x"]) == (True, "#a2431f", 40)
    assert client.delete(f"{notes}/bank").status_code == 200
    assert client.get(notes).json() == []
    assert client.patch(f"{notes}/bank", json={"done": True}).status_code == 404


def test_a_note_that_cannot_be_is_refused_with_the_field_named(client: TestClient, notes: str) -> None:
    for wrong, field, words in (
        ({"text": "  "}, "text", "at least 1"),
        ({"x": 301}, "x", "inside the tract"),
        ({"colour": "red"}, "colour", "colour like"),
        ({"tract": "nowhere"}, "tract", "nowhere"),
        ({"size": 3}, "size", "not asked for"),
    ):
        answer = client.post(notes, json={**NOTE, **wrong})
        assert answer.status_code in (404, 422), wrong
        said = answer.json()
        assert words in said["detail"], said
        assert [e["field"] for e in said.get("errors", [])] in ([field], []), said
    assert client.get(notes).json() == []


def pinned(world: OpenWorld) -> dict[str, Note]:
    world.edit(put(NOTES, "here", Note(text="Here", x=60, y=60)))
    world.edit(put(NOTES, "far", Note(text="Far", x=250, y=250, done=True)))
    return dict(world.each(NOTES))


def test_notes_go_with_the_land(studio: Studio, world: OpenWorld) -> None:
    pinned(world)
    assert dict(world.each(NOTES))["far"].title == "Far"
    move_land(world, world.first_tract, MoveLand(box=(30, 30, 90, 90), x=200, y=100, turn_deg=90, pieces=True))
    before = dict(world.each(NOTES))
    here = before["here"]
    assert (here.x, here.y) == (200, 100)
    ended(studio.start_crop(world.first_tract.row.id, CropTract(x0=150, y0=50, x1=300, y1=200, fill="level")))
    # One lies in the new bounds, the other goes; undo brings it back to where it was.
    (left,) = world.each(NOTES)
    assert (left[0], left[1].x, left[1].y) == ("here", 50, 50)
    world.undo()
    assert dict(world.each(NOTES)) == before
    copied = studio.world(ended(studio.start_copy(world.id, "Copy")).result["world"])
    assert dict(copied.each(NOTES))["here"].x == 200


def test_notes_are_in_the_package(studio: Studio, world: OpenWorld, tmp_path: Path) -> None:
    pinned(world)
    write_package(world, tmp_path / "p.zip", lambda done, words: None)
    with ZipFile(tmp_path / "p.zip") as package:
        said = json.loads(package.read("manifest.json"))["tracts"][0]["notes"]
        found = geojson.loads(package.read(said["file"]))
    # Checked by the geojson package: a FeatureCollection of points (RFC 7946, sections 3.1.2 and 3.3).
    assert found.is_valid
    assert [(f["id"], f["geometry"]["coordinates"], f["properties"]["done"]) for f in found["features"]] == [
        ("far", [250, 250], True),
        ("here", [60, 60], False),
    ]


def test_a_note_is_pinned_on_the_map_written_moved_and_deleted(page: Page, server: Server) -> None:
    table = Table(page, server)
    table.open("sites")

    def told() -> list[dict[str, Any]]:
        return list(server.get(f"/api/worlds/{table.world}/notes"))

    revision = table.revision()
    table.tab("Marks")
    page.locator("[data-place=note]").click()
    page.mouse.click(*table.at(650, 560))
    table.kept(revision)
    form = page.locator("#note")
    expect(form).to_be_visible()
    form.get_by_label("Text").fill("A ford belongs here")
    form.get_by_label("Done").check()
    form.get_by_role("button", name="Set the note").click()
    table.kept(revision + 1)
    expect(page.locator("[data-note]")).to_contain_text("A ford belongs here")
    (note,) = told()
    assert (note["text"], note["done"]) == ("A ford belongs here", True)
    assert (note["x"], note["y"]) == pytest.approx((650, 560), abs=2)
    page.mouse.move(*table.at(note["x"], note["y"]))
    page.mouse.down()
    page.mouse.move(*table.at(610, 520), steps=6)
    page.mouse.up()
    table.kept(revision + 2)
    assert (told()[0]["x"], told()[0]["y"]) == pytest.approx((610, 520), abs=2)
    page.keyboard.press("Delete")
    table.kept(revision + 3)
    assert told() == []
    for step in range(4, 8):
        page.locator("#undo").click()
        table.kept(revision + step)
    until(page, "fern.rows('notes').length === 0")
