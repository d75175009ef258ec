"""Rows that name each other: what is named is there, and what becomes of a row when what it names goes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass
from typing import Any, Protocol, cast

from fernfield.core.errors import Choice, NotFound
from fernfield.work.kernel.declared import Names, OnNamed, cleared, named_in, naming
from fernfield.work.kernel.rows import Collection, Look, Moves, Place, Row

MOST_NAMED = 6

Rows = Mapping[str, Mapping[str, Row]]
"""Rows by their collection and key."""


class Sorts(Protocol):
    """The sorts of rows that there are, and which of them may name rows of another."""

    def collection(self, name: str) -> Collection[Any]: ...

    @property
    def namers(self) -> Mapping[str, tuple[Collection[Any], ...]]: ...


class StillNamed(Choice):
    """Rows that are to be deleted are named by others: `more` says by which, and what can be done."""


@dataclass(frozen=True, slots=True)
class Namer:
    """A row that names another, as declared there."""

    collection: Collection[Any]
    key: str
    row: Row
    names: Names

    @property
    def words(self) -> str:
        return f"the {self.row.called or self.collection.one} {self.row.title}".rstrip()


def namers_of(sorts: Sorts, look: Look, place: Place) -> Iterator[Namer]:
    """The rows that name a row."""
    yield from _namers(sorts, look, place[0]).get(place[1], ())


def named_from_outside(sorts: Sorts, look: Look, places: Set[Place]) -> Iterator[tuple[Namer, str]]:
    """The rows that name one of some without being one of them, and what they name in words."""
    for name in sorted({name for name, _ in places}):
        collection = sorts.collection(name)
        for key, namers in _namers(sorts, look, name).items():
            for one in namers if (name, key) in places else ():
                if (one.collection.name, one.key) not in places:
                    row = look.need(collection, key)
                    yield one, f"the {row.called or collection.one} {row.title}".rstrip()


def _namers(sorts: Sorts, look: Look, name: str) -> Mapping[str, Sequence[Namer]]:
    """By the key of a row of a collection, those that name it: all are looked through once."""
    found: defaultdict[str, list[Namer]] = defaultdict(list)
    for collection in sorts.namers.get(name, ()):
        if collection.loose:
            continue
        plain = _plainly_named(collection, name)
        for key, row in look.each(collection):
            # Most rows of many name nothing: those are left at a glance.
            if plain is not None and all(getattr(row, field, None) is None for field in plain):
                continue
            for names, named in named_in(row):
                mine = names.collection == name and (collection.name, key) != (name, named)
                if mine and not any(one.key == key and one.collection is collection for one in found[named]):
                    found[named].append(Namer(collection, key, row, names))
    return found


def _plainly_named(collection: Collection[Any], name: str) -> list[str] | None:
    """The fields through which a row may name one of a collection; None where it may within others."""
    fields: list[str] = []
    for model in collection.models:
        for field, declared in naming(cast(type[Row], model)).items():
            if declared.models:
                return None
            if declared.names is not None and declared.names.collection == name:
                fields.append(field)
    return fields


def let_go(
    sorts: Sorts, look: Look, before: Rows, gone: Mapping[Place, OnNamed | None], *, firmly: bool = False
) -> Moves:
    """What becomes of the rows that name some which go; each is said how, or what is declared is done.

    before : the rows as they are; firmly : a row that cannot be without what it names goes along
    Raises StillNamed where that is to be refused, or a row cannot be without what it names.
    """
    moves: Moves = {}
    held: dict[Place, list[Namer]] = {}
    waiting = dict(gone)
    by: dict[str, Mapping[str, Sequence[Namer]]] = {}
    while waiting:
        place, wanted = waiting.popitem()
        if place[0] not in by:
            by[place[0]] = _namers(sorts, look, place[0])
        for one in by[place[0]].get(place[1], ()):
            at = one.collection.name, one.key
            how = wanted or one.names.gone
            if at in gone or (at in moves and moves[at] is None):
                continue
            row = moves.get(at) or one.row
            if how == "delete" and one.collection.only is None:
                moves[at] = None
                waiting[at] = wanted
            elif how != "refuse" and (new := cleared(row, *place)) is not None:
                moves[at] = new
            elif firmly and one.collection.only is None:
                moves[at] = None
                waiting[at] = wanted
            else:
                held.setdefault(place, []).append(one)
    if held:
        raise _still_named(sorts, before, held)
    return moves


def _still_named(sorts: Sorts, before: Rows, held: Mapping[Place, list[Namer]]) -> StillNamed:
    (name, key), by = next(iter(held.items()))
    collection = sorts.collection(name)
    row = before[name].get(key)
    called = f"the {(row.called if row else '') or collection.one} {row.title if row else key}".rstrip()
    some = [one.words for one in by]
    told = ", ".join(some[:MOST_NAMED]) + (f" and {len(some) - MOST_NAMED} more" if len(some) > MOST_NAMED else "")
    choices = {
        "clear": [one.words for one in by if cleared(one.row, name, key) is not None],
        "delete": [one.words for one in by if one.collection.only is None],
    }
    every = [{"collection": one.collection.name, "key": one.key, "words": one.words} for one in by]
    # Each way is offered that settles all of them.
    ways = {way: rows for way, rows in choices.items() if len(rows) == len(by)}
    words = f"{called[0].upper()}{called[1:]} is named by {told}"
    ask = f"say on_named={' or '.join(ways)}, or change that first" if ways else "change that first"
    return StillNamed(f"{words}: {ask}", {"words": f"{words}.", "choices": {"on_named": ways}, "named_by": every})


def need_named(look: Look, sorts: Sorts, moves: Moves, before: Rows) -> None:
    """Raises NotFound for a row that names one which is not there, and did not name it before."""
    for (name, key), row in moves.items():
        if row is None or sorts.collection(name).loose:
            continue
        old = before[name].get(key)
        known: set[tuple[str, str]] | None = None
        for names, named in named_in(row):
            collection = sorts.collection(names.collection)
            if named in names.always or look.get(collection, named) is not None:
                continue
            if known is None:
                known = {(was.collection, other) for was, other in named_in(old)} if old is not None else set()
            if (names.collection, named) not in known:
                raise not_there(collection, named, [key for key, _ in look.each(collection)], names)


def not_there(collection: Collection[Any], key: str, known: Iterable[str], names: Names | None = None) -> NotFound:
    """Of a row that is not there, with some of those that are."""
    keys = sorted(known)
    some = ", ".join(keys[:12]) or "none"
    more = f" and {len(keys) - 12} more" if len(keys) > 12 else ""
    always = names.always if names is not None and isinstance(names.always, Mapping) else {}
    some = ", ".join([*always, *([some] if keys or not always else [])])
    return NotFound(f"there is no {key!r} among the {collection.name} of this world; there is {some}{more}")


def missing_in(sorts: Sorts, rows: Rows) -> Iterator[tuple[Collection[Any], Row, str]]:
    """Every row that names one which is not there (any more), and what it names in words."""
    for collection in {one.name: one for some in sorts.namers.values() for one in some}.values():
        if collection.loose:
            continue
        for row in rows[collection.name].values():
            for names, key in named_in(row):
                if key not in names.always and key not in rows[names.collection]:
                    yield collection, row, f"the {sorts.collection(names.collection).one} {key}"
