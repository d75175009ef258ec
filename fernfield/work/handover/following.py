"""What each revision changed, for programs that keep a copy in step: windows by layer, rows by their keys."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from pydantic import TypeAdapter
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import TILE
from fernfield.store.worlds import WorldStore
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld

AT_ONCE = 200
"""Revisions that are read together."""
HEIGHTS = "heights"
"""What the layer of the ground is called outside."""
Windows = list[list[int]]


class ChangeTold(TypedDict):
    """What a revision changed: of each tract its windows [row0, col0, row1, col1] by layer, and rows by collection.
    `tract` and `layers` are those of the only tract, where it is one. `all`: what came before is not known any more;
    the whole world is to be fetched anew."""

    revision: int
    tract: str | None
    layers: dict[str, Windows]
    tracts: dict[str, dict[str, Windows]]
    rows: dict[str, list[str]]
    all: bool


def named_outside(layer: str) -> str:
    return HEIGHTS if layer == HEIGHT else layer


def named_inside(layer: str) -> str:
    return HEIGHT if layer == HEIGHTS else layer


def layers_of(store: WorldStore, tract: Tract) -> list[str]:
    """The layers of a tract in which something is written, as they are called outside; the ground always."""
    return sorted({HEIGHTS} | {named_outside(layer) for layer, _, _ in store.tile_ranges(tract.row.id)})


def changes_since(store: WorldStore, world: OpenWorld, since: int) -> Iterator[ChangeTold]:
    """A telling for each revision after `since`, the oldest first. Raises InvalidInput for one that is to come."""
    now = world.revision
    if since > now:
        raise InvalidInput(f"the world is at r{now}: there is no r{since} yet", "since")
    # A number that is missing was folded into a later one: what it did by itself is not known any more.
    next_ = store.revisions(world.id, before=since + 2, most=1)
    if since < now and (not next_ or next_[0].number != since + 1):
        yield {"revision": now, "tract": None, "layers": {}, "tracts": {}, "rows": {}, "all": True}
        return
    while since < now:
        upto = min(since + AT_ONCE, now)
        for one in reversed(store.revisions(world.id, before=upto + 1, most=AT_ONCE)):
            if one.number > since:
                yield _told(store, world, one.number)
        since = upto


def _told(store: WorldStore, world: OpenWorld, number: int) -> ChangeTold:
    tracts: dict[str, dict[str, Windows]] = {}
    for at in store.changed(world.id, number):
        row, col = at.tile_row * TILE, at.tile_col * TILE
        tract = world.tracts.get(at.tract_id)
        end = (tract.grid.rows, tract.grid.cols) if tract else (row + TILE, col + TILE)
        window = [row, col, min(row + TILE, end[0]), min(col + TILE, end[1])]
        tracts.setdefault(at.tract_id, {}).setdefault(named_outside(at.layer), []).append(window)
    rows: dict[str, list[str]] = {}
    for change in store.entry_changes(world.id, number):
        rows.setdefault(change.collection, []).append(change.key)
    (tract_id, layers), *more = tracts.items() or [(None, {})]
    alone = not more
    return {
        "revision": number, "tract": tract_id if alone else None, "layers": layers if alone else {}, "tracts": tracts,
        "rows": rows, "all": False,
    }  # fmt: skip


class RowsTold(TypedDict):
    """Rows by collection and key as they are kept, null for one that there is not (any more), and the JSON Schemas of
    those collections, where they were asked for."""

    revision: int
    rows: dict[str, dict[str, Any]]
    schemas: dict[str, Any]


def rows_told(world: OpenWorld, keys: dict[str, list[str]] | None, schemas: bool) -> RowsTold:
    """keys : by collection; all of every one when left out"""
    every = world.house.collections
    with world.lock:
        if keys is None:
            rows = {
                name: {key: row.model_dump(mode="json") for key, row in world.each(one)} for name, one in every.items()
            }
        else:
            rows = {name: {key: _row(world, name, key) for key in some} for name, some in keys.items()}
        revision = world.revision
    found = {name: TypeAdapter(every[name].said_as).json_schema() for name in rows if name in every} if schemas else {}
    return {"revision": revision, "rows": rows, "schemas": found}


def _row(world: OpenWorld, name: str, key: str) -> Any:
    row = world.get(world.house.collections[name], key)
    return None if row is None else row.model_dump(mode="json")


def rows_json(world: OpenWorld) -> bytes:
    """The rows of every collection by their keys, and a JSON Schema of each."""
    return json.dumps(rows_told(world, None, True), indent=1, sort_keys=True, ensure_ascii=False).encode()
