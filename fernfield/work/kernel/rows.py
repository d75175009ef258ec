"""Rows: what a world holds besides its posts. Each is a small model, kept as JSON with the version that wrote it.

A *collection* says all there is to say about one sort of row. From it follow how rows are read
and checked, the commands that change them, their routes, and what the page knows of them.
"""

from __future__ import annotations

import json
import re
import secrets
from collections.abc import Callable, Iterable, Mapping, Sequence, Set
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Annotated, Any, Generic, Literal, Protocol, TypeVar, Union

from pydantic import BaseModel, ConfigDict, Field, StringConstraints, ValidationError
from pydantic.fields import FieldInfo

from fernfield.core.errors import FormatError, InvalidInput
from fernfield.core.grid import Grid
from fernfield.work.kernel.declared import How, Lies, lies_of, place_fields, placed
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.says import Say

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld
    from fernfield.work.kernel.writing.draft import Draft

NameText = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=1, max_length=80, pattern=r"^[^\x00-\x1f]*$")
]
Name = Annotated[NameText, Say("Name")]
Key = Annotated[str, StringConstraints(pattern=r"^[a-z0-9_-]{1,40}$")]
TractId = Annotated[str, StringConstraints(pattern=r"^[a-z0-9]{1,40}$")]
Elevation = Annotated[float, Field(ge=-12_000, le=12_000)]
Bearing = Annotated[float, Field(ge=0, lt=360)]
Facing = Annotated[Bearing, Lies("bearing")]
"""The bearing of what turns with its land. [°]"""

East = Annotated[float, Field(ge=-1e6, le=1e6), Lies("east")]
North = Annotated[float, Field(ge=-1e6, le=1e6), Lies("north")]
"""The place of a row in its tract. [m]"""

Colour = Annotated[str, StringConstraints(pattern=r"^#[0-9a-f]{6}$")]
Coordinate = Annotated[float, Field(ge=-1e6, le=1e6)]
RevisionNumber = Annotated[int, Field(ge=0, le=2**53)]
"""More than any world has; what is kept of it is a whole number of 64 bits."""

Spacing = Annotated[float, Field(ge=0.001, le=1000)]
"""From one post to the next. [m]"""

Spot = tuple[Annotated[float, Field(ge=-1e5, le=1e6)], Annotated[float, Field(ge=-1e5, le=1e6)]]
"""x east and y north. [m]"""

ONLY = "world"
"""The key of a row of which a world has one."""


