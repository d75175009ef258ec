"""What a world shows: pictures of the plan, plants, the section, the levels, and the spot."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np

from fernfield.core.cover.shares import OpacityArray, SlopeRule, compose_colours, compose_shares, rule_opacity
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan, draw_stamps
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray, Grid, Window, bilinear
from fernfield.core.ground.keep import inside
from fernfield.core.growth.scatter import HECTARE_M2, Habit, Plants, kind_seed, scatter
from fernfield.core.light.relief import aspect_degrees, gradients, slope_degrees
from fernfield.core.light.shadow import casters, reach_posts, shaded_by, sunlit
from fernfield.work.entries import Kind, Mix
from fernfield.work.layers import HEIGHT, TileCache
from fernfield.work.overlaid import lay_over
from fernfield.work.show import Show
from fernfield.work.world import OpenWorld, Tract

FINEST_LEVEL = -2
COARSEST_LEVEL = 7
SINGLE_PLANTS_TO_LEVEL = 3
NEAR_M = 10.0
UNDER_WATER_M = 3.0
"""Shadows are followed this far under the sea; below, the water's own colour hides them."""


def plan_pixels(world: OpenWorld, tract: Tract, level: int, part: Window, show: Show) -> ByteArray:
    """The plan of `part`, in pixels of `level`: RGBA of the part's shape.

    A pixel of level n stands at every 2**n-th post (below 0: 2**-n pixels to a post);
    pixel (0, 0) is on post (0, 0). Reading holds the world's lock, drawing does not.
    """
    if not FINEST_LEVEL <= level <= COARSEST_LEVEL:
        raise InvalidInput(f"level must be {FINEST_LEVEL} to {COARSEST_LEVEL}, not {level}", "level")
    fine = max(1, 2**-level) if level < 0 else 1
    step = 2**level if level > 0 else 1
    light, sea = world.light, world.sea_of(tract.row.id)
    # The posts that the picture is drawn from: one beyond the part, two where it is refined.
    halo = 2 if fine > 1 else 1
    posts = Window(
        (part.row0 // fine - halo) * step,
        (part.col0 // fine - halo) * step,
        (-(-part.row1 // fine) + halo) * step,
        (-(-part.col1 // fine) + halo) * step,
    )
    with world.lock:
        heights = tract.cache.read(HEIGHT, posts, step)
        lit = _lit(tract, posts, step, light.sun_bearing_deg, light.sun_height_deg) if show.shadows else None
        covers = _covers(world, tract, posts, step, heights)
        colours = [colour_of(cover.colour) for _, cover in world.covers()]
        stamps = _stamps(world, tract, level, part) if show.growth and level <= SINGLE_PLANTS_TO_LEVEL else []
        tints = _growth_tints(world, tract, posts, step) if show.growth and level > SINGLE_PLANTS_TO_LEVEL else []
    ground = compose_colours(*covers, colours, heights.shape)
    for tint, colour in tints:
        ground += tint * (np.asarray(colour, np.float32)[:, None, None] - ground)
    if lit is None:
        lit = np.full(heights.shape, 255, np.uint8)
    inner = slice(halo, -halo), slice(halo, -halo)
    if fine == 1:
        drawn = heights
        ground, lit = ground[:, inner[0], inner[1]], lit[inner]
    else:
        offset = part.row0 - (part.row0 // fine) * fine, part.col0 - (part.col0 // fine) * fine
        drawn = _refined(
            heights, fine, halo, (offset[0] - 1, offset[1] - 1), (part.rows + 2, part.cols + 2), cv2.INTER_CUBIC
        )
        lit = _refined(lit, fine, halo, offset, part.shape, cv2.INTER_LINEAR)
        ground = np.stack([_refined(g, fine, halo, offset, part.shape, cv2.INTER_LINEAR) for g in ground])
    look = PlanLook(light.sun_bearing_deg, light.sun_height_deg, sea if show.water else None, show.contour_m)
    picture = draw_plan(
        drawn,
        tract.grid.spacing * step / fine,
        ground[:, : part.rows, : part.cols],
        lit[: part.rows, : part.cols],
        look,
        (),
        (part.row0, part.col0),
    )
    # Overlays say something of the ground: growth stands over them.
    lay_over(world, tract, level, part, show, drawn, picture)
    draw_stamps(picture, stamps, light.sun_bearing_deg)
    return picture


def _refined(values: Any, fine: int, halo: int, offset: tuple[int, int], shape: tuple[int, int], how: int) -> Any:
    """`values` with `fine` pixels to a post; pixel (0, 0) is `offset` pixels past post (halo, halo)."""
    matrix = np.array([[1 / fine, 0, halo + offset[1] / fine], [0, 1 / fine, halo + offset[0] / fine]], np.float64)
    return cv2.warpAffine(
        np.ascontiguousarray(values),
        matrix,
        (shape[1], shape[0]),
        flags=how | cv2.WARP_INVERSE_MAP,
        borderMode=cv2.BORDER_REPLICATE,
    )


def _lit(tract: Tract, posts: Window, step: int, bearing: float, height: float) -> ByteArray:
    cache = tract.cache
    low, _ = cache.height_range(posts)
    _, high = cache.all_heights()
    reach = reach_posts(high - low, tract.grid.spacing, height)
    wide = casters(posts, bearing, reach)
    # Beyond the tract nothing throws a shadow; keep to the steps of `posts`.
    clip = tract.grid.window
    up = max(0, min(posts.row0 - wide.row0, posts.row0 - clip.row0) // step)
    left = max(0, min(posts.col0 - wide.col0, posts.col0 - clip.col0) // step)
    down = max(0, min(wide.row1 - posts.row1, clip.row1 - posts.row1) // step)
    right = max(0, min(wide.col1 - posts.col1, clip.col1 - posts.col1) // step)
    wide = posts.grow(up * step, left * step, down * step, right * step)
    heights = cache.read(HEIGHT, wide, step)
    origin = wide.row0 // step, wide.col0 // step
    lit = sunlit(heights, tract.grid.spacing * step, bearing, height, origin=origin)
    rows, cols = -(-posts.rows // step), -(-posts.cols // step)
    return lit[up : up + rows, left : left + cols]


def shadow_window(world: OpenWorld, tract: Tract, window: Window) -> Window:
    """`window` and every post whose light may change when the ground in it does.

    The heights of the tiles that it touches, now and since their last commit, bound how
    high the ground in it is or was; under the sea's surface no shadow is looked for.
    """
    light, cache = world.light, tract.cache
    window = tract.grid.clip(window)
    with world.lock:
        _, high = cache.height_range(window)
        low, _ = cache.all_heights()
        shaded = window
        # The lowest ground that a shadow can fall on bounds its length; that ground is nearer then.
        for _ in range(3):
            low = max(low, world.sea_of(tract.row.id) - UNDER_WATER_M)
            reach = reach_posts(high - low, tract.grid.spacing, light.sun_height_deg)
            shaded = tract.grid.clip(shaded_by(window, light.sun_bearing_deg, reach))
            low, _ = cache.height_range(shaded)
    return shaded


Painted = list[OpacityArray | None]
Ruled = list[FloatArray | None]


def _covers(world: OpenWorld, tract: Tract, posts: Window, step: int, heights: FloatArray) -> tuple[Painted, Ruled]:
    """What is painted and what the rules say of every cover above the base; None where there is nothing."""
    slope = None
    painted: Painted = []
    ruled: Ruled = []
    for key, cover in world.covers()[1:]:
        layer = f"cover:{key}"
        painted.append(None if tract.cache.blank(layer, posts) else tract.cache.read(layer, posts, step))
        if cover.rule is None:
            ruled.append(None)
            continue
        if slope is None:
            slope = slope_degrees(heights, tract.grid.spacing * step)
        ruled.append(rule_opacity(slope, SlopeRule(cover.rule.above_deg, cover.rule.blend_deg)))
    return painted, ruled


def colour_of(text: str) -> tuple[int, int, int]:
    """ "#rrggbb" as three numbers of 0-255."""
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)


def cover_shares(world: OpenWorld, tract: Tract, window: Window) -> FloatArray:
    """Share of every cover at every post of `window`, base first: (covers, rows, cols), adding up to 1."""
    with world.lock:
        wide = tract.grid.clip(window.pad(1))
        heights = tract.cache.read(HEIGHT, wide)
        shares = compose_shares(*_covers(world, tract, wide, 1, heights), heights.shape)
    rows, cols = window.inside(wide)
    return shares[:, rows, cols]


# Growth


def _kinds(world: OpenWorld) -> list[tuple[str, Mix, int, Kind]]:
    return [(key, mix, number, kind) for key, mix in world.mixes() for number, kind in enumerate(mix.kinds)]


def _plants(cache: TileCache, grid: Grid, key: str, mix: Mix, number: int, kind: Kind, part: Window) -> Plants | None:
    layer = f"growth:{key}"
    wide = grid.clip(part.pad(1))
    if wide.empty or cache.blank(layer, wide):
        return None
    mask = cache.read(layer, wide)
    habit = Habit(kind.density_per_ha, kind.size_min, kind.size_max)
    plants = scatter(mask, wide, grid, grid.clip(part), habit, kind_seed(mix.seed, number))
    return plants if len(plants) else None


def _stamps(world: OpenWorld, tract: Tract, level: int, part: Window) -> list[Stamp]:
    scale = 2.0**level
    stamps = []
    for key, mix, number, kind in _kinds(world):
        reach = math.ceil(kind.crown_m * kind.size_max * 2 / tract.grid.spacing) + 1
        posts = Window(
            math.floor(part.row0 * scale) - reach,
            math.floor(part.col0 * scale) - reach,
            math.ceil(part.row1 * scale) + reach,
            math.ceil(part.col1 * scale) + reach,
        )
        plants = _plants(tract.cache, tract.grid, key, mix, number, kind, posts)
        if plants is None:
            continue
        cols = plants.x / tract.grid.spacing
        rows = (tract.grid.rows - 1) - plants.y / tract.grid.spacing
        stamps.append(
            Stamp(
                (cols / scale - part.col0).astype(np.float32),
                (rows / scale - part.row0).astype(np.float32),
                (plants.size * kind.crown_m / (tract.grid.spacing * scale)).astype(np.float32),
                colour_of(kind.colour),
            )
        )
    # Low things first, so that trees stand over stones.
    return stamps[::-1]


def _growth_tints(
    world: OpenWorld, tract: Tract, posts: Window, step: int
) -> list[tuple[FloatArray, tuple[int, int, int]]]:
    """From far away growth is a tint: for each kind the part of the ground that its crowns hide, and its colour."""
    tints = []
    for key, _mix, _number, kind in _kinds(world):
        layer = f"growth:{key}"
        if tract.cache.blank(layer, posts):
            continue
        size = (kind.size_min + kind.size_max) / 2 * kind.crown_m
        hidden = 1 - math.exp(-kind.density_per_ha / HECTARE_M2 * math.pi * size * size)
        tint: FloatArray = np.multiply(tract.cache.read(layer, posts, step), hidden / 65_535, dtype=np.float32)
        tints.append((tint, colour_of(kind.colour)))
    return tints


@dataclass(frozen=True, slots=True)
class StandingPlants:
    """Plants of one kind with their feet on the ground: z [m], and the way "up" leans, east and north."""

    mix: str
    kind: Kind
    plants: Plants
    z: FloatArray
    lean_east: FloatArray
    lean_north: FloatArray


def standing_plants(world: OpenWorld, tract: Tract, part: Window) -> list[StandingPlants]:
    """The plants on the cells of `part`, standing on the ground as it is now.

    Upright kinds lean nowhere; for leaning ones `lean_east` and `lean_north` are the
    horizontal parts of the ground's unit normal.
    """
    found = []
    part = tract.grid.clip(part)
    if part.empty:
        return []
    with world.lock:
        wide = tract.grid.clip(part.pad(2))
        heights: FloatArray | None = None
        for key, mix, number, kind in _kinds(world):
            plants = _plants(tract.cache, tract.grid, key, mix, number, kind, part)
            if plants is None:
                continue
            if heights is None:
                heights = tract.cache.read(HEIGHT, wide)
            rows = (tract.grid.rows - 1 - plants.y / tract.grid.spacing) - wide.row0
            cols = plants.x / tract.grid.spacing - wide.col0
            z = _bilinear_many(heights, rows, cols)
            lean_east = lean_north = np.zeros(len(plants), np.float32)
            if kind.habit == "leaning":
                east, north = gradients(heights, tract.grid.spacing)
                p, q = _bilinear_many(east, rows, cols), _bilinear_many(north, rows, cols)
                length = np.sqrt(1 + p * p + q * q)
                lean_east, lean_north = (-p / length).astype(np.float32), (-q / length).astype(np.float32)
            found.append(StandingPlants(key, kind, plants, z, lean_east, lean_north))
    return found


def _bilinear_many(values: FloatArray, rows: Any, cols: Any) -> FloatArray:
    r = np.clip(rows, 0, values.shape[0] - 1)
    c = np.clip(cols, 0, values.shape[1] - 1)
    r0 = np.minimum(r.astype(int), values.shape[0] - 2)
    c0 = np.minimum(c.astype(int), values.shape[1] - 2)
    fr, fc = r - r0, c - c0
    top = values[r0, c0] * (1 - fc) + values[r0, c0 + 1] * fc
    low = values[r0 + 1, c0] * (1 - fc) + values[r0 + 1, c0 + 1] * fc
    return (top * (1 - fr) + low * fr).astype(np.float32)


# Single places and lines


def elevation_at(tract: Tract, x: float, y: float) -> float:
    """Elevation of the ground at (x, y), between the posts. [m]"""
    row, col = tract.grid.row_of(y), tract.grid.col_of(x)
    r = min(max(math.floor(row), 0), tract.grid.rows - 2)
    c = min(max(math.floor(col), 0), tract.grid.cols - 2)
    return bilinear(tract.cache.read(HEIGHT, Window(r, c, r + 2, c + 2)), row - r, col - c)


def holds_point(points: Sequence[tuple[float, float]], x: float, y: float) -> bool:
    """Whether a polygon holds a point, by the even-odd rule."""
    outline = np.array([(py - y, px - x) for px, py in points])
    return bool(inside([outline], (1, 1), 0, 0, 0)[0, 0] > 0)


def spot(world: OpenWorld, tract: Tract, x: float, y: float) -> dict[str, Any]:
    """Everything known about the point (x, y) [m]. Raises InvalidInput outside the tract."""
    grid = tract.grid
    if not grid.holds(x, y):
        raise InvalidInput(
            f"the point must be inside the tract (0 to {grid.width:g}, 0 to {grid.depth:g}), not {x:g}, {y:g}", "x"
        )
    with world.lock:
        z = elevation_at(tract, x, y)
        row, col = round(grid.row_of(y)), round(grid.col_of(x))
        wide = grid.clip(Window(row, col, row + 1, col + 1).pad(1))
        heights = tract.cache.read(HEIGHT, wide)
        at = row - wide.row0, col - wide.col0
        shares = cover_shares(world, tract, Window(row, col, row + 1, col + 1))[:, 0, 0]
        near = sum(
            int(np.count_nonzero(np.hypot(found.plants.x - x, found.plants.y - y) <= NEAR_M))
            for found in standing_plants(world, tract, grid.around(x, y, NEAR_M + grid.spacing))
        )
    slope = float(slope_degrees(heights, grid.spacing)[at])
    aspect = float(aspect_degrees(heights, grid.spacing)[at])
    plots = [plot.name for _, plot in world.plots(tract.row.id) if holds_point(plot.points, x, y)]
    return {
        "x": x,
        "y": y,
        "plots": plots,
        "elevation_m": z,
        "over_sea_m": z - world.sea_level_m,
        "slope_deg": slope,
        "slope_percent": math.tan(math.radians(slope)) * 100,
        "aspect_deg": None if math.isnan(aspect) else aspect,
        "water_depth_m": max(0.0, world.sea_of(tract.row.id) - z),
        "covers": {cover.name: float(share) for (_, cover), share in zip(world.covers(), shares, strict=True)},
        "growth_within_10_m": near,
    }


def levels(world: OpenWorld, tract: Tract, window: Window, bins: int = 48) -> dict[str, Any]:
    """A histogram of the elevations in `window`, from at most about 128 x 128 of its posts."""
    window = tract.grid.clip(window)
    if window.empty:
        window = tract.grid.window
    step = max(1, max(window.shape) // 128)
    with world.lock:
        heights = tract.cache.read(HEIGHT, window, step)
        low, high = tract.cache.all_heights()
    sea = world.sea_level_m
    bottom, top = min(low, sea) - 2, max(high, sea) + 2
    counts, _ = np.histogram(heights, bins=bins, range=(bottom, top))
    return {"bottom_m": bottom, "top_m": top, "counts": counts.tolist(), "sea_level_m": sea}
