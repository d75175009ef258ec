"""Deliveries made: every format in its register, written as one package that is kept by its revision."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.grid import TILE
from fernfield.store.worlds import WorldStore
from fernfield.work.delivery.covers import COVERS
from fernfield.work.delivery.grids import GRIDS
from fernfield.work.delivery.growing import GROWING
from fernfield.work.delivery.land import SURFACES
from fernfield.work.delivery.light import LIGHT, SKY
from fernfield.work.delivery.passing import PASSING
from fernfield.work.delivery.pieces import Format, Layers, PieceOfLand, WholeFormat, pieces_of
from fernfield.work.delivery.water import WATER
from fernfield.work.handover.deliveries import Delivery, deliveries_of
from fernfield.work.handover.following import rows_json
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import House, Package, Step
from fernfield.work.kernel.world import OpenWorld

FILE = re.compile(r"^(?P<world>[a-z0-9]+)-(?P<delivery>[a-z0-9_-]+)-r(?P<revision>\d+)\.zip$")


def _rows(world: OpenWorld) -> Iterator[bytes]:
    yield rows_json(world)


WHOLE = (WholeFormat("rows_json", "All rows as JSON, with their schemas", "json", _rows),)
FORMATS: dict[str, Format | Layers | WholeFormat] = {
    one.key: one for one in (*GRIDS, *COVERS, *WATER, *LIGHT, *SURFACES, *PASSING, *GROWING, SKY, *WHOLE)
}
"""What can be handed over; the next one is an entry in its list, and its key in `work.handover.deliveries`."""


class FileTold(TypedDict):
    """A sort of file of a delivery: its words, how many there are, about how large together, and what is lost by it."""

    format: str
    words: str
    files: int
    bytes: int
    loses: str


class SummaryTold(TypedDict):
    """What a delivery would hold, before it is made; by the findings that keep it from being made."""

    files: list[FileTold]
    also: list[str]
    kept_from: list[str]


class PackageTold(TypedDict):
    """A package that is kept: its key, of which delivery and revision, how large, and whether the world has gone on."""

    key: str
    delivery: str
    revision: int
    bytes: int
    made_at: str
    stale: bool


def _tracts(world: OpenWorld, delivery: Delivery) -> list[Tract]:
    chosen = [one for key, one in world.tracts.items() if not delivery.tracts or key in delivery.tracts]
    if not chosen:
        raise Conflict("none of the tracts of this delivery is there any more: choose others")
    return chosen


def _pieces(world: OpenWorld, delivery: Delivery) -> list[PieceOfLand]:
    return [piece for tract in _tracts(world, delivery) for piece in pieces_of(world, tract, delivery)]


def summary(world: OpenWorld, delivery: Delivery, also: list[str], found: list[tuple[bool, str]]) -> SummaryTold:
    """also : what a package has had from the beginning, in words; found : findings, whether each is grave, in words"""
    files: list[FileTold] = []
    pieces = _pieces(world, delivery)
    for key in delivery.formats:
        one = FORMATS[key]
        if isinstance(one, WholeFormat):
            files.append({"format": key, "words": one.words, "files": 1, "bytes": 0, "loses": ""})
            continue
        posts = sum(piece.shape[0] * piece.shape[1] for piece in pieces)
        each = one.count(world)
        files.append(
            {"format": key, "words": one.words, "files": each * len(pieces),
             "bytes": round(posts * each * one.bytes_each), "loses": one.loses(pieces[0])}
        )  # fmt: skip
    stands = [words for grave, words in found if delivery.must_be_empty == "all" or grave]
    return {"files": files, "also": also if delivery.all_as_it_is else [],
            "kept_from": stands if delivery.must_be_empty != "nothing" else []}  # fmt: skip


def _write(world: OpenWorld, delivery: Delivery, package: Package, step: Step) -> dict[str, Any]:
    """The files of a delivery's formats; what its manifest says of them."""
    said: dict[str, Any] = {"delivery": delivery.model_dump(mode="json")}
    pieces = _pieces(world, delivery)
    for number, key in enumerate(delivery.formats):
        one = FORMATS[key]
        if isinstance(one, WholeFormat):
            package.put(f"{key}.{one.ending}", one.makes(world))
            said[key] = [{"file": f"{key}.{one.ending}"}]
            continue
        own = said[key] = []
        for at, piece in enumerate(pieces):
            step((number + at / len(pieces)) / len(delivery.formats), one.words)
            told = {"tract": piece.tract.row.id, **piece.told(), **one.says(piece)}
            for layer, body in one.files(piece):
                file = f"{key}/{piece.name}{'-' if layer else ''}{layer}.{one.ending}"
                package.put(file, body)
                own.append({"file": file, **({"layer": layer} if layer else {}), **told})
    return said


