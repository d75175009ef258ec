"""Tracts and lands: strokes, heights, the spot, the section, the levels, and pictures of the plan."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import Field, TypeAdapter

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.core.overview import RULES
from fernfield.web.kernel.drawn import DrawnTiles
from fernfield.web.kernel.parts import TheLand, TheStudio, TheTract, job_answer, outcome_json
from fernfield.web.kernel.pictures import level_window, plan_rgb, png_of, tile_webp
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.windows import TheWindow
from fernfield.web.page import lighting
from fernfield.web.page.showing import Shown
from fernfield.work.ground.packing import asc_of
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Coordinate, RevisionNumber
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.seen.overlaid import FigureTold, Legend, OldLegend, labels, legend, legends
from fernfield.work.seen.sections import LineSection, Section, line_section, section
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import Levels, SpotTold, levels, spot
from fernfield.work.strokes import MOST_AT_ONCE, Stroke, work_of
from fernfield.work.water.rows import Tide

seen = Router()
"""What is asked of a tract in its own posts and metres, and of a land in the world's."""

router = Router()

POINTS: TypeAdapter[list[tuple[Coordinate, Coordinate]]] = TypeAdapter(list[tuple[Coordinate, Coordinate]])
Level = Annotated[int, Field(ge=-2, le=7)]
Pixel = Annotated[int, Field(ge=-100_000, le=200_000)]

MOST_POSTS = 4_097 * 4_097

Metres = Annotated[float, Query(ge=-1e7, le=1e7)]
AtTide = Annotated[Tide | None, Query(description="at which the sea is shown")]


@seen.post("/strokes")
def stroke(request: Request, stroke: Stroke, seen_land: TheLand, studio: TheStudio) -> Edited | Response:
    """A whole stroke; where it begins says which land it is drawn on. One that takes long is a job (202), whose result
    is the outcome."""
    world, land = seen_land
    x, y = stroke.path[0][:2]
    part = land.part_at(x, y) or land.parts[0]
    path = [(px - part.x, py - part.y, *rest) for px, py, *rest in stroke.path]
    tract, own = part.tract, stroke.model_copy(update={"path": path})
    if work_of(own, tract.grid) > MOST_AT_ONCE:
        return job_answer(request, studio.start_stroke(tract.row.id, own))
    return outcome_json(world.stroke(tract.row.id, own))


