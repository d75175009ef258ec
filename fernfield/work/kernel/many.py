"""Many rows at once: a change of all that are named, or what a file says of them, each as one revision."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import islice
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from fernfield.core.errors import FernError, InvalidInput
from fernfield.work.kernel.commands import Command, Patch, Put, Remove
from fernfield.work.kernel.declared import OnNamed
from fernfield.work.kernel.edits import Planned, plan_one
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.relations import let_go, need_named
from fernfield.work.kernel.rows import Collection, Key, Moves, Place, new_key
from fernfield.work.kernel.world import OpenWorld, Outcome

MOST_AT_ONCE = 20_000
Ids = Annotated[tuple[Key, ...], Field(min_length=1, max_length=MOST_AT_ONCE)]


class ChangeMany(Command):
    """Change some fields of many rows."""

    do: Literal["change_many"] = "change_many"
    collection: str
    ids: Ids
    change: dict[str, Any]


class TakeRows(Command):
    """What the logbook keeps of a file of rows: the rows that changed say the rest."""

    do: Literal["take_rows"] = "take_rows"
    collection: str
    rows: int


def change_many(
    world: OpenWorld, collection: Collection[Any], ids: Sequence[str], change: Mapping[str, Any]
) -> Outcome:
    """Change all of some rows or none, in one revision. Raises InvalidInput naming the row that cannot be so."""
    command = ChangeMany(collection=collection.name, ids=tuple(ids), change=dict(change))
    with world.lock:
        look = Planned(world)
        for key in command.ids:
            try:
                made = plan_one(Patch(collection=collection.name, key=key, row=command.change), look, world)
                need_named(look, world.house, made.moves, world.rows)
            except ValidationError as error:
                one = refused(error.errors(), collection.said_as)[0]
                raise InvalidInput(f"{key}: {one.message}", one.field) from error
            look.take(made.moves)
        words = f"Changed {len(set(ids))} {collection.name}"
        return world.change_rows(command, words, look.moves)


class RemoveMany(Command):
    """Remove many rows."""

    do: Literal["remove_many"] = "remove_many"
    collection: str
    ids: Ids


def remove_many(world: OpenWorld, collection: Collection[Any], ids: Sequence[str], on_named: OnNamed | None) -> Outcome:
    """Remove all of some rows or none, in one revision. Raises NotFound, StillNamed."""
    command = RemoveMany(collection=collection.name, ids=tuple(dict.fromkeys(ids)))
    with world.lock:
        look = Planned(world)
        gone: dict[Place, OnNamed | None] = {}
        for key in command.ids:
            # What went along with one before it is gone already.
            if (collection.name, key) in gone:
                continue
            made = plan_one(Remove(collection=collection.name, key=key), look, world)
            look.take(made.moves)
            gone |= {place: on_named for place, row in made.moves.items() if row is None}
        look.take(let_go(world.house, look, world.rows, gone))
        need_named(look, world.house, look.moves, world.rows)
        return world.change_rows(command, f"Deleted {len(command.ids)} {collection.name}", look.moves)


@dataclass
class Looked:
    """What a file would do: keys of the rows that are new, that change and that stay; and those that are refused, by
    their number in the file, each with its reason."""

    new: list[str] = field(default_factory=list)
    changed: list[str] = field(default_factory=list)
    same: list[str] = field(default_factory=list)
    refused: list[tuple[int, str | None, str]] = field(default_factory=list)
    moves: Moves = field(default_factory=dict)


def look_at_rows(
    world: OpenWorld, collection: Collection[Any], rows: Iterable[tuple[str | None, Mapping[str, Any]]],
    told: Iterable[str] = (),
) -> Looked:  # fmt: skip
    """What rows of a file come to. told : fields that are told of rows: what is no field of them is left aside. Raises
    InvalidInput for more rows than a world can hold, before anything is looked at."""
    found, aside = Looked(), set(told) - set(collection.fields)
    rows = list(islice(rows, collection.most + 1))
    if len(rows) > collection.most:
        most = f"{collection.most:,} {collection.name}"
        raise InvalidInput(f"a world holds at most {most}; the file has more rows than that", "file")
    with world.lock:
        look = Planned(world)
        for number, (key, fields) in enumerate(rows):
            said = {name: value for name, value in fields.items() if name not in aside}
            try:
                own = key if key is not None else new_key(str(said.get("name", "")))
                old = look.get(collection, own)
                if old is None and collection.completes is not None:
                    said = collection.completes(world, said, number)
                # What other sorts have and this one has not is left aside: a table has a column for each.
                model = collection.model_of({"sort": getattr(old, "sort", None), **said})
                said = {n: v for n, v in said.items() if n in model.model_fields or n not in collection.fields}
                made = plan_one(Put(collection=collection.name, key=own, row=said), look, world)
                need_named(look, world.house, made.moves, world.rows)
            except ValidationError as error:
                found.refused.append((number, key, refused(error.errors(), collection.said_as)[0].message))
                continue
            except FernError as error:
                found.refused.append((number, key, str(error)))
                continue
            look.take(made.moves)
            now = made.moves.get((collection.name, own))
            (found.new if old is None else found.same if now == old else found.changed).append(own)
        found.moves = look.moves
    return found


def take_rows(world: OpenWorld, collection: Collection[Any], looked: Looked) -> Outcome:
    """Take what was looked at, as one revision; hold the world's lock since."""
    count = len(looked.new) + len(looked.changed)
    words = f"Took {count} {collection.name} from a file"
    return world.change_rows(TakeRows(collection=collection.name, rows=count), words, looked.moves)
