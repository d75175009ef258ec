"""The plan as sheets of a map, at a scale, for print: SVG, a sheet each, and PDF, a page for each."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Literal

from fastapi import Query, Response

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.formats.sheet import Frame, Sheet, frames_of, pdf_of, sheet_of, svg_of
from fernfield.web.kernel.parts import TheLand
from fernfield.web.kernel.pictures import plan_rgb, png_of
from fernfield.web.kernel.routing import Router
from fernfield.work.cover.rows import covers_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS
from fernfield.work.seen.overlaid import labels
from fernfield.work.seen.show import Show
from fernfield.work.sites.rows import Start, things_of
from fernfield.work.worlds.rows import ABOUT

router = Router(prefix="/api/lands/{tract}", tags=["handover"])
DOTS_MM = 6
"""Of the picture, about: some 150 to the inch."""
MOST_DOTS = 4_096
MOST_SHEETS = 64
FIGURE_POSTS = 1_024
"""Figures of contours are looked for among so many posts of a sheet's side, or fewer."""
Scale = Annotated[float, Query(ge=100, le=1_000_000)]
Paper = Literal["A4", "A3", "A2", "A1", "A0"]


@dataclass(frozen=True, slots=True)
class Atlas:
    """The sheets of a land at a scale, the first in the north-west; each is drawn when it is asked for."""

    world: OpenWorld
    land: Land
    scale: float
    frames: list[Frame]

    @property
    def title(self) -> str:
        return f"{self.world.only(ABOUT).name}: {self.world.place_of(self.land.id).name}"

    def sheet(self, frame: Frame) -> Sheet:
        world, land = self.world, self.land
        show = Show(contour_m="auto")
        # So many metres to a dot that what is drawn once is not drawn finer and made smaller.
        dot = land.grid.spacing * 2.0 ** round(math.log2(self.scale / 1_000 / DOTS_MM / land.grid.spacing))
        width = min(max(16, round((frame.box[2] - frame.box[0]) / dot)), MOST_DOTS)
        plan = png_of(plan_rgb(world, land, width, frame.box, show))
        with world.lock:
            legend = [(one.colour, one.name) for _, one in covers_of(world)]
            names = list(self._names())
            interval = show.interval(land, 0)
        about = f"Revision {world.revision}" + (f", contours every {interval:g} m" if interval else "")
        figures = self._figures(frame, interval) if interval else []
        return sheet_of(frame, self.scale, plan, self.title, about, legend, names, figures)

    def _figures(self, frame: Frame, interval: float) -> list[tuple[float, float, float, str]]:
        """Of the contours on a sheet: east, north [m], turn [°], words."""
        grid, (x0, y0, x1, y1) = self.land.grid, frame.box
        level = max(0, round(max(x1 - x0, y1 - y0) / grid.spacing / FIGURE_POSTS).bit_length())
        step = 2**level
        part = Window(
            round((grid.north - y1) / grid.spacing) // step, round((x0 - grid.west) / grid.spacing) // step,
            round((grid.north - y0) / grid.spacing) // step + 1, round((x1 - grid.west) / grid.spacing) // step + 1,
        )  # fmt: skip
        found = labels(self.world, self.land, level, part, interval)
        inside = (one for one in found if x0 <= one["x"] <= x1 and y0 <= one["y"] <= y1)
        return [(one["x"], one["y"], one["turn_deg"], one["words"]) for one in inside]

    def _names(self) -> Iterator[tuple[float, float, str]]:
        world = self.world
        own = {part.tract.row.id: (part.x, part.y) for part in self.land.parts}
        for _, one in things_of(world):
            if isinstance(one, Start) and (at := own.get(world.of_tract(one.tract))) is not None:
                yield one.x + at[0], one.y + at[1], one.title
        for _, plot in world.each(PLOTS):
            if (at := own.get(world.of_tract(plot.tract))) is not None:
                x, y = (sum(one[k] for one in plot.points) / len(plot.points) + at[k] for k in (0, 1))
                yield x, y, plot.name


def _atlas(seen: tuple[OpenWorld, Land], scale: float, paper: str) -> Atlas:
    """Raises InvalidInput for a scale that would need too many sheets."""
    world, land = seen
    grid = land.grid
    frames = frames_of((grid.west, grid.south, grid.east, grid.north), scale, paper)
    if len(frames) > MOST_SHEETS:
        raise InvalidInput(f"at this scale it would be {len(frames)} sheets; at most {MOST_SHEETS} are made", "scale")
    return Atlas(world, land, scale, frames)


@router.get("/sheet.svg", response_class=Response)
def sheet(
    seen: TheLand, scale: Scale = 5_000, paper: Paper = "A4", page: Annotated[int, Query(ge=1, le=MOST_SHEETS)] = 1,
) -> Response:  # fmt: skip
    """The plan of a tract as SVG at 1 : `scale`, with grid, scale bar, north, legend and names. A large land has
    several sheets: the header X-Pages says how many, from the north-west."""
    atlas = _atlas(seen, scale, paper)
    if page > len(atlas.frames):
        raise InvalidInput(f"there are {len(atlas.frames)} sheets at this scale, not {page}", "page")
    body = svg_of(atlas.sheet(atlas.frames[page - 1]))
    return Response(body, media_type="image/svg+xml", headers={"X-Pages": str(len(atlas.frames))})


@router.get("/sheet.pdf", response_class=Response)
def sheets(seen: TheLand, scale: Scale = 5_000, paper: Paper = "A4") -> Response:
    """The same as PDF: all sheets, a page each, from the north-west."""
    atlas = _atlas(seen, scale, paper)
    body = pdf_of((atlas.sheet(frame) for frame in atlas.frames), atlas.title)
    return Response(body, media_type="application/pdf")
