"""Commands: everything that is done to a world, as a page, a script or the demo says it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal, Protocol

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.declared import OnNamed
from fernfield.work.kernel.rows import Collection, Coordinate, Key, R
from fernfield.work.kernel.says import Say

MOST_POINTS = 100_000
LONGEST_STROKE_S = 600.0
LARGEST_RADIUS_M = 2_000.0

Seconds = Annotated[float, Field(ge=0, le=86_400), AfterValidator(lambda seconds: round(seconds, 6))]
"""To a millionth: what is nearer together than this is at once."""

Pressure = Annotated[float, Field(ge=0, le=1)]


def _pressed(point: Any) -> Any:
    """A point without a pen's pressure was pressed as hard as can be."""
    if isinstance(point, list | tuple) and len(point) < 3:
        raise InvalidInput(f"a point is x, y, seconds and maybe a pen's pressure, not {len(point)} numbers")
    return [*point, 1.0] if isinstance(point, list | tuple) and len(point) == 3 else point


PathPoint = Annotated[tuple[Coordinate, Coordinate, Seconds, Pressure], BeforeValidator(_pressed)]
"""x [m], y [m], time [s], and how hard a pen was pressed where it says so."""


class Command(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


# Rows


class Put(Command):
    """Put a row, or change the one with this key: the fields that are said, and only these."""

    do: Literal["put"] = "put"
    collection: str
    key: Key
    row: dict[str, Any]


class Patch(Command):
    """Change a row that is there: the fields that are said, and only these."""

    do: Literal["patch"] = "patch"
    collection: str
    key: Key
    row: dict[str, Any]


class Remove(Command):
    """Remove a row. on_named : what becomes of rows that name it; as each declares when left out."""

    do: Literal["remove"] = "remove"
    collection: str
    key: Key
    on_named: OnNamed | None = None


Single = Put | Patch | Remove


class Together(Command):
    """Edits that make one revision: all of them or none. Each finds the rows as those before it left them."""

    do: Literal["together"] = "together"
    edits: Annotated[tuple[Single, ...], Field(min_length=1, max_length=1000)]


Edit = Single | Together


def put(collection: Collection[R], key: str, row: R) -> Put:
    """The command that puts a row: what was said of it, and nothing else."""
    # Of several sorts a row says which it is, though nobody had to.
    sort = {"sort": getattr(row, "sort", None)} if collection.variants else {}
    return Put(collection=collection.name, key=key, row={**sort, **said_of(row)})


def patch(collection: Collection[R], key: str, **fields: Any) -> Patch:
    """The command that changes some fields of a row."""
    return Patch(collection=collection.name, key=key, row=fields)


def remove(collection: Collection[Any], key: str) -> Remove:
    return Remove(collection=collection.name, key=key)


def said_of(row: BaseModel) -> dict[str, Any]:
    """The fields of a model that were said when it was made."""
    return row.model_dump(exclude_unset=True)


# Strokes


class StrokeBase(Command):
    """What every stroke says, whatever its tool: the brush, and how it is turned."""

    tool: str
    radius_m: Annotated[float, Field(gt=0, le=LARGEST_RADIUS_M)]
    softness: Annotated[float, Field(ge=0, le=1)]
    strength: Annotated[float, Field(gt=0, le=1000)]
    shape: Annotated[Literal["round", "square", "bar"], Say("Shape")] = "round"
    turn_deg: Annotated[float, Field(ge=-360, le=360), Say("Turn", "°")] = 0.0
    turn_by: Annotated[
        Literal["fixed", "random", "path"],
        Say("Turned", called={"random": "by chance", "path": "along the stroke"}),
    ] = "fixed"
    tip: Key | None = None

    @property
    def into(self) -> str | None:
        """Where the work goes: None for the layer itself."""
        return None


class WholeStroke(Protocol):
    """A stroke with its path."""

    @property
    def begins(self) -> StrokeBase: ...

    @property
    def path(self) -> Sequence[Sequence[float]]: ...
