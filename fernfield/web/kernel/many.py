"""The routes of many rows at once: a change of all that are named, rows as a file, and a file of rows."""

# Without postponed annotations: the models of the routes are known only when they are made.

import json
from typing import Annotated, Any, Literal, Optional

from fastapi import File, Query, Response, UploadFile
from pydantic import create_model
from typing_extensions import TypedDict

from fernfield.core.errors import FernError, InvalidInput
from fernfield.formats.rowfiles import MOST_BYTES, Columns, FileRow, read_rows, rows_geojson
from fernfield.web.kernel.parts import Edited, TheWorld
from fernfield.web.kernel.routing import Router
from fernfield.work.kernel.commands import Command, said_of
from fernfield.work.kernel.declared import OnNamed
from fernfield.work.kernel.many import Ids, change_many, look_at_rows, remove_many, take_rows
from fernfield.work.kernel.posts.places import from_world
from fernfield.work.kernel.rows import Collection, TractId

OnNamedQuery = Annotated[
    Optional[OnNamed],  # noqa: UP045 (made at run time)
    Query(description="what becomes of rows that name it: as their fields declare when left out"),
]

Metres = Annotated[
    Literal["tract", "world"],
    Query(alias="in", description="whose metres places are in; in the world's, a row goes to the tract where it lies"),
]
Taking = Annotated[
    Literal["look", "fitting", "all"],
    Query(description="nothing is changed; what is not refused is taken; or all, and nothing where a row is refused"),
]


class RefusedRow(TypedDict):
    """A row of a file that is refused: its number from 0, its key where it says one, and why."""

    number: int
    key: Optional[str]  # noqa: UP045 (read at run time)
    message: str


class FileTaken(TypedDict):
    """What a file of rows comes to: keys of those that are new and that change, how many stay as they are, and names of
    the file that stand for no field, which are left aside."""

    new: list[str]
    changed: list[str]
    same: int
    refused: list[RefusedRow]
    unknown: list[str]
    revision: int


ColumnsSaid = Annotated[
    Optional[str],  # noqa: UP045 (read at run time)
    Query(max_length=4_000, description='which field a column stands for, as JSON: {"Easting": "x", "Remark": ""}'),
]
Unit = Annotated[Literal["m", "cm", "mm", "ft", "km"], Query(description="what places and heights are counted in")]
Axes = Annotated[
    Literal["east-north", "north-east", "east-south", "south-east"],
    Query(description="what the first and the second axis count"),
]
UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "ft": 0.3048, "km": 1000.0}
"""In metres; the foot is the international one of 1959, exactly 0.3048 m."""


class Some(Command):
    """The rows that are meant, by their keys."""

    ids: Ids


def columns_of(said: str | None, unit: str, axes: str) -> Columns:
    """How the columns of a file are meant. Raises InvalidInput."""
    try:
        called = json.loads(said) if said else {}
    except ValueError as error:
        raise InvalidInput(f'columns must be JSON, as {{"Easting": "x"}}: {error}', "columns") from error
    if not isinstance(called, dict) or not all(isinstance(one, str) for one in called.values()):
        raise InvalidInput("columns must be the field that each name of the file stands for", "columns")
    first = axes.partition("-")[0]
    small = {name.strip().lower(): one for name, one in called.items()}
    return Columns(small, UNITS[unit], "south" in axes, first in ("north", "south"))


def add_many(router: Router, collection: Collection[Any], partial: type[Command], told: Any) -> None:
    """Add the routes of a collection; partial : its model with no field that has to be said; told : what is told."""
    name = collection.name
    Many = create_model(f"{collection.model.__name__}Many", __base__=Command, ids=(Ids, ...), change=(partial, ...))
    # What is told of a row and is no field of it is left aside when it comes back.
    aside = [*(getattr(told, "model_fields", None) or told.__annotations__), "id", "z"]

    def change(many: Many, world: TheWorld) -> Edited:  # type: ignore[valid-type]
        return change_many(world, collection, many.ids, said_of(many.change)).public()  # type: ignore[attr-defined]

    def drop(said: Some, world: TheWorld, on_named: OnNamedQuery = None) -> Edited:
        return remove_many(world, collection, said.ids, on_named).public()

    def as_file(world: TheWorld, tract: Annotated[Optional[TractId], Query()] = None) -> Response:  # noqa: UP045
        with world.lock:
            rows = world.each(collection) if tract is None else world.each_in(collection, world.tract(tract).row.id)
            body = rows_geojson([collection.tell(world, key, row) for key, row in rows], collection.lies)
        return Response(body, media_type="application/geo+json")

    def said(world: TheWorld, row: FileRow, within: str) -> dict[str, Any]:
        if within != "world" or not collection.in_tract:
            return row.fields
        try:
            return from_world(world, collection, row.key, row.fields)
        except (FernError, TypeError, ValueError):
            # What is no place is the row's own to refuse.
            return row.fields

    known = {*collection.fields, "key"}

    def take_file(
        world: TheWorld, file: Annotated[UploadFile, File()], take: Taking = "look", within: Metres = "tract",
        columns: ColumnsSaid = None, unit: Unit = "m", axes: Axes = "east-north",
    ) -> FileTaken:  # fmt: skip
        said_as = [one for model in collection.models for one in model.model_json_schema()["properties"].items()]
        texts = {field for field, how in said_as if "string" in str(how.get("type", how.get("anyOf")))}
        meant = columns_of(columns, unit, axes)
        rows = read_rows(file.file.read(MOST_BYTES + 1), collection.lies, texts, meant, known)
        every = {name for row in rows for name in row.fields}
        unknown = sorted(every - known - set(aside))
        if unknown:
            rows = [FileRow(row.key, {n: v for n, v in row.fields.items() if n in known or n in aside}) for row in rows]
        with world.lock:
            looked = look_at_rows(world, collection, [(row.key, said(world, row, within)) for row in rows], aside)
            if take == "all" and looked.refused:
                number, _, why = looked.refused[0]
                words = f"{len(looked.refused)} rows are refused and nothing was taken; the first, number {number}"
                raise InvalidInput(f"{words}: {why}", "file")
            revision = world.revision if take == "look" else take_rows(world, collection, looked).revision
        refused: list[RefusedRow] = [{"number": n, "key": key, "message": why} for n, key, why in looked.refused]
        return {"new": looked.new, "changed": looked.changed, "same": len(looked.same), "refused": refused,
                "unknown": unknown, "revision": revision}  # fmt: skip

    words = f"Change the fields that are said of all {name} in `ids`, as one revision"
    if not collection.changed_by_room:
        router.add_api_route("", change, methods=["PATCH"], summary=words, operation_id=f"change_{name}")
    if not collection.removed_by_room:
        words = f"Remove all {name} in `ids`, as one revision"
        router.add_api_route("", drop, methods=["DELETE"], summary=words, operation_id=f"drop_{name}")
    if collection.lies:
        words = f"All {name} of a world, or of a tract, as a GeoJSON file"
        options: dict[str, Any] = {"response_class": Response, "operation_id": f"file_of_{name}"}
        router.add_api_route(".geojson", as_file, methods=["GET"], summary=words, **options)
    words = f"Look at, or take, a file of {name}: GeoJSON, or CSV with a line of names"
    router.add_api_route("/file", take_file, methods=["POST"], summary=words, operation_id=f"take_{name}")