class Row(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    @property
    def title(self) -> str:
        """What a person calls it."""
        return str(getattr(self, "name", ""))

    @property
    def called(self) -> str:
        """What people call such a row, where its collection holds several sorts."""
        return ""

    @property
    def sort_named(self) -> str:
        """What it has in common with those that are named and counted alike."""
        return self.called

    @property
    def bulk(self) -> float:
        """How many times as large it is as others of its sort."""
        return 1.0


R = TypeVar("R", bound=Row)

Place = tuple[str, str]
"""Collection and key of a row."""

Moves = dict[Place, Row | None]
"""Rows that are put, and those that are removed (None)."""


class Look(Protocol):
    """What a plan may ask of the rows, as the edits before it in the same revision left them."""

    def get(self, collection: Collection[R], key: str) -> R | None: ...

    def need(self, collection: Collection[R], key: str) -> R: ...

    def need_in(self, name: str, key: str) -> Row: ...

    def need_model(self, key: str) -> None: ...

    def only(self, collection: Collection[R]) -> R: ...

    def each(self, collection: Collection[R]) -> Iterable[tuple[str, R]]: ...

    def marked(self, collection: Collection[R], name: str) -> Iterable[tuple[str, R]]: ...

    def count(self, collection: Collection[Any]) -> int: ...

    def collections(self) -> Iterable[Collection[Any]]: ...

    def naming_from_outside(self, places: Set[Place]) -> list[str]: ...

    def grid(self, tract_id: str) -> Grid: ...

    def tract_or_first(self, own: str | None) -> str: ...


@dataclass(frozen=True, slots=True)
class Change(Generic[R]):
    """A row that an edit wants to put (`new`) or remove (None), and what is there before."""

    key: str
    old: R | None
    new: R | None


@dataclass(slots=True)
class Plan:
    """What an edit comes to: words for the logbook, and rows to put or remove."""

    words: str
    moves: Moves = field(default_factory=dict)


@dataclass(frozen=True)
class Works:
    """What an edit of rows does to the ground besides.

    units : the tiles that it may change: a tract's id, and the row and column of each
    draw : works on one of them, through the draft alone
    moves : rows that change with it
    """

    units: Sequence[tuple[str, tuple[int, int]]]
    draw: Callable[[Draft, tuple[str, tuple[int, int]]], None]
    moves: Moves = field(default_factory=dict)


def together(every: Sequence[Works]) -> list[tuple[str, tuple[int, int]]]:
    """The tiles that some works may change."""
    return sorted({unit for works in every for unit in works.units})


def drawn_by(every: Sequence[Works]) -> Callable[[Draft, tuple[str, tuple[int, int]]], None]:
    """Draws all works of a tile, one after the other."""

    def draw(draft: Draft, unit: tuple[str, tuple[int, int]]) -> None:
        for works in every:
            if unit in works.units:
                works.draw(draft, unit)

    return draw


@dataclass(frozen=True, slots=True)
class Shift:
    """A tract that got other bounds: the new one, its grid, and its south-west corner in the old one's metres."""

    tract_id: str
    grid: Grid
    x: float
    y: float


@dataclass(frozen=True, slots=True)
class Journey:
    """Land that is carried elsewhere: the tract where it comes to lie, where a place of it comes to lie [m], how a
    bearing turns [°], and whether it is a copy."""

    tract_id: str
    grid: Grid
    place: Callable[[float, float], tuple[float, float]]
    bearing: Callable[[float], float]
    copied: bool


@dataclass(frozen=True, eq=False)
class Collection(Generic[R]):
    """One sort of row.

    name, one : of all of them in the API, and of one of them in words
    model : its fields, their ranges and how they are called
    variants : where its rows are of several sorts, the model of each by what their field `sort` says; `model` is what
    all have in common
    only : the key of the row when a world has just one; `first` : what that is before anything was said
    in_tract : its rows lie in a tract (a field `tract`; the world's first when left out)
    names_tracts : its keys or fields hold the ids of tracts, which a copy of the world must follow
    pictured : a change of it changes the picture everywhere: "shade", how light falls alone, or "look", also what
    grows, lies and runs there; "": not at all
    told : it is part of the world's own JSON
    plain : scripts put, patch and remove its rows by the kernel's own routes
    made_by_room : new rows without a key are made by a route of the room's own
    removed_by_room : rows are removed by a route of the room's own
    listed_by_room : its list is told by a route of the room's own
    changed_by_room : many of its rows are changed by a route of the room's own
    packed : its rows go into a package as they are, a file for each tract
    shipped : keys that come with the application, and how each is called: a world's own rows have other keys
    loose : its rows may name what is not there: they are kept for other worlds too
    most : rows that a world holds at most
    order : how they are listed; by key when left out
    plan : what an edit of it comes to; itself alone when left out. Raises when it does not fit the world
    seen : the ground whose picture a change of a row changes: its tract, x0, y0, x1, y1 [m]
    stays : its rows do not go along with land that is carried elsewhere
    carried : what else changes of a row that is carried
    completes : what is not said of a new row of a file, from what is, and its number there
    shown : how a row is told to scripts and pages, where that is more than its fields
    ground : what a change of its rows does to the ground, as part of the same revision; None where it does nothing
    words : what an edit of the only row is called in the logbook
    version, upgrade : rows that an older version wrote are brought up from it (body and version to a body)
    """

    name: str
    model: type[R]
    one: str = ""
    variants: Mapping[str, type[R]] = field(default_factory=dict)
    only: str | None = None
    first: R | None = None
    in_tract: bool = False
    names_tracts: bool = False
    pictured: Literal["", "shade", "look"] = ""
    told: bool = True
    plain: bool = True
    made_by_room: bool = False
    removed_by_room: bool = False
    listed_by_room: bool = False
    changed_by_room: bool = False
    packed: bool = False
    shipped: Mapping[str, str] = field(default_factory=dict)
    loose: bool = False
    most: int = 1_000
    order: Callable[[tuple[str, R]], Any] | None = None
    plan: Callable[[Change[R], Look], Plan] | None = None
    stays: bool = False
    carried: Callable[[R, Journey], dict[str, Any]] | None = None
    seen: Callable[[R], tuple[str, float, float, float, float]] | None = None
    shown: Callable[[OpenWorld, str, R], dict[str, Any]] | None = None
    completes: Callable[[OpenWorld, dict[str, Any], int], dict[str, Any]] | None = None
    ground: Callable[[OpenWorld, Moves], Works | None] | None = None
    words: Callable[[R], str] | None = None
    version: int = 1
    upgrade: Callable[[dict[str, Any], int], dict[str, Any]] | None = None

    @property
    def lies(self) -> Mapping[str, How]:
        """The fields that say where a row lies."""
        return lies_of(self.model)

    @cached_property
    def place(self) -> tuple[str, str] | None:
        """The two fields that are the place of a row in its tract; None where rows have none."""
        return place_fields(self.model) if self.in_tract else None

    @property
    def copied_by_tract(self) -> bool:
        return self.in_tract or self.names_tracts

    def parse(self, key: str, body: str) -> R:
        """A stored row as its model, brought up from the version that wrote it. Raises FormatError naming the row."""
        try:
            values = json.loads(body)
            version = values.pop("_v", 1)
            if version > self.version:
                raise FormatError(f"the stored row {self.name}/{key} was written by a newer version ({version})")
            if version < self.version and self.upgrade is not None:
                values = self.upgrade(values, version)
            return self.checked(values)
        except ValidationError as error:
            words = refused(error.errors(), self.model_of(values))[0].message
            raise FormatError(f"the stored row {self.name}/{key} does not fit: {words}") from error
        except (ValueError, AttributeError, KeyError, TypeError) as error:
            if isinstance(error, FormatError):
                raise
            raise FormatError(f"the stored row {self.name}/{key} cannot be read: {error}") from error

    def dump(self, row: R) -> str:
        """A row as it is stored, with the version that writes it."""
        body = row.model_dump_json()
        return f'{{"_v":{self.version}}}' if body == "{}" else f'{{"_v":{self.version},{body[1:]}'

    def merged(self, old: R | None, said: Mapping[str, Any]) -> R:
        """A row with the fields that are said, and the others as they were. Raises ValidationError."""
        if old is None:
            return self.checked(said)
        # Of another sort it keeps what both have.
        model = self.model_of({"sort": getattr(old, "sort", None), **said})
        before = {name: getattr(old, name) for name in model.model_fields if hasattr(old, name)}
        return model.model_validate({**before, **said})

    @cached_property
    def models(self) -> tuple[type[R], ...]:
        """The model of its rows, or those of all their sorts."""
        return tuple(self.variants.values()) or (self.model,)

    @property
    def said_as(self) -> Any:
        """What a row of it may be, for whoever calls its fields by their labels."""
        return Union[self.models]  # noqa: UP007 (made at run time)

    @cached_property
    def fields(self) -> dict[str, FieldInfo]:
        """Every field that some of its rows have."""
        return {name: info for model in reversed(self.models) for name, info in model.model_fields.items()}

    def model_of(self, values: Mapping[str, Any]) -> type[R]:
        """The model of a row with these fields. Raises InvalidInput for a sort that there is not."""
        if not self.variants:
            return self.model
        sort = values.get("sort")
        if isinstance(sort, str) and sort in self.variants:
            return self.variants[sort]
        came = "nothing" if sort is None else repr(sort)
        raise InvalidInput(f"sort must be one of {', '.join(self.variants)}, not {came}", "sort")

    def checked(self, values: Mapping[str, Any]) -> R:
        """A row of these fields. Raises ValidationError, InvalidInput."""
        return self.model_of(values).model_validate(dict(values))

    def moved(self, row: R, shift: Shift) -> R | None:
        """What becomes of a row when its tract gets other bounds: it goes (None) when its place lies outside."""
        said = placed(type(row), dict(row), lambda x, y: (x - shift.x, y - shift.y))
        own = place_fields(type(row))
        if own is not None and not shift.grid.holds(said[own[0]], said[own[1]]):
            return None
        return row.model_copy(update={**said, "tract": shift.tract_id})

    def carry(self, row: R, journey: Journey) -> R:
        """What becomes of a row when its land is carried. Raises InvalidInput for a place outside of the tract."""
        said = placed(type(row), dict(row), journey.place, journey.bearing)
        own = place_fields(type(row))
        if own is not None and not journey.grid.holds(said[own[0]], said[own[1]]):
            raise InvalidInput(f"{row.title} would come to stand outside the tract", own[0])
        if journey.copied and "name" in type(row).model_fields:
            said["name"] = f"{getattr(row, 'name')[:70]} copy"  # noqa: B009
        if self.carried is not None:
            said |= self.carried(row, journey)
        return row.model_copy(update={**said, "tract": journey.tract_id})

    def tell(self, world: OpenWorld, key: str, row: R) -> dict[str, Any]:
        """A row as the API and the page know it."""
        return self.shown(world, key, row) if self.shown is not None else {"key": key, **row.model_dump(mode="json")}


def new_key(title: str) -> str:
    """A key for a new row, from what a person calls it."""
    words = re.sub(r"[^a-z0-9]+", "-", title.lower()).strip("-")[:30].rstrip("-") or "row"
    return f"{words}-{secrets.token_hex(2)}"
