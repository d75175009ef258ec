"""A copy that is kept in step: by a receiver that is killed, cut off and started again, and by packages."""

from __future__ import annotations

import io
import json
import random
import signal
import subprocess
import sys
import urllib.error
import urllib.request
import zipfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.bench.browser import server
from fernfield.receiver import Receiver, Refused, take_package
from tests.conftest import ended

SPEC = {"name": "W", "width_m": 300, "depth_m": 260, "spacing_m": 1, "elevation_m": 5}


class Flaky(Receiver):
    """A receiver whose line breaks at every third question, and after two revisions that it was told of."""

    asked = 0

    def _open(self, path: str, **more: str) -> Any:
        self.asked += 1
        if self.asked % 3 == 0:
            raise ConnectionResetError("broken")
        return super()._open(path, **more)

    def _changes(self) -> Iterator[dict[str, Any]]:
        for number, one in enumerate(super()._changes()):
            if number == 2:
                raise ConnectionResetError("broken")
            yield one


def call(url: str, body: Any = None, method: str | None = None) -> Any:
    data = None if body is None else json.dumps(body).encode()
    head = {"content-type": "application/json"}
    with urllib.request.urlopen(urllib.request.Request(url, data, head, method=method), timeout=60) as answer:
        text = answer.read()
    return json.loads(text) if text else None


def edits(base: str, tracts: str, chance: random.Random) -> Callable[[], None]:
    """Something that anybody may do to a world, whatever comes of it."""

    def stroke(tool: str, **more: Any) -> Any:
        x, y = chance.uniform(10, 290), chance.uniform(10, 250)
        return lambda: call(f"{tracts}/strokes", {"tool": tool, "radius_m": 15, "softness": 0.5, "strength": 40,
                                                  "path": [[x, y, 0], [x + 8, y, 0.4]], **more})  # fmt: skip

    def placed() -> Any:
        piece = {
            "sort": "piece",
            "name": "Cairn",
            "kit": "cairn",
            "x": chance.uniform(0, 300),
            "y": chance.uniform(0, 260),
        }
        return lambda: call(f"{base}/things", piece)

    def moved() -> Any:
        some = call(f"{base}/things")
        return lambda: call(f"{base}/things/{chance.choice(some)['key']}", {"x": chance.uniform(0, 300)}, "PATCH")

    def gone() -> Any:
        some = call(f"{base}/things")
        return lambda: call(f"{base}/things/{chance.choice(some)['key']}", method="DELETE")

    ways = (
        lambda: stroke("raise"), lambda: stroke("veil", cover="path", share=0.5), lambda: stroke("sow", mix="mix"),
        placed, moved, gone, lambda: lambda: call(f"{base}/undo", method="POST"),
        lambda: lambda: call(f"{base}/redo", method="POST"),
        lambda: lambda: call(f"{base}/water", {"sea_level_m": chance.uniform(0, 4)}, "PATCH"),
        lambda: lambda: call(f"{tracts}/reset", {"to": "elevation", "elevation_m": chance.uniform(3, 9)}),
    )  # fmt: skip

    def some() -> None:
        # Nothing to undo, nothing that could be moved.
        with suppress(urllib.error.HTTPError, IndexError):
            chance.choice(ways)()()

    return some


@pytest.fixture(scope="module")
def url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with server("serve", tmp_path_factory.mktemp("followed")) as address:
        yield address


@pytest.fixture
def receiving(tmp_path: Path) -> Iterator[Callable[[str], subprocess.Popen[str]]]:
    started: list[subprocess.Popen[str]] = []

    def start(url: str) -> subprocess.Popen[str]:
        command = [sys.executable, "-u", "-m", "fernfield.cli", "receive", url, str(tmp_path / "copy")]
        started.append(subprocess.Popen(command, stdout=subprocess.PIPE, text=True))
        return started[-1]

    yield start
    for one in started:
        one.kill()
        one.communicate()


