"""What can be laid over the plan: elevation tint, slope classes, spikes, and what a stroke keeps out of.

Each overlay changes the picture in place. The next one that asks the ground alone is a function here and a line in
`OVERLAYS`; one of a share that a room knows is a `marked` in that room.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import cv2
import numpy as np

from fernfield.core.grid import ByteArray, FloatArray

Colour = tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class Seen:
    """What an overlay may look at.

    heights : shape (rows + 2, cols + 2), elevation at every pixel and one around [m]
    metres : side of a pixel [m]
    low, high : elevations that the tint runs between [m]
    row, col : of the first pixel, so that hatching does not move
    posts : heights of the posts that the picture shows, one more on every side, or None where they are too many [m]
    first_post : row and column of the first post inside that margin, in pixels of the picture
    post_pixels : pixels from post to post
    spacing : from post to post [m]
    kept : how much a stroke may do at every pixel, 0 to 1, or None
    marks : other shares at every pixel, 0 to 1, by the names that overlays need
    """

    heights: FloatArray
    metres: float
    low: float
    high: float
    row: int
    col: int
    posts: FloatArray | None
    first_post: tuple[float, float]
    post_pixels: float
    spacing: float
    kept: FloatArray | None
    marks: Mapping[str, FloatArray] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Overlay:
    """What can be laid over the plan.

    name : as the API has it; label, hint : as the page shows them
    draw : changes the picture in place
    needs : what of `Seen` it looks at besides heights: "posts", "kept", or the name of one of its marks
    legend : what its colours stand for, by the elevations that the tint runs between: words and colour
    """

    name: str
    label: str
    hint: str
    draw: Callable[[ByteArray, Seen], None]
    needs: frozenset[str] = frozenset()
    legend: Callable[[float, float], list[tuple[str, Colour | None]]] | None = None


TINTS: tuple[Colour, ...] = (
    (52, 92, 104), (92, 138, 124), (150, 172, 122), (205, 194, 132), (196, 152, 98), (152, 108, 88), (222, 214, 208),
)  # fmt: skip
"""From low to high: water's edge, fen, meadow, straw, clay, heath, bare stone. Our own."""

SLOPE_CLASSES: tuple[tuple[float, str, Colour | None], ...] = (
    (8.0, "level: under 8°", None),
    (20.0, "gentle: 8 to 20°", (214, 190, 92)),
    (30.0, "a vehicle stops: 20 to 30°", (214, 134, 64)),
    (45.0, "a walker still climbs: 30 to 45°", (176, 74, 58)),
    (90.0, "nobody climbs: over 45°", (84, 40, 92)),
)
"""Upper end [°], words, colour. A vehicle stops at 20° or so (our choice), a walker at 45°."""


def tint_at(elevation: FloatArray, low: float, high: float) -> FloatArray:
    """The tint of elevations: (…, 3), 0 to 255."""
    t = np.clip((elevation - low) / max(high - low, 1e-6), 0, 1) * (len(TINTS) - 1)
    scale = np.array(TINTS, np.float32)
    k = np.minimum(t.astype(int), len(TINTS) - 2)
    f = (t - k)[..., None].astype(np.float32)
    return np.asarray(scale[k] * (1 - f) + scale[k + 1] * f, np.float32)


def _lay(out: ByteArray, colour: FloatArray | Colour, share: FloatArray | float) -> None:
    """Mix a colour in by its share, keeping the light and shade of the picture."""
    rgb = out[..., :3].astype(np.float32)
    grey = rgb.mean(axis=2, keepdims=True) / 168
    flat = np.asarray(colour, np.float32) * np.clip(grey, 0.35, 1.35)
    part = share[..., None] if isinstance(share, np.ndarray) else share
    out[..., :3] = np.clip(rgb + (flat - rgb) * part, 0, 255).astype(np.uint8)


def draw_tint(out: ByteArray, seen: Seen) -> None:
    _lay(out, tint_at(seen.heights[1:-1, 1:-1], seen.low, seen.high), 0.72)


def slope_of(seen: Seen) -> FloatArray:
    """Slope of every pixel, between its neighbours to each side. [°]"""
    h = seen.heights
    east = (h[1:-1, 2:] - h[1:-1, :-2]) / (2 * seen.metres)
    north = (h[2:, 1:-1] - h[:-2, 1:-1]) / (2 * seen.metres)
    return np.asarray(np.degrees(np.arctan(np.hypot(east, north))), np.float32)


def draw_slopes(out: ByteArray, seen: Seen) -> None:
    slope = slope_of(seen)
    below = 0.0
    for upto, _words, colour in SLOPE_CLASSES:
        if colour is not None:
            inside = (slope >= below) & (slope < upto)
            _lay(out, colour, np.where(inside, np.float32(0.66), np.float32(0)))
        below = upto


def spikes(posts: FloatArray, spacing: float) -> FloatArray:
    """Where a single post stands over all its eight neighbours, or lies under them, so steeply that nobody passes it.

    `posts` has one more on every side; (n, 2) rows and columns inside that margin. As
    steep as a walker climbs (45°) to every side is a spike (our choice).
    """
    if min(posts.shape) < 3:
        return np.zeros((0, 2), np.float32)
    ring = np.ones((3, 3), np.uint8)
    ring[1, 1] = 0
    highest, lowest = cv2.dilate(posts, ring)[1:-1, 1:-1], cv2.erode(posts, ring)[1:-1, 1:-1]
    middle = posts[1:-1, 1:-1]
    most = spacing * math.tan(math.radians(45))
    return np.argwhere((middle - highest > most) | (lowest - middle > most)).astype(np.float32)


