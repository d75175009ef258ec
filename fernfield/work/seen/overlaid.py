"""What lies over the plan of an open world: openings, overlays, the figures of contours."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import cv2
import numpy as np
from typing_extensions import TypedDict

from fernfield.core.brush.keep import within
from fernfield.core.drawing.labels import contour_labels
from fernfield.core.drawing.overlays import SLOPE_CLASSES, TINTS, Seen, draw_openings, tint_range
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.ground.openings import OPENING
from fernfield.core.light.relief import slope_degrees
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.keep import kept_by
from fernfield.work.seen.show import Show

SPIKES_TO_LEVEL = 2
"""Coarser pictures do not look for single posts."""


def lay_over(
    world: OpenWorld, land: Land, level: int, part: Window, show: Show, heights: FloatArray, picture: ByteArray
) -> None:
    """Draw what lies over the plan into `picture`; `heights` are those it was drawn from, one pixel around."""
    scale = 2.0**level
    posts = Window(
        int(np.floor(part.row0 * scale)) - 1,
        int(np.floor(part.col0 * scale)) - 1,
        int(np.ceil(part.row1 * scale)) + 2,
        int(np.ceil(part.col1 * scale)) + 2,
    )
    wanted = [world.house.overlays[name] for name in show.overlays if name in world.house.overlays]
    if wanted:
        for name in show.overlays:
            _, laid = world.house.laid.get(name, ("", None))
            if laid is not None and laid.ahead is not None:
                laid.ahead(world, land, show)
        with world.lock:
            low, high = tint_range(*land.all_heights())
            single = None
            if any("posts" in o.needs for o in wanted) and level <= SPIKES_TO_LEVEL:
                single = land.read(HEIGHT, posts)
            needs = {need for overlay in wanted for need in overlay.needs}
            kept = _kept(world, land, level, part, show) if "kept" in needs else None
            marks = _marks(world, land, level, part, show)
        first = ((posts.row0 + 1) / scale - part.row0, (posts.col0 + 1) / scale - part.col0)
        seen = Seen(
            heights, land.grid.spacing * scale, low, high, part.row0, part.col0, single, first, 1 / scale,
            land.grid.spacing, kept, marks,
        )  # fmt: skip
        for overlay in wanted:
            overlay.draw(picture, seen)
    with world.lock:
        blank = land.blank(OPENING, posts)
        holes = None if blank else _at_pixels(land, OPENING, level, part)
    if holes is not None:
        draw_openings(picture, holes / np.float32(65_535))


def _at_pixels(land: Land, layer: str, level: int, part: Window) -> FloatArray:
    """A mask at every pixel of a picture: the post that it stands on, or nearest to it."""
    if level >= 0:
        step = 2**level
        window = Window(part.row0 * step, part.col0 * step, part.row1 * step, part.col1 * step)
        return np.asarray(land.seen(layer, window, step)[: part.rows, : part.cols], np.float32)
    fine = 2**-level
    window = Window(part.row0 // fine, part.col0 // fine, -(-part.row1 // fine) + 1, -(-part.col1 // fine) + 1)
    posts = land.read(layer, window).astype(np.float32)
    big = cv2.resize(posts, (posts.shape[1] * fine, posts.shape[0] * fine), interpolation=cv2.INTER_NEAREST)
    # A post's own square lies around it.
    shifted = np.roll(big, (-(fine // 2), -(fine // 2)), axis=(0, 1))
    row, col = part.row0 - window.row0 * fine, part.col0 - window.col0 * fine
    return np.asarray(shifted[row : row + part.rows, col : col + part.cols], np.float32)


def _kept(world: OpenWorld, land: Land, level: int, part: Window, show: Show) -> FloatArray | None:
    """How much a stroke may do at every pixel."""
    keep = show.keep_to
    if keep is not None:
        # Somebody may have deleted a plot just now: a picture is drawn all the same.
        keep = keep.model_copy(update={"plots": tuple(key for key in keep.plots if key in world.rows["plots"])})
    limits = kept_by(world, land, keep)
    if limits is None:
        return None

    def within_posts(window: Window, step: int) -> FloatArray:
        heights = land.seen(HEIGHT, window, step)
        slope = slope_degrees(heights, land.grid.spacing * step)
        scaled = [corners / step for corners in limits.plots]
        coarse = replace(limits, plots=tuple(scaled), feather=limits.feather / step)
        return within(coarse, heights, slope, window.row0 / step, window.col0 / step)

    return _at_pixels_of(level, part, within_posts)


def _at_pixels_of(level: int, part: Window, give: Callable[[Window, int], FloatArray | None]) -> FloatArray | None:
    """What is known of posts, at every pixel of a picture; `give` has it for every so-many-th post of a window."""
    step = 2**level if level > 0 else 1
    fine = 2**-level if level < 0 else 1
    window = Window(
        part.row0 // fine * step - step,
        part.col0 // fine * step - step,
        (-(-part.row1 // fine) + 2) * step,
        (-(-part.col1 // fine) + 2) * step,
    )
    found = give(window, step)
    if found is None:
        return None
    if fine > 1:
        big = cv2.resize(found, (found.shape[1] * fine, found.shape[0] * fine), interpolation=cv2.INTER_NEAREST)
        found = np.asarray(big, np.float32)
    row, col = part.row0 - window.row0 // step * fine, part.col0 - window.col0 // step * fine
    return np.asarray(found[row : row + part.rows, col : col + part.cols], np.float32)


def _marks(world: OpenWorld, land: Land, level: int, part: Window, show: Show) -> dict[str, FloatArray]:
    """What rooms know of the shares that are shown, at every pixel."""
    marks = {}
    for name in show.overlays:
        _, laid = world.house.laid.get(name, ("", None))
        if laid is None or laid.of is None:
            continue
        of = laid.of
        found = _at_pixels_of(level, part, lambda window, step, of=of: of(world, land, window, step, show))  # type: ignore[misc]
        if found is not None:
            marks[name] = found
    return marks


class LegendLine(TypedDict):
    """What a colour stands for; None is where nothing is drawn."""

    words: str
    colour: str | None


class Legend(TypedDict):
    """What the colours of an overlay stand for."""

    title: str
    lines: list[LegendLine]


class TintStep(TypedDict):
    """The colour of an elevation."""

    elevation_m: float
    colour: str


class OldLegend(TypedDict):
    """The colours of two overlays, as they were told before there was one for each."""

    tint: list[TintStep]
    slopes: list[LegendLine]


class FigureTold(TypedDict):
    """A figure on a contour: its place [m], turned clockwise from the horizontal [°]."""

    x: float
    y: float
    turn_deg: float
    words: str


def legends(world: OpenWorld, land: Land) -> dict[str, Legend]:
    """What the colours of every overlay stand for."""
    low, high = tint_range(*land.all_heights())
    return {
        overlay.name: {
            "title": overlay.label,
            "lines": [
                {"words": words, "colour": None if colour is None else "#{:02x}{:02x}{:02x}".format(*colour)}
                for words, colour in overlay.legend(low, high)
            ],
        }
        for overlay in world.house.overlays.values()
        if overlay.legend is not None
    }


def legend(land: Land) -> OldLegend:
    """The colours of the overlays and what they stand for."""
    low, high = tint_range(*land.all_heights())
    steps = len(TINTS) - 1
    return {
        "tint": [
            {"elevation_m": low + (high - low) * k / steps, "colour": "#{:02x}{:02x}{:02x}".format(*colour)}
            for k, colour in enumerate(TINTS)
        ],
        "slopes": [
            {"words": words, "colour": None if colour is None else "#{:02x}{:02x}{:02x}".format(*colour)}
            for _, words, colour in SLOPE_CLASSES
        ],
    }


def labels(world: OpenWorld, land: Land, level: int, part: Window, interval: float) -> list[FigureTold]:
    """The figures of index contours in a picture: place [m], turn clockwise from the horizontal [°], words."""
    step = 2**level if level > 0 else 1
    fine = 2**-level if level < 0 else 1
    window = Window(
        part.row0 // fine * step, part.col0 // fine * step, -(-part.row1 // fine) * step, -(-part.col1 // fine) * step
    )
    window = land.clip(window)
    if window.empty:
        return []
    with world.lock:
        heights = land.seen(HEIGHT, window, step)
    if fine > 1:
        heights = cv2.resize(
            heights, (heights.shape[1] * fine, heights.shape[0] * fine), interpolation=cv2.INTER_LINEAR
        )
    metres = land.grid.spacing * step / fine
    row, col = window.row0 // step * fine, window.col0 // step * fine
    found = contour_labels(np.asarray(heights, np.float32), metres, interval, row, col)
    digits = 1 if interval * 5 % 1 else 0
    return [
        {
            "x": round(land.grid.x_of(window.col0 + label.col * step / fine), 2),
            "y": round(land.grid.y_of(window.row0 + label.row * step / fine), 2),
            "turn_deg": round(label.turn, 1),
            "words": f"{label.elevation:.{digits}f}".replace("-", "−"),
        }
        for label in found
    ]
