"""Worlds: the list, making, importing, changing, deleting; undo, redo, the logbook; handover."""

from __future__ import annotations

import base64
from typing import Annotated, Any

from fastapi import File, Query, Request, Response, UploadFile
from pydantic import Field

from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheWorld, from_page, job_answer, outcome_json
from fernfield.web.kernel.pictures import sketch_png
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import AWorld, WorldTold, world_json
from fernfield.web.rooms.worlds.icons import MOST_ICON_BYTES, icon_of, plan_icon
from fernfield.work.kernel.commands import Command, Patch, Single, Together, put, remove, said_of
from fernfield.work.kernel.rows import ONLY, Bearing, Elevation, Name, TractId
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.light.rows import LIGHT
from fernfield.work.water.rows import WATER
from fernfield.work.worlds.beginnings import Costs, Seed, WorldSpec, costs
from fernfield.work.worlds.rows import ABOUT, ICON

router = Router(prefix="/api/worlds", tags=["worlds"])


class WorldPatch(Command):
    """What can be changed of a world, in one revision; what is left out stays."""

    name: Name | None = None
    description: Annotated[str, Field(max_length=2000)] | None = None
    sea_level_m: Elevation | None = None
    tide_low_m: Elevation | None = None
    tide_high_m: Elevation | None = None
    inland: bool | None = None
    sun_bearing_deg: Bearing | None = None
    sun_height_deg: float | None = None


MAY_BE_NONE = ("tide_low_m", "tide_high_m")
"""Of these, to say null is to take them away."""


@router.get("")
def list_worlds(studio: TheStudio) -> Annotated[list[dict[str, Any]], list[WorldTold]]:
    return [world_json(world, studio) for world in studio.listed()[0]]


class WorldMade(WorldTold):
    """A new world, and the job that makes its land from a seed."""

    job: str | None


@router.post("", status_code=201)
def create_world(
    request: Request, spec: WorldSpec, studio: TheStudio, response: Response
) -> Annotated[dict[str, Any], WorldMade]:
    """A new world. When it begins from a seed, `job` is the work that makes its land."""
    world = studio.world(studio.create(spec))
    response.headers["location"] = f"/api/worlds/{world.id}"
    job = studio.start_seed(world.id, spec.begin.recipe).id if isinstance(spec.begin, Seed) else None
    if from_page(request) and job is None:
        # The page goes on to the world by itself.
        response.headers["hx-redirect"] = f"/worlds/{world.id}"
    return {**world_json(world, studio), "job": job}


@router.post("/costs")
def costs_of(spec: WorldSpec) -> Costs:
    """What a world would cost and could hold, before it is made."""
    return costs(spec.grid)


@router.get("/sketch.png", response_class=Response)
def sketch_of(spec: Annotated[str, Query(max_length=20_000)]) -> Response:
    """The ground that a world would begin on; `spec` is the body of its making, as JSON."""
    return Response(sketch_png(WorldSpec.model_validate_json(spec)), media_type="image/png")


@router.get("/{world}")
def get_world(world: TheWorld, studio: TheStudio) -> AWorld:
    return world_json(world, studio)


@router.patch("/{world}")
def patch_world(patch: WorldPatch, world: TheWorld, studio: TheStudio) -> AWorld:
    """Change what is said, in one revision; what is left out stays."""
    said = {name: value for name, value in said_of(patch).items() if value is not None or name in MAY_BE_NONE}
    edits: list[Single] = []
    for collection in (ABOUT, WATER, LIGHT):
        own = {name: said[name] for name in collection.model.model_fields if name in said}
        if own:
            edits.append(Patch(collection=collection.name, key=collection.only or "", row=own))
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
def copy_world(request: Request, body: CopyAs, world: TheWorld, studio: TheStudio) -> JobAnswer:
    """Copy a world without its logbook; the job's result is {world}."""
    return job_answer(request, studio.start_copy(world.id, body.name))


class IconFrom(Command):
    """A square of the first tract's plan, its south-west corner and side [m]; all of it when left out."""

    tract: TractId | None = None
    x: float | None = None
    y: float | None = None
    side_m: Annotated[float, Field(gt=0)] | None = None


@router.get("/{world}/icon.png", response_class=Response)
def icon(world: TheWorld) -> Response:
    return Response(base64.b64decode(world.row(ICON, ONLY).png), media_type="image/png")


@router.put("/{world}/icon")
def put_icon(world: TheWorld, file: Annotated[UploadFile, File()]) -> Edited:
    """An image of one's own, cut to a square of at most 120 pixels."""
    return outcome_json(world.edit(put(ICON, ONLY, icon_of(file.file.read(MOST_ICON_BYTES + 1)))))


@router.post("/{world}/icon")
def icon_from_plan(body: IconFrom, world: TheWorld) -> Edited:
    tract = world.first_tract if body.tract is None else world.tract(body.tract)
    made = plan_icon(world, tract, body.x, body.y, body.side_m)
    return outcome_json(world.edit(put(ICON, ONLY, made)))


@router.delete("/{world}/icon")
def remove_icon(world: TheWorld) -> Edited:
    return outcome_json(world.edit(remove(ICON, ONLY)))
