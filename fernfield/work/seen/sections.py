"""The section: the ground along a line, as it was before the last edit, and the water over it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import NotRequired

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window, bilinear_many
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.rows import Tide, sea_level, tide_level

LONGEST_M = 40_000.0


class _Profile(TypedDict):
    """The ground along a line, `step_m` apart; `before` the last edit, None where it was the same; the surface of the
    water, None where it is dry. [m]"""

    step_m: float
    ground: list[float]
    before: list[float] | None
    sea_level_m: float
    water: list[float | None]


class Section(_Profile):
    """A profile from west to east, from x0 on, through the northing y."""

    y: float
    x0: float


class Between(TypedDict):
    """What lies between two marks on a line: how far it is level, up and over the ground, and how steep. [m]"""

    from_m: float
    to_m: float
    run_m: float
    rise_m: float
    slope_deg: float
    slope_percent: float
    ground_length_m: float


class LineSection(_Profile):
    """A profile along a line of points."""

    points: list[list[float]]
    length_m: float
    between: NotRequired[Between]


def section(
    world: OpenWorld, land: Land, y: float, x0: float, x1: float, most: int = 400, tide: Tide | None = None
) -> Section:
    """The ground from west to east through the northing `y`, and as it was before the last edit; the sea as at a tide.
    [m]"""
    grid, bounds = land.grid, land.bounds
    row = min(max(round(grid.row_of(y)), bounds.row0), bounds.row1 - 1)
    first = min(max(math.floor(grid.col_of(x0)), bounds.col0), bounds.col1 - 2)
    last = min(max(math.ceil(grid.col_of(x1)) + 1, first + 2), bounds.col1)
    step = max(1, (last - first) // most)
    window = Window(row, first, row + 1, last)
    with world.lock:
        ground = land.read(HEIGHT, window)[0, ::step]
        before = world.ground_before(land, window)[0, ::step]
        water = world.surface(land, window, sea_m=tide_level(world, tide))[0, ::step]
    return {
        "y": grid.y_of(row),
        "x0": grid.x_of(first),
        "step_m": grid.spacing * step,
        "ground": [round(float(v), 3) for v in ground],
        "before": None if np.array_equal(ground, before) else [round(float(v), 3) for v in before],
        "sea_level_m": _sea(world, land, ground, tide),
        "water": _over(water, ground),
    }


def _over(water: FloatArray, ground: FloatArray) -> list[float | None]:
    """The surface of the water along a line, None where it is dry. [m]"""
    return [round(float(w), 3) if w > g else None for w, g in zip(water, ground, strict=True)]


def _sea(world: OpenWorld, land: Land, ground: FloatArray, tide: Tide | None) -> float:
    """The sea level to draw in a section; where a tract is dry, the foot of the picture. [m]"""
    if world.place_of(land.id).kind != "open":
        return float(ground.min())
    level = tide_level(world, tide)
    return sea_level(world) if level is None else level


def line_section(
    world: OpenWorld,
    land: Land,
    points: Sequence[tuple[float, float]],
    marks: tuple[float, float] | None = None,
    most: int = 400,
    tide: Tide | None = None,
) -> LineSection:
    """The ground along a line of points [m], and between two marks on it (distances from its beginning); the sea as at
    a tide.

    Raises InvalidInput when the line has no length, is too long or leaves the land.
    """
    grid = land.grid
    for x, y in points:
        if not land.holds(x, y):
            raise InvalidInput(
                f"the line must lie in the land ({_extent(land)}), not at {x:g}, {y:g}",
                "points",
            )
    lengths = [math.hypot(bx - ax, by - ay) for (ax, ay), (bx, by) in itertools.pairwise(points)]
    whole = sum(lengths)
    if not 0 < whole <= LONGEST_M:
        raise InvalidInput(f"the line must be above 0 and up to {LONGEST_M:g} m long, not {whole:g}", "points")
    step = max(grid.spacing / 2, whole / most)
    away = np.linspace(0, whole, max(2, math.ceil(whole / step) + 1))
    ends = np.concatenate([[0.0], np.cumsum(lengths)])
    xs = np.interp(away, ends, [x for x, _ in points])
    ys = np.interp(away, ends, [y for _, y in points])
    with world.lock:
        ground = _along(world, land, xs, ys, before=False)
        was = _along(world, land, xs, ys, before=True)
        water = _water_along(world, land, xs, ys, tide_level(world, tide))
    found: LineSection = {
        "points": [list(point) for point in points],
        "length_m": whole,
        "step_m": float(away[1]),
        "ground": [round(float(v), 3) for v in ground],
        "before": None if np.array_equal(ground, was) else [round(float(v), 3) for v in was],
        "sea_level_m": _sea(world, land, ground, tide),
        "water": _over(water, ground),
    }
    if marks is not None:
        a, b = sorted(min(max(mark, 0.0), whole) for mark in marks)
        za, zb = (float(np.interp(mark, away, ground)) for mark in (a, b))
        run = b - a
        found["between"] = {
            "from_m": a,
            "to_m": b,
            "run_m": run,
            "rise_m": zb - za,
            "slope_deg": math.degrees(math.atan2(zb - za, run)) if run > 0 else 0.0,
            "slope_percent": (zb - za) / run * 100 if run > 0 else 0.0,
            "ground_length_m": _over_ground(away, ground, a, b),
        }
    return found


def _extent(land: Land) -> str:
    grid, bounds = land.grid, land.bounds
    west, east = grid.x_of(bounds.col0), grid.x_of(bounds.col1 - 1)
    return f"{west:g} to {east:g}, {grid.y_of(bounds.row1 - 1):g} to {grid.y_of(bounds.row0):g}"


def _over_ground(away: np.ndarray, ground: FloatArray, a: float, b: float) -> float:
    """How far it is over the ground between two marks, up and down. [m]"""
    inner = away[(away > a) & (away < b)]
    at = np.concatenate([[a], inner, [b]])
    z = np.interp(at, away, ground)
    return float(np.hypot(np.diff(at), np.diff(z)).sum())


def _along(world: OpenWorld, land: Land, xs: np.ndarray, ys: np.ndarray, *, before: bool) -> FloatArray:
    """Elevations between the posts, reading tile by tile what lies under the line."""
    grid, bounds = land.grid, land.bounds
    rows = np.clip(grid.row_of(ys), bounds.row0, bounds.row1 - 1)
    cols = np.clip(grid.col_of(xs), bounds.col0, bounds.col1 - 1)
    out = np.empty(len(xs), np.float32)
    # Runs of the line that lie near each other are read together, so that a long line reads no whole tract.
    for first in range(0, len(xs), 64):
        part = slice(first, first + 64)
        r, c = rows[part], cols[part]
        window = land.clip(
            Window(math.floor(r.min()), math.floor(c.min()), math.floor(r.max()) + 2, math.floor(c.max()) + 2)
        )
        values = world.ground_before(land, window) if before else land.read(HEIGHT, window)
        out[part] = bilinear_many(values, r - window.row0, c - window.col0)
    return out


def _water_along(world: OpenWorld, land: Land, xs: np.ndarray, ys: np.ndarray, sea_m: float | None) -> FloatArray:
    """The surface of the water at the posts nearest to places."""
    grid, bounds = land.grid, land.bounds
    rows = np.clip(np.rint(grid.row_of(ys)).astype(int), bounds.row0, bounds.row1 - 1)
    cols = np.clip(np.rint(grid.col_of(xs)).astype(int), bounds.col0, bounds.col1 - 1)
    out = np.empty(len(xs), np.float32)
    for first in range(0, len(xs), 64):
        part = slice(first, first + 64)
        r, c = rows[part], cols[part]
        window = Window(int(r.min()), int(c.min()), int(r.max()) + 1, int(c.max()) + 1)
        out[part] = world.surface(land, window, sea_m=sea_m)[r - window.row0, c - window.col0]
    return out
