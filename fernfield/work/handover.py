"""The package: one ZIP with heights, covers, growth and sites as open files, and a manifest."""

from __future__ import annotations

import base64
import hashlib
import json
import os
import zipfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from tempfile import TemporaryFile
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield import __version__
from fernfield.core.cover.shares import shares_as_bytes
from fernfield.core.grid import TILE, FloatArray, Window
from fernfield.core.sites.kit import KIT
from fernfield.formats.asc import asc_lines
from fernfield.formats.png import heights_png_parts
from fernfield.formats.pngbands import PngBands, png_parts
from fernfield.formats.tables import GROWTH_COLUMNS, growth_rows, sites_geojson
from fernfield.work.entries import Icon
from fernfield.work.layers import HEIGHT, OPENING
from fernfield.work.scene import cover_shares, elevation_at, standing_plants
from fernfield.work.world import OpenWorld, Tract

Step = Callable[[float, str], None]

_WHEN = (1980, 1, 1, 0, 0, 0)
"""The same world gives the same bytes: no time of day in the ZIP."""

FORMAT = "fern-field-package/1"


def bands(tract: Tract) -> Iterator[Window]:
    """The tract as windows of whole rows, a tile high."""
    for row in range(0, tract.grid.rows, TILE):
        yield Window(row, 0, min(row + TILE, tract.grid.rows), tract.grid.cols)


def asc_of(world: OpenWorld, tract: Tract) -> Iterator[bytes]:
    """The ground of a tract as an ESRI ASCII grid, line by line."""

    def parts() -> Iterator[FloatArray]:
        for window in bands(tract):
            with world.lock:
                yield tract.cache.read(HEIGHT, window)

    return asc_lines(parts(), tract.grid.rows, tract.grid.cols, tract.grid.spacing)


def site_rows(world: OpenWorld, tract: Tract) -> list[dict[str, Any]]:
    """Pieces and starts with the elevation they stand at, as the API and the package give them. [m, °]"""
    rows = []
    for key, thing in world.things(tract.row.id):
        kit = KIT.get(thing.kit or "")
        ground = elevation_at(tract, thing.x, thing.y)
        rows.append(
            {
                "id": key,
                "sort": thing.sort,
                "kit": thing.kit,
                "name": thing.name,
                "x": thing.x,
                "y": thing.y,
                "z": round(ground + thing.over_m, 4),
                "over_m": thing.over_m,
                "turn_deg": thing.turn_deg,
                "team": thing.team,
                "default": thing.default,
                "tract": tract.row.id,
                "resource": bool(kit and kit.resource),
            }
        )
    return rows


