"""Rows by the thousand: found by where they lie, changed all at once, as a file and back."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import numpy as np
import pytest
import shapely
from fastapi.testclient import TestClient

from fernfield.core.errors import InvalidInput
from fernfield.formats.rowfiles import read_rows
from fernfield.work.kernel.commands import Together, put, remove
from fernfield.work.kernel.many import change_many, look_at_rows, take_rows
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.notes import NOTES
from fernfield.work.sites.rows import THINGS, Piece, Thing

WORLD = {"name": "Many", "width_m": 256, "depth_m": 256, "spacing_m": 1, "elevation_m": 10}
RING = [[0, 0], [100, 0], [100, 100], [0, 100]]


def beacon(k: int, x: float, y: float) -> Thing:
    return Piece(kit="beacon", name=f"B {k}", x=x, y=y)


def test_what_lies_in_a_box_is_found_as_by_looking_at_all(world: OpenWorld) -> None:
    """After any sequence of edits, and their undo."""
    rng = np.random.default_rng(3)
    for turn in range(40):
        x, y = rng.uniform(0, 300, 2)
        key = f"p{rng.integers(12)}"
        edits: list[Any] = [put(THINGS, key, beacon(turn, x, y)), put(THINGS, f"q{turn}", beacon(turn, y, x))]
        if (gone := f"q{turn - 3}") in world.rows["things"]:
            edits.append(remove(THINGS, gone))
        world.edit(Together(edits=tuple(edits)))
        if turn % 5 == 4:
            world.undo()
        x0, y0, x1, y1 = (*rng.uniform(-50, 200, 2), *rng.uniform(100, 400, 2))
        every = {k: t for k, t in world.each(THINGS) if x0 <= t.x <= x1 and y0 <= t.y <= y1}
        assert dict(world.near(THINGS, world.first_tract.row.id, (x0, y0, x1, y1))) == every
        assert world.count_of(THINGS, "beacon") == len(world.rows["things"])


def test_many_are_changed_as_one_revision_or_not_at_all(world: OpenWorld) -> None:
    rows = [(f"n{k}", {"text": f"Note {k}", "x": k % 300, "y": 5}) for k in range(600)]
    take_rows(world, NOTES, look_at_rows(world, NOTES, rows))
    keys = [key for key, _ in rows]
    outcome = change_many(world, NOTES, keys, {"done": True})
    assert (outcome.revision, outcome.words) == (2, "Changed 600 notes")
    assert all(note.done for _, note in world.each(NOTES))
    with pytest.raises(InvalidInput, match="inside the tract"):
        change_many(world, NOTES, keys, {"x": 301})
    assert world.revision == 2
    world.undo()
    assert not any(note.done for _, note in world.each(NOTES))


def test_a_file_is_looked_at_first_and_comes_back_as_it_went(client: TestClient) -> None:
    made = client.post("/api/worlds", json=WORLD).json()
    base = f"/api/worlds/{made['id']}"
    client.put(f"{base}/plots/ring", json={"name": "Ring", "points": RING})
    client.put(f"{base}/lines/dyke", json={"name": "Dyke", "points": [[5, 5], [50, 40]]})
    for k, x in (("a", 20), ("b", 60)):
        client.put(f"{base}/notes/{k}", json={"text": k.upper(), "x": x, "y": 30.5})
    client.put(f"{base}/things/pump", json={"sort": "piece", "kit": "windpump", "name": "Pump", "x": 60, "y": 60})

    def send(name: str, content: bytes, **query: str) -> dict[str, Any]:
        answer = client.post(f"{base}/{name}/file", files={"file": ("rows", content)}, params=query)
        return {"status": answer.status_code, **answer.json()}

    # Shapely reads the geometries: a closed ring of 100 m a side, a line, points.
    files = {name: client.get(f"{base}/{name}.geojson").content for name in ("plots", "lines", "notes", "things")}
    shapes = {name: [shapely.from_geojson(json.dumps(one["geometry"])) for one in json.loads(file)["features"]]
              for name, file in files.items()}  # fmt: skip
    assert [shape.area for shape in shapes["plots"]] == [10_000]
    assert shapes["lines"][0].length == pytest.approx(np.hypot(45, 35))
    assert [(point.x, point.y) for point in shapes["notes"]] == [(20, 30.5), (60, 30.5)]
    for name, file in files.items():
        assert send(name, file) | {"same": 0} == {
            "status": 200, "new": [], "changed": [], "same": 0, "refused": [], "unknown": [], "revision": 5,
        }  # fmt: skip
    said = json.loads(files["notes"])
    said["features"][0]["properties"]["text"] = "Changed"
    said["features"] += [
        {
            "type": "Feature",
            "id": "c",
            "properties": {"text": "New"},
            "geometry": {"type": "Point", "coordinates": [9, 9]},
        },
        {"type": "Feature", "properties": {"text": "Out"}, "geometry": {"type": "Point", "coordinates": [999, 9]}},
        {"properties": {"text": "", "x": 1, "y": 1}},
    ]
    looked = send("notes", json.dumps(said).encode())
    assert (looked["new"], looked["changed"], looked["same"], looked["revision"]) == (["c"], ["a"], 1, 5)
    assert [(one["number"], "inside the tract" in one["message"]) for one in looked["refused"]] == [
        (3, True),
        (4, False),
    ]
    assert send("notes", json.dumps(said).encode(), take="all")["status"] == 422
    assert send("notes", json.dumps(said).encode(), take="fitting")["revision"] == 6
    assert [note["text"] for note in client.get(f"{base}/notes").json()] == ["Changed", "B", "New"]
    client.post(f"{base}/undo")
    assert len(client.get(f"{base}/notes").json()) == 2
    # The same by a spreadsheet.
    out = io.StringIO()
    csv.writer(out).writerows(
        [("key", "text", "x", "y", "done"), ("b", "By a sheet", 61, 30.5, "true"), ("12e4567890", "2", 7, 8, "")]
    )
    taken = send("notes", out.getvalue().encode(), take="all")
    assert (taken["new"], taken["changed"]) == (["12e4567890"], ["b"]), "a key that looks like a number"
    assert "2" in [note["text"] for note in client.get(f"{base}/notes").json()], "text that looks like a number"
    body = {"ids": ["a", "b"], "change": {"colour": "#112233"}}
    assert client.patch(f"{base}/notes", json=body).json()["revision"] == 9
    assert client.patch(f"{base}/notes", json={**body, "ids": []}).status_code == 422


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"\xff\xfe", "text in UTF-8"),
        (b"{", "cannot be read as it"),
        (b'{"type": "Feature"}', "FeatureCollection with a list"),
        (b'{"features": [{"geometry": {"type": "Polygon"}}]}', "feature 0 must be a Point, not 'Polygon'"),
        (b'{"features": [{"geometry": {"type": "Point", "coordinates": [1]}}]}', "coordinates of feature 0"),
        (b"", "begins with a line of names"),
        (b"x,x\n1,2\n", "a name stands twice"),
        (b"x,y\n1\n", "line 2 has 1 cells, the first line 2 names"),
    ],
)
def test_a_file_that_is_none_is_refused_in_words(content: bytes, words: str) -> None:
    with pytest.raises(InvalidInput, match=words):
        read_rows(content, {"x": "east", "y": "north"})
