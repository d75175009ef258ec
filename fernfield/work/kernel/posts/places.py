"""Rows with a place, said in the world's metres: which tract they lie in, and where in its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from fernfield.work.kernel.declared import path_field, place_fields, placed
from fernfield.work.kernel.rows import Collection

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


def from_world(
    world: OpenWorld, collection: Collection[Any], key: str | None, said: Mapping[str, Any]
) -> dict[str, Any]:
    """Fields of a row that say where it lies, as its tract has them.

    The row stays in its tract as long as that holds the place; else it goes to the one that does. With points their
    middle decides. A place in no tract stays in the row's own, which then refuses it.
    """
    model, made = collection.model, dict(said)
    old = world.rows[collection.name].get(key or "")
    own = world.of_tract(said.get("tract") or getattr(old, "tract", None))
    place = world.place_of(own)
    names, path = place_fields(model), path_field(model)
    at: tuple[float, float] | None = None
    # A place that is said to be nothing is the row's own to refuse.
    if names is not None and any(said.get(name) is not None for name in names):
        for name, corner in zip(names, (place.x, place.y), strict=True):
            if made.get(name) is None:
                made[name] = getattr(old, name, 0.0) + corner
        at = made[names[0]], made[names[1]]
    elif path is not None and said.get(path):
        points = said[path]
        at = sum(x for x, *_ in points) / len(points), sum(y for _, y, *_ in points) / len(points)
    to = own if at is None else _tract_at(world, own, *at)
    there = world.place_of(to)
    found = placed(model, made, lambda x, y: (x - there.x, y - there.y))
    return {**made, **found, **({} if at is None else {"tract": to})}


def _tract_at(world: OpenWorld, own: str, x: float, y: float) -> str:
    country = world.country(own)
    mine = next(part for part in country.parts if part.tract.row.id == own)
    if mine.tract.grid.holds(x - mine.x, y - mine.y):
        return own
    part = country.part_at(x, y)
    return own if part is None else part.tract.row.id
