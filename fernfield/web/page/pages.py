"""The page of a world: the frame, the panels of its stages, the logbook, and what its scripts are told."""

from __future__ import annotations

import itertools
from typing import Annotated, Any

from fastapi import Path, Query, Request
from fastapi.responses import HTMLResponse, Response

from fernfield.core.errors import named
from fernfield.core.light.daylight import Daylight
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.store.logbook import LogbookStore
from fernfield.web.kernel.panels import Asked
from fernfield.web.kernel.parts import TheStudio, TheWorld, page
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.told import ToolsTold, overlays_json, tools_json
from fernfield.web.kernel.worlds import world_json
from fernfield.web.page.shortcuts import shortcuts_json
from fernfield.web.rooms import PANELS
from fernfield.web.rooms.sites.routes import teams_json
from fernfield.work.kernel.rooms import House
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.moment import moment_of, told
from fernfield.work.seen.show import Show
from fernfield.work.sites.kit import entry_told, kit_of
from fernfield.work.studio import Studio

router = Router(include_in_schema=False)
api = Router(prefix="/api", tags=["tools"])

TractQuery = Annotated[str | None, Query(max_length=40)]


@api.get("/tools")
def tools(studio: TheStudio) -> Annotated[dict[str, Any], ToolsTold]:
    """The tools of every stage with their settings, and the overlays."""
    return {"tools": tools_json(studio.house), "overlays": overlays_json(studio.house)}


def _asked(studio: Studio, world: OpenWorld, tract_id: str | None) -> Asked:
    return Asked(studio, world, world.first_tract if tract_id is None else world.tract(tract_id))


def _card(asked: Asked) -> dict[str, Any]:
    """A world as the page needs it, seen from one of its tracts."""
    world, tract = asked.world, asked.tract
    return {
        **world_json(world, asked.studio),
        "width_m": tract.grid.width,
        "depth_m": tract.grid.depth,
        "spacing_m": tract.grid.spacing,
        "tract": tract.row.id,
        "land": _seen(asked),
        "kind": world.place_of(tract.row.id).kind,
        "tract_name": world.place_of(tract.row.id).name,
    }


def _seen(asked: Asked) -> dict[str, Any]:
    """The posts that the page shows, in the world's metres, and the tracts that they are of."""
    with asked.world.lock:
        country, land = asked.world.country(asked.tract.row.id), asked.world.land(asked.tract.row.id)
    grid = country.grid
    return {
        "rows": grid.rows, "cols": grid.cols, "spacing_m": grid.spacing, "west_m": grid.west, "south_m": grid.south,
        "tracts": list(country.tract_ids), "joined": list(land.tract_ids),
    }  # fmt: skip


def _boot(asked: Asked) -> dict[str, Any]:
    """Everything that the scripts of the page are told at first."""
    house, gait = asked.studio.house, WALKERS[WALKER]
    return {
        "world": _card(asked),
        "stages": [panel.name for panel in PANELS],
        "scripts": [panel.name for panel in PANELS if panel.script],
        "tools": tools_json(house),
        "overlays": overlays_json(house),
        "shortcuts": shortcuts_json(),
        "collections": [
            {"name": c.name, "one": c.one, "only": c.only, "in_tract": c.in_tract, "told": c.told,
             "pictured": bool(c.pictured), "lies": dict(c.lies)}
            for c in house.collections.values()
        ],
        "kit": {name: entry_told(asked.world, entry) for name, entry in kit_of(asked.world).items()},
        "teams": teams_json(asked.world),
        "walkers": {name: {"who": gait.who, "colour": gait.colour} for name, gait in WALKERS.items()},
        "daylight": Daylight(0.0, 90.0).told(),
        "light": told(asked.world, moment_of(asked.world)),
        "show": Show().model_dump(mode="json"),
        "walker": {"wade_m": gait.wade, "steepest_deg": gait.steepest_deg},
    }  # fmt: skip


def _by_stage(house: House) -> list[tuple[str, list[dict[str, Any]]]]:
    """The overlays that colour the land, by the stage that they are of, in the order of the work."""
    colouring = [one for one in overlays_json(house) if one["name"] != "kept"]
    return [(stage, list(of)) for stage, of in itertools.groupby(colouring, lambda one: one["stage"])]


@router.get("/worlds/{world}", response_class=HTMLResponse)
def open_world(request: Request, world: TheWorld, studio: TheStudio, tract: TractQuery = None) -> Response:
    asked = _asked(studio, world, tract)
    return page(
        request, "world.html", world=_card(asked), boot=_boot(asked), stages=[panel.name for panel in PANELS],
        overlays=_by_stage(studio.house),
    )  # fmt: skip


@router.get("/worlds/{world}/bench/{stage}", response_class=HTMLResponse)
def bench(
    request: Request, world: TheWorld, studio: TheStudio, stage: Annotated[str, Path()], tract: TractQuery = None
) -> Response:
    """A stage's panel."""
    panel = named({one.name: one for one in PANELS}, "stage", stage)
    asked = _asked(studio, world, tract)
    models = {collection.name: collection.model for collection in world.house.collections.values()}
    models |= {
        f"{c.name}.{sort}": model for c in world.house.collections.values() for sort, model in c.variants.items()
    }
    made = page(request, f"{stage}/panel.html", world=_card(asked), models=models, **panel.context(asked))
    made.headers["X-Stage"] = stage
    return made


@router.get("/worlds/{world}/logbook", response_class=HTMLResponse)
def logbook(request: Request, world: TheWorld, studio: TheStudio) -> Response:
    book = LogbookStore(studio.store.engine)
    reach = {"oldest": book.oldest(world.id), "mib": book.size(world.id) / 2**20, "most": studio.logbook_bytes / 2**20}
    return page(request, "logbook.html", world=world, revisions=studio.store.revisions(world.id), reach=reach)
