"""The plan of a world as a picture: covers, relief and shadows, growth, water, and what lies over it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from weakref import WeakKeyDictionary

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.cover.shares import compose_colours, compose_shares
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan, draw_stamps, lay_light, shade_stamps
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.growth.shapes import FORMS, VARIANTS
from fernfield.core.growth.spacing import HECTARE_M2
from fernfield.core.light.daylight import daylight
from fernfield.core.light.shadow import reach_posts, shaded_by
from fernfield.core.water.liquids import Liquid
from fernfield.work.cover.guises import in_guise, kinds_in_guise
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.shares import laid_on, shares_at
from fernfield.work.cover.textures import textured
from fernfield.work.cover.transitions import strips_of
from fernfield.work.growth.rows import KINDS, Kind, Part, kind_of, mixes_of
from fernfield.work.growth.sowing import growth_layer, shares_of
from fernfield.work.growth.standing import grown, widest_crown
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lamplight, lit_posts, share_posts
from fernfield.work.light.moment import Moment, moment_of
from fernfield.work.seen.overlaid import lay_over
from fernfield.work.seen.show import Show
from fernfield.work.sites.decals import lay_decals
from fernfield.work.sites.paving import lay_roads
from fernfield.work.water.flowing import streams_seen
from fernfield.work.water.rows import tide_level
from fernfield.work.water.standing import liquids_over

FINEST_LEVEL = -2
COARSEST_LEVEL = 7
SINGLE_PLANTS_TO_LEVEL = 3
TINTS = 4
NEAR_M = 10.0
RUNNING, FOAM = (46, 122, 154), (240, 246, 246)
"""The colours of streams from afar, and of their falls and the marks of the way they run."""
UNDER_WATER_M = 3.0
"""Shadows are followed this far under the sea; below, the water's own colour hides them."""