@seen.get("/heights", response_class=Response)
def heights(
    seen_land: TheLand,
    window: TheWindow,
    step: Annotated[int, Query(ge=1, le=1024)] = 1,
    of: Annotated[
        Literal["post", "mean", "lowest", "highest"],
        Query(description="from far away: the post itself, or what the ground around it comes to"),
    ] = "post",
) -> Response:
    posts = -(-window.rows // step) * -(-window.cols // step)
    if posts > MOST_POSTS:
        raise InvalidInput(f"at most {MOST_POSTS} posts can be asked for at once, not {posts}", "step")
    world, land = seen_land
    with world.lock:
        values = land.read(HEIGHT, window, step) if of == "post" else land.seen(HEIGHT, window, step, RULES[of])
    return Response(
        values.astype("<f4").tobytes(),
        media_type="application/octet-stream",
        headers={"X-Shape": f"{values.shape[0]},{values.shape[1]}"},
    )


@router.get("/api/tracts/{tract}/heights.asc", response_class=StreamingResponse, tags=["tracts"])
def heights_asc(
    tract: TheTract, studio: TheStudio, at: Annotated[RevisionNumber | None, Query(description="a revision")] = None
) -> StreamingResponse:
    world, own = studio.past_tract(tract[1].row.id, at)
    headers = {"content-disposition": f'attachment; filename="{own.row.id}.asc"'}
    return StreamingResponse(asc_of(world, own), media_type="text/plain; charset=us-ascii", headers=headers)


@seen.get("/spot")
def spot_at(land: TheLand, x: Metres, y: Metres, tide: AtTide = None) -> SpotTold:
    return spot(*land, x, y, tide)


@seen.get("/section")
def section_at(
    land: TheLand, y: Metres, x0: Metres = -1e6, x1: Metres = 1e6, tide: AtTide = None
) -> Section:  # fmt: skip
    return section(*land, y, x0, x1, tide=tide)


@seen.get("/levels")
def levels_in(land: TheLand, window: TheWindow) -> Levels:
    return levels(*land, window)


@seen.get("/plan.png", response_class=Response)
def plan_png(
    seen_land: TheLand,
    show: Shown,
    width: Annotated[int, Query(ge=16, le=4096)] = 800,
    x0: Metres | None = None,
    y0: Metres | None = None,
    x1: Metres | None = None,
    y1: Metres | None = None,
) -> Response:
    world, land = seen_land
    grid = land.grid
    box = (
        grid.west if x0 is None else x0, grid.south if y0 is None else y0,
        grid.east if x1 is None else x1, grid.north if y1 is None else y1,
    )  # fmt: skip
    return Response(png_of(plan_rgb(world, land, width, box, show)), media_type="image/png")


@seen.get("/plan/{level}/{row}/{col}.webp", response_class=Response)
def plan_tile(request: Request, land: TheLand, level: Level, row: Pixel, col: Pixel, show: Shown) -> Response:
    drawn: DrawnTiles = request.app.state.drawn
    return drawn.answer(request, land[0], lambda: tile_webp(*land, level, row, col, show))


@seen.get("/line")
def line(
    land: TheLand,
    points: Annotated[str, Query(max_length=20_000, description="[[x, y], …] as JSON")],
    a: Annotated[float | None, Query(ge=0, le=1e9)] = None,
    b: Annotated[float | None, Query(ge=0, le=1e9)] = None,
    tide: AtTide = None,
) -> LineSection:
    """The section along a line; with `a` and `b` (distances along it) also slope and length between them."""
    if (a is None) != (b is None):
        raise InvalidInput("a and b go together", "b" if b is None else "a")
    try:
        places = POINTS.validate_json(points)
    except ValueError as error:
        raise InvalidInput(f"points must be [[x, y], …] in metres, not {points[:60]!r}", "points") from error
    if not 2 <= len(places) <= 200:
        raise InvalidInput(f"a line has 2 to 200 points, not {len(places)}", "points")
    marks = (a, b) if a is not None and b is not None else None
    return line_section(*land, places, marks, tide=tide)


@seen.get("/contour-labels")
def contour_labels(
    land: TheLand, level: Level, row0: Pixel, col0: Pixel, row1: Pixel, col1: Pixel,
    contour_m: Annotated[float, Field(gt=0, le=1000, allow_inf_nan=False)] | Literal["auto"] = 2.0,
) -> list[FigureTold]:  # fmt: skip
    """The figures of index contours, for the pixels of a level that are in view."""
    part = Window(row0, col0, row1, col1).meet(level_window(land[1], level))
    if part.empty:
        return []
    if part.rows * part.cols > 4_000_000:
        raise InvalidInput(f"at most 4,000,000 pixels can be asked for at once, not {part.rows * part.cols}", "row1")
    interval = Show(contour_m=contour_m).interval(land[1], level)
    return labels(*land, level, part, interval)


@seen.get("/legends")
def overlay_legends(land: TheLand) -> dict[str, Legend]:
    """What the colours of each overlay stand for: its title, and lines of a colour and words."""
    return legends(*land)


@seen.get("/legend", deprecated=True)
def overlay_legend(land: TheLand, response: Response) -> OldLegend:
    """As `legends`, for two overlays only."""
    response.headers["Deprecation"] = "true"
    return legend(land[1])


for works in (seen, lighting.seen):
    router.take(works, "/api/tracts/{tract}", ["tracts"])
    router.take(works, "/api/lands/{tract}", ["lands"])
