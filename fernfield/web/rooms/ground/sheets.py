"""Sheets: adding, changing, clearing, merging and deleting them, and carrying them as files."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import numpy as np
from fastapi import File, Form, Response, UploadFile
from fastapi.responses import StreamingResponse

from fernfield.formats.source import Said
from fernfield.web.kernel.parts import Keyed, TheStudio, TheTract, TheWorld, keyed_json, outcome_json
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.rows import partial_of, told_of
from fernfield.web.kernel.uploads import upload
from fernfield.work.ground.commands import ClearSheet, MergeSheet, PasteSheet, PutSheet, RemoveSheet
from fernfield.work.ground.rows import SHEETS, Sheet, sheets_of
from fernfield.work.ground.sheet_edits import empty_sheet, merge, paste_sheet, put_sheet, sheet_asc
from fernfield.work.kernel.commands import Command, said_of
from fernfield.work.kernel.rows import Key, new_key
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.worlds.apart import read_apart
from fernfield.work.worlds.intake import Placing, heights_of

router = Router(prefix="/api", tags=["sheets"])


if TYPE_CHECKING:
    SheetPatch = Sheet
else:
    SheetPatch = partial_of(SHEETS)


class Into(Command):
    """Where a sheet is merged into; the base when left out."""

    into: Key | None = None


@router.get("/worlds/{world}/sheets")
def sheets(world: TheWorld) -> Annotated[list[dict[str, Any]], list[told_of(SHEETS)]]:
    with world.lock:
        return world.told(SHEETS)


@router.post("/worlds/{world}/sheets", status_code=201)
def add(sheet: Sheet, world: TheWorld) -> Keyed:
    """A new sheet, over all others unless it says its place; its key comes back."""
    key = new_key(sheet.name)
    with world.lock:
        said = {"position": min(len(sheets_of(world)), 63), **said_of(sheet)}
        return keyed_json(key, put_sheet(world, PutSheet(key=key, sheet=Sheet(**said))))


@router.put("/worlds/{world}/sheets/{key}")
def put(key: Key, sheet: Sheet, world: TheWorld) -> Edited:
    return outcome_json(put_sheet(world, PutSheet(key=key, sheet=sheet)))


@router.patch("/worlds/{world}/sheets/{key}")
def patch(key: Key, sheet: SheetPatch, world: TheWorld) -> Edited:
    """Change the fields that are said of a sheet; the ground follows."""
    merged = SHEETS.merged(world.row(SHEETS, key), said_of(sheet))
    return outcome_json(put_sheet(world, PutSheet(key=key, sheet=merged)))


@router.delete("/worlds/{world}/sheets/{key}")
def remove(key: Key, world: TheWorld) -> Edited:
    return outcome_json(empty_sheet(world, RemoveSheet(key=key)))


@router.post("/worlds/{world}/sheets/{key}/clear")
def clear(key: Key, world: TheWorld) -> Edited:
    return outcome_json(empty_sheet(world, ClearSheet(key=key)))


@router.post("/worlds/{world}/sheets/{key}/merge")
def merge_into(key: Key, into: Into, world: TheWorld) -> Edited:
    return outcome_json(merge(world, MergeSheet(key=key, into=into.into)))


@router.get("/tracts/{tract}/sheets/{key}.asc", response_class=StreamingResponse)
def sheet_file(key: Key, tract: TheTract) -> StreamingResponse:
    """What a sheet holds, as an ESRI ASCII grid of differences in metres."""
    headers = {"content-disposition": f'attachment; filename="sheet-{key}.asc"'}
    lines = sheet_asc(*tract, key)
    return StreamingResponse(lines, media_type="text/plain; charset=us-ascii", headers=headers)


@router.post("/tracts/{tract}/sheets", status_code=201)
def bring_in(
    tract: TheTract,
    studio: TheStudio,
    response: Response,
    file: Annotated[UploadFile, File()],
    name: Annotated[str, Form()],
    key: Annotated[Key | None, Form()] = None,
    spacing_m: Annotated[float | None, Form(gt=0, le=1000)] = None,
    lowest_m: Annotated[float | None, Form()] = None,
    highest_m: Annotated[float | None, Form()] = None,
) -> Edited:
    """A new sheet from a file of differences: an ESRI ASCII grid, or a PNG with its range."""
    world, at = tract
    key = key or new_key(name)
    command = PasteSheet(key=key, sheet=Sheet(name=name, position=len(sheets_of(world))))
    placing = Placing(spacing_m=spacing_m, lowest_m=lowest_m, highest_m=highest_m)
    with upload(studio, file) as path:
        samples = path.with_suffix(".f32")
        try:
            with heights_of(read_apart(path, Said(spacing_m=spacing_m), samples), placing) as (rise, plan):
                outcome = paste_sheet(world, at, command, np.asarray(rise), plan.spacing_m)
        finally:
            samples.unlink(missing_ok=True)
    response.headers["location"] = f"/api/worlds/{world.id}/sheets/{key}"
    return outcome_json(outcome)
