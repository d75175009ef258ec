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
from fernfield.core.travel.walker import Gait
from fernfield.formats.elevation import READERS
from fernfield.web.kernel.parts import TheStudio, TheWorld, page
from fernfield.web.kernel.problems import field_errors
from fernfield.web.rooms.worlds.files import AsTract, AsWorld
from fernfield.web.rooms.worlds.told import world_json
from fernfield.work.ground.commands import PressFile
from fernfield.work.ground.making import no_room
from fernfield.work.ground.rows import Landscape, Recipe, Weathering, sheets_of
from fernfield.work.kernel.posts.tracts import TractPlace
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, Water
from fernfield.work.worlds.beginnings import Rim, SeaFloor, Seed, WorldSpec, costs, ground_of
from fernfield.work.worlds.bounding import PutBoundary
from fernfield.work.worlds.intake import Placing, Reading, Samples
from fernfield.work.worlds.rows import ABOUT, About, name_of
from fernfield.work.worlds.tracts import CropTract, RespaceTract, TractSpec

router = APIRouter(include_in_schema=False)

PICTURE = 430
"""Pixels of the longer side of the land in the live picture."""

NEAR_SPACINGS = 16
"""How many spacings the magnified part shows across."""

PERSON_M, HOUSE_M = 0.5, (10.0, 7.0)
CELLS = (128, 256, 512, 1024, 2048, 4096, 8192, 16384)


@router.get("/", response_class=HTMLResponse)
def first_page(request: Request, studio: TheStudio) -> Response:
    """The worlds on the table, those that cannot be opened, and the bin."""
    worlds, shut = studio.listed()
    cards = [_card(world, studio) for world in worlds]
    return page(request, "worlds/worlds.html", worlds=cards, shut=shut, bin=studio.bin())


def _card(world: OpenWorld, studio: Studio) -> dict[str, Any]:
    grid = world.first_tract.grid
    return {
        **world_json(world, studio), "width_m": grid.width, "depth_m": grid.depth, "spacing_m": grid.spacing,
        "tract": world.first_tract.row.id,
    }  # fmt: skip


@router.get("/bin/{world}/ask", response_class=HTMLResponse)
def ask_destroy(request: Request, studio: TheStudio, world: str) -> Response:
    row = studio.binned(world)
    called = next(name for one, name in studio.bin() if one.id == row.id)
    return page(request, "worlds/ask_destroy.html", row=row, called=called)


@router.get("/make", response_class=HTMLResponse)
def make(request: Request, studio: TheStudio, world: Annotated[str | None, Query(max_length=40)] = None) -> Response:
    """Making a world; with `world`, bringing a file into that one."""
    into = None if world is None else world_json(studio.world(world), studio)
    return page(
        request, "worlds/make.html", landforms=LANDFORMS.values(), formats=READERS, cells=CELLS, into=into,
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
        return page(request, "worlds/make_picture.html", errors=field_errors(error.errors()))
    except (FernError, ValueError) as error:
        errors = [{"field": getattr(error, "field", None) or "", "message": str(error)}]
        return page(request, "worlds/make_picture.html", errors=errors)
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
    return page(
        request,
        "worlds/make_picture.html",
        errors=[],
        warned=warned,
        spec=wanted,
        figures=figures,
        picture=picture,
        body=body,
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
    plots = [] if into is None else [(key, row.name) for place, _ in places for key, row in into.each_in(PLOTS, place)]
    return page(
        request, "worlds/placing.html", file=found, samples=samples.public(), levels=samples.source.levels,
        whole=samples.source.whole, bars=_bars(samples), into=None if into is None else _card(into, studio),
        plots_named=plots, tracts_named=[(key, place.name) for key, place in places], Placing=Placing,
        AsWorld=AsWorld, AsTract=AsTract, PressFile=PressFile,
    )  # fmt: skip


@router.get("/worlds/{world}/setup", response_class=HTMLResponse)
def setup(request: Request, world: TheWorld, studio: TheStudio, tract: str | None = None) -> Response:
    """Name, description, icon, bounds, spacing, boundary, copy and bin of a world."""
    chosen = world.first_tract if tract is None else world.tract(tract)
    return page(
        request, "worlds/setup.html", world=world_json(world, studio), chosen=chosen.row.id, grid=chosen.grid,
        place=world.place_of(chosen.row.id), sheets=sheets_of(world), about=world.only(ABOUT), water=world.only(WATER),
        About=About, Water=Water, CropTract=CropTract, RespaceTract=RespaceTract, PutBoundary=PutBoundary, gait=Gait(),
    )  # fmt: skip


@router.get("/worlds/{world}/layout", response_class=HTMLResponse)
def layout(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    return page(
        request, "worlds/layout.html", world=world_json(world, studio), TractPlace=TractPlace, TractSpec=TractSpec
    )