class _Package:
    """A ZIP being written, which remembers the checksum of each file."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._zip = archive
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


def write_package(world: OpenWorld, path: Path, step: Step) -> None:
    """Write the package of `world` (a snapshot) to `path`; all of it, or no file.

    `step` is told how far the work is, and may raise to stop it.
    """
    part_path = path.with_suffix(".part")
    try:
        with part_path.open("wb") as file:
            with zipfile.ZipFile(file, "w") as archive:
                package = _Package(archive)
                tracts = [_put_tract(package, world, tract, step) for tract in world.tracts.values()]
                icon = world.rows["icon"].get("world")
                if isinstance(icon, Icon):
                    package.put("icon.png", iter([base64.b64decode(icon.png)]))
                manifest = _manifest(world, package.files, tracts)
                archive.writestr(zipfile.ZipInfo("manifest.json", _WHEN), json.dumps(manifest, indent=1))
            file.flush()
            os.fsync(file.fileno())
        step(0.99, "Putting the package in place")
        part_path.replace(path)
    finally:
        part_path.unlink(missing_ok=True)


def _name(world: OpenWorld, tract: Tract) -> str:
    return world.place_of(tract.row.id).name


def _put_tract(package: _Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    stem = tract.row.id
    place = world.place_of(stem)
    lowest, highest = tract.cache.all_heights()
    if highest <= lowest:
        highest = lowest + 1.0
    heights_file = f"heights/{stem}.png"
    rows, cols = tract.grid.rows, tract.grid.cols
    package.put(heights_file, heights_png_parts(_ground(world, tract, step), rows, cols, lowest, highest))
    covers = _put_covers(package, world, tract, step)
    openings = _put_openings(package, world, tract, step)
    step(0.7, f"Growth of {_name(world, tract)}")
    growth_file = f"growth/{stem}.csv"
    package.put(growth_file, _growth(world, tract, step))
    step(0.95, f"Sites of {_name(world, tract)}")
    sites_file = f"sites/{stem}.geojson"
    package.put(sites_file, iter([sites_geojson(site_rows(world, tract))]))
    return {
        "id": tract.row.id,
        "name": _name(world, tract),
        "rows": tract.grid.rows,
        "cols": tract.grid.cols,
        "spacing_m": tract.grid.spacing,
        "layout": {"x": place.x, "y": place.y, "kind": place.kind},
        "heights": {
            "file": heights_file,
            "lowest_m": lowest,
            "highest_m": highest,
            "rule": "elevation = lowest_m + grey / 65535 * (highest_m - lowest_m)",
        },
        "covers": covers,
        **openings,
        "growth": {"file": growth_file, "columns": list(GROWTH_COLUMNS)},
        "sites": {"file": sites_file},
    }


def _ground(world: OpenWorld, tract: Tract, step: Step) -> Iterator[FloatArray]:
    """The heights of a tract, band by band."""
    for window in bands(tract):
        step(0.05 + 0.1 * window.row0 / tract.grid.rows, f"Heights of {_name(world, tract)}")
        yield tract.cache.read(HEIGHT, window)


def _put_covers(package: _Package, world: OpenWorld, tract: Tract, step: Step) -> list[dict[str, str]]:
    covers = world.covers()
    pictures = [PngBands(tract.grid.rows, tract.grid.cols, np.uint8) for _ in covers]
    with ExitStack() as stack:
        # Shares come for all covers at once, files go into the ZIP one after the other: keep them beside it.
        files = [stack.enter_context(TemporaryFile()) for _ in covers]
        for file, picture in zip(files, pictures, strict=True):
            file.write(picture.begin())
        for window in bands(tract):
            step(0.15 + 0.45 * window.row0 / tract.grid.rows, f"Covers of {_name(world, tract)}")
            shares = shares_as_bytes(cover_shares(world, tract, window))
            for file, picture, share in zip(files, pictures, shares, strict=True):
                file.write(picture.add(share))
        listed = []
        for number, (key, cover) in enumerate(covers):
            step(0.6 + 0.1 * number / len(covers), f"Covers of {_name(world, tract)}")
            files[number].write(pictures[number].end())
            files[number].seek(0)
            name = f"covers/{tract.row.id}-{key}.png"
            package.put(name, iter(partial(files[number].read, 1 << 20), b""))
            listed.append({"key": key, "name": cover.name, "file": name})
    return listed


def _put_openings(package: _Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    """Where the ground is open, as an 8-bit picture; nothing when it is whole."""
    if tract.cache.blank(OPENING, tract.grid.window):
        return {}
    file = f"openings/{tract.row.id}.png"

    def parts() -> Iterator[NDArray[np.uint8]]:
        for window in bands(tract):
            step(0.69, f"Openings of {_name(world, tract)}")
            yield ((tract.cache.read(OPENING, window) >= 32_768) * np.uint8(255)).astype(np.uint8)

    package.put(file, png_parts(parts(), tract.grid.rows, tract.grid.cols, np.uint8))
    return {"openings": {"file": file, "rule": "255 is a hole"}}


def _growth(world: OpenWorld, tract: Tract, step: Step) -> Iterator[bytes]:
    yield growth_rows([], header=True)
    for window in bands(tract):
        step(0.7 + 0.25 * window.row0 / tract.grid.rows, f"Growth of {_name(world, tract)}")
        for found in standing_plants(world, tract, window):
            columns = (
                found.plants.x,
                found.plants.y,
                found.z,
                found.plants.size,
                found.plants.turn,
                found.lean_east,
                found.lean_north,
            )
            rounded = np.round(np.stack(columns, axis=1).astype(np.float64), 4).tolist()
            yield growth_rows([[found.kind.key, *row] for row in rounded])


def _manifest(world: OpenWorld, files: list[dict[str, Any]], tracts: list[dict[str, Any]]) -> dict[str, Any]:
    sun = world.light
    return {
        "format": FORMAT,
        "made_by": f"Fern Field {__version__}",
        "world": {"id": world.id, "name": world.name, "description": world.about.description},
        "revision": world.revision,
        "units": {"length": "metre", "angle": "degree", "bearing": "clockwise from north"},
        "axes": {
            "x": "east",
            "y": "north",
            "z": "up",
            "origin": "south-west post of the tract",
            "images": "row 0 is the north edge, column 0 the west edge; one sample at each post",
        },
        "cover_shares": "8-bit: 255 is the whole; the covers of a post add up to 255",
        "sea_level_m": world.sea_level_m,
        "sun": {"bearing_deg": sun.sun_bearing_deg, "height_deg": sun.sun_height_deg},
        "files": files,
        "tracts": tracts,
        "joins": [join.model_dump() for _, join in world.joins()],
    }
