"""What commands do to the rows of a world: words for the logbook, and rows to put or remove."""

from __future__ import annotations

from collections.abc import Iterator, Set
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from fernfield.core.errors import Conflict, NotFound, named
from fernfield.core.grid import Grid
from fernfield.work.kernel.commands import Edit, Remove, Single, Together
from fernfield.work.kernel.declared import OnNamed, renamed
from fernfield.work.kernel.relations import let_go, named_from_outside, namers_of, need_named, not_there
from fernfield.work.kernel.rows import Change, Collection, Moves, Place, Plan, R, Row

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld

MOST_WORDS = 6
"""So many edits of one revision are told by name."""


class Planned:
    """The rows of a world as the edits planned so far leave them. Nothing in the world changes."""

    def __init__(self, world: OpenWorld) -> None:
        self._world = world
        self._own: dict[str, dict[str, Row | None]] = {}
        self._marked: dict[tuple[str, str], list[str]] = {}
        self._more: dict[str, int] = {}

    def get(self, collection: Collection[R], key: str) -> R | None:
        own = self._own.get(collection.name, {})
        found = own[key] if key in own else self._world.rows[collection.name].get(key)
        return found if isinstance(found, collection.model) else None

    def need(self, collection: Collection[R], key: str) -> R:
        """Raises NotFound, with some of the keys that there are."""
        found = self.get(collection, key)
        if found is None:
            raise not_there(collection, key, [k for k, _ in self.each(collection)])
        return found

    def need_in(self, name: str, key: str) -> Row:
        """As `need`, of a collection of another room, by its name."""
        found: Row = self.need(self._world.house.collection(name), key)
        return found

    def need_model(self, key: str) -> None:
        """Raises NotFound, with the keys of the shapes that people brought."""
        known = {model.key: model for model in self._world.store.models(self._world.id)}
        named(known, "shape", key)

    def only(self, collection: Collection[R]) -> R:
        return self.get(collection, collection.only or "") or first_of(collection)

    def each(self, collection: Collection[R]) -> Iterator[tuple[str, R]]:
        own = self._own.get(collection.name, {})
        for key, row in self._world.rows[collection.name].items():
            if key not in own and isinstance(row, collection.model):
                yield key, row
        for key, changed in own.items():
            if isinstance(changed, collection.model):
                yield key, changed

    def marked(self, collection: Collection[R], name: str) -> list[tuple[str, R]]:
        """Rows in which a field is set. The world's own are looked through once, however many edits ask."""
        rows, own = self._world.rows[collection.name], self._own.get(collection.name, {})
        known = self._marked.get((collection.name, name))
        if known is None:
            known = [key for key, row in rows.items() if getattr(row, name, None)]
            self._marked[collection.name, name] = known
        pairs = [(key, rows[key]) for key in known if key not in own]
        pairs += [(key, row) for key, row in own.items() if row is not None and getattr(row, name, None)]
        return [(key, row) for key, row in pairs if isinstance(row, collection.model)]

    def count(self, collection: Collection[Any]) -> int:
        return len(self._world.rows[collection.name]) + self._more.get(collection.name, 0)

    def collections(self) -> Iterator[Collection[Any]]:
        return iter(self._world.house.collections.values())

    def naming_from_outside(self, places: Set[Place]) -> list[str]:
        """Words for each row that names one of some, and is none of them."""
        return [f"{one.words} names {named}" for one, named in named_from_outside(self._world.house, self, places)]

    def grid(self, tract_id: str) -> Grid:
        return self._world.tract(tract_id).grid

    def tract_or_first(self, own: str | None) -> str:
        return self._world.of_tract(own)

    def take(self, moves: Moves) -> None:
        """What an edit came to is there for those after it."""
        for (collection, key), row in moves.items():
            own = self._own.setdefault(collection, {})
            was = own[key] if key in own else self._world.rows[collection].get(key)
            self._more[collection] = self._more.get(collection, 0) + (row is not None) - (was is not None)
            own[key] = row

    @property
    def moves(self) -> Moves:
        return {(name, key): row for name, rows in self._own.items() for key, row in rows.items()}