def test_a_receiver_that_is_killed_and_cut_off_ends_with_what_the_world_is(
    tmp_path: Path, url: str, receiving: Callable[[str], subprocess.Popen[str]]
) -> None:
    chance = random.Random(5)
    made = call(f"{url}/api/worlds", SPEC)
    base, tract = f"{url}/api/worlds/{made['id']}", made["tracts"][0]["id"]
    one_more = edits(base, f"{url}/api/tracts/{tract}", chance)
    for kill in range(3):
        process = receiving(base)
        assert process.stdout is not None
        for _ in range(5):
            one_more()
        # Once more, so that there is something to be told of; killed in the midst of what comes after.
        call(f"{base}/levels", {"name": f"Level {kill}", "elevation_m": kill})
        next(line for line in process.stdout if line.startswith(("r", "all")))
        one_more()
        process.send_signal(signal.SIGKILL)
        process.wait(60)
        one_more()
    call(f"{base}/tracts", {"name": "More", "width_m": 50, "depth_m": 50, "spacing_m": 1, "elevation_m": 3})
    for _ in range(8):
        one_more()
    said: list[str] = []
    copy = Flaky(base, tmp_path / "copy", None, said.append)
    copy.follow(once=True)
    assert any("cut off" in one for one in said)
    revision = call(base)["revision"]
    assert (copy.copy.state["revision"], revision > 15) == (revision, True)
    # As other calls tell it.
    assert json.loads((tmp_path / "copy" / "rows.json").read_text()) == call(f"{base}/rows")["rows"]
    tracts = {one["id"]: one for one in call(base)["tracts"]}
    assert set(copy.copy.state["tracts"]) == set(tracts)
    for key, one in tracts.items():
        with urllib.request.urlopen(f"{url}/api/tracts/{key}/heights") as answer:
            true = np.frombuffer(answer.read(), "<f4").reshape(one["rows"], one["cols"])
        assert np.array_equal(np.load(copy.copy.layer(key, "heights")), true)
        layers = call(f"{url}/api/tracts/{key}/layers")["layers"]
        assert copy.copy.state["tracts"][key] == layers
        for layer in layers:
            with urllib.request.urlopen(f"{url}/api/tracts/{key}/layers/{layer}.npy") as answer:
                assert np.array_equal(np.load(io.BytesIO(answer.read())), np.load(copy.copy.layer(key, layer)))
    assert f"r{revision}" in (tmp_path / "copy" / "index.html").read_text()
    # Cut off in the midst of fetching all, it is a copy of nothing, and begins anew.
    copy._take_tract = None  # type: ignore[assignment, method-assign]
    with pytest.raises(TypeError):
        copy.take_all()
    assert json.loads((tmp_path / "copy" / "state.json").read_text())["revision"] is None
    with pytest.raises(Refused, match="holds a copy"):
        Receiver(f"{url}/worlds/other", tmp_path / "copy", None, said.append)


def test_each_revision_is_told_once_undo_and_redo_too(url: str) -> None:
    made = call(f"{url}/api/worlds", SPEC)
    base, tract = f"{url}/api/worlds/{made['id']}", made["tracts"][0]["id"]
    stroke = {
        "tool": "raise",
        "radius_m": 10,
        "softness": 0,
        "strength": 50,
        "path": [[250, 100, 0], [262, 100, 1]],
    }
    call(f"{url}/api/tracts/{tract}/strokes", stroke)
    call(f"{base}/levels", {"name": "Quay", "elevation_m": 2})
    call(f"{base}/undo", method="POST")
    call(f"{base}/undo", method="POST")
    told = []
    request = urllib.request.Request(f"{base}/changes?since=0", headers={"Last-Event-ID": str(made["revision"])})
    with urllib.request.urlopen(request, timeout=60) as lines:
        for line in lines:
            if line.startswith(b"data:"):
                told.append(json.loads(line[5:]))
            if len(told) == 4:
                break
    assert [one["revision"] for one in told] == [made["revision"] + k for k in (1, 2, 3, 4)]
    # Posts 236 to 272 of the columns: two tiles of 256; rows from the north.
    tiles = [[0, 0, 256, 256], [0, 256, 256, 301]]
    assert [sorted(one["layers"].get("heights", [])) for one in told] == [tiles, [], [], tiles]
    assert [list(one["rows"]) for one in told] == [[], ["levels"], ["levels"], []]
    assert {one["tract"] for one in told} == {tract, None}


