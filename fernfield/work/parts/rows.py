"""Parts of a world: rows that are switched, locked, shown, handed over and taken together."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.work.kernel.declared import Names, by_far, placed, spots_of
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.posts.tracts import PLACES
from fernfield.work.kernel.rows import Change, Collection, Key, Look, Moves, Name, Place, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

MOST_IN_PART = 5_000


class Parted(Row):
    """A row that a part may hold."""

    part: Annotated[Key | None, Names("parts", gone="clear"), UNASKED] = None


class Shelved(BaseModel):
    """A row of a part that is switched off, as it is stored, with the version that wrote it.

    x, y : where its tract lay in the world then: land that is cropped meanwhile has other metres [m]
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    collection: str
    key: Key
    body: str
    x: float = 0.0
    y: float = 0.0


class WorldPart(Row):
    """Collection "parts": a named part of a world. Rows say that they are of it.

    on : what it holds is in the world; locked : nothing of it can be changed
    shelf : its rows while it is switched off: nothing draws, meets or counts them, and they come back as they were
    """

    name: Annotated[Name, Say("Name")]
    on: Annotated[bool, Say("Switched on")] = True
    locked: Annotated[bool, Say("Locked")] = False
    shelf: Annotated[tuple[Shelved, ...], Field(max_length=MOST_IN_PART), UNASKED] = ()


def held_by(look: Look, key: str) -> list[tuple[Collection[Any], str, Parted]]:
    """The rows of a part that are in the world."""
    return [
        (collection, own, row)
        for collection in look.collections() if issubclass(collection.model, Parted)
        for own, row in look.each(collection) if row.part == key
    ]  # fmt: skip


def _plan(change: Change[WorldPart], look: Look) -> Plan:
    old, new = change.old, change.new
    if new is not None and new.shelf != (old.shelf if old is not None else ()):
        raise InvalidInput("shelf is kept by the application: say on=false to switch a part off", "shelf")
    if new is None:
        if old is not None and old.locked:
            raise Conflict(f"{old.name} is locked: unlock it before it goes")
        if old is not None and not old.on:
            raise Conflict(f"{old.name} is switched off, with {len(old.shelf)} rows: switch it on before it goes")
        return plainly(PARTS, change)
    if old is None:
        if not new.on:
            raise InvalidInput("a new part is switched on: put rows into it, then switch it off", "on")
        return plainly(PARTS, change)
    if old.on == new.on:
        return plainly(PARTS, change)
    return _switched_on(change.key, new, look) if new.on else _switched_off(change.key, new, look)


def _switched_off(key: str, part: WorldPart, look: Look) -> Plan:
    rows = held_by(look, key)
    if len(rows) > MOST_IN_PART:
        raise Conflict(f"{part.name} holds {len(rows):,} rows; a part of {MOST_IN_PART:,} at most can be switched off")
    places: set[Place] = {(collection.name, own) for collection, own, _ in rows}
    if naming := look.naming_from_outside(places):
        more = f" and {len(naming) - 5} more" if len(naming) > 5 else ""
        words = f"{', '.join(naming[:5])}{more}"
        raise Conflict(f"{part.name} cannot be switched off: {words}. Take that into the part, or change it first")
    shelf = []
    for one, own, row in rows:
        at = look.need(PLACES, look.tract_or_first(getattr(row, "tract", None))) if one.in_tract else None
        lay = (at.x, at.y) if at is not None else (0.0, 0.0)
        shelf.append(Shelved(collection=one.name, key=own, body=one.dump(row), x=lay[0], y=lay[1]))
    moves: Moves = dict.fromkeys(places)
    moves["parts", key] = part.model_copy(update={"shelf": tuple(shelf)})
    return Plan(f"Switched {part.name} off, with {len(rows)} rows", moves)


def _switched_on(key: str, part: WorldPart, look: Look) -> Plan:
    moves: Moves = {("parts", key): part.model_copy(update={"shelf": ()})}
    sorts = {one.name: one for one in look.collections()}
    for one in part.shelf:
        collection = sorts[one.collection]
        if look.get(collection, one.key) is not None:
            raise Conflict(f"{part.name} cannot be switched on: there is another {collection.one} {one.key} by now")
        moves[one.collection, one.key] = _back(part, collection, one, look)
    return Plan(f"Switched {part.name} on, with {len(part.shelf)} rows", moves)


def _back(part: WorldPart, collection: Collection[Any], one: Shelved, look: Look) -> Row:
    """A row as it comes back: in the tract of before, or where that was cropped or respaced in the one that lies there
    now. Raises Conflict where its land has gone."""
    row: Row = collection.parse(one.key, one.body)
    if not collection.in_tract:
        return row
    places, own = dict(look.each(PLACES)), getattr(row, "tract", None)
    for tract_id in sorted(places, key=lambda other: other != own):
        at, grid = places[tract_id], look.grid(tract_id)
        east, north = one.x - at.x, one.y - at.y
        if all(grid.holds(x + east, y + north) for x, y in spots_of(row)):
            moved = placed(type(row), dict(row), by_far(east, north)) if east or north else {}
            return row.model_copy(update={**moved, "tract": tract_id})
    raise Conflict(f"{part.name} cannot be switched on: {row.title} would lie outside of the land")


class PartTold(TypedDict):
    """A part without what lies on its shelf; shelved : how many rows lie there."""

    key: str
    name: str
    on: bool
    locked: bool
    shelved: int


def _shown(world: OpenWorld, key: str, part: WorldPart) -> Annotated[dict[str, Any], PartTold]:
    return {
        "key": key, "name": part.name, "on": part.on, "locked": part.locked, "shelved": len(part.shelf)
    }  # fmt: skip


PARTS: Collection[WorldPart] = Collection(
    "parts", WorldPart, "part", most=200, plan=_plan, shown=_shown, names_tracts=True
)


def check_unlocked(world: OpenWorld, moves: Moves) -> None:
    """Raises Conflict for rows of a part that is locked, and stays so. A row may leave it or come to it only when the
    part is unlocked."""
    parts = world.rows[PARTS.name]
    locked = {key: row.name for key, row in parts.items() if isinstance(row, WorldPart) and row.locked}
    if not locked:
        return
    for key in list(locked):
        coming = moves.get((PARTS.name, key), parts[key])
        if not isinstance(coming, WorldPart) or not coming.locked:
            del locked[key]
    for (name, key), row in moves.items():
        old = world.rows[name].get(key)
        for one in (old, row):
            part = getattr(one, "part", None)
            if part in locked and old != row:
                title = one.title if one is not None else key
                raise Conflict(f"{title} is of the part {locked[part]}, which is locked: unlock that first")
