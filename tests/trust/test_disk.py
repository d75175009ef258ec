"""A disk that is full, or cannot be written: the one thing that needed it fails, in words, and nothing is lost."""

from __future__ import annotations

import errno
import json
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from sqlalchemy import event
from typer.testing import CliRunner

import fernfield.web.kernel.uploads
import fernfield.work.kernel.windows
from fernfield.cli import app as cli
from fernfield.core.errors import NO_ROOM, NoRoom, StorageError
from fernfield.formats.png import heights_png_parts
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import Reset, Weather
from fernfield.work.kernel.windows import scratch
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from tests.conftest import draw, ended, everything, live

STROKE = {"tool": "raise", "radius_m": 20, "softness": 0.5, "strength": 10}


@contextmanager
def full(studio: Studio) -> Iterator[None]:
    """The database may not grow: SQLite says that its disk is full."""

    def shut(connection: Any, most: int) -> None:
        connection.execute(f"PRAGMA max_page_count={most}")

    def on_connect(connection: Any, _record: object) -> None:
        shut(connection, 1)

    engine = studio.store.engine
    engine.dispose()
    # No less than there is: so nothing more goes in.
    event.listen(engine, "connect", on_connect)
    try:
        yield
    finally:
        event.remove(engine, "connect", on_connect)
        engine.dispose()


def test_every_edit_on_a_full_disk_fails_in_words_and_nothing_is_lost(studio: Studio, world: OpenWorld) -> None:
    draw(world)
    kept, revision = everything(world), world.revision
    tract = world.first_tract
    with full(studio):
        for edit in (
            lambda: draw(world, "roughen", radius_m=90, strength=200),
            lambda: reset(world, tract, Reset(to="elevation", elevation_m=77), None),
            world.undo,
        ):
            # Free pages of the file may still take some.
            words = ""
            for _ in range(40):
                try:
                    edit()  # type: ignore[no-untyped-call]
                except NoRoom as error:
                    words = str(error)
                    break
                kept, revision = everything(world), world.revision
            assert words == NO_ROOM
            assert everything(world) == kept
            assert world.revision == revision
    again = OpenWorld(world.house, studio.store, world.id)
    assert everything(again) == kept
    assert draw(world).revision == revision + 1


def test_a_stroke_on_a_full_disk_is_told_and_the_land_is_seen_as_it_is(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "F", "width_m": 300, "depth_m": 300, "spacing_m": 1}).json()
    studio, tract = client.app.state.studio, made["tracts"][0]["id"]  # type: ignore[attr-defined]
    with client.websocket_connect(live(made["id"])) as socket, full(studio):
        for attempt in range(60):
            begins = {"tool": "roughen", "radius_m": 90, "softness": 0.5, "strength": 200}
            socket.send_text(json.dumps({"is": "begin", "tract": tract, "stroke": begins}))
            path = [[60, 100 + attempt, 0], [140, 150, 0.5], [250, 200, 1]]
            socket.send_text(json.dumps({"is": "move", "samples": path}))
            socket.send_text(json.dumps({"is": "end"}))
            while (message := socket.receive_json())["is"] not in ("ended", "error"):
                pass
            if message["is"] == "error":
                break
        assert message["message"] == NO_ROOM
        assert message["lost"]
        # The line goes on, and what is seen is what is kept.
        seen = client.get(f"/api/tracts/{tract}/heights").content
        answer = client.post(
            f"/api/tracts/{tract}/strokes", json={**STROKE, "radius_m": 120, "path": [[10, 10, 0], [290, 290, 3]]}
        )
        assert answer.status_code == 507
        assert "disk is full" in answer.json()["detail"]
    stored = OpenWorld(studio.house, studio.store, made["id"])
    window = stored.first_tract.grid.window
    assert stored.first_tract.cache.read("height", window).astype("<f4").tobytes() == seen