def test_what_is_asked_wrongly_is_refused_in_words(client: TestClient) -> None:
    made = client.post("/api/worlds", json=SPEC).json()
    base, tract = f"/api/worlds/{made['id']}", f"/api/tracts/{made['tracts'][0]['id']}"
    for path, status, words in (
        (f"{base}/changes?since=99", 422, "no r99 yet"),
        (f"{base}/rows?of=things", 422, "collection/key"),
        (f"{base}/rows?of=nothing/a", 422, "collection/key"),
        (f"{tract}/layers/nothing.npy", 404, "no layer"),
        (f"{tract}/layers/heights.npy?row0=5&row1=5", 422, "smaller number first"),
        (f"{tract}/layers/heights.npy?row1=900", 422, "rows 0 to 261"),
    ):
        answer = client.get(path)
        assert (answer.status_code, words in answer.text) == (status, True), (path, answer.text)
    assert client.get(f"{base}/rows?of=things/none").json()["rows"] == {"things": {"none": None}}


@pytest.fixture
def package(client: TestClient, tmp_path: Path) -> Path:
    made = client.post("/api/worlds", json=SPEC).json()
    job = client.post(f"/api/worlds/{made['id']}/deliveries/server/make").json()["job"]
    assert ended(client.app.state.studio.jobs.get(job)).state == "done"  # type: ignore[attr-defined]
    (kept,) = client.get(f"/api/worlds/{made['id']}/packages").json()
    out = tmp_path / "package.zip"
    out.write_bytes(client.get(f"/api/worlds/{made['id']}/packages/{kept['key']}.zip").content)
    return out


def changed(package: Path, change: Callable[[dict[str, bytes]], None]) -> Path:
    with zipfile.ZipFile(package) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    change(files)
    out = package.with_name("changed.zip")
    with zipfile.ZipFile(out, "w") as archive:
        for name, body in files.items():
            archive.writestr(name, body)
    return out


HOSTILE: tuple[tuple[Callable[[dict[str, bytes]], Any], str], ...] = (
    (lambda files: files.update({"rows_json.json": b"{}"}), "checksum"),
    (lambda files: files.update({"../out.txt": b""}), "may not be called"),
    (lambda files: files.update({"/out.txt": b""}), "may not be called"),
    (lambda files: files.update({"more.txt": b""}), "not in the manifest"),
    (lambda files: files.update({"ROWS_JSON.json": b""}), "one name"),
    (lambda files: files.pop("rows_json.json"), "not in the package"),
    (lambda files: files.pop("manifest.json"), "no package that can be read"),
    (lambda files: files.update({"manifest.json": b"[]"}), "no package that can be read"),
)


def test_a_package_is_taken_as_its_manifest_says_or_not_at_all(package: Path, tmp_path: Path) -> None:
    folder = tmp_path / "taken"
    manifest = take_package(package, folder)
    assert {str(one.relative_to(folder)) for one in folder.rglob("*") if one.is_file()} == {
        *(one["path"] for one in manifest["files"]), "manifest.json"
    }  # fmt: skip
    before = (folder / "manifest.json").read_text()
    for change, words in HOSTILE:
        with pytest.raises(Refused, match=words):
            take_package(changed(package, change), folder)
    cut = package.with_name("cut.zip")
    cut.write_bytes(package.read_bytes()[:-3_000])
    with pytest.raises(Refused, match="no package"):
        take_package(cut, folder)
    # What was there is there.
    assert (folder / "manifest.json").read_text() == before
    assert not (tmp_path / "out.txt").exists()
