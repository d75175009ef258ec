"""The area in the hand: the one way to say *where*, in every stage."""

from __future__ import annotations

import math
from typing import Annotated, Any, TypeVar

import numpy as np
from pydantic import BaseModel, Field, model_validator

from fernfield.core.brush.keep import inside
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Coordinate, Key, Spot
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.outlines import check_outline
from fernfield.work.plots.rows import PLOTS, Line, Plot, check_box

Box = tuple[Coordinate, Coordinate, Coordinate, Coordinate]
Feather = Annotated[float, Field(ge=0, le=500), Say("Soft edge", "m")]

WAYS = ("plot", "box", "outline", "cover")
"""The fields that say where; the whole tract when none is said."""


class Area(Command):
    """A part of a tract: a plot, a rectangle x0, y0, x1, y1, an outline [m], or what a cover covers; the whole tract
    when none of them is said."""

    plot: Annotated[Key | None, UNASKED] = None
    box: Annotated[Box | None, UNASKED] = None
    outline: Annotated[tuple[Spot, ...] | None, Field(min_length=3, max_length=2000), UNASKED] = None
    cover: Annotated[Key | None, UNASKED] = None
    feather_m: Feather = 0.0

    @model_validator(mode="after")
    def _one_of_them(self) -> Area:
        said = [name for name in WAYS if getattr(self, name) is not None]
        if len(said) > 1:
            words = "a box" if said[1] == "box" else f"an outline or {said[0]}"
            raise InvalidInput(f"an area is a plot or {words}, not both", said[1])
        check_box(self.box)
        if self.outline is not None:
            check_outline(self.outline, "outline")
        return self

    @property
    def whole(self) -> bool:
        return all(getattr(self, name) is None for name in WAYS)


class InArea(Command):
    """Where something is done: a plot, a box, an outline, what a cover covers, or the whole tract when none is said."""

    plot: Annotated[Key | None, UNASKED] = None
    box: Annotated[Box | None, UNASKED] = None
    outline: Annotated[tuple[Spot, ...] | None, Field(min_length=3, max_length=2000), UNASKED] = None
    covered_by: Annotated[Key | None, UNASKED] = None
    feather_m: Feather = 0.0

    @property
    def area(self) -> Area:
        return Area(
            plot=self.plot, box=self.box, outline=self.outline, cover=self.covered_by, feather_m=self.feather_m
        )  # fmt: skip

    @model_validator(mode="after")
    def _is_an_area(self) -> InArea:
        _ = self.area
        return self


def corners_of(world: OpenWorld, land: Land, area: Area) -> list[tuple[float, float]] | None:
    """The polygon of an area in the land's metres; None for the whole tract, and for what a cover covers."""
    if area.plot is not None:
        return plot_corners(world, land, world.row(PLOTS, area.plot))
    if area.outline is not None:
        return list(area.outline)
    if area.box is not None:
        x0, y0, x1, y1 = area.box
        return [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
    return None


def plot_corners(world: OpenWorld, land: Land, plot: Plot | Line) -> list[tuple[float, float]]:
    """The corners of a plot or line, whichever tract it lies in, in the land's metres."""
    place = world.place_of(world.of_tract(plot.tract))
    east, north = place.x - land.origin[0], place.y - land.origin[1]
    return [(x + east, y + north) for x, y in plot.points]


C = TypeVar("C", bound=BaseModel)


def said_in_world(world: OpenWorld, tract: Tract, said: C) -> tuple[Tract, C]:
    """An area, or a recipe with one, said in the world's metres: the tract that it is worked from, and the same in that
    tract's metres. It is the tract that is named, unless the area lies on ground that is not joined to it."""
    own = tract.row.id
    box, outline, plot = (getattr(said, name, None) for name in ("box", "outline", "plot"))
    to: str | None = None
    if plot is not None:
        to = world.of_tract(world.row(PLOTS, plot).tract)
    elif box is not None or outline is not None:
        spots = [box[:2], box[2:]] if box is not None else list(outline or ())
        part = world.country(own).part_at(sum(x for x, _ in spots) / len(spots), sum(y for _, y in spots) / len(spots))
        to = None if part is None else part.tract.row.id
    if to is not None and to not in world.land(own).tract_ids:
        tract = world.tract(to)
    place = world.place_of(tract.row.id)
    less: dict[str, Any] = {}
    if box is not None:
        less["box"] = (box[0] - place.x, box[1] - place.y, box[2] - place.x, box[3] - place.y)
    if outline is not None:
        less["outline"] = tuple((x - place.x, y - place.y) for x, y in outline)
    if "x" in type(said).model_fields:
        less |= {"x": getattr(said, "x") - place.x, "y": getattr(said, "y") - place.y}  # noqa: B009 (any with a place)
    return tract, said.model_copy(update=less)


def window_of(world: OpenWorld, land: Land, area: Area) -> Window:
    """The posts of an area: as far as the land reaches, or all of the tract that it is seen from. Raises InvalidInput
    when it holds none."""
    corners, grid = corners_of(world, land, area), land.grid
    if corners is None:
        return grid.window
    xs, ys = [x for x, _ in corners], [y for _, y in corners]
    window = land.clip(
        Window(
            math.floor(grid.row_of(max(ys))),
            math.floor(grid.col_of(min(xs))),
            math.ceil(grid.row_of(min(ys))) + 1,
            math.ceil(grid.col_of(max(xs))) + 1,
        )
    )
    if window.empty:
        words = f"the area must reach into the tract (0 to {grid.width:g}, 0 to {grid.depth:g})"
        raise InvalidInput(words, next((name for name in WAYS if getattr(area, name) is not None), "box"))
    return window


def share_of(world: OpenWorld, land: Land, area: Area, part: Window, feather_m: float) -> FloatArray:
    """How much of each post of `part` belongs to an area, 0 to 1."""
    if area.cover is not None:
        return world.house.given.takes_up(world, land, area.cover, part)
    corners = corners_of(world, land, area)
    if corners is None:
        return np.ones(part.shape, np.float32)
    # A hair outwards, so that posts on the edge of a box belong to it.
    grid = land.grid
    outline = np.array([(grid.row_of(y), grid.col_of(x)) for x, y in corners], np.float64)
    middle = outline.mean(axis=0)
    outline = middle + (outline - middle) * (1 + 1e-9)
    return inside([outline], part.shape, part.row0, part.col0, feather_m / grid.spacing)


def mixed(was: FloatArray, new: FloatArray, share: FloatArray) -> FloatArray:
    """`new` by its share; where that is whole, to the last bit."""
    return np.where(share >= 1, new, was + (new - was) * share).astype(np.float32)


def area_words(world: OpenWorld, area: Area) -> str:
    if area.plot is not None:
        return f"the plot {world.row(PLOTS, area.plot).name}"
    if area.box is not None:
        return f"{area.box[2] - area.box[0]:.0f} by {area.box[3] - area.box[1]:.0f} m"
    if area.outline is not None:
        return "the drawn outline"
    return f"what {area.cover} covers" if area.cover is not None else "the whole tract"
