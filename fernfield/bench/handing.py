"""A world handed over: the land as glTF, and all of it as a delivery, beside the same bytes written to the disk."""

from __future__ import annotations

import itertools
import json
import tempfile
import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path
from queue import Queue
from urllib.request import Request, urlopen

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.bench.growth import wooded
from fernfield.demo.reach import build_demo
from fernfield.store.keeping import copy_database
from fernfield.work.delivery.land import LAND_GLB
from fernfield.work.delivery.pieces import pieces_of
from fernfield.work.handover.deliveries import DELIVERIES, Delivery, FormatKey
from fernfield.work.kernel.checking import Watch
from fernfield.work.kernel.commands import PathPoint, put
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

STROKES = 30

FORMATS: tuple[FormatKey, ...] = (
    "heights_tif32",
    "heights_raw",
    "covers_packed",
    "water_tif32",
    "growth_csv",
    "rows_json",
)


def rows(plan: Plan) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder) / "data")
        yield _glb(studio, Path(folder), plan)
        yield _all(studio, Path(folder), 1_024 if plan.large < 2_000 else 4_096)
        studio.close()
        yield _in_step(Path(folder))
        yield _one_file(Path(folder), plan)
        yield _found(Path(folder))


def _found(folder: Path) -> Row:
    """What the checks find in the demo world after a stroke, by what they know, beside all of it found from nothing."""
    studio = Studio(folder / "demo")
    world = studio.world(build_demo(studio))
    checks = [check for room in studio.house.rooms for check in room.checks]
    watch, strokes = studio.watches.of(world, checks), itertools.count()

    def after_a_stroke(watch: Watch) -> None:
        x = 300.0 + 20 * (next(strokes) % 20)
        path: list[PathPoint] = [(x, 500.0, 0.0, 1.0), (x + 5, 500.0, 1.0, 1.0)]
        world.stroke(world.first_tract.row.id, Stroke(tool="raise", radius_m=20, softness=0.5, strength=1, path=path))
        watch.look(world)

    result = row(
        "a stroke, and what the checks find in the demo world then", "the same, with all found from nothing", "0.05",
        lambda: after_a_stroke(watch), lambda: after_a_stroke(Watch(checks, threading.Event())), 5,
    )  # fmt: skip
    studio.close()
    return result


def _one_file(folder: Path, plan: Plan) -> Row:
    """A world of rough land written as one file, beside a copy of the whole database that it lies in."""
    side = 1_024 if plan.large < 2_000 else 4_096
    rough = np.random.default_rng(1).normal(20, 0.3, (side + 1, side + 1)).astype(np.float32)
    studio = Studio(folder / "alone")
    spec = WorldSpec(name="Alone", width_m=side, depth_m=side, spacing_m=1)
    world = studio.create(spec, heights=lambda window: rough[window.inside(spec.grid.window)])
    result = row(
        f"{side + 1:,}² of rough land as one file", "its database copied", "1.5",
        lambda: studio.write_world(world, folder / "alone.fern"),
        lambda: copy_database(folder / "alone" / "fernfield.db", folder / "copy.db", lambda _: None), min(plan.runs, 5),
    )  # fmt: skip
    studio.close()
    return result


def _in_step(folder: Path) -> Row:
    """Strokes on a land of 2,049², each told to a receiver, from its answer until the copy is of its revision."""
    from fernfield.bench.browser import server
    from fernfield.receiver import Receiver

    studio = Studio(folder / "followed")
    world = studio.create(WorldSpec(name="Followed", width_m=2_048, depth_m=2_048, spacing_m=1))
    tract = studio.world(world).first_tract.row.id
    studio.close()
    with server("serve", folder / "followed") as url:
        heard: Queue[float] = Queue()
        copy = Receiver(f"{url}/api/worlds/{world}", folder / "copy", None, lambda _: heard.put(time.perf_counter()))
        threading.Thread(target=copy.follow, daemon=True).start()
        heard.get(timeout=120)
        ours, theirs = [], []
        for number in range(STROKES):
            path = [[100 + 40 * number, 900, 0], [160 + 40 * number, 940, 1]]
            stroke = {"tool": "raise", "radius_m": 40, "softness": 0.5, "strength": 20, "path": path}
            head = {"content-type": "application/json"}
            urlopen(Request(f"{url}/api/tracts/{tract}/strokes", json.dumps(stroke).encode(), head)).read()
            began = time.perf_counter()
            ours.append(heard.get(timeout=60) - began)
            began = time.perf_counter()
            urlopen(f"{url}/api/tracts/{tract}/layers/heights.npy?row0=1024&row1=1280&col0=0&col1=256").read()
            theirs.append(time.perf_counter() - began)
    one, other = (sorted(times)[int(0.95 * STROKES)] for times in (ours, theirs))
    words = "from a stroke's answer to a receiver's copy, 2,049², p95"
    return Row(words, "one tile asked for, p95", one, other, one / other, "300 ms")


def _written(body: bytes, folder: Path) -> None:
    with (folder / "same").open("wb") as file:
        file.write(body)


def _glb(studio: Studio, folder: Path, plan: Plan) -> Row:
    world = wooded(studio, 1_024, 0.1)
    (piece,) = pieces_of(world, world.first_tract, Delivery(name="glTF", formats=("land_glb",)))

    def ours() -> bytes:
        return b"".join(LAND_GLB.makes(piece))

    body = ours()
    words = f"land.glb of 1,025² with growth, {len(body) >> 20} MiB"
    return row(
        words, "the same bytes written to the disk", "1 s", ours, lambda: _written(body, folder), min(plan.runs, 5)
    )


def _all(studio: Studio, folder: Path, side: int) -> Row:
    """A delivery of six formats as one package: once, since it is long."""
    world = wooded(studio, side, 250_000 / (side * side / 10_000))
    world.edit(put(DELIVERIES, "all_of_it", Delivery(name="All of it", formats=FORMATS, chunk=1025)))
    began = time.perf_counter()
    job = studio.start_delivery(world.id, "all_of_it")
    version = -1
    while not job.ended:
        version = job.wait(version, 1.0)
    if job.state != "done":
        raise RuntimeError(job.message)
    mine = time.perf_counter() - began
    key = studio.packages(world.id)[0]["key"]
    with zipfile.ZipFile(studio.package_file(world.id, key)) as package:
        size = sum(one.file_size for one in package.infolist())
    body = np.random.default_rng(1).bytes(size)
    began = time.perf_counter()
    _written(body, folder)
    theirs = time.perf_counter() - began
    words = f"{len(FORMATS)} formats of {side + 1:,}² with 250,000 plants, {size >> 20} MiB in one package"
    return Row(words, "the same bytes written to the disk", mine, theirs, mine / theirs, "4")
