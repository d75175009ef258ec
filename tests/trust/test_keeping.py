"""Backups while people work, bringing them back, finding and mending what is wrong, and giving space back."""

from __future__ import annotations

import gc
import json
import signal
import sqlite3
import subprocess
import sys
import threading
from contextlib import closing
from pathlib import Path
from weakref import ref

import numpy as np
import pytest
from typer.testing import CliRunner

import fernfield.work.keeping
from fernfield.cli import app as cli
from fernfield.core.errors import Conflict, FormatError, InvalidInput, NoRoom
from fernfield.store.keeping import KeepingStore
from fernfield.work.keeping import MANIFEST, backup, examine, restore
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, ended, everything, ground
from tests.kernel.test_overviews import PLAIN, agree, stroke
from tests.waits import until_true


def sql(data: Path, *statements: str) -> None:
    with closing(sqlite3.connect(data / "fernfield.db")) as c:
        for statement in statements:
            c.execute(statement)
        c.commit()


def worked(data: Path) -> tuple[str, bytes]:
    """A data folder with a world that has been worked on and handed over; its id and its ground."""
    studio = Studio(data)
    world = studio.world(studio.create(PLAIN))
    for x in (200, 600):
        world.stroke(world.first_tract.row.id, stroke("raise", (x, 100), (x + 150, 520), radius_m=90.0))
    assert ended(studio.start_handover(world.id)).state == "done"
    found = world.id, ground(world).tobytes()
    studio.close()
    return found


# Backup


def test_a_backup_made_while_people_work_is_whole_and_of_one_moment(studio: Studio, tmp_path: Path) -> None:
    world = studio.world(studio.create(PLAIN))
    tract, stop = world.first_tract.row.id, threading.Event()
    states: dict[int, bytes] = {0: ground(world).tobytes()}

    def work() -> None:
        number = 0
        while not stop.is_set():
            number += 1
            x = 100 + 37 * number % 900
            outcome = world.stroke(tract, stroke("raise", (x, 100), (x, 300), radius_m=60.0))
            states[outcome.revision] = ground(world).tobytes()

    workers = threading.Thread(target=work)
    workers.start()
    try:
        told: list[float] = []
        until_true(lambda: world.revision >= 3)
        began = world.revision
        copies = 0
        # Three, and on until somebody has drawn meanwhile.
        while copies < 3 or world.revision == began:
            backup(tmp_path / "data", tmp_path / f"copy{copies}", lambda done, _words: told.append(done))
            copies += 1
    finally:
        stop.set()
        workers.join()
    assert told[-1] == 1
    for number in range(copies):
        restore(tmp_path / f"copy{number}", tmp_path / f"back{number}")
        again = Studio(tmp_path / f"back{number}")
        found = again.world(world.id)
        assert ground(found).tobytes() == states[found.revision]
        agree(found)
        found.undo()
        assert ground(found).tobytes() == states[found.revision - 2]
        again.close()
        assert examine(tmp_path / f"back{number}", mend=False)[0] == []


