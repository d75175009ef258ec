"""The pages on which a world is made and set up, and its layout. A route reads, calls `work`, and renders."""

from __future__ import annotations

import json
from typing import Annotated, Any
from urllib.parse import quote

from fastapi import APIRouter, Query, Request
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError

from fernfield.core.errors import FernError
from fernfield.core.landforms import LANDFORMS
from fernfield.formats.elevation import READERS
from fernfield.web.api.parts import TheStudio, TheWorld, world_json
from fernfield.web.problems import field_errors
from fernfield.work.beginnings import Seed, WorldSpec, costs, ground_of
from fernfield.work.intake import Samples
from fernfield.work.making import no_room

router = APIRouter(include_in_schema=False)

PICTURE = 430
"""Pixels of the longer side of the land in the live picture."""

NEAR_SPACINGS = 16
"""How many spacings the magnified part shows across."""

PERSON_M, HOUSE_M = 0.5, (10.0, 7.0)
CELLS = (128, 256, 512, 1024, 2048, 4096, 8192, 16384)


def _page(request: Request, name: str, **context: Any) -> Response:
    page: Response = request.app.state.templates.TemplateResponse(request, name, context)
    return page


@router.get("/make", response_class=HTMLResponse)
def make(request: Request, studio: TheStudio, world: Annotated[str | None, Query(max_length=40)] = None) -> Response:
    """Making a world; with `world`, bringing a file into that one."""
    into = None if world is None else world_json(studio.world(world), studio)
    return _page(
        request, "make.html", landforms=LANDFORMS.values(), formats=READERS, cells=CELLS,
        formats_named=[(reader.name, reader.words) for reader in READERS], into=into,
        worlds=[(one.id, one.name) for one in studio.worlds()],
    )  # fmt: skip


def _time(seconds: float) -> str:
    minutes = round(seconds / 60)
    if minutes < 1:
        return f"{seconds:.0f} s"
    return f"{minutes} min" if minutes < 120 else f"{minutes // 60} h {minutes % 60} min"


def _bytes(count: float) -> str:
    for unit in ("B", "KiB", "MiB"):
        if count < 1024:
            return f"{count:.0f} {unit}"
        count /= 1024
    return f"{count:.1f} GiB"


def _picture(spec: WorldSpec) -> dict[str, Any]:
    """Where everything in the live picture lies, in pixels."""
    grid = spec.grid
    scale = PICTURE / max(grid.width, grid.depth)
    wide, deep = grid.width * scale, grid.depth * scale
    bar = _round_down(max(grid.width, grid.depth) / 4)
    across = NEAR_SPACINGS * grid.spacing
    near = 190 / across
    posts = [i * grid.spacing * near for i in range(NEAR_SPACINGS + 1)]
    return {
        "wide": round(wide, 1), "deep": round(deep, 1), "bar": round(bar * scale, 1), "bar_m": bar,
        "posts": [round(p, 2) for p in posts], "near_m": across,
        "person": round(max(PERSON_M * near / 2, 0.6), 2), "shows_person": PERSON_M * near >= 1,
        "house": [round(side * near, 1) for side in HOUSE_M], "shows_house": max(HOUSE_M) * near <= 170,
        "ridge": round(2 * grid.spacing * near, 2),
    }  # fmt: skip


def _round_down(value: float) -> float:
    """The next lower of 1, 2 and 5 times a power of ten."""
    power = 10.0 ** (len(str(int(value))) - 1) if value >= 1 else 0.1
    return next((step * power for step in (5, 2, 1) if step * power <= value), power)


@router.get("/make/picture", response_class=HTMLResponse)
def make_picture(request: Request, spec: Annotated[str, Query(max_length=20_000)]) -> Response:
    """The live picture of a world that is being set up, or what is wrong with it."""
    try:
        said = json.loads(spec)
        wanted = WorldSpec.model_validate({"name": "World", **said} if isinstance(said, dict) else said)
        found = costs(wanted.grid)
        ground_of(wanted)
        picture = _picture(wanted)
        body = quote(wanted.model_dump_json(exclude_none=True))
    except ValidationError as error:
        return _page(request, "make_picture.html", errors=field_errors(error.errors()))
    except (FernError, ValueError) as error:
        errors = [{"field": getattr(error, "field", None) or "", "message": str(error)}]
        return _page(request, "make_picture.html", errors=errors)
    figures = [
        ("Posts", f"{found['cols']:,} × {found['rows']:,}, {found['posts']:,} in all"),
        ("Powers of two", "yes" if found["powers_of_two"] else "no: some engines ask for them"),
        ("Memory, heights alone", _bytes(found["memory_bytes"])),
        ("Disk, about", _bytes(found["disk_bytes"])),
        ("On foot across", _time(found["cross_s"])),
        ("Corner to corner", _time(found["corner_s"])),
        ("Smallest ridge or ditch", f"{found['smallest_m']:g} m wide"),
    ]
    begin = wanted.begin
    warned = no_room(begin.recipe, wanted.width_m, wanted.depth_m) if isinstance(begin, Seed) else []
    return _page(
        request, "make_picture.html", errors=[], warned=warned, spec=wanted, figures=figures, picture=picture, body=body
    )


def _bars(samples: Samples) -> str:
    """The histogram as the path of an SVG of 256 by 60."""
    most = max(samples.counts) or 1
    step = 256 / len(samples.counts)
    tops = [60 - 58 * count / most for count in samples.counts]
    steps = "".join(f"L{i * step:.1f} {y:.1f}H{(i + 1) * step:.1f}" for i, y in enumerate(tops))
    return f"M0 60{steps}V60Z"


@router.get("/files/{file}/place", response_class=HTMLResponse)
def place_file(
    request: Request, studio: TheStudio, file: str, world: Annotated[str | None, Query(max_length=40)] = None
) -> Response:
    """What a file holds, and the form that says how it is placed."""
    found = studio.waiting.get(file)
    samples = found.read()
    into = None if world is None else studio.world(world)
    places = [] if into is None else into.places()
    plots = [] if into is None else [(key, row.name) for place, _ in places for key, row in into.plots(place)]
    return _page(
        request, "placing.html", file=found, samples=samples.public(), levels=samples.source.levels,
        whole=samples.source.whole, bars=_bars(samples), into=into,
        plots_named=plots, tracts_named=[(key, place.name) for key, place in places],
    )  # fmt: skip


@router.get("/worlds/{world}/setup", response_class=HTMLResponse)
def setup(request: Request, world: TheWorld, studio: TheStudio, tract: str | None = None) -> Response:
    """Name, description, icon, bounds, spacing, boundary, copy and bin of a world."""
    chosen = world.first_tract if tract is None else world.tract(tract)
    return _page(
        request, "setup.html", world=world_json(world, studio), chosen=chosen.row.id, grid=chosen.grid,
        place=world.place_of(chosen.row.id), sheets=world.sheets(),
    )  # fmt: skip


@router.get("/worlds/{world}/layout", response_class=HTMLResponse)
def layout(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return _page(request, "layout.html", world=world_json(world, studio))
