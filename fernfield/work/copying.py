"""A copy of a world under another name: its tracts, rows, ground and pictures, without its logbook."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace

from fernfield.store.worlds import NewWorld, Tile, TileAt, WorldStore
from fernfield.work.jobs import Job
from fernfield.work.tracts import new_id
from fernfield.work.world import OpenWorld


def copy_world(store: WorldStore, world_id: str, name: str, job: Job) -> str:
    """Copy a world as it is now; returns the new one's id."""
    with store.reading() as snapshot:
        world = OpenWorld(store, world_id, snapshot)
        made = new_id("w")
        keys = {tract_id: new_id("t") for tract_id in world.tracts}
        tracts = [
            replace(world.tract(old).row, id=new, world_id=made, name=world.place_of(old).name)
            for old, new in keys.items()
        ]

        def renamed(text: str) -> str:
            for old, new in keys.items():
                text = text.replace(old, new)
            return text

        rows = []
        for collection, found in world.rows.items():
            for key, row in found.items():
                body = row.model_dump_json()
                if collection == "about":
                    body = json.dumps({**json.loads(body), "name": name})
                elif collection in ("tracts", "joins", "things", "plots", "lines"):
                    body, key = renamed(body), renamed(key)
                rows.append((collection, key, body))

        def tiles() -> Iterator[tuple[TileAt, Tile]]:
            places = [(old, place, span) for old in keys for place, span in world.tract(old).cache.ranges.items()]
            for number, (old, place, (low, high)) in enumerate(places):
                job.step(0.05 + 0.9 * number / max(len(places), 1), "Copying the ground")
                blob = store.tile(TileAt(old, *place), snapshot)
                if blob is not None:
                    yield TileAt(keys[old], *place), Tile(blob, low, high)

        pictures = []
        for picture in store.pictures(world_id):
            blob = store.picture(world_id, picture.key)
            if blob is not None:
                pictures.append((picture, blob))
        store.create(NewWorld(made, tracts, rows, tiles(), pictures))
    return made
