"""The package: one ZIP with what every room puts into it as open files, and a manifest."""

from __future__ import annotations

import hashlib
import json
import os
import secrets
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from fernfield import __version__
from fernfield.formats.rowfiles import rows_geojson
from fernfield.work.kernel.crew import HERE, Crew
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.world import OpenWorld

_WHEN = (1980, 1, 1, 0, 0, 0)
"""The same world gives the same bytes: no time of day in the ZIP."""

FORMAT = "fern-field-package/1"


class Archive:
    """A ZIP being written, which remembers the checksum of each file."""

    def __init__(self, archive: zipfile.ZipFile, crew: Crew) -> None:
        self._zip, self.crew = archive, crew
        self.files: list[dict[str, Any]] = []

    def put(self, path: str, parts: Iterator[bytes]) -> None:
        digest, size = hashlib.sha256(), 0
        info = zipfile.ZipInfo(path, _WHEN)
        info.compress_type = zipfile.ZIP_DEFLATED
        with self._zip.open(info, "w", force_zip64=True) as out:
            for part in parts:
                out.write(part)
                digest.update(part)
                size += len(part)
        self.files.append({"path": path, "sha256": digest.hexdigest(), "bytes": size})


Also = Callable[[Package, Step], dict[str, Any]]
"""Writes further files, and returns what the manifest says of them."""


def write_package(
    world: OpenWorld, path: Path, step: Step, crew: Crew = HERE, *, whole: bool = True, also: Also | None = None
) -> None:
    """Write the package of `world` (a snapshot) to `path`; all of it, or no file.

    `step` is told how far the work is, and may raise to stop it. whole : with what every room puts into it
    """
    # Two may write the same one at a time.
    part_path = path.with_name(f"{path.stem}-{secrets.token_hex(4)}.part")
    try:
        with part_path.open("wb") as file:
            with zipfile.ZipFile(file, "w") as archive:
                package = Archive(archive, crew)
                count = len(world.tracts)
                tracts = [
                    _put_tract(package, world, tract, _within(step, number / count, 1 / count), whole)
                    for number, tract in enumerate(world.tracts.values())
                ]
                for room in world.house.rooms if whole else ():
                    if room.whole is not None:
                        room.whole(package, world)
                more = {} if also is None else also(package, _within(step, 0, 1))
                manifest = _manifest(world, package.files, tracts, whole) | more
                archive.writestr(zipfile.ZipInfo("manifest.json", _WHEN), json.dumps(manifest, indent=1))
            file.flush()
            os.fsync(file.fileno())
        step(0.99, "Putting the package in place")
        part_path.replace(path)
    finally:
        part_path.unlink(missing_ok=True)


def _within(step: Step, begins: float, share: float) -> Step:
    """`step` for a part of the work: how far that is, as a part of the whole."""
    return lambda done, words: step(0.02 + 0.96 * (begins + share * done), words)


def inside(world: OpenWorld) -> list[str]:
    """What a package holds, in words."""
    parts = [part.words for room in world.house.rooms for part in room.parts]
    return parts + [f"{c.name} as GeoJSON" for c in world.house.collections.values() if c.packed]


def _put_tract(package: Archive, world: OpenWorld, tract: Tract, step: Step, whole_of: bool) -> dict[str, Any]:
    place = world.place_of(tract.row.id)
    said: dict[str, Any] = {
        "id": tract.row.id,
        "name": place.name,
        "rows": tract.grid.rows,
        "cols": tract.grid.cols,
        "spacing_m": tract.grid.spacing,
        "layout": {"x": place.x, "y": place.y, "kind": place.kind},
    }
    if not whole_of:
        return said
    parts: list[PackagePart] = [part for room in world.house.rooms for part in room.parts]
    whole, done = sum(part.weight for part in parts), 0.0
    for part in parts:
        own = part.words.partition(" as ")[0].removeprefix("the ").capitalize() + f" of {place.name}"

        def told(share: float, _words: str, begins: float = done, part: PackagePart = part, own: str = own) -> None:
            step((begins + share * part.weight) / whole, own)

        told(0.0, own)
        said |= part.tract(package, world, tract, told)
        done += part.weight
    for collection in world.house.collections.values():
        if collection.packed:
            file = f"{collection.name}/{tract.row.id}.geojson"
            rows = [collection.tell(world, key, row) for key, row in world.each_in(collection, tract.row.id)]
            package.put(file, iter([rows_geojson(rows, collection.lies)]))
            said[collection.name] = {"file": file}
    return said


def _manifest(
    world: OpenWorld, files: list[dict[str, Any]], tracts: list[dict[str, Any]], whole: bool
) -> dict[str, Any]:
    said: dict[str, Any] = {
        "format": FORMAT,
        "made_by": f"Fern Field {__version__}",
        "revision": world.revision,
        "units": {"length": "metre", "angle": "degree", "bearing": "clockwise from north"},
        "axes": {
            "x": "east",
            "y": "north",
            "z": "up",
            "origin": "south-west post of the tract",
            "images": "row 0 is the north edge, column 0 the west edge; one sample at each post",
        },
        "files": files,
        "tracts": tracts,
    }
    for room in world.house.rooms if whole else ():
        if room.manifest is not None:
            said |= room.manifest(world)
    return said