def plan_pixels(world: OpenWorld, land: Land, level: int, part: Window, show: Show) -> ByteArray:
    """The plan of `part`, in pixels of `level`: RGBA of the part's shape.

    A pixel of level n stands at every 2**n-th post (below 0: 2**-n pixels to a post);
    pixel (0, 0) is on post (0, 0). Reading holds the world's lock, drawing does not.
    """
    if not FINEST_LEVEL <= level <= COARSEST_LEVEL:
        raise InvalidInput(f"level must be {FINEST_LEVEL} to {COARSEST_LEVEL}, not {level}", "level")
    if show.beside is not None and show.divide_m is not None:
        return _halves(land, level, part, show, lambda half: plan_pixels(world, land, level, part, half))
    fine, step, halo, posts = _posts_of(level, part)
    moment = show.moment(world)
    day = moment.day
    with world.lock:
        heights = land.seen(HEIGHT, posts, step)
        light = None if show.plain else _falls(world, land, posts, step, moment, show.shadows)
        interval = show.interval(land, level)
        water = world.surface(land, posts, step, sea_m=tide_level(world, show.tide)) if show.water else None
        liquids = list(liquids_over(world, land, posts, step)) if show.water else []
        streams = streams_seen(world, land, level, part) if show.water else None
        laid = laid_on(world, land, posts, step, heights)
        # Strips along borders are laid on shares; without any the colours are mixed at once.
        known = shares_at(world, land, posts, step) if strips_of(world) else None
        covers = [cover for _, cover in covers_of(world)]
        colours = in_guise(world, show.guise, [colour_of(cover.colour) for cover in covers])
        dress = kinds_in_guise(world, show.guise)
        stamps = _stamps(world, land, level, part, dress) if show.growth and level <= SINGLE_PLANTS_TO_LEVEL else []
        tints = _growth_tints(world, land, posts, step, dress) if show.growth and level > SINGLE_PLANTS_TO_LEVEL else []
    if known is None:
        ground = compose_colours(laid.painted, laid.ruled, colours, heights.shape, laid.under)
    else:
        known = known[:, : heights.shape[0], : heights.shape[1]]
        ground = np.asarray(np.tensordot(np.array(colours, np.float32).T, known, axes=1), np.float32)
    for tint, colour in tints:
        ground += tint * (np.asarray(colour, np.float32)[:, None, None] - ground)
    inner = slice(halo, -halo), slice(halo, -halo)
    drawn = _drawn(heights, fine, halo, part)
    if fine == 1:
        ground = ground[:, inner[0], inner[1]]
        water = None if water is None else water[inner]
        liquids = [(wet[inner], name) for wet, name in liquids]
    else:
        offset = _offset(fine, part)
        if water is not None:
            water = _refined(water, fine, halo, offset, part.shape, cv2.INTER_NEAREST)
        liquids = [
            (_refined(wet.astype(np.uint8), fine, halo, offset, part.shape, cv2.INTER_NEAREST) > 0, name)
            for wet, name in liquids
        ]
        ground = np.stack([_refined(g, fine, halo, offset, part.shape, cv2.INTER_LINEAR) for g in ground])
        # Close up the ground has texture; from further off its mean, which is the colour.
        shares = compose_shares(laid.painted, laid.ruled, heights.shape, laid.under) if known is None else known
        fine_shares = np.stack([_refined(s, fine, halo, offset, part.shape, cv2.INTER_LINEAR) for s in shares])
        at: list[Any] = [np.arange(a, b) / fine for a, b in ((part.row0, part.row1), (part.col0, part.col1))]
        ground *= textured(world, land, covers, fine_shares, *at)
    with world.lock:
        pixels = Window(part.row0, part.col0, part.row0 + ground.shape[1], part.col0 + ground.shape[2])
        lay_roads(world, land, level, pixels, ground)
        lay_decals(world, land, level, pixels, ground)
    metres = land.grid.spacing * step / fine
    picture = draw_plan(
        drawn,
        metres,
        ground[:, : part.rows, : part.cols],
        None if light is None else light.on(drawn, metres, moment, fine, halo, part),
        PlanLook(None, interval, moment.water_ink),
        (part.row0, part.col0),
        None if water is None else water[: part.rows, : part.cols],
    )
    over = (1.0, 1.0, 1.0) if show.plain else moment.water_ink
    if water is not None:
        _colour_liquids(picture, drawn, water, liquids, over)
    if streams is not None:
        # From afar the ground between the posts does not show them.
        ink(picture, RUNNING, streams.cover * 0.85 if step > 1 else 0 * streams.cover, over)
        ink(picture, FOAM, streams.white * 0.6, over)
        ink(picture, FOAM, streams.marks * 0.7, over)
    # Overlays say something of the ground: growth stands over them.
    lay_over(world, land, level, part, show, drawn, picture)
    draw_stamps(picture, stamps, None if show.plain or not moment.thrown else day.bearing, plant_ink(moment, show))
    scale = 2.0**level
    void = land.void(np.arange(part.row0, part.row1) * scale, np.arange(part.col0, part.col1) * scale)
    if void is not None:
        picture[void] = 0
    return picture


def _halves(land: Land, level: int, part: Window, show: Show, draw: Callable[[Show], ByteArray]) -> ByteArray:
    """Two lights beside each other, with a thin line between them."""
    west, east = show.halves()
    col = round(float(land.grid.col_of(show.divide_m or 0.0)) / 2.0**level) - part.col0
    if col <= 0 or col >= part.cols:
        return draw(east if col <= 0 else west)
    picture, other = draw(west), draw(east)
    picture[:, col:] = other[:, col:]
    picture[:, col, :3] = LINE
    return picture


LINE = (250, 248, 241)


@dataclass(frozen=True, slots=True)
class Unlit:
    """The plan of a part without its light, and what light needs to be put on it: the heights of its pixels and of
    those around [m], and their side [m]."""

    level: int
    part: Window
    picture: ByteArray
    heights: FloatArray
    metres: float


def unlit(world: OpenWorld, land: Land, level: int, part: Window, show: Show) -> Unlit:
    """As `plan_pixels`, for a light that is turned: what it does not change is drawn once."""
    picture = plan_pixels(world, land, level, part, show.model_copy(update={"plain": True}))
    fine, step, halo, posts = _posts_of(level, part)
    with world.lock:
        heights = land.seen(HEIGHT, posts, step)
    return Unlit(level, part, picture, _drawn(heights, fine, halo, part), land.grid.spacing * float(2.0**level))