def _make(
    job: Job, house: House, store: WorldStore, world_id: str, key: str, found: list[tuple[bool, str]], folder: Path
) -> dict[str, Any]:
    """Write the package of a delivery as the world is now; the oldest of more than it keeps goes."""
    with store.reading() as snapshot:
        world = OpenWorld(house, store, world_id, snapshot)
        delivery = delivery_of(world, key)
        if kept_from := summary(world, delivery, [], found)["kept_from"]:
            raise Conflict(f"it is made only without findings, and there are {len(kept_from)}: {kept_from[0]}")
        name = f"{world_id}-{key}-r{world.revision}.zip"
        write_package(world, folder / name, job.step, job.crew, whole=delivery.all_as_it_is,
                      also=lambda package, step: _write(world, delivery, package, step))  # fmt: skip
    own = [path for path, of, _ in _kept(folder, world_id) if of == key]
    for old in own[delivery.keep :]:
        old.unlink(missing_ok=True)
    return {"revision": world.revision, "file": f"/api/worlds/{world_id}/packages/{name[len(world_id) + 1 :]}"}


MAKE = JobKind("delivery", "Making a delivery", _make, card="handover/job_delivery.html")


def delivery_of(world: OpenWorld, key: str) -> Delivery:
    """Raises NotFound for one that there is not."""
    every = deliveries_of(world)
    if key not in every:
        raise NotFound(f"there is no delivery {key!r}: there are {', '.join(every)}")
    return every[key]


def _kept(folder: Path, world_id: str) -> list[tuple[Path, str, int]]:
    """The packages of a world: file, delivery and revision, the newest first."""
    found = []
    for path in folder.glob(f"{world_id}-*.zip"):
        if (named := FILE.match(path.name)) and named["world"] == world_id:
            found.append((path, named["delivery"], int(named["revision"])))
    return sorted(found, key=lambda one: (-one[2], one[1]))


def packages_of(folder: Path, world: OpenWorld) -> list[PackageTold]:
    """The packages that are kept of a world, the newest first."""
    told: list[PackageTold] = []
    for path, delivery, revision in _kept(folder, world.id):
        at = path.stat()
        made_at = datetime.fromtimestamp(at.st_mtime, UTC).isoformat(timespec="seconds")
        told.append(
            {"key": f"{delivery}-r{revision}", "delivery": delivery, "revision": revision, "bytes": at.st_size,
             "made_at": made_at, "stale": revision < world.revision}
        )  # fmt: skip
    return told


def package_path(folder: Path, world: OpenWorld, key: str) -> Path:
    """Raises NotFound for a package that is not kept."""
    path = folder / f"{world.id}-{key}.zip"
    if FILE.match(path.name) is None or not path.exists():
        raise NotFound(f"no package {key!r} of this world is kept: GET …/packages tells which are")
    return path


class SinceTold(TypedDict):
    """What has changed since a package: layers with the windows of tiles [row0, col0, row1, col1] by tract, rows by
    collection, and the words of the revisions."""

    revision: int
    now: int
    layers: dict[str, dict[str, list[list[int]]]]
    rows: dict[str, list[str]]
    words: list[str]


def since(store: WorldStore, world: OpenWorld, revision: int) -> SinceTold:
    """What has changed since a revision. A tile that was changed and changed back counts."""
    layers: dict[str, dict[str, list[list[int]]]] = {}
    rows: dict[str, set[str]] = {}
    words = []
    seen: set[Any] = set()
    for one in reversed(store.revisions(world.id, most=2_000)):
        if one.number <= revision:
            continue
        words.append(f"r{one.number}: {one.words}")
        for at in store.changed(world.id, one.number):
            if at in seen:
                continue
            seen.add(at)
            row, col = at.tile_row * TILE, at.tile_col * TILE
            tile = [row, col, row + TILE, col + TILE]
            layers.setdefault(at.tract_id, {}).setdefault(at.layer, []).append(tile)
        for change in store.entry_changes(world.id, one.number):
            rows.setdefault(change.collection, set()).add(change.key)
    return {"revision": revision, "now": world.revision, "layers": layers,
            "rows": {name: sorted(keys) for name, keys in sorted(rows.items())}, "words": words[-50:]}  # fmt: skip
