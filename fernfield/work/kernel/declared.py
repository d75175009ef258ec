"""What fields of rows declare besides their range: where the row lies, and which other rows it names.

`Annotated[float, Lies("east")]` and `Annotated[Key, Names("plots")]` are all that is said. From it follows, for every
collection: how its rows go along with their land, in whose metres a page has them, that what is named is there, what
becomes of a row when what it names is deleted, and that copies of related rows are related among themselves.
"""

from __future__ import annotations

import types
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cache
from typing import Annotated, Any, Literal, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError

B = TypeVar("B", bound=BaseModel)

How = Literal["east", "north", "west", "south", "path", "outline", "box", "bearing"]


@dataclass(frozen=True, slots=True)
class Lies:
    """A field that says where its row lies, in its tract's metres.

    how : "east" and "north" of a place, which has to be in the tract; "west" and "south" of the corner of what it
    covers; "path" and "outline" (which is closed): points, their first two numbers east and north; "box": west,
    south, east and north; "bearing": clockwise from north [°]
    """

    how: How


OnNamed = Literal["refuse", "clear", "delete"]


@dataclass(frozen=True, slots=True, eq=False)
class Names:
    """A field that holds the key of a row of another collection (or of its own).

    gone : what is done when that row is to be deleted and nobody says: it is refused, the field (or the entry of the
    list that it stands in) is cleared, or the row goes along
    always : keys that are there without a row
    """

    collection: str
    gone: OnNamed = "refuse"
    always: Container[str] = ()


class AllOrNone:
    """A list whose entries hold together: a row cannot be without one of them and be what it was meant to be."""


class WorkedOut:
    """A field that follows from the ground where its row lies: nobody says it, and it does not go elsewhere."""


@cache
def worked_out(model: type[BaseModel]) -> frozenset[str]:
    return frozenset(name for name, field in model.model_fields.items() if WorkedOut in field.metadata)


# Where rows lie


@cache
def lies_of(model: type[BaseModel]) -> Mapping[str, How]:
    """The fields of a model that say where a row lies."""
    found = ((name, mark) for name, field in model.model_fields.items() for mark in field.metadata)
    return {name: mark.how for name, mark in found if isinstance(mark, Lies)}


def field_that(model: type[BaseModel], how: How) -> str | None:
    """The first field that says where a row lies in this way."""
    return next((name for name, own in lies_of(model).items() if own == how), None)


def place_fields(model: type[BaseModel]) -> tuple[str, str] | None:
    """The two fields of a model that are its place; None where it has none."""
    east, north = field_that(model, "east"), field_that(model, "north")
    return None if east is None or north is None else (east, north)


def path_field(model: type[BaseModel]) -> str | None:
    """The first field that is a path or an outline."""
    return next((name for name, how in lies_of(model).items() if how in ("path", "outline")), None)


def spots_of(row: BaseModel) -> list[tuple[float, float]]:
    """The places that say where a row lies: its own, or the points of its first path. [m]"""
    own = place_fields(type(row))
    if own is not None:
        return [(getattr(row, own[0]), getattr(row, own[1]))]
    path = path_field(type(row))
    return [(x, y) for x, y, *_ in getattr(row, path)] if path is not None else []


To = Callable[[float, float], tuple[float, float]]
"""Where a place comes to lie. [m]"""


def by_far(east: float, north: float) -> To:
    """So far east and north of where it was. [m]"""
    return lambda x, y: (x + east, y + north)


def placed(
    model: type[BaseModel], values: Mapping[str, Any], to: To, bearing: Callable[[float], float] | None = None
) -> dict[str, Any]:
    """Those of `values` that say where a row lies, as they are elsewhere. A place is said with both its fields."""
    out: dict[str, Any] = {}
    ways = {name: how for name, how in lies_of(model).items() if values.get(name) is not None}
    for one, other in (("east", "north"), ("west", "south")):
        names = [name for way in (one, other) for name, how in ways.items() if how == way]
        if len(names) == 2:
            out[names[0]], out[names[1]] = to(values[names[0]], values[names[1]])
    for name, how in ways.items():
        value = values[name]
        if how in ("path", "outline"):
            out[name] = tuple((*to(x, y), *rest) for x, y, *rest in value)
        elif how == "box":
            corners = [to(x, y) for x in value[::2] for y in value[1::2]]
            xs, ys = [x for x, _ in corners], [y for _, y in corners]
            out[name] = min(xs), min(ys), max(xs), max(ys)
        elif how == "bearing" and bearing is not None:
            out[name] = bearing(value)
    return out


