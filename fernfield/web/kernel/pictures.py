"""Pictures of the plan as the browser takes them: WebP tiles, and PNG of any width."""

from __future__ import annotations

import io
import math

import cv2
import numpy as np
from PIL import Image

from fernfield.core.cover.shares import SlopeRule, rule_opacity
from fernfield.core.drawing.contours import INTERVALS
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import NOWHERE, TILE, ByteArray, FloatArray, Window
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.light.relief import slope_degrees
from fernfield.formats.tileblob import shape_of
from fernfield.store.logbook import LogbookStore
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT
from fernfield.work.seen.plan import COARSEST_LEVEL, FINEST_LEVEL, plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.studio import Studio
from fernfield.work.water.rows import sea_level
from fernfield.work.worlds.beginnings import WorldSpec, sketch


def level_window(land: Land, level: int) -> Window:
    """All the pixels of a level."""
    scale = 2.0**level
    return Window(0, 0, math.floor((land.grid.rows - 1) / scale) + 1, math.floor((land.grid.cols - 1) / scale) + 1)


def tile_webp(world: OpenWorld, land: Land, level: int, row: int, col: int, show: Show) -> bytes:
    """One 256 x 256 tile of a level (smaller at the east and south edge) as lossless WebP."""
    if not FINEST_LEVEL <= level <= COARSEST_LEVEL:
        raise InvalidInput(f"level must be {FINEST_LEVEL} to {COARSEST_LEVEL}, not {level}", "level")
    part = Window(row * TILE, col * TILE, (row + 1) * TILE, (col + 1) * TILE).meet(level_window(land, level))
    if row < 0 or col < 0 or part.empty:
        raise InvalidInput(f"there is no tile {row}, {col} at level {level}", "row")
    out = io.BytesIO()
    pixels = plan_pixels(world, land, level, part, show)
    # Where no tract lies nothing is drawn.
    picture = Image.fromarray(pixels if (pixels[..., 3] < 255).any() else pixels[..., :3])
    picture.save(out, "WEBP", lossless=True, exact=True, quality=0, method=0)
    return out.getvalue()


def plan_rgb(world: OpenWorld, land: Land, width: int, box: tuple[float, float, float, float], show: Show) -> ByteArray:
    """The plan of the box x0, y0, x1, y1 [m], `width` pixels wide, as RGB."""
    grid = land.grid
    x0, y0, x1, y1 = box
    if not (grid.west <= x0 < x1 <= grid.east + 1e-9 and grid.south <= y0 < y1 <= grid.north + 1e-9):
        within = f"{grid.west:g} to {grid.east:g} by {grid.south:g} to {grid.north:g}"
        raise InvalidInput(f"the box must lie in {within}, smaller number first, not {box}", "x0")
    if x1 - x0 < grid.spacing / 100:
        raise InvalidInput(f"the box must be {grid.spacing / 100:g} m wide at least, not {x1 - x0:g}", "x1")
    height = max(1, round(width * (y1 - y0) / (x1 - x0)))
    if height > 8192:
        raise InvalidInput(f"the picture would be {height} pixels high; at most 8192 are allowed", "width")
    level = min(max(math.floor(math.log2((x1 - x0) / grid.spacing / width)), FINEST_LEVEL), COARSEST_LEVEL)
    scale = 2.0**level
    part = Window(
        math.floor(grid.row_of(y1) / scale),
        math.floor(grid.col_of(x0) / scale),
        math.ceil(grid.row_of(y0) / scale) + 1,
        math.ceil(grid.col_of(x1) / scale) + 1,
    )
    pixels = plan_pixels(world, land, level, part, show)
    drawn = np.where(pixels[..., 3:] > 0, pixels[..., :3], PAPER.astype(np.uint8))
    shrink = cv2.INTER_AREA if part.cols >= width else cv2.INTER_CUBIC
    return np.asarray(cv2.resize(drawn, (width, height), interpolation=shrink), np.uint8)