def test_a_database_that_another_program_holds_is_told(studio: Studio, world: OpenWorld, tmp_path: Path) -> None:
    kept = everything(world)
    engine = studio.store.engine
    engine.dispose()

    @event.listens_for(engine, "connect")
    def _impatient(connection: Any, _record: object) -> None:
        connection.execute("PRAGMA busy_timeout=50")

    with closing(sqlite3.connect(tmp_path / "data" / "fernfield.db", isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(StorageError, match="another program"):
            draw(world)
        other.execute("ROLLBACK")
    assert everything(world) == kept
    assert draw(world).revision == 1


def test_room_is_taken_before_it_is_counted_on(monkeypatch: pytest.MonkeyPatch) -> None:
    """A mapped file with holes kills the process when the disk is full (SIGBUS): here the system says that it is."""

    def none(_file: int, _at: int, _size: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(fernfield.work.kernel.windows.os, "posix_fallocate", none)
    with pytest.raises(NoRoom, match="disk is full"), scratch((5_000, 5_000), np.float32):
        pass


SMALL = """
import resource, signal, sys
from pathlib import Path
from fernfield.core.errors import NoRoom
from fernfield.work.ground.commands import Weather
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import ended, everything

studio = Studio(Path(sys.argv[1]))
world = studio.world(studio.create(WorldSpec(name="W", width_m=3200, depth_m=3200, spacing_m=1)))
# From here on no file may become larger than 24 MiB: as on a disk with so much room left.
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
resource.setrlimit(resource.RLIMIT_FSIZE, (24 << 20, 24 << 20))
job = ended(studio.start_weather(world.first_tract.row.id, Weather(kind="frost", passes=2, repose_deg=10)))
print(job.state, "|", job.message, "|", world.revision)
studio.jobs.close()
"""


def test_weather_that_finds_no_room_fails_and_the_server_lives(tmp_path: Path) -> None:
    done = subprocess.run([sys.executable, "-c", SMALL, str(tmp_path)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
    state, words, revision = done.stdout.strip().split(" | ")
    assert (state, revision) == ("failed", "0")
    assert "disk is full" in words


def test_what_was_uploaded_in_part_goes(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    incoming = client.app.state.studio.data / "incoming"  # type: ignore[attr-defined]
    body = b"".join(heights_png_parts(iter([np.zeros((64, 64), np.float32)]), 64, 64, 0, 1))

    def fails(_file: int) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as broken:
        broken.setattr(fernfield.web.kernel.uploads.os, "fsync", fails)
        for path in ("/api/files", "/api/worlds/import"):
            answer = client.post(path, files={"file": ("a.png", body)}, data={"name": "A"} if "import" in path else {})
            assert answer.status_code == 507, path
            assert "disk is full" in answer.json()["detail"]
            assert list(incoming.iterdir()) == []
    assert client.post("/api/files", files={"file": ("a.png", body)}).status_code == 202


def test_a_file_that_the_disk_has_no_room_for_is_refused_before_it_is_read(
    client: TestClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    studio = client.app.state.studio  # type: ignore[attr-defined]
    monkeypatch.setattr(type(studio), "room", lambda _self: 3 << 20)
    # The guard asks the studio that it was given.
    body = b"x" * (2 << 20)
    answer = client.post("/api/files", files={"file": ("a.raw", body)})
    assert answer.status_code == 507
    assert "too full" in answer.json()["detail"]


@pytest.mark.parametrize("fault", ["newer", "damaged", "folder"])
def test_a_data_folder_that_cannot_be_opened_is_one_clear_line(tmp_path: Path, fault: str) -> None:
    if fault == "folder":
        (tmp_path / "incoming" / "left over").mkdir(parents=True)
        Studio(tmp_path).close()
        assert list((tmp_path / "incoming").iterdir()) == []
        return
    Studio(tmp_path).close()
    database = tmp_path / "fernfield.db"
    if fault == "newer":
        with closing(sqlite3.connect(database)) as c:
            c.execute("UPDATE alembic_version SET version_num = '9999'")
            c.commit()
    else:
        database.write_bytes(b"\0" * 4096 + database.read_bytes()[4096:])
    result = CliRunner().invoke(cli, ["check", "w1", "--data", str(tmp_path)])
    assert result.exit_code == 1
    wanted = "newer version" if fault == "newer" else "damaged"
    assert wanted in str(result.exception)
    # And the folder is free again for whoever mends it.
    result = CliRunner().invoke(cli, ["check", "w1", "--data", str(tmp_path)])
    assert wanted in str(result.exception)


def test_a_job_on_a_full_disk_says_so(studio: Studio, world: OpenWorld) -> None:
    draw(world)
    kept = everything(world)
    with full(studio):
        for passes in range(2, 12):
            weather = Weather(kind="rain", drops_per_m2=3, seed=passes)
            job = ended(studio.start_weather(world.first_tract.row.id, weather))
            if job.state == "failed":
                break
            kept = everything(world)
    assert job.state == "failed"
    assert "disk is full" in job.message
    assert everything(world) == kept