# Which rows they name


@dataclass(frozen=True, slots=True)
class _Field:
    """What a field may hold of other rows: their keys by `names`, or models that hold some; `whole`: all or none."""

    names: Names | None
    models: bool
    whole: bool = False


def _looked_into(annotation: Any, marks: Iterable[Any]) -> _Field | None:
    names = next((mark for mark in marks if isinstance(mark, Names)), None)
    origin = get_origin(annotation)
    if origin is Annotated:
        inner, *more = get_args(annotation)
        found = _looked_into(inner, more)
    elif origin in (Union, types.UnionType, tuple):
        parts = [_looked_into(part, ()) for part in get_args(annotation) if part not in (type(None), Ellipsis)]
        some = [part for part in parts if part is not None]
        found = _Field(next((part.names for part in some if part.names), None), any(part.models for part in some))
        found = found if some else None
    elif isinstance(annotation, type) and issubclass(annotation, BaseModel):
        found = _Field(None, models=True) if naming(annotation) else None
    else:
        found = None
    if names is None:
        return found
    return _Field(names, found is not None and found.models)


@cache
def naming(model: type[BaseModel]) -> Mapping[str, _Field]:
    """The fields of a model through which it names rows."""
    found = {name: _looked_into(field.annotation, field.metadata) for name, field in model.model_fields.items()}
    whole = {name for name, field in model.model_fields.items() if AllOrNone in field.metadata}
    return {name: replace(field, whole=name in whole) for name, field in found.items() if field is not None}


def named_in(row: BaseModel) -> Iterator[tuple[Names, str]]:
    """The rows that a row names, by what declares it, and their keys."""
    for name, field in naming(type(row)).items():
        yield from _named(getattr(row, name), field.names)


def _named(value: Any, names: Names | None) -> Iterator[tuple[Names, str]]:
    if isinstance(value, BaseModel):
        yield from named_in(value)
    elif isinstance(value, tuple):
        for one in value:
            yield from _named(one, names)
    elif names is not None and isinstance(value, str):
        yield names, value


def named_collections(model: type[BaseModel]) -> frozenset[str]:
    """The collections whose rows a model may name."""
    return frozenset(_collections(model))


def _collections(model: type[BaseModel]) -> Iterator[str]:
    def within(annotation: Any) -> Iterator[str]:
        if isinstance(annotation, type) and issubclass(annotation, BaseModel):
            yield from _collections(annotation)
        for part in get_args(annotation):
            yield from within(part)

    for name, field in naming(model).items():
        if field.names is not None:
            yield field.names.collection
        if field.models:
            yield from within(model.model_fields[name].annotation)


def renamed(row: B, keys: Mapping[tuple[str, str], str]) -> B:
    """A row that names others by their new keys: those by collection and key in `keys`."""

    def anew(value: Any, names: Names | None) -> Any:
        if isinstance(value, BaseModel):
            return renamed(value, keys)
        if isinstance(value, tuple):
            return tuple(anew(one, names) for one in value)
        return keys.get((names.collection, value), value) if names is not None and isinstance(value, str) else value

    said = {name: anew(getattr(row, name), field.names) for name, field in naming(type(row)).items()}
    changed = {name: value for name, value in said.items() if value != getattr(row, name)}
    return row.model_copy(update=changed) if changed else row


def cleared(row: B, collection: str, key: str) -> B | None:
    """A row that does not name another any more; None where it cannot be without.

    A field is as when nothing was said of it; an entry of a list that cannot be without what it names goes itself.
    """
    gone = object()

    def anew(value: Any, names: Names | None) -> Any:
        if isinstance(value, BaseModel):
            found = cleared(value, collection, key)
            return gone if found is None else found
        if isinstance(value, tuple):
            return tuple(new for new in (anew(one, names) for one in value) if new is not gone)
        mine = names is not None and names.collection == collection and value == key
        return gone if mine else value

    values = {name: getattr(row, name) for name in type(row).model_fields}
    for name, field in naming(type(row)).items():
        new, info = anew(values[name], field.names), type(row).model_fields[name]
        if field.whole and new != values[name]:
            return None
        values[name] = (None if info.is_required() else info.get_default()) if new is gone else new
    try:
        return type(row).model_validate(values)
    except ValidationError:
        return None
