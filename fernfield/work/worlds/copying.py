"""A copy of a world under another name: its tracts, rows, ground and pictures, without its logbook."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

from fernfield.store.overviews import OverviewChange, OverviewStore
from fernfield.store.rows import Tile, TileAt
from fernfield.store.worlds import NewWorld, WorldStore
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.rooms import House
from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.worlds.rows import ABOUT
from fernfield.work.worlds.tracts import new_id


def copy_world(job: Job, house: House, store: WorldStore, world_id: str, name: str) -> dict[str, Any]:
    """Copy a world as it is now; the result names the new one."""
    with store.reading() as snapshot:
        world = OpenWorld(house, store, world_id, snapshot)
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

        about = world.only(ABOUT).model_copy(update={"name": name})
        rows = [(ABOUT.name, ONLY, ABOUT.dump(about))]
        for collection in world.house.collections.values():
            for key, row in world.each(collection):
                body = collection.dump(row)
                if collection.copied_by_tract:
                    body, key = renamed(body), renamed(key)
                if collection is not ABOUT:
                    rows.append((collection.name, key, body))

        def tiles() -> Iterator[tuple[TileAt, Tile]]:
            places = [(old, place, span) for old in keys for place, span in world.tract(old).cache.ranges.items()]
            for number, (old, place, (low, high)) in enumerate(places):
                job.step(0.05 + 0.9 * number / max(len(places), 1), "Copying the ground")
                blob = store.tile(TileAt(old, *place), snapshot)
                if blob is not None:
                    yield TileAt(keys[old], *place), Tile(blob, low, high)

        def coarser() -> Iterator[OverviewChange]:
            for old, new in keys.items():
                if world.tract(old).overviews.ready:
                    for at, blob in OverviewStore(store.engine).every(old, snapshot):
                        yield replace(at, tract_id=new), blob

        pictures = []
        for picture in store.pictures(world_id):
            blob = store.picture(world_id, picture.key)
            if blob is not None:
                pictures.append((picture, blob))
        models = []
        for model in store.models(world_id):
            file = store.model(world_id, model.key)
            if file is not None:
                models.append((model, file))
        played = ((key, blob) for key in store.runs(world_id) if (blob := store.tracks(world_id, key)) is not None)
        store.create(NewWorld(made, tracts, rows, tiles(), pictures, coarser(), models, played))
    return {"world": made}
