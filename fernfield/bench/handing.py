"""A world handed over: the land as glTF, and all of it as a delivery, beside the same bytes written to the disk."""

from __future__ import annotations

import tempfile
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.bench.growth import wooded
from fernfield.work.delivery.land import LAND_GLB
from fernfield.work.delivery.pieces import pieces_of
from fernfield.work.handover.deliveries import DELIVERIES, Delivery, FormatKey
from fernfield.work.kernel.commands import put
from fernfield.work.studio import Studio

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
