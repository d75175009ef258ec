"""Sallow Reach as it is kept beside the code: what its commands make, stored, so that a first start need not repeat it.

`rows.json` has its tracts and rows, readable line by line; `heights.zip` every tile of the ground, `other.zip` those of
all other layers and of the coarser levels, each as the store keeps it. `tools/demo.py` writes the three anew, and a
test holds that they are what the commands make.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import Any
from zipfile import ZipFile, ZipInfo

import zstandard

from fernfield.formats.tileblob import decode_tile, encode_tile
from fernfield.store.overviews import OverviewAt, OverviewChange, OverviewStore
from fernfield.store.rows import Tile, TileAt
from fernfield.store.worlds import NewWorld, TractRow
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from fernfield.work.worlds.tracts import new_id

BESIDE = Path(__file__).parent
ROWS, HEIGHTS, OTHER = "rows.json", "heights.zip", "other.zip"
POSTS, COARSER = "posts", "coarser"
AS_SMALL_AS_CAN_BE = 19


def keep(studio: Studio, world: OpenWorld, folder: Path = BESIDE) -> None:
    """Write a world's tracts, rows and land into a folder; tracts are named by their number."""
    names = {tract_id: f"tract-{at}" for at, tract_id in enumerate(world.tracts)}

    def named(text: str) -> str:
        for own, name in names.items():
            text = text.replace(own, name)
        return text

    rows: dict[str, dict[str, Any]] = {}
    for collection, key, body in studio.store.entries(world.id):
        rows.setdefault(collection, {})[named(key)] = json.loads(named(body))
    tracts = [{**asdict(tract.row), "id": names[key], "world_id": ""} for key, tract in world.tracts.items()]
    text = json.dumps({"tracts": tracts, "rows": rows}, indent=1, ensure_ascii=False)
    (folder / ROWS).write_text(text + "\n", encoding="utf-8")
    packs = zstandard.ZstdCompressor(level=AS_SMALL_AS_CAN_BE)
    with ZipFile(folder / HEIGHTS, "w") as heights, ZipFile(folder / OTHER, "w") as other:
        for tract_id, tract in world.tracts.items():
            for layer, row, col in sorted(tract.cache.ranges):
                blob = studio.store.tile(TileAt(tract_id, layer, row, col))
                if blob is not None:
                    name = f"{names[tract_id]}/{POSTS}/{layer}/{row}/{col}"
                    archive = heights if layer == HEIGHT else other
                    archive.writestr(_entry(name), encode_tile(decode_tile(blob), packs))
            for at, blob in sorted(OverviewStore(studio.store.engine).every(tract_id), key=lambda pair: str(pair[0])):
                name = f"{names[tract_id]}/{COARSER}/{at.layer}/{at.rule}/{at.level}/{at.tile_row}/{at.tile_col}"
                other.writestr(_entry(name), encode_tile(decode_tile(blob), packs))


def _entry(name: str) -> ZipInfo:
    """Without the time of writing: the same land is the same file."""
    return ZipInfo(name)


def kept_world(folder: Path = BESIDE) -> NewWorld:
    """A new world as it is kept in a folder, with ids of its own; its tiles are read when they are asked for."""
    kept = json.loads((folder / ROWS).read_text(encoding="utf-8"))
    world_id = new_id("w")
    ids = {tract["id"]: new_id("t") for tract in kept["tracts"]}

    def own(text: str) -> str:
        for name, tract_id in ids.items():
            text = text.replace(name, tract_id)
        return text

    tracts = [TractRow(**{**tract, "id": ids[tract["id"]], "world_id": world_id}) for tract in kept["tracts"]]
    entries = [
        (collection, own(key), own(json.dumps(body, separators=(",", ":"), ensure_ascii=False)))
        for collection, rows in kept["rows"].items()
        for key, body in rows.items()
    ]
    return NewWorld(world_id, tracts, entries, _tiles(folder, ids), (), _coarser(folder, ids))


def _entries(folder: Path, sort: str) -> Iterator[tuple[str, list[str], bytes]]:
    for archive in (HEIGHTS, OTHER):
        with ZipFile(folder / archive) as land:
            for name in land.namelist():
                tract, of, *place = name.split("/")
                if of == sort:
                    yield tract, place, land.read(name)


def _tiles(folder: Path, ids: dict[str, str]) -> Iterator[tuple[TileAt, Tile]]:
    for tract, (layer, row, col), blob in _entries(folder, POSTS):
        values = decode_tile(blob)
        yield TileAt(ids[tract], layer, int(row), int(col)), Tile(blob, float(values.min()), float(values.max()))


def _coarser(folder: Path, ids: dict[str, str]) -> Iterator[OverviewChange]:
    for tract, (layer, rule, level, row, col), blob in _entries(folder, COARSER):
        yield OverviewAt(ids[tract], layer, rule, int(level), int(row), int(col)), blob