def draw_spikes(out: ByteArray, seen: Seen) -> None:
    if seen.posts is None:
        return
    picture = np.ascontiguousarray(out[..., :3])
    for row, col in spikes(seen.posts, seen.spacing):
        x = round(seen.first_post[1] + float(col) * seen.post_pixels)
        y = round(seen.first_post[0] + float(row) * seen.post_pixels)
        reach = max(6, round(seen.post_pixels * 1.6))
        cv2.circle(picture, (x, y), reach, (255, 252, 244), 3, cv2.LINE_AA)
        cv2.circle(picture, (x, y), reach, (162, 67, 31), 2, cv2.LINE_AA)
        cv2.line(picture, (x, y - reach - 4), (x, y - reach + 3), (162, 67, 31), 2, cv2.LINE_AA)
    out[..., :3] = picture


HATCH_PIXELS = 12


def draw_kept_out(out: ByteArray, seen: Seen) -> None:
    """Slanting lines where a stroke would do nothing."""
    if seen.kept is None:
        return
    rows, cols = np.mgrid[seen.row : seen.row + out.shape[0], seen.col : seen.col + out.shape[1]]
    line = ((rows + cols) % HATCH_PIXELS) < 2
    out_of = np.clip(1 - seen.kept, 0, 1)
    _lay(out, (60, 66, 64), (0.06 * out_of).astype(np.float32))
    out[..., :3] = np.where(
        (line & (out_of > 0.5))[..., None],
        (out[..., :3] * 0.52 + np.array((30, 41, 37)) * 0.48).astype(np.uint8),
        out[..., :3],
    )


MARKED: Colour = (126, 38, 120)
"""Plum: of no cover, no tint and no class of slopes."""
MARK_STEPS = (0.1, 0.5, 0.9)
"""Shares at which a line is drawn."""


def _draw_mark(name: str) -> Callable[[ByteArray, Seen], None]:
    def draw(out: ByteArray, seen: Seen) -> None:
        """A share as a tint that grows with it over paled ground, with lines at a tenth, a half and nine tenths."""
        mark = seen.marks.get(name)
        if mark is None:
            return
        _lay(out, (214, 210, 200), 0.55)
        _lay(out, MARKED, (mark * 0.85).astype(np.float32))
        for step in MARK_STEPS:
            over = (mark >= step).astype(np.uint8)
            rim = (over - cv2.erode(over, np.ones((3, 3), np.uint8), borderValue=1)).astype(bool)
            out[..., :3][rim] = (70, 16, 72)

    return draw


def _mark_legend(low: float, high: float) -> list[tuple[str, Colour | None]]:
    pale = (214, 210, 200)
    return [
        (words, (round(pale[0] + (MARKED[0] - pale[0]) * k), round(pale[1] + (MARKED[1] - pale[1]) * k),
                 round(pale[2] + (MARKED[2] - pale[2]) * k)))
        for words, k in (("all of it", 0.85), ("a half", 0.43), ("none", 0.0))
    ]  # fmt: skip


def marked(name: str, label: str, hint: str, *words: str) -> Overlay:
    """An overlay of one mark; `words` say what all of it, a half and none of it stand for, as far as they go."""

    def legend(low: float, high: float) -> list[tuple[str, Colour | None]]:
        return [(said, colour) for said, (_, colour) in zip(words, _mark_legend(low, high), strict=False)]

    return Overlay(
        name, label, hint, _draw_mark(name), needs=frozenset({name}), legend=legend if words else _mark_legend
    )


def draw_openings(out: ByteArray, holes: FloatArray) -> None:
    """Holes in the ground: dark, with a light rim. `holes` is 0 to 1 at every pixel."""
    inside = holes >= 0.5
    if not inside.any():
        return
    solid = inside.astype(np.uint8)
    rim = cv2.dilate(solid, np.ones((3, 3), np.uint8)).astype(bool) & ~inside
    rows, cols = np.indices(inside.shape)
    lines = ((rows - cols) % 5) == 0
    out[..., :3][inside] = (24, 26, 25)
    out[..., :3][inside & lines] = (70, 72, 68)
    out[..., :3][rim] = (250, 248, 241)


def _tint_legend(low: float, high: float) -> list[tuple[str, Colour | None]]:
    steps = len(TINTS) - 1
    lines = [(f"{low + (high - low) * k / steps:.0f} m".replace("-", "−"), colour) for k, colour in enumerate(TINTS)]
    return [*reversed(lines)]


def _slope_legend(low: float, high: float) -> list[tuple[str, Colour | None]]:
    return [(words, colour) for _, words, colour in SLOPE_CLASSES]


OVERLAYS: dict[str, Overlay] = {
    overlay.name: overlay
    for overlay in (
        Overlay(
            "tint", "Elevation tint", "low ground green and blue, high ground brown and pale", draw_tint,
            legend=_tint_legend,
        ),
        Overlay(
            "slopes", "Slope classes", "what a vehicle and a walker can climb", draw_slopes, legend=_slope_legend
        ),
        Overlay(
            "spikes", "Spikes", "single posts that would catch a walker", draw_spikes, needs=frozenset({"posts"})
        ),
        Overlay(
            "kept", "What is kept out", "where the stroke may not work", draw_kept_out, needs=frozenset({"kept"})
        ),
    )
}  # fmt: skip


def tint_range(low: float, high: float) -> tuple[float, float]:
    """The two elevations rounded outwards to a round step, so that the tint does not change with every stroke. [m]"""
    span = max(high - low, 1.0)
    step = 10 ** math.floor(math.log10(span / 2))
    return math.floor(low / step) * step, math.ceil(high / step) * step
