"""The pages and the fragments that htmx swaps in. A route reads, calls `work`, and renders."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, File, Form, Path, Request, UploadFile
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError

from fernfield.core.drawing.overlays import OVERLAYS
from fernfield.core.errors import FernError, NotFound
from fernfield.core.ground.tips import TIPS
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.landforms import LANDFORMS
from fernfield.core.sites.kit import KIT, TEAM_COLOURS, TEAM_MARKS
from fernfield.store.logbook import LogbookStore
from fernfield.web.api.parts import TheStudio, TheWorld, world_json
from fernfield.web.api.worlds import ImportForm, receive_import
from fernfield.web.problems import field_errors
from fernfield.work.commands import PutCover, PutMix
from fernfield.work.entries import Cover, CoverRule, Mix
from fernfield.work.studio import Studio, WorldSpec
from fernfield.work.world import OpenWorld

router = APIRouter(include_in_schema=False)

STAGES = ("ground", "cover", "growth", "water", "light", "sites", "trial", "handover")


def _page(request: Request, name: str, status: int = 200, **context: Any) -> Response:
    page: Response = request.app.state.templates.TemplateResponse(request, name, context, status)
    return page


def _said(error: ValidationError | FernError) -> list[dict[str, str]]:
    if isinstance(error, ValidationError):
        return field_errors(error.errors())
    return [{"field": getattr(error, "field", None) or "", "message": str(error)}]


def _filled(values: dict[str, str]) -> dict[str, str]:
    """Form fields that were filled in: an empty one counts as left out."""
    return {name: value for name, value in values.items() if value.strip() != ""}


@router.get("/", response_class=HTMLResponse)
def first_page(request: Request, studio: TheStudio) -> Response:
    return _page(request, "worlds.html", worlds=[_card(world, studio) for world in studio.worlds()])


def _card(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    grid = world.first_tract.grid
    return {
        **world_json(world, studio),
        "width_m": grid.width,
        "depth_m": grid.depth,
        "spacing_m": grid.spacing,
        "tract": world.first_tract.row.id,
    }


@router.post("/worlds", response_class=HTMLResponse)
async def make_world(request: Request, studio: TheStudio) -> Response:
    form = {k: str(v) for k, v in (await request.form()).items()}
    try:
        world_id = studio.create(WorldSpec.model_validate(_filled(form)))
    except (ValidationError, FernError) as error:
        return _page(request, "make_world.html", values=form, errors=_said(error))
    return Response(status_code=204, headers={"HX-Redirect": f"/worlds/{world_id}"})


@router.post("/worlds/import", response_class=HTMLResponse)
def import_world(
    request: Request,
    studio: TheStudio,
    file: Annotated[UploadFile, File()],
    name: Annotated[str, Form()] = "",
    spacing_m: Annotated[str, Form()] = "",
    lowest_m: Annotated[str, Form()] = "",
    highest_m: Annotated[str, Form()] = "",
    sea_level_m: Annotated[str, Form()] = "",
) -> Response:
    values = {
        "name": name,
        "spacing_m": spacing_m,
        "lowest_m": lowest_m,
        "highest_m": highest_m,
        "sea_level_m": sea_level_m,
    }
    try:
        form = ImportForm.model_validate(_filled(values))
    except ValidationError as error:
        return _page(request, "import_world.html", values=values, errors=_said(error))
    answer = _page(request, "job.html", job=receive_import(studio, file, form).public())
    # The form stays as it is, so that a file that turns out bad can be changed for another.
    answer.headers["HX-Retarget"], answer.headers["HX-Reswap"] = "#import-job", "innerHTML"
    return answer


@router.delete("/worlds/{world}", response_class=HTMLResponse)
def delete_world(world: TheWorld, studio: TheStudio) -> Response:
    studio.delete(world.id)
    return HTMLResponse("")


@router.get("/worlds/{world}/delete", response_class=HTMLResponse)
def ask_delete(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return _page(request, "ask_delete.html", world=_card(world, studio))


@router.get("/worlds/{world}/card", response_class=HTMLResponse)
def card(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return _page(request, "world_card.html", world=_card(world, studio))


@router.get("/worlds/{world}", response_class=HTMLResponse)
def open_world(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    overlays = [{"name": o.name, "label": o.label, "hint": o.hint} for o in OVERLAYS.values()]
    return _page(
        request, "world.html", world=_card(world, studio), stages=STAGES, tools=tools_json(), overlays=overlays
    )


@router.get("/worlds/{world}/bench/{stage}", response_class=HTMLResponse)
def bench(request: Request, world: TheWorld, studio: TheStudio, stage: Annotated[str, Path()]) -> Response:
    if stage not in STAGES:
        raise NotFound(f"stage must be one of {', '.join(STAGES)}, not {stage!r}")
    return _bench(request, world, studio, stage)


def _bench(
    request: Request,
    world: OpenWorld,
    studio: Studio,
    stage: str,
    errors: list[dict[str, str]] | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    """A stage's panel; with `errors`, the form shows what was `typed` again."""
    package = studio.store.package(world.id)
    panel = _page(
        request,
        f"bench/{stage}.html",
        world=_card(world, studio),
        tools=GROUND_TOOLS.values(),
        **_ground_rows(world, studio),
        covers=world.covers(),
        mixes=world.mixes(),
        things=world.things(),
        kit=KIT.values(),
        teams=list(zip(range(1, 9), TEAM_MARKS, TEAM_COLOURS, strict=True)),
        package=package,
        stale=package is not None and package[0] < world.revision,
        findings=studio.check(world.id) if stage == "handover" else [],
        errors=errors or [],
        typed=typed or {},
    )
    panel.headers["X-Stage"] = stage
    return panel


