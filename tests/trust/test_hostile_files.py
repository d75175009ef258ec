"""Files that lie, that are bombs, or that crash and stall their decoders: each is told in words, and harms nobody."""

from __future__ import annotations

import io
import json
import multiprocessing
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from fastapi.testclient import TestClient

import fernfield.work.worlds.apart
from fernfield.core.errors import Cancelled, FormatError
from fernfield.formats.source import Said
from fernfield.work.worlds.apart import read_apart
from fernfield.work.worlds.intake import read_samples
from tests.conftest import ended
from tests.trust.corpus import corpus
from tests.waits import until_true
from tests.worlds.test_files_in import bad_tiff, npy_head

SOON_S = 20.0
FUZZ_S = float(os.environ.get("FERN_FUZZ_S", "10"))


def gltf(**parts: Any) -> bytes:
    return json.dumps({"asset": {"version": "2.0"}, **parts}).encode()


def lerc_of_more() -> bytes:
    """A TIFF that says 24 by 30, whose one strip holds 3,000 by 3,000."""
    out = io.BytesIO()
    tifffile.imwrite(out, np.zeros((3_000, 3_000), np.float32), compression="lerc", rowsperstrip=3_000)
    body = bytearray(out.getvalue())
    with tifffile.TiffFile(io.BytesIO(body)) as file:
        page: Any = file.pages[0]
        for code, value in ((256, 30), (257, 24), (278, 24)):
            tag = page.tags[code]
            body[tag.valueoffset : tag.valueoffset + tag.valuebytecount] = value.to_bytes(tag.valuebytecount, "little")
    return bytes(body)


ACCESSOR = {"componentType": 5126, "type": "VEC3", "count": 100_000_000}
TRIANGLE = b"v 0 0 0\nv 9 0 0\nv 0 0 9\n"
BAD = {
    "tiff whose strip holds more": (lerc_of_more(), "holds 3000 by 3000|damaged"),
    "tiff with strips of no rows": (bad_tiff(**{"278": 0}), "damaged"),
    "tiff with a bad offset": (bad_tiff(**{"273": 4_000_000_000}), "damaged|cut short"),
    "npy with an unclosed header": (npy_head("{'descr': '<f4', 'fortran_order': False, 'shape': (4, 4"), "damaged"),
    "obj with faces of two points": (TRIANGLE + b"f 1 2\nf 2 3\n", "surface"),
    "obj of 1e308": (b"v 0 0 0\nv 1e308 0 0\nv 0 0 1e308\nf 1 2 3\n", "within|finite"),
    "obj of 1e-300": (b"v 0 0 0\nv 1e-300 0 0\nv 0 0 1e-300\nf 1 2 3\n", "wide and deep"),
    "gltf without buffers": (gltf(buffers=None), "damaged|surface"),
    "gltf that counts what it has not": (gltf(accessors=[ACCESSOR]), "leaves out points"),
    "gltf that counts more than it holds": (
        gltf(accessors=[{**ACCESSOR, "bufferView": 0}], bufferViews=[{"buffer": 0, "byteLength": 40}]),
        "more than it holds",
    ),
}


@pytest.mark.parametrize("name", BAD)
@pytest.mark.parametrize("read", [read_samples, read_apart])
def test_what_is_wrong_with_a_file_is_said(tmp_path: Path, name: str, read: Any) -> None:
    body, words = BAD[name]
    path = tmp_path / "file"
    path.write_bytes(body)
    with pytest.raises(FormatError, match=words) as caught:
        read(path, Said(), tmp_path / "samples")
    assert "our side" not in str(caught.value)
    assert [p.name for p in tmp_path.iterdir()] == ["file"]


def test_an_obj_with_a_million_materials_is_read_as_one_surface(tmp_path: Path) -> None:
    """A piece for each would cost as much as all points; what stands beside points and faces is left out first."""
    lines = b"".join(b"usemtl m%d\nf 1/1/1 2/2/2 3/3/3\n" % at for at in range(1_000_000))
    for name, body in (("many", lines), ("one", b"f 1 2 3\n" * 1_000_000)):
        (tmp_path / name).write_bytes(b"mtllib usemtl.mtl\n" + TRIANGLE + b"vt 0 0\nvn 0 1 0\n" + body)
    many, one = (read_samples(tmp_path / name, Said(), tmp_path / f"{name}.out") for name in ("many", "one"))
    assert many.public() == one.public()
    assert (tmp_path / "many.out").read_bytes() == (tmp_path / "one.out").read_bytes()


@pytest.mark.parametrize("values", [(100.0, 100.00001), (-3e38, 3e38), (1e-40, 2e-40)])
def test_land_of_any_range_is_counted(tmp_path: Path, values: tuple[float, float]) -> None:
    land = np.full((9, 9), values[0], np.float32)
    land[3:] = values[1]
    np.save((tmp_path / "n").open("wb"), land)
    samples = read_samples(tmp_path / "n", Said(), tmp_path / "s")
    assert sum(samples.counts) == 81
    assert samples.counts[0] == 27
    assert samples.counts[-1] == 54


