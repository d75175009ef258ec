"""The layout: the tracts of a world, where they lie, their bounds and spacing, joins, and boundaries; and the bin."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Request, Response
from pydantic import Field
from typing_extensions import TypedDict

from fernfield.web.kernel.parts import JobAnswer, TheStudio, TheTract, TheWorld, job_answer, outcome_json
from fernfield.web.kernel.pictures import loss_png
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import TractTold, world_json
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Coordinate, Key, Name, Spacing, TractId
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.worlds.bounding import PutBoundary
from fernfield.work.worlds.joining import JoinTracts, PartTracts, TouchTold, join, layout_json, part
from fernfield.work.worlds.tracts import (
    CropTract,
    PlaceTract,
    RemoveTract,
    RespaceTract,
    TractSpec,
    loss_of,
    place_tract,
    remove_tract,
)

router = Router(prefix="/api", tags=["layout"])


class TractPatch(Command):
    """What can be changed of a tract; what is left out stays. [m]"""

    name: Name | None = None
    x: Coordinate | None = None
    y: Coordinate | None = None
    kind: Literal["open", "underground"] | None = None


class JoinBody(Command):
    first: TractId
    second: TractId
    blend_m: Annotated[float, Field(ge=0, le=2_000)] = 40.0
    sheet: Key | None = None


class LayoutTold(TypedDict):
    tracts: list[TractTold]
    touching: list[TouchTold]


class TractAdded(Edited):
    """What came of it, and the id of the tract."""

    tract: str


@router.get("/worlds/{world}/layout")
def layout(world: TheWorld, studio: TheStudio) -> LayoutTold:
    """Every tract with its place, and every pair that touches: joined, or what keeps them from it."""
    with world.lock:
        return {"tracts": world_json(world, studio)["tracts"], "touching": layout_json(world)}


@router.post("/worlds/{world}/tracts", status_code=201)
def add(spec: TractSpec, world: TheWorld, studio: TheStudio, response: Response) -> TractAdded:
    tract_id, outcome = studio.add_tract(world.id, spec)
    response.headers["location"] = f"/api/tracts/{tract_id}"
    return {"tract": tract_id, **outcome_json(outcome)}


@router.patch("/tracts/{tract}")
def place(patch: TractPatch, tract: TheTract) -> Edited:
    world, at = tract
    return outcome_json(place_tract(world, PlaceTract(key=at.row.id, **patch.model_dump(exclude_unset=True))))


@router.delete("/tracts/{tract}")
def remove(tract: TheTract) -> Edited:
    world, at = tract
    return outcome_json(remove_tract(world, RemoveTract(key=at.row.id)))


@router.post("/tracts/{tract}/crop", status_code=202)
def crop(request: Request, body: CropTract, tract: TheTract, studio: TheStudio) -> JobAnswer:
    """Other bounds; the tract gets a new id. The job's result is {revision, world}."""
    return job_answer(request, studio.start_crop(tract[1].row.id, body))


@router.post("/tracts/{tract}/respace", status_code=202)
def respace(request: Request, body: RespaceTract, tract: TheTract, studio: TheStudio) -> JobAnswer:
    """Another spacing; the tract gets a new id. The job's result is {revision, world}."""
    return job_answer(request, studio.start_respace(tract[1].row.id, body))


@router.get("/tracts/{tract}/loss")
def loss(tract: TheTract, spacing_m: Spacing) -> dict[str, float]:
    """What another spacing would take from the ground: the greatest and the mean (RMS) difference. [m]"""
    _, greatest, mean = loss_of(*tract, spacing_m)
    return {"greatest_m": greatest, "rms_m": mean}


@router.get("/tracts/{tract}/loss.png", response_class=Response)
def loss_map(tract: TheTract, spacing_m: Spacing) -> Response:
    """Where it would be taken: from paper (nothing) to rust (the greatest, in the header X-Greatest-M)."""
    lost, greatest, _ = loss_of(*tract, spacing_m)
    headers = {"X-Greatest-M": f"{greatest:.4f}"}
    return Response(loss_png(lost, greatest), media_type="image/png", headers=headers)


@router.post("/tracts/{tract}/boundary", status_code=202)
def boundary(request: Request, body: PutBoundary, tract: TheTract, studio: TheStudio) -> JobAnswer:
    """A rim or a sunk edge; the job's result says whether it holds, and if not, where somebody gets out."""
    return job_answer(request, studio.start_bound(tract[1].row.id, body))


@router.post("/worlds/{world}/joins")
def join_tracts(body: JoinBody, world: TheWorld) -> Edited:
    return outcome_json(join(world, JoinTracts(**body.model_dump())))


@router.delete("/worlds/{world}/joins/{key}")
def part_tracts(key: str, world: TheWorld) -> Edited:
    return outcome_json(part(world, PartTracts(key=key)))
