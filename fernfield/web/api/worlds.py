"""Worlds: the list, making, importing, changing, deleting; undo, redo, the logbook; handover."""

from __future__ import annotations

import base64
from typing import Annotated, Any

from anyio import to_thread
from fastapi import APIRouter, File, Query, Request, Response, UploadFile
from fastapi.responses import FileResponse
from pydantic import Field

from fernfield.web.api.files import ImportForm, form_of
from fernfield.web.api.parts import TheStudio, TheWorld, outcome_json, waiting_file, world_json
from fernfield.web.icons import MOST_ICON_BYTES, icon_of, plan_icon
from fernfield.web.pictures import sketch_png
from fernfield.work.beginnings import Seed, WorldSpec, costs
from fernfield.work.commands import Command, PutCover, PutMix, Rename, SetIcon, SetLight, SetWater, Single, Together
from fernfield.work.entries import Bearing, Cover, Elevation, Icon, Key, Light, Mix, Name, TractId, Water

router = APIRouter(prefix="/api/worlds", tags=["worlds"])


class WorldPatch(Command):
    """What can be changed of a world, in one revision; what is left out stays."""

    name: Name | None = None
    description: Annotated[str, Field(max_length=2000)] | None = None
    sea_level_m: Elevation | None = None
    sun_bearing_deg: Bearing | None = None
    sun_height_deg: float | None = None


@router.get("")
def list_worlds(studio: TheStudio) -> list[dict[str, Any]]:
    return [world_json(world, studio) for world in studio.worlds()]


@router.post("", status_code=201)
def create_world(spec: WorldSpec, studio: TheStudio, response: Response) -> dict[str, Any]:
    """A new world. When it begins from a seed, `job` is the work that makes its land."""
    world = studio.world(studio.create(spec))
    response.headers["location"] = f"/api/worlds/{world.id}"
    job = studio.start_seed(world.id, spec.begin.recipe).id if isinstance(spec.begin, Seed) else None
    return {**world_json(world, studio), "job": job}


@router.post("/costs")
def costs_of(spec: WorldSpec) -> dict[str, Any]:
    """What a world would cost and could hold, before it is made."""
    return costs(spec.grid)


@router.get("/sketch.png", response_class=Response)
def sketch_of(spec: Annotated[str, Query(max_length=20_000)]) -> Response:
    """The ground that a world would begin on; `spec` is the body of its making, as JSON."""
    return Response(sketch_png(WorldSpec.model_validate_json(spec)), media_type="image/png")


@router.post("/import", status_code=202, openapi_extra=form_of(ImportForm))
async def import_world(request: Request, studio: TheStudio, file: Annotated[UploadFile, File()]) -> dict[str, str]:
    """Make a world from an elevation file, read and placed as the other fields of the form say."""
    form = ImportForm.model_validate({k: v for k, v in (await request.form()).items() if k != "file" and v != ""})
    kept = await to_thread.run_sync(waiting_file, studio, file)
    return {"job": studio.start_import(kept, form.name, form.reading, form.placing, form.sea_level_m).id}


@router.get("/{world}")
def get_world(world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    return world_json(world, studio)


@router.patch("/{world}")
def patch_world(patch: WorldPatch, world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    sun = {name: value for name in ("sun_bearing_deg", "sun_height_deg") if (value := getattr(patch, name)) is not None}
    edits: list[Single] = []
    if patch.name is not None or patch.description is not None:
        edits.append(Rename(name=patch.name, description=patch.description))
    if patch.sea_level_m is not None:
        edits.append(SetWater(water=Water(sea_level_m=patch.sea_level_m)))
    if sun:
        edits.append(SetLight(light=Light(**{**world.light.model_dump(), **sun})))
    if edits:
        world.edit(edits[0] if len(edits) == 1 else Together(edits=tuple(edits)))
    return world_json(world, studio)


@router.delete("/{world}", status_code=204)
def delete_world(world: TheWorld, studio: TheStudio) -> None:
    """Put a world into the bin: GET /api/bin lists it, POST /api/bin/{world}/restore brings it back."""
    studio.delete(world.id)


class CopyAs(Command):
    name: Name


@router.post("/{world}/copy", status_code=202)
def copy_world(body: CopyAs, world: TheWorld, studio: TheStudio) -> dict[str, str]:
    """Copy a world without its logbook; the job's result is {world}."""
    return {"job": studio.start_copy(world.id, body.name).id}


class IconFrom(Command):
    """A square of the first tract's plan, its south-west corner and side [m]; all of it when left out."""

    tract: TractId | None = None
    x: float | None = None
    y: float | None = None
    side_m: Annotated[float, Field(gt=0)] | None = None


@router.get("/{world}/icon.png", response_class=Response)
def icon(world: TheWorld) -> Response:
    return Response(base64.b64decode(world.row(Icon, "icon", "world").png), media_type="image/png")


@router.put("/{world}/icon")
def put_icon(world: TheWorld, file: Annotated[UploadFile, File()]) -> dict[str, Any]:
    """An image of one's own, cut to a square of at most 120 pixels."""
    return outcome_json(world.edit(SetIcon(icon=icon_of(file.file.read(MOST_ICON_BYTES + 1)))))


@router.post("/{world}/icon")
def icon_from_plan(body: IconFrom, world: TheWorld) -> dict[str, Any]:
    tract = world.first_tract if body.tract is None else world.tract(body.tract)
    made = plan_icon(world, tract, body.x, body.y, body.side_m)
    return outcome_json(world.edit(SetIcon(icon=made)))


@router.delete("/{world}/icon")
def remove_icon(world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(SetIcon(icon=None)))


@router.put("/{world}/covers/{key}")
def put_cover(key: Key, cover: Cover, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(PutCover(key=key, cover=cover)))


@router.put("/{world}/mixes/{key}")
def put_mix(key: Key, mix: Mix, world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.edit(PutMix(key=key, mix=mix)))


@router.post("/{world}/undo")
def undo(world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.undo())


@router.post("/{world}/redo")
def redo(world: TheWorld) -> dict[str, Any]:
    return outcome_json(world.redo())


@router.get("/{world}/findings")
def findings(world: TheWorld, studio: TheStudio) -> list[dict[str, Any]]:
    return [
        {"check": f.check, "words": f.words, "remedy": f.remedy, "grave": f.grave, "x": f.x, "y": f.y}
        for f in studio.check(world.id)
    ]


@router.post("/{world}/handover", status_code=202)
def handover(world: TheWorld, studio: TheStudio) -> dict[str, str]:
    return {"job": studio.start_handover(world.id).id}


@router.get("/{world}/handover")
def handover_state(world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    package = studio.store.package(world.id)
    return {
        "revision": package[0] if package else None,
        "made_at": package[1] if package else None,
        "world_revision": world.revision,
        "stale": package is None or package[0] < world.revision,
    }


@router.get("/{world}/handover.zip", response_class=FileResponse)
def package(world: TheWorld, studio: TheStudio) -> FileResponse:
    revision, _made_at, path = studio.package(world.id)
    return FileResponse(path, media_type="application/zip", filename=f"fernfield-{world.id}-r{revision}.zip")
