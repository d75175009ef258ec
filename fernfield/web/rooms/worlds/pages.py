"""The list of worlds, and the page on which one is set up."""

from __future__ import annotations

from fastapi import Request
from fastapi.responses import HTMLResponse, Response

from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.web.kernel.parts import TheStudio, TheWorld, page
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.worlds import card_of, world_json
from fernfield.work.ground.rows import sheets_of
from fernfield.work.water.rows import WATER, Water
from fernfield.work.worlds.bounding import PutBoundary
from fernfield.work.worlds.rows import ABOUT, About
from fernfield.work.worlds.tracts import CropTract, RespaceTract

router = Router(include_in_schema=False)

LOW_BYTES = 1 << 30
"""With less room than this on the disk it is said."""


@router.get("/", response_class=HTMLResponse)
def first_page(request: Request, studio: TheStudio) -> Response:
    """The worlds on the table, those that cannot be opened, and the bin."""
    worlds, shut = studio.listed()
    cards = [card_of(world, studio) for world in worlds]
    free = studio.room()
    low = free >> 20 if free < LOW_BYTES else None
    return page(request, "worlds/worlds.html", worlds=cards, shut=shut, bin=studio.bin(), low=low)


@router.get("/bin/{world}/ask", response_class=HTMLResponse)
def ask_destroy(request: Request, studio: TheStudio, world: str) -> Response:
    row = studio.binned(world)
    called = next(name for one, name in studio.bin() if one.id == row.id)
    return page(request, "worlds/ask_destroy.html", row=row, called=called)


@router.get("/worlds/{world}/setup", response_class=HTMLResponse)
def setup(request: Request, world: TheWorld, studio: TheStudio, tract: str | None = None) -> Response:
    """Name, description, icon, bounds, spacing, boundary, copy and bin of a world."""
    chosen = world.first_tract if tract is None else world.tract(tract)
    return page(
        request, "worlds/setup.html", world=world_json(world, studio), chosen=chosen.row.id, grid=chosen.grid,
        place=world.place_of(chosen.row.id), sheets=sheets_of(world), about=world.only(ABOUT), water=world.only(WATER),
        About=About, Water=Water, CropTract=CropTract, RespaceTract=RespaceTract, PutBoundary=PutBoundary,
        gait=WALKERS[WALKER],
    )  # fmt: skip