def first_of(collection: Collection[R]) -> R:
    """What the only row of a collection is before anything was said."""
    if collection.first is None:
        raise NotFound(f"this world has no {collection.one or collection.name}")
    return collection.first


def plan(command: Edit, world: OpenWorld) -> Plan:
    """The words and the rows of an edit; changes nothing. Raises when it does not fit the world."""
    look = Planned(world)
    words = []
    gone: dict[Place, OnNamed | None] = {}
    for edit in command.edits if isinstance(command, Together) else (command,):
        made = plan_one(edit, look, world)
        look.take(made.moves)
        words.append(made.words)
        if isinstance(edit, Remove):
            gone |= {place: edit.on_named for place, row in made.moves.items() if row is None}
    # Looked at when all is done: an edit may take away what another one named.
    look.take(let_go(world.house, look, world.rows, gone))
    need_named(look, world.house, look.moves, world.rows)
    told = "; ".join(words[:MOST_WORDS])
    return Plan(told + (f"; and {len(words) - MOST_WORDS} more" if len(words) > MOST_WORDS else ""), look.moves)


def plan_one(edit: Single, look: Planned, world: OpenWorld) -> Plan:
    """What one edit comes to, on the rows as `look` has them. Raises when it does not fit the world."""
    collection = world.house.collection(edit.collection)
    if edit.key in collection.shipped:
        label = collection.shipped[edit.key]
        raise Conflict(f"{label} ships with the application: it can be copied, not changed")
    old = look.get(collection, edit.key)
    if isinstance(edit, Remove):
        old = look.need(collection, edit.key)
        return _own_plan(collection, Change(edit.key, old, None), look)
    if old is None and edit.do == "patch" and collection.only is None:
        look.need(collection, edit.key)
    before = old if old is not None or collection.only is None else collection.first
    new = collection.merged(before, edit.row)
    if collection.in_tract:
        new = new.model_copy(update={"tract": look.tract_or_first(getattr(new, "tract", None))})
        grid = look.grid(getattr(new, "tract", ""))
        if collection.place is not None:
            x, y = collection.place
            grid.need(getattr(new, x), getattr(new, y))
    if old is None and look.count(collection) >= collection.most:
        raise Conflict(f"a world holds at most {collection.most} {collection.name}")
    return _own_plan(collection, Change(edit.key, old, new), look)


def _own_plan(collection: Collection[Any], change: Change[Any], look: Planned) -> Plan:
    return collection.plan(change, look) if collection.plan is not None else plainly(collection, change)


def freed(world: OpenWorld, moves: Moves) -> Moves:
    """Rows that change, and with them those that name one which goes: they are without it, or go too."""
    look = Planned(world)
    look.take(moves)
    gone = [place for place, row in moves.items() if row is None]
    return {**moves, **let_go(world.house, look, world.rows, dict.fromkeys(gone, "clear"), firmly=True)}


def named_instead(world: OpenWorld, place: Place, key: str) -> Moves:
    """The rows that name a row, as they name another of its collection; those that cannot are left out."""
    moves: Moves = {}
    for one in namers_of(world.house, Planned(world), place):
        try:
            moves[one.collection.name, one.key] = type(one.row).model_validate(dict(renamed(one.row, {place: key})))
        except ValidationError:
            continue
    return moves


def plainly(collection: Collection[R], change: Change[R]) -> Plan:
    """The edit of one row and nothing beside it."""
    row = change.new if change.new is not None else change.old
    if collection.only is not None and change.new is not None:
        words = collection.words(change.new) if collection.words is not None else f"Changed the {collection.one}"
    else:
        verb = "Deleted" if change.new is None else "Added" if change.old is None else "Changed"
        one = (row.called if row is not None else "") or collection.one
        words = f"{verb} the {one} {row.title if row is not None else change.key}".rstrip()
    return Plan(words, {(collection.name, change.key): change.new})