def relit(world: OpenWorld, land: Land, drawn: Unlit, show: Show) -> ByteArray:
    """The plan of a part in the light that is shown. Growth takes the light of its ground here."""
    if show.beside is not None and show.divide_m is not None:
        return _halves(land, drawn.level, drawn.part, show, lambda half: relit(world, land, drawn, half))
    moment, part = show.moment(world), drawn.part
    fine, step, halo, posts = _posts_of(drawn.level, part)
    with world.lock:
        light = _falls(world, land, posts, step, moment, show.shadows)
    picture = drawn.picture.copy()
    lay_light(picture, light.on(drawn.heights, drawn.metres, moment, fine, halo, part), moment.water_ink)
    return picture


@dataclass(frozen=True, slots=True)
class Falls:
    """What light falls on posts: how much of the sun [0 to 255], the share of sky that is seen, what lamps add."""

    lit: ByteArray
    share: FloatArray | None
    lamps: FloatArray | None

    def on(self, heights: FloatArray, metres: float, moment: Moment, fine: int, halo: int, part: Window) -> FloatArray:
        """How bright the pixels of a part are, from the heights of these and one around: see `daylight`."""

        def at_pixels(plane: Any) -> Any:
            if fine > 1:
                plane = _refined(plane, fine, halo, _offset(fine, part), part.shape, cv2.INTER_LINEAR)
            else:
                plane = plane[halo:-halo, halo:-halo]
            return plane[: part.rows, : part.cols]

        share = None if self.share is None else at_pixels(self.share)
        lamps = None if self.lamps is None else np.stack([at_pixels(plane) for plane in self.lamps])
        return daylight(heights, metres, at_pixels(self.lit), moment.day, share, lamps)


