"""Land from a seed: the landforms there are, a preview, and the job that makes it."""

from __future__ import annotations

import secrets
from dataclasses import asdict
from typing import Annotated, Any

from fastapi import Request, Response
from typing_extensions import TypedDict

from fernfield.core.landforms import LANDFORMS
from fernfield.web.kernel.parts import ByLand, JobAnswer, TheStudio, TheTract, TheWorld, job_answer, outcome_json
from fernfield.web.kernel.pictures import land_png
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.told import SettingSaid
from fernfield.work.ground.commands import MakeLand
from fernfield.work.ground.making import preview, warnings
from fernfield.work.ground.rows import RECIPES, Recipe
from fernfield.work.kernel.rows import Key, Name
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.plots.areas import said_in_world
from fernfield.work.worlds.dressing import Dress, Proposal, dress, proposals

router = Router(prefix="/api", tags=["land"])


class Generate(Recipe):
    """A recipe, the sheet that it goes into (a new one when left out), and that sheet's name."""

    sheet: Key | None = None
    name: Name = "Land"

    @property
    def recipe(self) -> Recipe:
        return Recipe(**self.model_dump(exclude={"sheet", "name"}))


class LandformTold(TypedDict):
    """A landform, and what may be set of it."""

    name: str
    label: str
    words: str
    settings: list[SettingSaid]


class RecipeTold(Recipe):
    """By what the land of a sheet was made, and the covers and growth that suit it."""

    sheet: str
    suits: list[Proposal]


@router.get("/landforms")
def landforms() -> Annotated[list[dict[str, Any]], list[LandformTold]]:
    return [
        {
            "name": form.name,
            "label": form.label,
            "words": form.words,
            "settings": [asdict(setting) for setting in form.settings],
        }
        for form in LANDFORMS.values()
    ]


@router.get("/worlds/{world}/recipes")
def recipes(world: TheWorld) -> Annotated[list[dict[str, Any]], list[RecipeTold]]:
    with world.lock:
        return [
            {"sheet": key, **row.model_dump(), "suits": [asdict(one) for one in proposals(world, row)]}
            for key, row in world.each(RECIPES)
        ]


@router.post("/tracts/{tract}/dress")
def take(body: Dress, tract: TheTract) -> Edited:
    """Take the covers and the growth that are proposed for the land of a recipe."""
    return outcome_json(dress(*tract, body))


@router.post("/tracts/{tract}/generate", status_code=202)
@router.post("/lands/{tract}/generate", status_code=202)
def generate(request: Request, body: Generate, tract: TheTract, by_land: ByLand, studio: TheStudio) -> JobAnswer:
    at, body = said_in_world(*tract, body) if by_land else (tract[1], body)
    key = body.sheet or f"land-{secrets.token_hex(3)}"
    command = MakeLand(key=key, name=body.name, recipe=body.recipe)
    found = warnings(tract[0], at, body.recipe)
    return job_answer(request, studio.start_making(at.row.id, command), sheet=key, warnings=found)


@router.post("/tracts/{tract}/generate/preview", response_class=Response)
@router.post("/lands/{tract}/generate/preview", response_class=Response)
def generate_preview(body: Generate, tract: TheTract, by_land: ByLand) -> Response:
    """A coarse picture of the land; what its region has no room for stands in the header X-Warnings."""
    world = tract[0]
    at, body = said_in_world(*tract, body) if by_land else (tract[1], body)
    heights, metres = preview(world, at, body.recipe)
    headers = {"X-Warnings": "; ".join(warnings(world, at, body.recipe))}
    return Response(land_png(heights, metres, world), media_type="image/png", headers=headers)
