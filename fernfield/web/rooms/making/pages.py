"""The page on which a world is made, with its live picture. A route reads, calls `work`, and renders."""

from __future__ import annotations

import json
from typing import Annotated, Any
from urllib.parse import quote

from fastapi import Query, Request
from fastapi.responses import HTMLResponse, Response
from pydantic import ValidationError

from fernfield.core.errors import FernError
from fernfield.core.landforms import LANDFORMS
from fernfield.formats.elevation import READERS
from fernfield.web.kernel.gate.problems import field_errors
from fernfield.web.kernel.parts import TheStudio, page
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import world_json
from fernfield.work.ground.making import no_room
from fernfield.work.ground.rows import Landscape, Recipe, Weathering
from fernfield.work.worlds.beginnings import Rim, SeaFloor, Seed, WorldSpec, costs, ground_of
from fernfield.work.worlds.intake import Reading
from fernfield.work.worlds.rows import About, name_of

router = Router(include_in_schema=False)

PICTURE = 430
"""Pixels of the longer side of the land in the live picture."""

NEAR_SPACINGS = 16
"""How many spacings the magnified part shows across."""

PERSON_M, HOUSE_M = 0.5, (10.0, 7.0)
CELLS = (128, 256, 512, 1024, 2048, 4096, 8192, 16384)


@router.get("/make", response_class=HTMLResponse)
def make(request: Request, studio: TheStudio, world: Annotated[str | None, Query(max_length=40)] = None) -> Response:
    """Making a world; with `world`, bringing a file into that one."""
    into = None if world is None else world_json(studio.world(world), studio)
    return page(
        request, "making/make.html", landforms=LANDFORMS.values(), formats=READERS, cells=CELLS, into=into,
        worlds=[(one.id, name_of(one)) for one in studio.listed()[0]], WorldSpec=WorldSpec, SeaFloor=SeaFloor, Rim=Rim,
        Recipe=Recipe, Weathering=Weathering, Landscape=Landscape, Reading=Reading, About=About,
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
        return page(request, "making/make_picture.html", errors=field_errors(error.errors(), WorldSpec))
    except (FernError, ValueError) as error:
        errors = [{"field": getattr(error, "field", None) or "", "message": str(error)}]
        return page(request, "making/make_picture.html", errors=errors)
    figures = [
        ("Posts", f"{found['cols']:,} × {found['rows']:,}, {found['posts']:,} in all"),
        ("Sides are powers of two", "yes" if found["powers_of_two"] else "no: some engines ask for that"),
        ("Memory, heights alone", _bytes(found["memory_bytes"])),
        ("Disk, about", _bytes(found["disk_bytes"])),
        ("On foot across", _time(found["cross_s"])),
        ("Corner to corner", _time(found["corner_s"])),
        ("Smallest ridge or ditch", f"{found['smallest_m']:g} m wide"),
    ]
    begin = wanted.begin
    warned = no_room(begin.recipe, wanted.width_m, wanted.depth_m) if isinstance(begin, Seed) else []
    return page(
        request,
        "making/make_picture.html",
        errors=[],
        warned=warned,
        spec=wanted,
        figures=figures,
        picture=picture,
        body=body,
    )
