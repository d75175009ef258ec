"""A part as a file of its own, and taken from another world: looked at first, taken as one revision."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, JsonValue, ValidationError
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, FernError, InvalidInput
from fernfield.work.kernel.commands import Command, Put
from fernfield.work.kernel.declared import by_far, cleared, named_in, placed, renamed, spots_of, worked_out
from fernfield.work.kernel.edits import Planned, plan_one
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.rows import Collection, Key, Moves, NameText, Place, Row
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import MOST_IN_PART, PARTS, Parted, WorldPart, held_by

Offset = Annotated[float, Field(ge=-1e6, le=1e6)]


class RowOfPart(BaseModel):
    """A row in the file of a part, in the metres of its world. version : of its collection, which wrote it"""

    model_config = ConfigDict(extra="forbid", frozen=True)

    collection: Annotated[str, Field(max_length=40)]
    key: Key
    version: Annotated[int, Field(ge=1, le=1_000)] = 1
    row: dict[str, JsonValue]


class PartFile(BaseModel):
    """A part as it leaves a world. names : what its rows name that is not part of it, in words"""

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Literal["fernfield part"] = "fernfield part"
    key: Key
    name: NameText
    names: tuple[str, ...] = ()
    rows: Annotated[tuple[RowOfPart, ...], Field(max_length=MOST_IN_PART)]


class TakePart(Command):
    """What the logbook keeps of a part that was taken: the rows that changed say the rest."""

    do: Literal["take_part"] = "take_part"
    part: str
    from_world: str | None = None
    rows: int


@dataclass
class Taking:
    """What taking a part comes to: rows that are new, that change, that are as they were, and that stay behind, each
    with its reason; and what they name that is not here."""

    new: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    same: int = 0
    gone: list[str] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)
    moves: Moves = field(default_factory=dict)


class TakenPart(TypedDict):
    """What taking a part comes to, in words for each row. missing : what they name that is not here, and do without;
    gone : rows of the part here that the one taken has not: they stay"""

    part: str
    new: list[str]
    changed: list[str]
    same: int
    gone: list[str]
    left_out: list[str]
    missing: list[str]
    revision: int | None


def part_file(world: OpenWorld, key: str) -> PartFile:
    """A part as a file. Raises NotFound, Conflict while it is switched off."""
    with world.lock:
        look = Planned(world)
        part = look.need(PARTS, key)
        if not part.on:
            raise Conflict(f"{part.name} is switched off: switch it on first")
        rows = held_by(look, key)
        own = {(collection.name, name) for collection, name, _ in rows}
        outside = {
            f"the {world.house.collection(names.collection).one} {named}"
            for _, _, row in rows for names, named in named_in(row)
            if names.collection != PARTS.name and named not in names.always and (names.collection, named) not in own
        }  # fmt: skip
        return PartFile(
            key=key, name=part.name, names=tuple(sorted(outside)),
            rows=tuple(
                RowOfPart(collection=one.name, key=name, version=one.version, row=_said(world, one, row))
                for one, name, row in rows
            ),
        )  # fmt: skip


def _said(world: OpenWorld, collection: Collection[Any], row: Parted) -> dict[str, Any]:
    """A row by its fields, in its world's metres, of no tract and no part."""
    if collection.in_tract:
        at = world.place_of(world.of_tract(getattr(row, "tract", None)))
        row = row.model_copy(update=placed(type(row), dict(row), by_far(at.x, at.y)))
    return row.model_dump(mode="json", exclude={"part", "tract", *worked_out(type(row))})


def look_at_part(
    world: OpenWorld, file: PartFile, key: str, *, copied: bool = False, x: float = 0.0, y: float = 0.0
) -> Taking:
    """What taking a part as the part `key` comes to. Under the lock. Rows that came with it before are changed, others
    are new; a key that another row has is another here. copied : all are new; x, y : so far from where they were [m]
    """
    look, found = Planned(world), Taking()
    own = look.get(PARTS, key)
    if own is not None and not own.on:
        raise Conflict(f"{own.name} is switched off: switch it on first")
    here = {(collection.name, name): row for collection, name, row in held_by(look, key)}
    keys = {(one.collection, one.key): _key_for(look, world, one, key, here, copied) for one in file.rows}
    coming: dict[Place, tuple[Collection[Any], Row]] = {}
    for one in file.rows:
        collection = world.house.collections.get(one.collection)
        if collection is None or not issubclass(collection.model, Parted):
            raise InvalidInput(f"a part holds no {one.collection}", "rows")
        row, why = _read(world, collection, one, (x, y))
        if row is None:
            found.left_out.append(f"the {collection.one} {one.row.get('name', one.key)}: {why}")
        else:
            coming[one.collection, keys[one.collection, one.key]] = (
                collection, renamed(row, keys).model_copy(update={"part": key})
            )  # fmt: skip
    again = True
    while again:
        _without_missing(look, world, coming, found)
        look, again = Planned(world), False
        if own is None:
            look.take({(PARTS.name, key): WorldPart(name=file.name)})
        for place, (collection, row) in list(coming.items()):
            old = here.get(place)
            if old is not None and type(old) is type(row):
                row = row.model_copy(update={name: getattr(old, name) for name in worked_out(type(row))})
            if old == row:
                continue
            try:
                look.take(plan_one(Put(collection=place[0], key=place[1], row=dict(row)), look, world).moves)
            except (FernError, ValidationError) as error:
                # It does not fit what is here; what names it is looked at again.
                found.left_out.append(f"{_words(collection, row)}: {_why(collection, error)}")
                del coming[place]
                again = True
    for place, (collection, row) in coming.items():
        if place not in look.moves:
            found.same += 1
        else:
            (found.changed if place in here else found.new).append(_words(collection, row))
    found.gone = [_words(world.house.collection(place[0]), row) for place, row in here.items() if place not in coming]
    found.moves = look.moves
    return found