def _ground_rows(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    """What the ground's panel lists: sheets, plots, levels, pictures, symmetry and limits."""
    plots, levels = sorted(world.rows["plots"].items()), sorted(world.rows["levels"].items())
    own = [(picture.key, picture.name) for picture in studio.store.pictures(world.id)]
    return {
        "sheets": world.sheets(),
        "plots": plots,
        "plots_named": [(key, plot.model_dump()["name"]) for key, plot in plots],
        "landforms": LANDFORMS.values(),
        "recipes": world.rows["recipes"],
        "recipes_named": [
            (key, f"{sheet.name}, anew") for key, sheet in world.sheets() if key in world.rows["recipes"]
        ],
        "levels": levels,
        "levels_named": [(level.model_dump()["elevation_m"], level.model_dump()["name"]) for _key, level in levels],
        "pictures": [(key, name) for key, (name, _) in TIPS.items()] + own,
        "symmetry": world.symmetry,
        "limits": world.limits,
        "tracts": [(tract_id, tract.row.name) for tract_id, tract in world.tracts.items()],
    }


def tools_json() -> list[dict[str, Any]]:
    """The ground tools as the page's scripts need them."""
    return [
        {
            "name": tool.name,
            "unit": tool.unit,
            "opposite": tool.opposite,
            "words": tool.words,
            "lays": tool.lay is not None,
            "settings": [
                {"name": s.name, "first": s.first, "worded": s.worded, "whole": s.whole} for s in tool.settings
            ],
        }
        for tool in GROUND_TOOLS.values()
    ]


@router.post("/worlds/{world}/covers/{key}/rule", response_class=HTMLResponse)
async def cover_rule(request: Request, world: TheWorld, studio: TheStudio, key: str) -> Response:
    form = _filled({k: str(v) for k, v in (await request.form()).items()})
    try:
        old = world.row(Cover, "covers", key)
        rule = CoverRule.model_validate(form) if "above_deg" in form else None
        world.edit(PutCover(key=key, cover=old.model_copy(update={"rule": rule})))
    except (ValidationError, FernError) as error:
        return _bench(request, world, studio, "cover", _said(error), form)
    return _bench(request, world, studio, "cover")


@router.post("/worlds/{world}/mixes/{key}", response_class=HTMLResponse)
async def mix_settings(request: Request, world: TheWorld, studio: TheStudio, key: str) -> Response:
    """Fields: `seed`, and for each kind `<kind>.density_per_ha`, `.size_min`, `.size_max`."""
    form = _filled({k: str(v) for k, v in (await request.form()).items()})
    try:
        body = world.row(Mix, "mixes", key).model_dump(mode="json")
        body["seed"] = form.get("seed", body["seed"])
        for kind in body["kinds"]:
            for name in ("density_per_ha", "size_min", "size_max"):
                kind[name] = form.get(f"{kind['key']}.{name}", kind[name])
        world.edit(PutMix(key=key, mix=Mix.model_validate(body)))
    except (ValidationError, FernError) as error:
        return _bench(request, world, studio, "growth", _said(error), form)
    return _bench(request, world, studio, "growth")


@router.get("/worlds/{world}/logbook", response_class=HTMLResponse)
def logbook(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    book = LogbookStore(studio.store.engine)
    reach = {"oldest": book.oldest(world.id), "mib": book.size(world.id) / 2**20, "most": studio.logbook_bytes / 2**20}
    return _page(request, "logbook.html", world=world, revisions=studio.store.revisions(world.id), reach=reach)


@router.post("/worlds/{world}/handover", response_class=HTMLResponse)
def hand_over(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return _page(request, "job.html", job=studio.start_handover(world.id).public())


@router.get("/jobs/{job}/card", response_class=HTMLResponse)
def job_card(request: Request, studio: TheStudio, job: str) -> Response:
    return _page(request, "job.html", job=studio.jobs.get(job).public())


@router.delete("/jobs/{job}/card", response_class=HTMLResponse)
def cancel_job(request: Request, studio: TheStudio, job: str) -> Response:
    return _page(request, "job.html", job=studio.jobs.cancel(job).public())
