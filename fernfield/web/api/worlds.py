"""Worlds: the list, making, importing, changing, deleting; undo, redo, the logbook; handover."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Query, Response, UploadFile
from fastapi.responses import FileResponse

from fernfield.formats.elevation import Wanted
from fernfield.web.api.parts import TheStudio, TheWorld, kept_upload, outcome_json, world_json
from fernfield.work.commands import Command, PutCover, PutMix, Rename, SetLight, SetWater, Single, Together
from fernfield.work.entries import Bearing, Cover, Elevation, Key, Light, Mix, Name, Water
from fernfield.work.jobs import Job
from fernfield.work.studio import Studio, WorldSpec

router = APIRouter(prefix="/api/worlds", tags=["worlds"])


class WorldPatch(Command):
    """What can be changed of a world, in one revision; what is left out stays."""

    name: Name | None = None
    sea_level_m: Elevation | None = None
    sun_bearing_deg: Bearing | None = None
    sun_height_deg: float | None = None


class ImportForm(Command):
    """What goes with an elevation file, where the file itself does not say it."""

    name: Name
    spacing_m: Annotated[float, Query(gt=0, le=1000)] | None = None
    lowest_m: Elevation | None = None
    highest_m: Elevation | None = None
    sea_level_m: Elevation = 0.0


@router.get("")
def list_worlds(studio: TheStudio) -> list[dict[str, Any]]:
    return [world_json(world, studio) for world in studio.worlds()]


@router.post("", status_code=201)
def create_world(spec: WorldSpec, studio: TheStudio, response: Response) -> dict[str, Any]:
    world = studio.world(studio.create(spec))
    response.headers["location"] = f"/api/worlds/{world.id}"
    return world_json(world, studio)


def receive_import(studio: Studio, file: UploadFile, form: ImportForm) -> Job:
    """Keep an upload and start the job that makes a world of it."""
    path = kept_upload(studio, file)
    wanted = Wanted(form.spacing_m, form.lowest_m, form.highest_m)
    return studio.start_import(path, form.name, wanted, form.sea_level_m)


@router.post("/import", status_code=202)
def import_world(
    studio: TheStudio,
    file: Annotated[UploadFile, File()],
    name: Annotated[str, Form()],
    spacing_m: Annotated[float | None, Form()] = None,
    lowest_m: Annotated[float | None, Form()] = None,
    highest_m: Annotated[float | None, Form()] = None,
    sea_level_m: Annotated[float, Form()] = 0.0,
) -> dict[str, str]:
    form = ImportForm(name=name, spacing_m=spacing_m, lowest_m=lowest_m, highest_m=highest_m, sea_level_m=sea_level_m)
    return {"job": receive_import(studio, file, form).id}


@router.get("/{world}")
def get_world(world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    return world_json(world, studio)


@router.patch("/{world}")
def patch_world(patch: WorldPatch, world: TheWorld, studio: TheStudio) -> dict[str, Any]:
    sun = {name: value for name in ("sun_bearing_deg", "sun_height_deg") if (value := getattr(patch, name)) is not None}
    edits: list[Single] = []
    if patch.name is not None:
        edits.append(Rename(name=patch.name))
    if patch.sea_level_m is not None:
        edits.append(SetWater(water=Water(sea_level_m=patch.sea_level_m)))
    if sun:
        edits.append(SetLight(light=Light(**{**world.light.model_dump(), **sun})))
    if edits:
        world.edit(edits[0] if len(edits) == 1 else Together(edits=tuple(edits)))
    return world_json(world, studio)


@router.delete("/{world}", status_code=204)
def delete_world(world: TheWorld, studio: TheStudio) -> None:
    studio.delete(world.id)


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
