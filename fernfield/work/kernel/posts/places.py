"""Rows with a place, said in the world's metres: which tract they lie in, and where in its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from fernfield.work.kernel.rows import Collection

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


def from_world(
    world: OpenWorld, collection: Collection[Any], key: str | None, said: Mapping[str, Any]
) -> dict[str, Any]:
    """Fields of a row with `x` and `y`, or `points`, as its tract has them.

    The row stays in its tract as long as that holds the place; else it goes to the one that does. With points their
    middle decides. A place in no tract stays in the row's own, which then refuses it.
    """
    old = world.rows[collection.name].get(key or "")
    own = world.of_tract(said.get("tract") or getattr(old, "tract", None))
    place = world.place_of(own)
    made = dict(said)
    if said.get("points"):
        points = said["points"]
        middle = sum(x for x, _ in points) / len(points), sum(y for _, y in points) / len(points)
        to = _tract_at(world, own, *middle)
        there = world.place_of(to)
        made |= {"points": [[x - there.x, y - there.y] for x, y in points], "tract": to}
    # A place that is said to be nothing is the row's own to refuse.
    if said.get("x") is not None or said.get("y") is not None:
        x = said["x"] if said.get("x") is not None else getattr(old, "x", 0.0) + place.x
        y = said["y"] if said.get("y") is not None else getattr(old, "y", 0.0) + place.y
        to = _tract_at(world, own, x, y)
        there = world.place_of(to)
        made |= {"x": x - there.x, "y": y - there.y, "tract": to}
    return made


def _tract_at(world: OpenWorld, own: str, x: float, y: float) -> str:
    country = world.country(own)
    mine = next(part for part in country.parts if part.tract.row.id == own)
    if mine.tract.grid.holds(x - mine.x, y - mine.y):
        return own
    part = country.part_at(x, y)
    return own if part is None else part.tract.row.id
