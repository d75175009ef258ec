"""Rows: changed by what is said and only that; older versions, unreadable ones, many at once; and what is told."""

from __future__ import annotations

import dataclasses
import re
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient
from sqlalchemy import text

from fernfield.core.errors import FormatError
from fernfield.web.app import create_app
from fernfield.work import kernel
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import Together, patch, put, remove
from fernfield.work.kernel.events import Event, Revised
from fernfield.work.kernel.rows import Collection, Row
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.sites.rows import THINGS, Piece, Start, Thing, things_of
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

SQUARE = ((10.0, 10.0), (90.0, 10.0), (90.0, 90.0), (10.0, 90.0))


def test_two_people_who_change_two_fields_of_one_row_keep_both(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()["id"]
    light = f"/api/worlds/{world}/light"
    before = client.get(light).json()
    client.patch(light, json={"sun_bearing_deg": 10})
    client.put(light, json={"sun_height_deg": 77})
    assert client.get(light).json() == {**before, "sun_bearing_deg": 10, "sun_height_deg": 77}
    things = f"/api/worlds/{world}/things"
    client.put(f"{things}/a", json={"sort": "start", "name": "A", "x": 5, "y": 6, "turn_deg": 40})
    client.put(f"{things}/a", json={"sort": "start", "name": "B", "x": 5, "y": 6})
    (found,) = client.get(things).json()
    assert (found["name"], found["turn_deg"], found["default"]) == ("B", 40, True)


def test_two_first_starts_together_make_one_default(world: OpenWorld) -> None:
    starts = [put(THINGS, key, Start(name=key.upper(), x=20, y=20)) for key in ("a", "b")]
    world.edit(Together(edits=tuple(starts)))
    assert [key for key, thing in things_of(world) if thing.default] == ["a"]
    # An edit finds the rows as those before it left them: put, changed and removed again.
    edits = (
        put(PLOTS, "p", Plot(name="P", points=SQUARE)),
        patch(PLOTS, "p", name="Q"),
        patch(THINGS, "b", default=True),
        remove(THINGS, "a"),
    )
    world.edit(Together(edits=edits))
    assert dict(world.each(PLOTS))["p"].name == "Q"
    assert [key for key, thing in things_of(world) if thing.default] == ["b"]


def test_edits_together_look_through_the_rows_once(world: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    """However many starts are put, who is the default is looked for once (`fernfield bench` has the time)."""
    pieces = (put(THINGS, f"p{k}", Piece(kit="beacon", name=f"B {k}", x=k % 300, y=k // 300)) for k in range(500))
    world.edit(Together(edits=tuple(pieces)))
    looks = 0
    was = Thing.__getattribute__

    def counted(thing: Thing, name: str) -> Any:
        nonlocal looks
        looks += name == "default"
        return was(thing, name)

    monkeypatch.setattr(Thing, "__getattribute__", counted)
    starts = tuple(put(THINGS, f"s{k}", Start(name="S", x=k, y=1)) for k in range(40))
    world.edit(Together(edits=starts))
    monkeypatch.undo()
    assert len(things_of(world)) == 540
    assert [key for key, thing in things_of(world) if getattr(thing, "default", False)] == ["s0"]
    # Once all 500, and for each edit those before it; looking through all for each would be 20,000.
    assert looks < 500 + 40 * 45


class Renamed(Row):
    """A row whose field `height` was called `tall` in version 1."""

    height: float


def _upgrade(body: dict[str, Any], version: int) -> dict[str, Any]:
    return {"height": body["tall"]} if version < 2 else body


MASTS = Collection("masts", Renamed, "mast", version=2, upgrade=_upgrade)


def test_a_row_of_an_older_version_is_brought_up_and_one_of_a_newer_refused() -> None:
    assert MASTS.parse("a", '{"tall": 3}') == Renamed(height=3)
    assert MASTS.parse("a", '{"_v": 2, "height": 3}') == Renamed(height=3)
    assert MASTS.parse("a", MASTS.dump(Renamed(height=4))) == Renamed(height=4)
    with pytest.raises(FormatError, match=r"masts/a was written by a newer version \(3\)"):
        MASTS.parse("a", '{"_v": 3, "height": 3}')


def test_undo_of_an_edit_whose_row_was_written_under_an_older_field_name(studio: Studio) -> None:
    """The old world, its undo and its past go on when a field is renamed."""
    key = studio.create(WorldSpec(name="Old", width_m=128, depth_m=128, spacing_m=1))
    world = studio.world(key)
    world.edit(patch(LIGHT, "sun", sun_bearing_deg=10.0))
    world.edit(patch(LIGHT, "sun", sun_bearing_deg=20.0))
    with studio.store.engine.begin() as c:
        for table, column in (("entries", "body"), ("entry_changes", "before"), ("entry_changes", "after")):
            c.execute(
                text(
                    f"UPDATE {table} SET {column} = replace({column}, 'sun_bearing_deg', 'bearing') "
                    "WHERE collection = 'light'"
                )
            )

    def upgrade(body: dict[str, Any], version: int) -> dict[str, Any]:
        return {("sun_bearing_deg" if name == "bearing" else name): value for name, value in body.items()}

    light = dataclasses.replace(LIGHT, version=2, upgrade=upgrade)
    rooms = (dataclasses.replace(one, collections=(light,)) if one.name == "light" else one for one in HOUSE.rooms)
    again = OpenWorld(dataclasses.replace(HOUSE, rooms=tuple(rooms)), studio.store, key)
    assert not again.unread
    assert again.only(light).sun_bearing_deg == 20
    again.undo()
    assert again.only(light).sun_bearing_deg == 10
    again.redo()
    assert again.only(light).sun_bearing_deg == 20


def test_a_world_that_cannot_be_opened_keeps_no_other_from_being_listed(tmp_path: Path) -> None:
    spec = {"width_m": 128, "depth_m": 128, "spacing_m": 1}
    studio = Studio(tmp_path / "data")
    bad, worse, good = (studio.create(WorldSpec(name=name, **spec)) for name in ("Bad", "Worse", "Good"))
    with studio.store.engine.begin() as c:
        c.execute(text("UPDATE entries SET body = '{nonsense' WHERE world_id = :w"), {"w": bad})
        c.execute(text("INSERT INTO entries VALUES (:w, 'ponds', 'one', '{}')"), {"w": bad})
        c.execute(text("DELETE FROM tracts WHERE world_id = :w"), {"w": worse})
    studio.close()
    with TestClient(create_app(Studio(tmp_path / "data")), base_url="http://127.0.0.1:8127") as client:
        assert {bad, good} <= {w["id"] for w in client.get("/api/worlds").json()}
        page = client.get("/")
        assert page.status_code == 200
        assert "Good" in page.text
        assert "This world cannot be opened" in page.text
        assert "rows cannot be read by this version" in page.text
        found = client.get(f"/api/worlds/{bad}").json()
        assert "ponds" in {one["collection"] for one in found["unread"]}
        assert found["sea_level_m"] == 0
        assert client.get(f"/worlds/{bad}").status_code == 200


def test_a_revision_tells_the_rows_that_changed_and_no_others(world: OpenWorld) -> None:
    heard: list[Event] = []
    world.edit(put(THINGS, "a", Start(name="A", x=20, y=20)))
    world.listen(heard.append)
    world.edit(put(THINGS, "b", Start(name="B", x=40, y=20, default=True)))
    (told,) = [event for event in heard if isinstance(event, Revised)]
    assert sorted((row.collection, row.key) for row in told.rows) == [("things", "a"), ("things", "b")]
    world.undo()
    told = [event for event in heard if isinstance(event, Revised)][-1]
    assert {row.key: row.row is None for row in told.rows} == {"a": False, "b": True}


def test_the_kernel_names_no_stage() -> None:
    words = r"\b(flatten|paint|sow|sheets?|openings?|growth|cover|things|sun|sea)\b|sheet:|cover_|sun_|sea_level"
    found = {
        f"{path.name}: {line.strip()}"
        for path in Path(kernel.__file__).parent.rglob("*.py")
        for line in path.read_text().splitlines()
        if re.search(words, line.partition("#")[0])
    }
    assert not found
