"""The Ground stage."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np

from fernfield.core.brush.tool import HEIGHT
from fernfield.core.checks.finding import Finding, Lopsided
from fernfield.core.checks.ground import lopsided
from fernfield.core.drawing.overlays import OVERLAYS
from fernfield.core.grid import Window
from fernfield.core.ground.openings import HOLE, OPENING
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.travel.walker import Obstacle
from fernfield.work.ground.making import make_land
from fernfield.work.ground.packing import HEIGHTS_PART, OPENINGS_PART
from fernfield.work.ground.rows import LEVELS, LIMITS, RECIPES, SHEETS
from fernfield.work.ground.sheeting import SHEET, UNDER, ApartInSheets, may_go_into, settle_into
from fernfield.work.ground.symmetric import check_symmetry
from fernfield.work.ground.weathering import weather
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.jobs import JobKind
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import Layer
from fernfield.work.kernel.rooms import Laid, Room
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY

WEATHER = JobKind("weather", "Weathering", weather)
MAKE_LAND = JobKind("make land", "Making land", make_land, card="ground/job_make_land.html")

FLOAT = np.dtype(np.float32)


def _bounds(world: OpenWorld) -> tuple[float, float]:
    limits = world.only(LIMITS)
    return limits.lowest_m, limits.highest_m


def _fair(world: OpenWorld) -> Iterable[Finding]:
    """Whether the first tract is as symmetrical as the world is meant to be."""
    if world.only(SYMMETRY).kind == "off":
        return ()
    tract = world.first_tract
    found = check_symmetry(world, tract)
    return lopsided(Lopsided(found["x"], found["y"], found["largest_m"], tract.row.id))


def _opening_obstacles(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """Open posts: nobody walks over a hole."""
    grid = land.grid
    if land.blank(OPENING, window):
        return
    holes = land.read(OPENING, window) >= HOLE
    heights = land.read(HEIGHT, window)
    for row, col in zip(*holes.nonzero(), strict=True):
        ground = float(heights[row, col])
        x, y = grid.x_of(window.col0 + int(col)), grid.y_of(window.row0 + int(row))
        yield Obstacle("an opening", x, y, grid.spacing * 0.6, ground - 2, ground + 2)


ROOM = Room(
    "ground",
    collections=(SHEETS, LEVELS, LIMITS, RECIPES),
    layers=(
        Layer(
            HEIGHT,
            FLOAT,
            None,
            seen=HEIGHT,
            bounds=_bounds,
            check=may_go_into,
            settle=settle_into,
            apart=ApartInSheets(),
            rests_on=(SHEETS.name, LIMITS.name),
        ),
        Layer(UNDER, np.dtype(np.uint32)),
        Layer(SHEET, FLOAT),
        Layer(OPENING, seen=OPENING, gathers=False, touched=lambda world, tool, subject: [(OPENING, tool.sign)]),
    ),
    tools=tuple(GROUND_TOOLS.values()),
    overlays=tuple(Laid(one) for one in OVERLAYS.values()),
    checks=(Check("symmetry", _fair, Reads((SYMMETRY.name,), (HEIGHT,))),),
    parts=(HEIGHTS_PART, OPENINGS_PART),
    obstacles=_opening_obstacles,
)
