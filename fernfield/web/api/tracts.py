"""Tracts: strokes, heights, the spot, the section, the levels, plants, and pictures of the plan."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Depends, Query, Response
from fastapi.responses import StreamingResponse
from pydantic import ValidationError

from fernfield.core.drawing.overlays import OVERLAYS
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.web.api.parts import TheStudio, TheTract, outcome_json
from fernfield.web.pictures import plan_rgb, png_of, tile_webp
from fernfield.work.commands import KeepTo, Stroke
from fernfield.work.handover import asc_of
from fernfield.work.layers import HEIGHT
from fernfield.work.scene import levels, spot, standing_plants
from fernfield.work.sections import section
from fernfield.work.show import Show
from fernfield.work.world import OpenWorld, Tract

router = APIRouter(prefix="/api/tracts/{tract}", tags=["tracts"])

MOST_POSTS = 4_097 * 4_097
MOST_PLANT_POSTS = 2_048 * 2_048

Metres = Annotated[float, Query(allow_inf_nan=False)]


def _show(
    contour_m: Annotated[float, Query(ge=0, le=1000, allow_inf_nan=False)] = 2.0,
    water: bool = True,
    growth: bool = True,
    shadows: bool = True,
    overlays: Annotated[str, Query(max_length=200, description="names with commas between")] = "",
    keep_to: Annotated[str, Query(max_length=4000, description="what a stroke keeps to, as JSON")] = "",
) -> Show:
    names = tuple(name for name in overlays.split(",") if name)
    for name in names:
        if name not in OVERLAYS:
            raise InvalidInput(f"overlays must be among {', '.join(OVERLAYS)}, not {name!r}", "overlays")
    try:
        kept = KeepTo.model_validate_json(keep_to) if keep_to else None
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        words = f"keep_to must be what a stroke keeps to, as JSON; {place or 'it'}: {first['msg']}"
        raise InvalidInput(words, "keep_to") from error
    return Show(contour_m, water, growth, shadows, names, kept)


Shown = Annotated[Show, Depends(_show)]


def _window(
    tract: TheTract,
    row0: Annotated[int, Query(ge=0)] = 0,
    col0: Annotated[int, Query(ge=0)] = 0,
    row1: Annotated[int | None, Query(ge=1)] = None,
    col1: Annotated[int | None, Query(ge=1)] = None,
) -> Window:
    grid = tract[1].grid
    window = Window(row0, col0, grid.rows if row1 is None else row1, grid.cols if col1 is None else col1)
    if window.empty or grid.clip(window) != window:
        raise InvalidInput(
            f"the window must be rows 0 to {grid.rows} and columns 0 to {grid.cols}, smaller number first, "
            f"not {window.as_list()}",
            "row0",
        )
    return window


TheWindow = Annotated[Window, Depends(_window)]


def _past(
    tract: TheTract, studio: TheStudio, at: Annotated[int | None, Query(ge=0, description="a revision")] = None
) -> tuple[OpenWorld, Tract]:
    """The tract as it is, or with `at` as it was after that revision."""
    return tract if at is None else studio.past_tract(tract[1].row.id, at)


AnyTime = Annotated[tuple[OpenWorld, Tract], Depends(_past)]


@router.post("/strokes")
def stroke(stroke: Stroke, tract: TheTract) -> dict[str, Any]:
    world, at = tract
    return outcome_json(world.stroke(at.row.id, stroke))


@router.get("/heights", response_class=Response)
def heights(tract: AnyTime, window: TheWindow, step: Annotated[int, Query(ge=1, le=1024)] = 1) -> Response:
    posts = -(-window.rows // step) * -(-window.cols // step)
    if posts > MOST_POSTS:
        raise InvalidInput(f"at most {MOST_POSTS} posts can be asked for at once, not {posts}", "step")
    world, at = tract
    with world.lock:
        values = at.cache.read(HEIGHT, window, step)
    return Response(
        values.astype("<f4").tobytes(),
        media_type="application/octet-stream",
        headers={"X-Shape": f"{values.shape[0]},{values.shape[1]}"},
    )


@router.get("/heights.asc", response_class=StreamingResponse)
def heights_asc(tract: AnyTime) -> StreamingResponse:
    world, at = tract
    headers = {"content-disposition": f'attachment; filename="{at.row.id}.asc"'}
    return StreamingResponse(asc_of(world, at), media_type="text/plain; charset=us-ascii", headers=headers)


@router.get("/spot")
def spot_at(tract: AnyTime, x: Metres, y: Metres) -> dict[str, Any]:
    return spot(*tract, x, y)


@router.get("/section")
def section_at(tract: AnyTime, y: Metres, x0: Metres = 0.0, x1: Metres = 1e6) -> dict[str, Any]:
    return section(*tract, y, x0, x1)


@router.get("/levels")
def levels_in(tract: AnyTime, window: TheWindow) -> dict[str, Any]:
    return levels(*tract, window)


@router.get("/growth", response_class=Response)
def growth(tract: TheTract, window: TheWindow) -> Response:
    """Plants as little-endian float32: mix and kind numbers, x, y, z, size, turn, lean east, lean north."""
    if window.rows * window.cols > MOST_PLANT_POSTS:
        raise InvalidInput(f"at most {MOST_PLANT_POSTS} posts of growth can be asked for at once", "row1")
    world, at = tract
    found = standing_plants(world, at, window)
    mixes = [key for key, _ in world.mixes()]
    parts = []
    for standing in found:
        p = standing.plants
        number = world.mixes()[mixes.index(standing.mix)][1].kinds.index(standing.kind)
        head = np.full((len(p), 2), [mixes.index(standing.mix), number], np.float32)
        body = np.stack([p.x, p.y, standing.z, p.size, p.turn, standing.lean_east, standing.lean_north], axis=1)
        parts.append(np.concatenate([head, body], axis=1))
    rows = np.concatenate(parts) if parts else np.zeros((0, 9), np.float32)
    return Response(
        rows.astype("<f4").tobytes(), media_type="application/octet-stream", headers={"X-Shape": f"{len(rows)},9"}
    )


@router.get("/plan.png", response_class=Response)
def plan_png(
    tract: AnyTime,
    show: Shown,
    width: Annotated[int, Query(ge=16, le=4096)] = 800,
    x0: Metres = 0.0,
    y0: Metres = 0.0,
    x1: Annotated[float | None, Query(allow_inf_nan=False)] = None,
    y1: Annotated[float | None, Query(allow_inf_nan=False)] = None,
) -> Response:
    world, at = tract
    box = x0, y0, at.grid.width if x1 is None else x1, at.grid.depth if y1 is None else y1
    return Response(png_of(plan_rgb(world, at, width, box, show)), media_type="image/png")


@router.get("/plan/{level}/{row}/{col}.webp", response_class=Response)
def plan_tile(tract: AnyTime, level: int, row: int, col: int, show: Shown) -> Response:
    return Response(tile_webp(*tract, level, row, col, show), media_type="image/webp")
