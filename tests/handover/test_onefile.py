"""A world as one file: out of one data folder and into another."""

from __future__ import annotations

import io
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.grid import Window
from fernfield.store.database import open_database
from fernfield.store.onefile import read_world, write_world
from fernfield.store.schema import metadata
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.studio import BLOBS, Studio
from fernfield.work.worlds.beginnings import WorldSpec

SPEC = {"name": "W", "width_m": 300, "depth_m": 200, "spacing_m": 1, "elevation_m": 5}


@pytest.fixture
def base(client: TestClient) -> str:
    """A world that was worked in: strokes, rows, a picture, something undone."""
    made = client.post("/api/worlds", json=SPEC).json()
    base, tract = f"/api/worlds/{made['id']}", made["tracts"][0]["id"]
    for tool in ("raise", "roughen"):
        stroke = {"tool": tool, "radius_m": 40, "softness": 1, "strength": 40, "path": [[240, 100, 0], [280, 100, 1]]}
        assert client.post(f"/api/tracts/{tract}/strokes", json=stroke).status_code == 200
    client.post(f"{base}/things", json={"sort": "piece", "name": "Cairn", "kit": "cairn", "x": 50, "y": 50})
    grey = io.BytesIO()
    Image.linear_gradient("L").save(grey, "PNG")
    client.post(f"{base}/pictures", files={"file": ("grey.png", grey.getvalue())}, data={"name": "Grey"})
    client.post(f"{base}/undo")
    return base


def rows_of(path: Path) -> dict[str, list[Any]]:
    with closing(sqlite3.connect(path)) as c:
        return {name: sorted(c.execute(f"SELECT * FROM {name}"), key=str) for name in metadata.tables}


def test_a_world_goes_as_one_file_with_all_that_was_done(client: TestClient, base: str, tmp_path: Path) -> None:
    answer = client.get(f"{base}.fern")
    assert (answer.status_code, answer.content[:15]) == (200, b"SQLite format 3")
    first = tmp_path / "first.fern"
    first.write_bytes(answer.content)
    other = Studio(tmp_path / "other")
    there = other.read_world(first)
    mine = client.app.state.studio.world(there.id)  # type: ignore[attr-defined]
    whole = Window(0, 0, 201, 301)
    for _ in range(4):
        assert (there.tracts[mine.first_tract.row.id].cache.read(HEIGHT, whole)
                == mine.first_tract.cache.read(HEIGHT, whole)).all()  # fmt: skip
        # Whatever can be undone and made again here can be there.
        for one in (there, mine):
            one.undo() if one.can_undo else one.redo()
        assert there.revision == mine.revision
    write_world(other.store.engine, there.id, tmp_path / "second.fern", logbook=True)
    third = tmp_path / "third.fern"
    third.write_bytes(client.get(f"{base}.fern").content)
    out, back = rows_of(tmp_path / "second.fern"), rows_of(third)
    for changing in ("worlds", "revisions"):
        # When it was done is not the same; all else is, to the byte.
        assert len(out.pop(changing)) == len(back.pop(changing))
    assert out == back
    assert out["pictures"]
    other.close()
    without = tmp_path / "without.fern"
    without.write_bytes(client.get(f"{base}.fern?logbook=false").content)
    fresh = Studio(tmp_path / "fresh")
    bare = fresh.read_world(without)
    assert (bare.can_undo, bare.revision, len(bare.rows["things"])) == (False, mine.revision, len(mine.rows["things"]))
    fresh.close()


def test_it_is_not_taken_twice_nor_over_another(client: TestClient, base: str) -> None:
    body = client.get(f"{base}.fern").content
    before = client.get(base).json()["revision"]
    answer = client.post("/api/worlds/open", files={"file": ("w.fern", body)})
    assert (answer.status_code, "here already" in answer.text) == (409, True)
    assert client.get(base).json()["revision"] == before


def spoil(path: Path, *statements: str) -> None:
    with closing(sqlite3.connect(path)) as c:
        for one in statements:
            c.execute(one)
        c.commit()


def cut(path: Path) -> None:
    path.write_bytes(path.read_bytes()[:-9_000])


HOSTILE: tuple[tuple[Callable[[Path], None], str], ...] = (
    (lambda path: path.write_bytes(b"PK\x03\x04"), "no world as one file"),
    (lambda path: path.write_bytes(b""), "no world as one file"),
    (cut, "damaged"),
    (lambda path: spoil(path, "CREATE TRIGGER t AFTER INSERT ON worlds BEGIN DELETE FROM tracts; END"), "holds t"),
    (lambda path: spoil(path, "CREATE VIEW v AS SELECT 1"), "holds v"),
    (lambda path: spoil(path, "DELETE FROM worlds"), "points nowhere"),
    (lambda path: spoil(path, "UPDATE tiles SET blob = x'00'"), "known form"),
    (
        lambda path: spoil(path, "INSERT INTO run_tracks SELECT id, 'k', x'50' FROM worlds"),
        "run were cannot be read",
    ),
    (lambda path: spoil(path, "UPDATE alembic_version SET version_num = '9999'"), "newer version"),
    (lambda path: spoil(path, "DROP TABLE tiles"), "no world"),
    (
        lambda path: spoil(
            path,
            "UPDATE worlds SET id = '../w'",
            "UPDATE tracts SET world_id = '../w'",
            "UPDATE entries SET world_id = '../w'",
        ),
        "may not be called",
    ),
)


@pytest.mark.parametrize(("change", "words"), HOSTILE)
def test_what_is_no_such_file_is_refused_in_words(tmp_path: Path, change: Callable[[Path], None], words: str) -> None:
    studio = Studio(tmp_path / "data")
    spec = WorldSpec(name="W", width_m=40, depth_m=40, spacing_m=1)
    world = studio.create(spec, heights=lambda window: np.full(window.shape, 7, np.float32))
    path = tmp_path / "w.fern"
    write_world(studio.store.engine, world, path, logbook=True)
    studio.close()
    change(path)
    target = open_database(tmp_path / "other.db")
    with pytest.raises(Exception, match=words) as found:
        read_world(target, path, BLOBS)
    assert type(found.value).__module__ == "fernfield.core.errors"
    assert rows_of(tmp_path / "other.db")["worlds"] == []
    target.dispose()