def test_a_backup_holds_packages_and_phrases_and_is_checked_before_it_is_brought_back(tmp_path: Path) -> None:
    data, copy = tmp_path / "data", tmp_path / "copy"
    world, land = worked(data)
    CliRunner().invoke(cli, ["phrase", "--data", str(data)])
    made = CliRunner().invoke(cli, ["backup", str(copy), "--data", str(data)])
    assert made.exit_code == 0, made.output
    about = json.loads((copy / MANIFEST).read_text())
    assert {Path(name).suffix for name in about["files"]} == {".db", ".zip", ".json"}
    with pytest.raises(Conflict, match="something at"):
        backup(data, copy)
    with pytest.raises(Conflict, match="nothing is ever replaced"):
        restore(copy, data)
    back = CliRunner().invoke(cli, ["restore", str(copy), "--data", str(tmp_path / "back")])
    assert back.exit_code == 0, back.output
    studio = Studio(tmp_path / "back")
    assert ground(studio.world(world)).tobytes() == land
    assert studio.package(world)[2].exists()
    studio.close()
    # A copy that is not as it was written is not brought back, and leaves nothing.
    for name in about["files"]:
        file = copy / name
        whole = file.read_bytes()
        for body in (whole[:-1] + bytes([whole[-1] ^ 1]), None):
            file.unlink()
            if body is not None:
                file.write_bytes(body)
            with pytest.raises(FormatError, match="not as it was written"):
                restore(copy, tmp_path / "never")
            file.write_bytes(whole)
    (copy / MANIFEST).write_text(json.dumps({**about, "files": {**about["files"], "../data/fernfield.db": "0"}}))
    with pytest.raises(FormatError, match="outside"):
        restore(copy, tmp_path / "never")
    for text in ("", "[]", "{}", '{"format": "x", "files": {}}'):
        (copy / MANIFEST).write_text(text)
        with pytest.raises(FormatError):
            restore(copy, tmp_path / "never")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["back", "copy", "data"]
    with pytest.raises(InvalidInput, match="no Fern Field data"):
        backup(tmp_path / "nothing", tmp_path / "x")


def test_a_backup_that_finds_no_room_or_is_killed_leaves_nothing_that_looks_like_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    data = tmp_path / "data"
    worked(data)
    with monkeypatch.context() as small:
        small.setattr(fernfield.work.keeping, "_free", lambda _folder: 1000)
        with pytest.raises(NoRoom, match="MiB"):
            backup(data, tmp_path / "copy")
    code = "import os, signal, fernfield.work.keeping as k, sys; from pathlib import Path; "
    code += "k._need_sound = lambda _p: os.kill(os.getpid(), signal.SIGKILL); "
    code += "k.backup(Path(sys.argv[1]), Path(sys.argv[2]))"
    killed = subprocess.run([sys.executable, "-c", code, str(data), str(tmp_path / "copy")], check=False)
    assert killed.returncode == -signal.SIGKILL
    assert sorted(p.name for p in tmp_path.iterdir()) == ["copy.part", "data"]
    backup(data, tmp_path / "copy")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["copy", "data"]


# The doctor


def test_nothing_is_wrong_with_what_was_worked_on(tmp_path: Path) -> None:
    world, _ = worked(tmp_path)
    found, sizes = examine(tmp_path, mend=False)
    assert found == []
    assert {what for name, what, _, _ in sizes if name == world} >= {"height", "coarser levels", "logbook"}
    assert all(count > 0 and size > 0 for _, _, count, size in sizes)
    result = CliRunner().invoke(cli, ["doctor", "--data", str(tmp_path)])
    assert result.exit_code == 0
    assert "nothing is wrong" in result.output
    studio = Studio(tmp_path)
    with pytest.raises(Conflict, match="stop it first"):
        examine(tmp_path, mend=False)
    studio.close()


DAMAGE = {
    "a range": ("UPDATE tiles SET highest = lowest - 1 WHERE layer = 'height'", "beyond the range", True),
    "a level": (
        "UPDATE overviews SET blob = (SELECT blob FROM overviews WHERE rule = 'mean' ORDER BY tile_col DESC LIMIT 1) "
        "WHERE rule = 'mean' AND level = 2",
        "do not fit its posts", True,
    ),
    "a level that is missing": ("DELETE FROM overviews WHERE level = 3", "do not fit its posts", True),
    "a tile": ("UPDATE tiles SET blob = x'00112233' WHERE layer = 'height' AND tile_row = 0 AND tile_col = 1",
               "is damaged", False),
    "a row": ("UPDATE entries SET body = '{\"v\": 1, \"nonsense\": 3}' WHERE collection = 'about'",
              "cannot be read", False),
    "a package": ("UPDATE packages SET file = 'gone.zip'", "is missing", False),
}  # fmt: skip