def _why(collection: Collection[Any], error: Exception) -> str:
    if isinstance(error, ValidationError):
        return refused(error.errors(), collection.said_as)[0].message
    return str(error)


def _words(collection: Collection[Any], row: Row) -> str:
    return f"the {row.called or collection.one} {row.title}".rstrip()


def _key_for(
    look: Planned, world: OpenWorld, one: RowOfPart, part: str, here: Mapping[Place, Parted], copied: bool
) -> str:
    """The key that a row has here: its own, unless another row has that. Taken again it is the same."""
    collection = world.house.collections.get(one.collection)
    if collection is None:
        return one.key
    free = (one.collection, one.key) in here or look.get(collection, one.key) is None
    if free and not copied and one.key not in collection.shipped:
        return one.key
    return f"{one.key[: 39 - min(len(part), 16)]}-{part[:16]}"


def _read(
    world: OpenWorld, collection: Collection[Any], one: RowOfPart, by: tuple[float, float]
) -> tuple[Row | None, str]:
    """A row of a file in the tract where it comes to lie; None and why not where it cannot be."""
    values: dict[str, Any] = dict(one.row)
    if one.version > collection.version:
        return None, f"a newer version wrote it ({one.version})"
    try:
        if one.version < collection.version and collection.upgrade is not None:
            values = collection.upgrade(values, one.version)
        row: Row = collection.checked(values)
    except (ValidationError, FernError, KeyError, TypeError) as error:
        return None, _why(collection, error)
    if not collection.in_tract:
        return row, ""
    spots = spots_of(row)
    for tract_id in world.tracts:
        at, grid = world.place_of(tract_id), world.tract(tract_id).grid
        east, north = by[0] - at.x, by[1] - at.y
        if all(grid.holds(x + east, y + north) for x, y in spots):
            said = placed(type(row), dict(row), by_far(east, north))
            return row.model_copy(update={**said, "tract": tract_id}), ""
    x, y = spots[0]
    return None, f"{x + by[0]:.0f}, {y + by[1]:.0f} lies outside of the land here"


def _without_missing(
    look: Planned, world: OpenWorld, coming: dict[Place, tuple[Collection[Any], Row]], found: Taking
) -> None:
    """Rows do without what they name that is not here; what cannot be without stays behind, and so on."""
    told: set[str] = set()
    again = True
    while again:
        again = False
        for place, (collection, row) in list(coming.items()):
            left: Row | None = row
            for names, key in list(_missing(look, world, coming, row)):
                words = f"the {world.house.collection(names).one} {key}"
                told.add(words)
                left = cleared(left, names, key) if left is not None else None
                if left is None:
                    found.left_out.append(f"{_words(collection, row)}: {words} is not here")
                    del coming[place]
                    again = True
                    break
            if left is not None and left is not row:
                coming[place] = collection, left
    found.missing = sorted(told)


def _missing(
    look: Planned, world: OpenWorld, coming: Mapping[Place, Any], row: Row
) -> Iterator[tuple[str, str]]:  # fmt: skip
    for names, key in named_in(row):
        if names.collection == PARTS.name or key in names.always or (names.collection, key) in coming:
            continue
        if look.get(world.house.collection(names.collection), key) is None:
            yield names.collection, key


def take_part(
    world: OpenWorld, file: PartFile, key: str, *, look: bool, from_world: str | None = None, x: float = 0.0,
    y: float = 0.0,
) -> TakenPart:  # fmt: skip
    """Take a part as the part `key` of a world, as one revision, or look at what that comes to. Raises Conflict."""
    with world.lock:
        found = look_at_part(world, file, key, copied=from_world == world.id, x=x, y=y)
        revision = None
        if not look and any(place[0] != PARTS.name for place in found.moves):
            command = TakePart(part=key, from_world=from_world, rows=len(found.moves))
            words = f"Took the part {file.name}: {_counted(found)}"
            revision = world.change_rows(command, words, found.moves).revision
        return {
            "part": key, "new": found.new, "changed": found.changed, "same": found.same, "gone": found.gone,
            "left_out": found.left_out, "missing": found.missing, "revision": revision,
        }  # fmt: skip


def _counted(found: Taking) -> str:
    words: Sequence[str] = (f"{len(found.new)} new", f"{len(found.changed)} changed", f"{found.same} as they were")
    return ", ".join(words)