def png_of(rgb: ByteArray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(rgb).save(out, "PNG", compress_level=1)
    return out.getvalue()


MARK = (162, 67, 31)


def where_png(studio: Studio, world: OpenWorld, number: int, width: int) -> bytes:
    """A small plan of the first tract with the posts that a revision changed framed and tinted. Raises NotFound."""
    studio.store.revision(world.id, number)
    tract = world.first_tract
    grid = tract.grid
    picture = plan_rgb(
        world,
        world.land_from(tract.row.id),
        width,
        (0.0, 0.0, grid.width, grid.depth),
        Show(contour_m=0, growth=False, shadows=False),
    )
    picture = np.ascontiguousarray(picture)
    scale = width / max(grid.cols - 1, 1)
    window = NOWHERE
    faint = (picture * 0.55 + np.array((239, 235, 223)) * 0.45).astype(np.uint8)
    for at, (row0, col0, blob) in LogbookStore(studio.store.engine).where(world.id, number):
        if at.tract_id != tract.row.id:
            continue
        rows, cols = shape_of(blob)
        whole = grid.tile_window(at.tile_row, at.tile_col)
        part = Window(row0, col0, row0 + rows, col0 + cols).shifted(whole.row0, whole.col0)
        window = window.join(part)
    if not window.empty:
        top, left = math.floor(window.row0 * scale), math.floor(window.col0 * scale)
        bottom, right = math.ceil(window.row1 * scale) + 1, math.ceil(window.col1 * scale) + 1
        faint[top:bottom, left:right] = picture[top:bottom, left:right]
        corner = (min(max(right, left + 3), picture.shape[1] - 1), min(max(bottom, top + 3), picture.shape[0] - 1))
        cv2.rectangle(faint, (left, top), corner, MARK, 1)
    return png_of(faint)


def land_png(heights: FloatArray, metres: float, world: OpenWorld) -> bytes:
    """A plain picture of heights under the world's sun and sea, tinted by elevation."""
    light = world.only(LIGHT)
    return plain_png(heights, metres, sea_level(world), light.sun_bearing_deg, min(light.sun_height_deg, 30.0))


def plain_png(heights: FloatArray, metres: float, sea: float, bearing: float = 315.0, height: float = 30.0) -> bytes:
    """A plain picture of heights [m] every so many metres: grass, rock where it is steep, contours, a sea level [m].

    Not tinted by elevation: low land would look like water.
    """
    wide = np.pad(heights, 1, mode="edge")
    steep = rule_opacity(slope_degrees(heights, metres), SlopeRule(38.0, 8.0))[..., None]
    ground = np.ascontiguousarray(np.moveaxis(GRASS + (ROCK - GRASS) * steep, 2, 0), np.float32)
    lit = np.full(heights.shape, 255, np.uint8)
    relief = float(np.ptp(heights))
    interval = next((step for step in INTERVALS if relief / step <= MOST_CONTOURS), 0.0) if relief > 2 else 0.0
    light = daylight(wide, metres, lit, Daylight(bearing, height))
    return png_of(np.ascontiguousarray(draw_plan(wide, metres, ground, light, PlanLook(sea, interval))[..., :3]))


GRASS, ROCK = np.array((159, 163, 108), np.float32), np.array((163, 157, 146), np.float32)
MOST_CONTOURS = 14


def sketch_png(spec: WorldSpec) -> bytes:
    """The ground that a world would begin on."""
    heights, metres = sketch(spec)
    return plain_png(heights, metres, spec.sea_level_m)


PAPER = np.array((247, 244, 234), np.float32)


def loss_png(lost: FloatArray, greatest: float) -> bytes:
    """A map of differences, from paper for none to rust for the greatest."""
    share = np.sqrt(np.clip(lost / max(greatest, 1e-9), 0, 1))[..., None]
    rgb = PAPER + (np.array(MARK, np.float32) - PAPER) * share
    return png_of(np.ascontiguousarray(np.rint(rgb).astype(np.uint8)))