@pytest.mark.parametrize("name", DAMAGE)
def test_what_is_wrong_is_found_and_mended_where_it_can_be(tmp_path: Path, name: str) -> None:
    statement, words, mendable = DAMAGE[name]
    world, land = worked(tmp_path)
    sql(tmp_path, statement)
    found, _ = examine(tmp_path, mend=False)
    assert any(words in trouble.words for trouble in found), found
    # Looking mends nothing.
    again, _ = examine(tmp_path, mend=False)
    assert [t.words for t in again] == [t.words for t in found]
    result = CliRunner().invoke(cli, ["doctor", "--mend", "--data", str(tmp_path)])
    assert (result.exit_code == 0) == (mendable or (name == "a row" and "wrong" not in result.output)), result.output
    if not mendable:
        return
    studio = Studio(tmp_path)
    opened = studio.world(world)
    until_true(lambda: not opened.without_overviews, 60)
    assert ground(opened).tobytes() == land
    agree(opened)
    studio.close()
    assert examine(tmp_path, mend=False)[0] == []


def test_a_file_that_is_no_database_and_strays_are_told(tmp_path: Path) -> None:
    worked(tmp_path)
    (tmp_path / "packages" / "stray.zip").write_bytes(b"x")
    (tmp_path / "incoming" / "half").write_bytes(b"x")
    found, _ = examine(tmp_path, mend=False)
    assert [("stray.zip" in t.words, t.mended) for t in found] == [(False, True), (True, False)]
    found, _ = examine(tmp_path, mend=True)
    assert [t.mended for t in found] == [True]
    assert not (tmp_path / "packages" / "stray.zip").exists()
    whole = (tmp_path / "fernfield.db").read_bytes()
    (tmp_path / "fernfield.db").write_bytes(whole[:4096] + b"\0" * 8192 + whole[12288:])
    found, sizes = examine(tmp_path, mend=True)
    assert found
    assert sizes == []
    assert all("damaged" in t.words for t in found)


# Space


def test_the_space_of_what_is_gone_is_given_back(tmp_path: Path) -> None:
    data = tmp_path / "data"
    studio = Studio(data)
    rough = np.random.default_rng(1).normal(size=(1_025, 1_025)).astype(np.float32)
    spec = WorldSpec(name="Large", width_m=1_024, depth_m=1_024, spacing_m=1)
    gone = studio.create(spec, heights=lambda w: rough[w.inside(spec.grid.window)])
    kept = studio.world(studio.create(PLAIN))
    draw(kept)
    before = everything(kept)
    opened = ref(studio.world(gone))
    ground(studio.world(gone))
    full = studio.size()
    # Without a collection: memory is given back at once.
    gc.disable()
    try:
        studio.delete(gone)
        studio.destroy(gone)
        assert opened() is None
    finally:
        gc.enable()
    job = next(job for job in studio.jobs._jobs.values() if job.kind.name == "give back")
    assert ended(job).state == "done"
    assert job.result is not None
    assert job.result["pages"] > 500
    assert KeepingStore(studio.store.engine).free_pages() < 50
    studio.close()
    assert sum(p.stat().st_size for p in data.glob("fernfield.db*")) < full / 2
    again = Studio(data)
    assert everything(OpenWorld(again.house, again.store, kept.id)) == before
    again.close()


def test_a_database_of_an_older_version_shrinks_once_it_was_mended(tmp_path: Path) -> None:
    world, land = worked(tmp_path)
    with closing(sqlite3.connect(tmp_path / "fernfield.db", isolation_level=None)) as c:
        c.execute("PRAGMA journal_mode=DELETE")
        c.execute("PRAGMA auto_vacuum=NONE")
        c.execute("VACUUM")
    found, _ = examine(tmp_path, mend=False)
    assert ["older version" in t.words for t in found] == [True]
    assert [t.mended for t in examine(tmp_path, mend=True)[0]] == [True]
    assert examine(tmp_path, mend=False)[0] == []
    studio = Studio(tmp_path)
    assert ground(studio.world(world)).tobytes() == land
    studio.close()