@pytest.mark.parametrize("name", corpus())
def test_a_sound_file_read_elsewhere_is_the_same(tmp_path: Path, name: str) -> None:
    body, said = corpus()[name]
    (tmp_path / "file").write_bytes(body)
    told: list[float] = []
    one = read_samples(tmp_path / "file", said, tmp_path / "one")
    two = read_apart(tmp_path / "file", said, tmp_path / "two", lambda done, _words: told.append(done))
    assert one.public() == two.public()
    assert (tmp_path / "one").read_bytes() == (tmp_path / "two").read_bytes()
    assert told == sorted(told)
    assert multiprocessing.active_children() == []


def test_a_file_that_takes_too_much_memory_is_told_so(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    out = io.BytesIO()
    tifffile.imwrite(out, np.zeros((9_000, 9_000), np.float32), compression="lerc", rowsperstrip=9_000)
    (tmp_path / "file").write_bytes(out.getvalue())
    monkeypatch.setattr(fernfield.work.worlds.apart, "MEMORY", 200 << 20)
    with pytest.raises(FormatError, match=r"MiB of memory|damaged"):
        read_apart(tmp_path / "file", Said(), tmp_path / "to")
    assert not (tmp_path / "to").exists()


class Crash:
    """What kills whoever unpacks it, as a fault in a decoder does."""

    def __reduce__(self) -> tuple[Any, tuple[()]]:
        return os.abort, ()


def test_a_decoder_that_crashes_harms_nobody(tmp_path: Path) -> None:
    body, _ = corpus()["tiff"]
    (tmp_path / "file").write_bytes(body)
    with pytest.raises(FormatError, match=r"SIGABRT|without a word"):
        read_apart(tmp_path / "file", Crash(), tmp_path / "to")  # type: ignore[arg-type]
    read_apart(tmp_path / "file", Said(), tmp_path / "to")


def stalling(path: Path) -> None:
    """A surface of few but huge triangles, over and over: each takes minutes, in one call of a kernel."""
    face = b"f 1 2 3\n" * 400_000
    path.write_bytes(b"v 0 0 0\nv 16000 0 0\nv 0 0 16000\n" + face)


def test_a_reader_that_is_busy_for_minutes_is_stopped_at_once(tmp_path: Path) -> None:
    stalling(tmp_path / "file")
    calls: list[float] = []

    def say(_done: float, _words: str) -> None:
        calls.append(time.monotonic())
        # Some seconds after it began: it is in the midst of its triangles.
        if calls[-1] - calls[0] > 4:
            raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        read_apart(tmp_path / "file", Said(spacing_m=1.0), tmp_path / "to", say)
    # Within a second where nothing else is done; while it is in its triangles nothing is heard of it at all.
    assert time.monotonic() - calls[-1] < SOON_S / 4
    assert np.diff(calls).max() < SOON_S / 4
    assert multiprocessing.active_children() == []
    assert not (tmp_path / "to").exists()


def test_a_server_that_reads_such_a_file_cancels_it_and_stops(client: TestClient, tmp_path: Path) -> None:
    stalling(tmp_path / "file")
    jobs = []
    for _ in range(2):
        with (tmp_path / "file").open("rb") as file:
            sent = client.post("/api/files", files={"file": ("a.obj", file)}, data={"sampled_m": "1"})
        assert sent.status_code == 202
        jobs.append(sent.json()["job"])
    studio = client.app.state.studio  # type: ignore[attr-defined]
    until_true(lambda: studio.jobs.get(jobs[0]).state != "queued")
    began = time.monotonic()
    client.delete(f"/api/jobs/{jobs[0]}")
    assert ended(studio.jobs.get(jobs[0])).state == "cancelled"
    assert time.monotonic() - began < SOON_S
    studio.jobs.close()
    assert time.monotonic() - began < SOON_S
    assert studio.jobs.get(jobs[1]).state == "cancelled"


def test_damaged_files_of_every_kind_are_refused_or_read(capsys: pytest.CaptureFixture[str]) -> None:
    """Some thousand of them, by a fixed seed, in 512 MiB above the start; how many, and what came of them, is told."""
    done = subprocess.run(
        [sys.executable, "-m", "tests.trust.fuzzing", "20261126", str(FUZZ_S)],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-3000:]
    found = json.loads(done.stdout)
    with capsys.disabled():
        print(f"\ndamaged files: {found}")
    assert found["faults"] == []
    assert set(found["came to"]) <= {"read", "refused", "too large"}
    assert found["files"] > 300
    assert found["came to"].get("refused", 0) > found["files"] / 10
    assert found["came to"].get("read", 0) > found["files"] / 50
