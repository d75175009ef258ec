"""The pages and the fragments that htmx swaps in. A route reads, calls `work`, and renders."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Path, Query, Request
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
from fernfield.web.problems import field_errors
from fernfield.work.commands import PutCover, PutMix
from fernfield.work.entries import Cover, CoverRule, Mix
from fernfield.work.studio import Studio
from fernfield.work.world import OpenWorld

router = APIRouter(include_in_schema=False)

TractQuery = Annotated[str | None, Query(max_length=40)]

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
    return _page(request, "worlds.html", worlds=[_card(world, studio) for world in studio.worlds()], bin=studio.bin())


def _card(world: OpenWorld, studio: Studio, tract_id: str | None = None) -> dict[str, Any]:
    """A world as the pages need it, seen from one of its tracts, the first when left out."""
    tract = world.first_tract if tract_id is None else world.tract(tract_id)
    grid = tract.grid
    return {
        **world_json(world, studio),
        "width_m": grid.width,
        "depth_m": grid.depth,
        "spacing_m": grid.spacing,
        "tract": tract.row.id,
        "tract_name": world.place_of(tract.row.id).name,
    }


@router.delete("/worlds/{world}", response_class=HTMLResponse)
def delete_world(world: TheWorld, studio: TheStudio) -> Response:
    studio.delete(world.id)
    return Response(status_code=204, headers={"HX-Redirect": "/"})


@router.get("/bin/{world}/ask", response_class=HTMLResponse)
def ask_destroy(request: Request, studio: TheStudio, world: str) -> Response:
    row = studio.binned(world)
    called = next(name for one, name in studio.bin() if one.id == row.id)
    return _page(request, "ask_destroy.html", row=row, called=called)


@router.get("/worlds/{world}", response_class=HTMLResponse)
def open_world(request: Request, world: TheWorld, studio: TheStudio, tract: TractQuery = None) -> Response:
    overlays = [{"name": o.name, "label": o.label, "hint": o.hint} for o in OVERLAYS.values()]
    return _page(
        request, "world.html", world=_card(world, studio, tract), stages=STAGES, tools=tools_json(), overlays=overlays
    )


@router.get("/worlds/{world}/bench/{stage}", response_class=HTMLResponse)
def bench(
    request: Request, world: TheWorld, studio: TheStudio, stage: Annotated[str, Path()], tract: TractQuery = None
) -> Response:
    if stage not in STAGES:
        raise NotFound(f"stage must be one of {', '.join(STAGES)}, not {stage!r}")
    return _bench(request, world, studio, stage, tract)


def _bench(
    request: Request,
    world: OpenWorld,
    studio: Studio,
    stage: str,
    tract: str | None = None,
    errors: list[dict[str, str]] | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    """A stage's panel; with `errors`, the form shows what was `typed` again."""
    package = studio.store.package(world.id)
    panel = _page(
        request,
        f"bench/{stage}.html",
        world=_card(world, studio, tract),
        tools=GROUND_TOOLS.values(),
        **_ground_rows(world, studio, tract or world.first_tract.row.id),
        covers=world.covers(),
        mixes=world.mixes(),
        things=world.things(tract or world.first_tract.row.id),
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


def _ground_rows(world: OpenWorld, studio: Studio, tract_id: str) -> dict[str, Any]:
    """What the ground's panel lists: sheets, plots, levels, pictures, symmetry and limits."""
    plots, levels = world.plots(tract_id), sorted(world.rows["levels"].items())
    own = [(picture.key, picture.name) for picture in studio.store.pictures(world.id)]
    return {
        "sheets": world.sheets(),
        "plots": plots,
        "plots_named": [(key, plot.name) for key, plot in plots],
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
        "tracts": [
            (tract_id, "this tract"),
            *((key, place.name) for key, place in world.places() if key != tract_id),
        ],
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
        return _bench(request, world, studio, "cover", None, _said(error), form)
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
        return _bench(request, world, studio, "growth", None, _said(error), form)
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
def job_card(request: Request, studio: TheStudio, job: str, into: TractQuery = None) -> Response:
    """A job as it is; with `into`, a file that was read is placed into that world."""
    return _page(request, "job.html", job=studio.jobs.get(job).public(), into=into)


@router.delete("/jobs/{job}/card", response_class=HTMLResponse)
def cancel_job(request: Request, studio: TheStudio, job: str) -> Response:
    return _page(request, "job.html", job=studio.jobs.cancel(job).public())
