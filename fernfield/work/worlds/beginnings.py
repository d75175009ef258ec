"""What a new world begins on, and what it will cost: the next beginning is a class here and a line in `Begin`."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.ground.boundary import Boundary, bounded, inner_of
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.work.ground.making import heights_at
from fernfield.work.ground.rows import Recipe
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Elevation, Name, Spacing
from fernfield.work.kernel.says import UNASKED, Say

Ground = Callable[[Window], FloatArray]
"""Heights of a window of posts. [m]"""

HEIGHT_BYTES = 4
DISK_BYTES = 2.3
"""What a post of rolling land takes on the disk (shuffled and packed float32; measured on the demo world)."""

SKETCH_SIDE = 320


class Plain(Command):
    """Level ground at the world's elevation."""

    ground: Literal["plain"] = "plain"


class SeaFloor(Command):
    """Level ground so far under the sea, to raise an island from. [m]"""

    ground: Literal["sea_floor"] = "sea_floor"
    depth_m: Annotated[float, Field(gt=0, le=6_000), Say("Floor under the sea", "m")] = 500.0


class Rim(Command):
    """Level ground with a rim along its edge that nobody climbs."""

    ground: Literal["rim"] = "rim"
    width_m: Annotated[float, Field(gt=0, le=5_000), Say("Width of the rim", "m")] = 60.0
    steep_deg: Annotated[float, Field(ge=46, le=80), Say("Steepness of its face", "°")] = 55.0


class Seed(Command):
    """Land from a recipe, in a sheet of its own; the job that makes it starts at once."""

    ground: Literal["seed"] = "seed"
    recipe: Recipe


Begin = Annotated[Plain | SeaFloor | Rim | Seed, Field(discriminator="ground")]


class WorldSpec(Command):
    """A new world: its extent, spacing, and the ground that it begins on. 256 m at 1 m are 257 posts."""

    name: Name
    description: Annotated[str, Field(max_length=2000), Say("Description", long=True)] = ""
    spacing_m: Annotated[Spacing, Say("Spacing of the posts", "m")]
    width_m: Annotated[float, Field(gt=0, le=200_000), Say("Width, west to east", "m")]
    depth_m: Annotated[float, Field(gt=0, le=200_000), Say("Depth, south to north", "m")]
    sea_level_m: Annotated[Elevation, Say("Sea level", "m")] = 0.0
    elevation_m: Annotated[Elevation, Say("Elevation of the ground", "m")] = 10.0
    begin: Annotated[Begin, UNASKED] = Plain()

    @model_validator(mode="after")
    def _recipe_has_no_plot(self) -> WorldSpec:
        if isinstance(self.begin, Seed) and (
            self.begin.recipe.plot or self.begin.recipe.box or self.begin.recipe.outline
        ):
            raise InvalidInput("a new world is made whole: leave plot and box out", "begin.recipe.plot")
        return self

    @property
    def grid(self) -> Grid:
        """Raises GridError for an extent that is no whole number of spacings, or too many posts."""
        return Grid.from_extent(self.width_m, self.depth_m, self.spacing_m)

    @property
    def base_m(self) -> float:
        """The elevation of ground that nothing was done to."""
        return self.sea_level_m - self.begin.depth_m if isinstance(self.begin, SeaFloor) else self.elevation_m


def ground_of(spec: WorldSpec) -> Ground | None:
    """Heights that a world begins with; None where they are the base everywhere. Raises InvalidInput."""
    if not isinstance(spec.begin, Rim):
        return None
    grid, rim = spec.grid, spec.begin
    boundary = Boundary("rim", rim.width_m, rim.steep_deg)
    boundary.fits(grid)
    base = np.float32(spec.base_m)
    return lambda window: edge_of(grid, boundary, window, lambda _rows, _cols: np.full(window.shape, base))


def edge_of(
    grid: Grid, boundary: Boundary, window: Window, foot: Callable[[np.ndarray, np.ndarray], FloatArray]
) -> FloatArray:
    """Heights of a window with a boundary; `foot` gives the ground at rows and columns of the inner land. [m]"""
    rows, cols = np.meshgrid(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1), indexing="ij")
    inner_rows, inner_cols = inner_of(grid, boundary, rows, cols)
    away = np.hypot(rows - inner_rows, cols - inner_cols) * grid.spacing
    found = foot(inner_rows, inner_cols)
    x, y = cols * grid.spacing, (grid.rows - 1 - rows) * grid.spacing
    return np.where(away > 0, bounded(found, x, y, away, boundary), found).astype(np.float32)


# What it will be like


class Costs(TypedDict):
    """What a grid of posts costs and can hold: seconds are those of a walker, `smallest_m` the smallest feature."""

    rows: int
    cols: int
    posts: int
    memory_bytes: int
    disk_bytes: int
    cross_s: float
    corner_s: float
    smallest_m: float
    powers_of_two: bool


def costs(grid: Grid) -> Costs:
    """What a grid of posts costs and can hold, in figures and words."""
    posts, gait = grid.rows * grid.cols, WALKERS[WALKER]
    return {
        "rows": grid.rows,
        "cols": grid.cols,
        "posts": posts,
        "memory_bytes": posts * HEIGHT_BYTES,
        "disk_bytes": round(posts * DISK_BYTES),
        "cross_s": max(grid.width, grid.depth) / gait.walk,
        "corner_s": math.hypot(grid.width, grid.depth) / gait.walk,
        # Two posts for the top and two for the foot on either side: the sampling theorem's half wave. (Shannon 1949)
        "smallest_m": 2 * grid.spacing,
        "powers_of_two": all((n - 1) & (n - 2) == 0 for n in (grid.rows, grid.cols)),
    }


def sketch(spec: WorldSpec) -> tuple[FloatArray, float]:
    """The ground that a world would begin on, coarse, and the spacing of its posts. [m]"""
    grid = spec.grid
    step = max(1, math.ceil(max(grid.rows, grid.cols) / SKETCH_SIDE))
    rows, cols = max(2, (grid.rows - 1) // step + 1), max(2, (grid.cols - 1) // step + 1)
    coarse = Grid(rows, cols, grid.spacing * step)
    if isinstance(spec.begin, Seed):
        x, y = np.meshgrid(np.arange(cols) * coarse.spacing, (rows - 1 - np.arange(rows)) * coarse.spacing)
        reach = max(min(coarse.width, coarse.depth) / 2, coarse.spacing)
        return heights_at(spec.begin.recipe, x, y, (coarse.width / 2, coarse.depth / 2), reach), coarse.spacing
    base = np.float32(spec.base_m)
    if isinstance(spec.begin, Rim):
        boundary = Boundary("rim", spec.begin.width_m, spec.begin.steep_deg)
        boundary.fits(grid)
        return edge_of(coarse, boundary, coarse.window, lambda r, _c: np.full(r.shape, base)), coarse.spacing
    return np.full((rows, cols), base, np.float32), coarse.spacing
