"""Sheets: adding, changing, clearing, merging and deleting them, and carrying them as files."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, File, Form, Response, UploadFile
from fastapi.responses import StreamingResponse

from fernfield.formats.source import Said
from fernfield.web.api.parts import TheStudio, TheTract, TheWorld, kept_upload, outcome_json
from fernfield.work.commands import ClearSheet, Command, MergeSheet, PasteSheet, PutSheet, RemoveSheet
from fernfield.work.entries import Key, Sheet
from fernfield.work.intake import Placing, heights_of, read_samples
from fernfield.work.sheet_edits import empty_sheet, merge, paste_sheet, put_sheet, sheet_asc

router = APIRouter(prefix="/api", tags=["sheets"])


class Into(Command):
    """Where a sheet is merged into; the base when left out."""

    into: Key | None = None


@router.get("/worlds/{world}/sheets")
def sheets(world: TheWorld) -> list[dict[str, Any]]:
    with world.lock:
        return [{"key": key, **sheet.model_dump()} for key, sheet in world.sheets()]


@router.put("/worlds/{world}/sheets/{key}")
def put(key: Key, sheet: Sheet, world: TheWorld) -> dict[str, Any]:
    return outcome_json(put_sheet(world, PutSheet(key=key, sheet=sheet)))


@router.delete("/worlds/{world}/sheets/{key}")
def remove(key: Key, world: TheWorld) -> dict[str, Any]:
    return outcome_json(empty_sheet(world, RemoveSheet(key=key)))


@router.post("/worlds/{world}/sheets/{key}/clear")
def clear(key: Key, world: TheWorld) -> dict[str, Any]:
    return outcome_json(empty_sheet(world, ClearSheet(key=key)))


@router.post("/worlds/{world}/sheets/{key}/merge")
def merge_into(key: Key, into: Into, world: TheWorld) -> dict[str, Any]:
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
    key: Annotated[Key, Form()],
    name: Annotated[str, Form()],
    spacing_m: Annotated[float | None, Form(gt=0, le=1000)] = None,
    lowest_m: Annotated[float | None, Form()] = None,
    highest_m: Annotated[float | None, Form()] = None,
) -> dict[str, Any]:
    """A new sheet from a file of differences: an ESRI ASCII grid, or a PNG with its range."""
    world, at = tract
    command = PasteSheet(key=key, sheet=Sheet(name=name, position=len(world.sheets())))
    path = kept_upload(studio, file)
    samples = path.with_suffix(".f32")
    placing = Placing(spacing_m=spacing_m, lowest_m=lowest_m, highest_m=highest_m)
    try:
        with heights_of(read_samples(path, Said(spacing_m=spacing_m), samples), placing) as (rise, plan):
            outcome = paste_sheet(world, at, command, np.asarray(rise), plan.spacing_m)
    finally:
        path.unlink(missing_ok=True)
        samples.unlink(missing_ok=True)
    response.headers["location"] = f"/api/worlds/{world.id}/sheets/{key}"
    return outcome_json(outcome)