def _falls(world: OpenWorld, land: Land, posts: Window, step: int, moment: Moment, shadows: bool) -> Falls:
    """The light on every `step`-th post of a window."""
    rows, cols = -(-posts.rows // step), -(-posts.cols // step)
    day = moment.day
    if shadows and moment.thrown:
        lit = lit_posts(world, land, posts, step, day.bearing, day.height)
    else:
        lit = np.full((rows, cols), 255, np.uint8)
    lux = None if moment.by_day else lamplight(world, land, posts, step, moment)
    return Falls(lit, share_posts(world, land, posts, step) if moment.shares else None, moment.ink_of(lux))


def plant_ink(moment: Moment, show: Show) -> tuple[float, float, float]:
    """How bright growth is drawn on the plan."""
    if show.plain or moment.mood is None:
        return 1.0, 1.0, 1.0
    return moment.level_ink


def _posts_of(level: int, part: Window) -> tuple[int, int, int, Window]:
    """How a picture of a level lies on the posts: pixels to a post, posts to a pixel, how many of the latter around it
    are looked at (one, two where it is refined), and all the posts that are."""
    fine, step = max(1, 2**-level) if level < 0 else 1, 2**level if level > 0 else 1
    halo = 2 if fine > 1 else 1
    posts = Window(
        (part.row0 // fine - halo) * step,
        (part.col0 // fine - halo) * step,
        (-(-part.row1 // fine) + halo) * step,
        (-(-part.col1 // fine) + halo) * step,
    )
    return fine, step, halo, posts


def _offset(fine: int, part: Window) -> tuple[int, int]:
    """How many pixels past its first post a part begins."""
    return part.row0 - (part.row0 // fine) * fine, part.col0 - (part.col0 // fine) * fine


def _drawn(heights: FloatArray, fine: int, halo: int, part: Window) -> FloatArray:
    """The heights of a part's pixels, and one around, from those of its posts."""
    if fine == 1:
        return heights
    row, col = _offset(fine, part)
    shape = part.rows + 2, part.cols + 2
    return np.asarray(_refined(heights, fine, halo, (row - 1, col - 1), shape, cv2.INTER_CUBIC), np.float32)


def ink(
    picture: ByteArray,
    colour: tuple[int, int, int],
    share: FloatArray,
    light: tuple[float, float, float] = (1.0, 1.0, 1.0),
) -> None:
    """Lay a colour on a picture, so much of it at each pixel, in so much light."""
    lit = np.minimum(np.array(colour, np.float32) * np.array(light, np.float32), 255)
    laid = share[..., None] * (lit - picture[..., :3])
    picture[..., :3] = np.rint(picture[..., :3] + laid).astype(np.uint8)


def _colour_liquids(
    picture: ByteArray,
    heights: FloatArray,
    water: FloatArray,
    liquids: Sequence[tuple[NDArray[np.bool_], Liquid]],
    light: tuple[float, float, float],
) -> None:
    """What is no water has its own colour, the more of it the deeper it is."""
    rows, cols = picture.shape[:2]
    for wet, own in liquids:
        depth = np.maximum(water[:rows, :cols] - heights[1 : rows + 1, 1 : cols + 1], 0)
        ink = np.where(wet[:rows, :cols] & (depth > 0), 1 - own.clear ** np.maximum(depth, 0.4), 0)[..., None]
        colour = np.minimum(np.array(colour_of(own.colour), np.float32) * np.array(light, np.float32), 255)
        picture[..., :3] = np.rint(picture[..., :3] + ink * (colour - picture[..., :3])).astype(np.uint8)


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


def sunlit_pixels(world: OpenWorld, land: Land, part: Window, step: int, show: Show) -> ByteArray:
    """How much of the sun reaches each `step`-th post of a window: 255 for all of it, 0 for none. From afar, where not
    every post is seen, growth throws no shadow.

    step : a power of two, which divides the window's first row and column

    Returns
    -------
    shape (rows, cols, 3): past the ground alone, past what grows there too where that is shown, and the share of sky
    that is seen there (255 where that does not count)
    """
    moment = show.moment(world)
    with world.lock:
        light = _falls(world, land, part, step, moment, True)
        stamps = _crowns(world, land, part, show) if show.growth and step == 1 else []
    lit = np.ascontiguousarray(light.lit)
    grown_over = lit.copy()
    shade_stamps(grown_over, stamps, moment.day.bearing)
    share = np.full_like(lit, 255) if light.share is None else np.rint(light.share * 255).astype(np.uint8)
    return np.stack([lit, grown_over, share], axis=2)


def lamplit_pixels(world: OpenWorld, land: Land, part: Window, step: int, show: Show) -> ByteArray:
    """What lamps add to the light on each `step`-th post of a window: shape (rows, cols, 3), ink in 127ths of an even
    ground in full daylight, its square root, so that what is faint is not lost."""
    moment = show.moment(world)
    with world.lock:
        ink = moment.ink_of(lamplight(world, land, part, step, moment))
    if ink is None:
        return np.zeros((-(-part.rows // step), -(-part.cols // step), 3), np.uint8)
    return np.moveaxis(np.rint(np.sqrt(np.clip(ink, 0, 4)) * 127.5).astype(np.uint8), 0, 2)


_CROWNS: WeakKeyDictionary[OpenWorld, tuple[object, list[Stamp]]] = WeakKeyDictionary()
"""What grew where it was last asked for: the sun is turned often over growth that stays as it is."""


def _crowns(world: OpenWorld, land: Land, part: Window, show: Show) -> list[Stamp]:
    of = world.state_name(), land.id, part, show.guise
    known = _CROWNS.get(world)
    if known is not None and of[0] is not None and known[0] == of:
        return known[1]
    stamps = _stamps(world, land, 0, part, kinds_in_guise(world, show.guise))
    _CROWNS[world] = of, stamps
    return stamps


def shadow_window(world: OpenWorld, land: Land, window: Window, was: float | None = None) -> Window:
    """`window` and every post whose light may change when the ground in it does.

    The heights of the tiles that it touches, now and since their last commit, bound how
    high the ground in it is or was; `was` says so after one [m]. Under the sea's surface
    no shadow is looked for.
    """
    day = moment_of(world).day
    window = land.clip(window)
    with world.lock:
        _, high = land.height_range(window)
        high = high if was is None else max(high, was)
        low, _ = land.all_heights()
        shaded = window
        # The lowest ground that a shadow can fall on bounds its length; that ground is nearer then.
        for _ in range(3):
            low = max(low, world.sea_of(land.id) - UNDER_WATER_M)
            reach = reach_posts(high - low, land.grid.spacing, day.height)
            shaded = land.clip(shaded_by(window, day.bearing, reach))
            low, _ = land.height_range(shaded)
    return shaded


def colour_of(text: str) -> tuple[int, int, int]:
    """ "#rrggbb" as three numbers of 0-255."""
    return int(text[1:3], 16), int(text[3:5], 16), int(text[5:7], 16)


def _stamps(world: OpenWorld, land: Land, level: int, part: Window, dress: Mapping[str, str]) -> list[Stamp]:
    scale = 2.0**level
    widest = widest_crown(world)
    if not widest:
        return []
    reach = math.ceil(widest * 2 / land.grid.spacing) + 1
    posts = Window(
        math.floor(part.row0 * scale) - reach,
        math.floor(part.col0 * scale) - reach,
        math.ceil(part.row1 * scale) + reach,
        math.ceil(part.col1 * scale) + reach,
    )
    stamps: list[tuple[float, Stamp]] = []
    for _, one, own, plants in grown(world, land, posts):
        kind = _dressed(world, one, own, dress)
        cols, rows = land.grid.col_of(plants.x), land.grid.row_of(plants.y)
        # What is near in tint and looks alike is drawn in one go.
        tints = np.minimum((plants.tint * TINTS).astype(np.int64), TINTS - 1) + TINTS * plants.variant.astype(np.int64)
        for sort in np.unique(tints):
            own, tint, looks = tints == sort, sort % TINTS, int(sort) // TINTS
            stamp = Stamp(
                (cols[own] / scale - part.col0).astype(np.float32),
                (rows[own] / scale - part.row0).astype(np.float32),
                (plants.width[own] * kind.crown_m / (land.grid.spacing * scale)).astype(np.float32),
                tinted(kind, (float(tint) + 0.5) / TINTS if plants.tint.any() else 0.0, looks),
            )
            stamps.append((kind.tall_m, stamp))
    # Low things first, so that trees stand over stones.
    return [stamp for _, stamp in sorted(stamps, key=lambda pair: pair[0])]


def _dressed(world: OpenWorld, part: Part, kind: Kind, dress: Mapping[str, str]) -> Kind:
    """The kind as a guise would have it."""
    found = world.rows[KINDS.name].get(dress.get(part.kind, ""))
    return found if isinstance(found, Kind) else kind


def tinted(kind: Kind, tint: float, looks: int = 0) -> tuple[int, int, int]:
    """The colour of a kind, so far from healthy to dry; `looks` is the number of a variant of its own."""
    variant = VARIANTS[looks] if looks else kind.variant
    green, dry = (np.array(colour_of(text), np.float64) for text in (kind.colour, kind.dry_colour))
    seen = green + (dry - green) * tint
    if variant in ("bare", "dead") and not FORMS[kind.form].stone:
        seen = np.array(colour_of(kind.bark_colour if variant == "bare" else "#8f8a82"), np.float64)
    seen = seen * 0.62 if variant == "darker" else seen
    seen = seen + (np.array([238, 242, 247]) - seen) * 0.7 if variant == "snowed" else seen
    red, green_, blue = (round(float(v)) for v in seen)
    return red, green_, blue


def _growth_tints(
    world: OpenWorld, land: Land, posts: Window, step: int, dress: Mapping[str, str]
) -> list[tuple[FloatArray, tuple[int, int, int]]]:
    """From far away growth is a tint: for each kind the part of the ground that its crowns hide, and its colour."""
    tints = []
    for key, mix in mixes_of(world):
        if land.blank(growth_layer(key), posts):
            continue
        shares = shares_of(world, land, key, mix, posts, step)
        for one, share, per_ha in zip(mix.kinds, shares, mix.pattern.per_ha, strict=True):
            kind = kind_of(world, one)
            if share is None or kind is None:
                continue
            kind = _dressed(world, one, kind, dress)
            size = (one.size_min + one.size_max) * (one.width_min + one.width_max) / 4 * kind.crown_m
            hidden = 1 - math.exp(-per_ha / HECTARE_M2 * math.pi * size * size)
            tints.append(((share * np.float32(hidden)).astype(np.float32), tinted(kind, one.tint / 2)))
    return tints
