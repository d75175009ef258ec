"""The plan as a sheet of a map, at a scale, for print."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Query, Response

from fernfield.core.errors import InvalidInput
from fernfield.formats.sheet import frames_of, sheet_svg
from fernfield.web.kernel.parts import TheLand
from fernfield.web.kernel.pictures import plan_rgb, png_of
from fernfield.web.kernel.routing import Router
from fernfield.work.cover.rows import covers_of
from fernfield.work.plots.rows import PLOTS
from fernfield.work.seen.show import Show
from fernfield.work.sites.rows import Start, things_of
from fernfield.work.worlds.rows import ABOUT

router = Router(prefix="/api/lands/{tract}", tags=["handover"])
DOTS_MM = 6
"""Of the picture: some 150 to the inch."""
MOST_DOTS = 4_096
MOST_SHEETS = 64


@router.get("/sheet.svg", response_class=Response)
def sheet(
    seen: TheLand, scale: Annotated[float, Query(ge=100, le=1_000_000)] = 5_000,
    paper: Literal["A4", "A3", "A2", "A1", "A0"] = "A4", page: Annotated[int, Query(ge=1, le=MOST_SHEETS)] = 1,
) -> Response:  # fmt: skip
    """The plan of a tract as SVG at 1 : `scale`, with grid, scale bar, north, legend and names. A large land has
    several sheets: the header X-Pages says how many, from the north-west."""
    world, land = seen
    grid = land.grid
    frames = frames_of((grid.west, grid.south, grid.east, grid.north), scale, paper)
    if len(frames) > MOST_SHEETS:
        raise InvalidInput(f"at this scale it would be {len(frames)} sheets; at most {MOST_SHEETS} are made", "scale")
    if page > len(frames):
        raise InvalidInput(f"there are {len(frames)} sheets at this scale, not {page}", "page")
    frame = frames[page - 1]
    show = Show(contour_m="auto")
    width = min(max(16, round(frame.map_wide * DOTS_MM)), MOST_DOTS)
    plan = png_of(plan_rgb(world, land, width, frame.box, show))
    with world.lock:
        own = {part.tract.row.id: (part.x, part.y) for part in land.parts}
        legend = [(one.colour, one.name) for _, one in covers_of(world)]
        names = [
            (one.x + own[world.of_tract(one.tract)][0], one.y + own[world.of_tract(one.tract)][1], one.title)
            for _, one in things_of(world) if isinstance(one, Start) and world.of_tract(one.tract) in own
        ]  # fmt: skip
        for _, plot in world.each(PLOTS):
            if (at := own.get(world.of_tract(plot.tract))) is not None:
                x, y = (sum(one[k] for one in plot.points) / len(plot.points) + at[k] for k in (0, 1))
                names.append((x, y, plot.name))
        title = f"{world.only(ABOUT).name}: {world.place_of(land.id).name}"
        interval = show.interval(land, 0)
    about = f"Revision {world.revision}" + (f", contours every {interval:g} m" if interval else "")
    body = sheet_svg(frame, scale, plan, title, about, legend, names)
    return Response(body, media_type="image/svg+xml", headers={"X-Pages": str(len(frames))})
