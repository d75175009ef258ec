"""A world's icon: a square picture of at most 120 pixels, from an image of one's own or from the plan."""

from __future__ import annotations

import base64
import io
import warnings

import cv2
import numpy as np
from PIL import Image, UnidentifiedImageError

from fernfield.core.errors import FormatError, InvalidInput
from fernfield.core.grid import ByteArray
from fernfield.web.kernel.pictures import plan_rgb, png_of
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.show import Show
from fernfield.work.worlds.rows import Icon

SIDE = 120
MOST_ICON_BYTES = 8 << 20
MOST_ICON_PIXELS = 4096


def _icon(rgb: ByteArray) -> Icon:
    """The middle square of a picture, made smaller where it is too large."""
    rows, cols = rgb.shape[:2]
    side = min(rows, cols)
    row, col = (rows - side) // 2, (cols - side) // 2
    square = np.ascontiguousarray(rgb[row : row + side, col : col + side])
    if side > SIDE:
        square = np.asarray(cv2.resize(square, (SIDE, SIDE), interpolation=cv2.INTER_AREA), np.uint8)
    return Icon(png=base64.b64encode(png_of(square)).decode())


def icon_of(content: bytes) -> Icon:
    """An image of one's own. Raises FormatError for what is no PNG, JPEG or WebP, damaged, or too large."""
    if len(content) > MOST_ICON_BYTES:
        raise FormatError(f"an icon's image may have at most {MOST_ICON_BYTES >> 20} MiB", "file")
    try:
        with warnings.catch_warnings(), Image.open(io.BytesIO(content), formats=("PNG", "JPEG", "WEBP")) as image:
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            if max(image.size) > MOST_ICON_PIXELS:
                words = f"an icon's image may be at most {MOST_ICON_PIXELS} pixels a side, not {image.size}"
                raise FormatError(words, "file")
            return _icon(np.asarray(image.convert("RGB"), np.uint8))
    except (OSError, UnidentifiedImageError, ValueError, SyntaxError, Warning, Image.DecompressionBombError) as error:
        if isinstance(error, FormatError):
            raise
        words = f"an icon must be a PNG, JPEG or WebP image that is not damaged, not {content[:8]!r}…"
        raise FormatError(words, "file") from error


def plan_icon(world: OpenWorld, tract: Tract, x: float | None, y: float | None, side_m: float | None) -> Icon:
    """A square of the plan, its south-west corner at (x, y); the middle of the tract when left out. [m]"""
    grid = tract.grid
    side = min(grid.width, grid.depth) if side_m is None else side_m
    x0 = (grid.width - side) / 2 if x is None else x
    y0 = (grid.depth - side) / 2 if y is None else y
    if not (grid.holds(x0, y0) and grid.holds(x0 + side, y0 + side)):
        words = f"the square must lie in the tract (0 to {grid.width:g}, 0 to {grid.depth:g})"
        raise InvalidInput(f"{words}, not {side:g} m from {x0:g}, {y0:g}", "side_m")
    return _icon(
        plan_rgb(world, world.land_from(tract.row.id), SIDE, (x0, y0, x0 + side, y0 + side), Show(contour_m=0))
    )
