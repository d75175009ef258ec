"""Covers in figures: how much of a land each takes up, and how what rules ask is spread over it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import replace

import cv2
import numpy as np
from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.checks.covers import MOST_MEETING, specks
from fernfield.core.checks.finding import Finding, Meeting, Specks
from fernfield.core.cover.flecks import NOTHING, Fleck, flecks, foremost
from fernfield.core.cover.rules import CURVATURE, SHARE, WHATS, asked_of
from fernfield.core.grid import Window
from fernfield.core.growth.spacing import HECTARE_M2
from fernfield.work.asking.conditions import Condition
from fernfield.work.asking.fields import FIELDS, Asked, heights_around, wet_mark
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.ruling import COVER_RULES, drains
from fernfield.work.cover.shares import around_of, cover_layer, cover_shares, mix_of, shares_at
from fernfield.work.kernel.checking import ByTile
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.windows import rows_of
from fernfield.work.kernel.world import OpenWorld

SIDE = 512
"""Sums are of so many posts a side at most: of larger lands as they are seen from afar."""
BINS = 48


def _all(land: Land) -> tuple[Window, int]:
    step = 1
    while max(land.bounds.shape) / step > SIDE:
        step *= 2
    bounds = land.bounds
    return Window(bounds.row0 // step * step, bounds.col0 // step * step, bounds.row1, bounds.col1), step


class CoverArea(TypedDict):
    """How much a cover takes up: hectares, and its part of the whole, 0 to 1."""

    key: str
    name: str
    ha: float
    part: float


class Spread(TypedDict):
    """Counts of posts in equal steps from `low` to `high`."""

    low: float
    high: float
    counts: list[int]


def cover_areas(world: OpenWorld, land: Land) -> list[CoverArea]:
    """Hectares and part of the whole (0 to 1) of every cover, base first; of land only, what lies under the sea too."""
    posts, step = _all(land)
    with world.lock:
        covers, shares = covers_of(world), shares_at(world, land, posts, step)
        void = land.void(np.arange(posts.row0, posts.row1, step), np.arange(posts.col0, posts.col1, step))
    there = np.ones(shares.shape[1:], bool) if void is None else ~void
    parts = [float(share[there].mean()) if there.any() else 0.0 for share in shares]
    whole = sum(part.tract.grid.width * part.tract.grid.depth for part in land.parts) / HECTARE_M2
    return [
        {"key": key, "name": cover.name, "ha": round(part * whole, 4), "part": round(part, 6)}
        for (key, cover), part in zip(covers, parts, strict=True)
    ]


def spread(world: OpenWorld, land: Land, condition: Condition) -> Spread:
    """A histogram of what a condition asks: `counts` of posts in equal steps from `low` to `high`."""
    posts, step = _all(land)
    what = WHATS[condition.what]
    with world.lock:
        asked = Asked(world, land, posts, step)
        own = asked_of(condition.what, heights_around(asked), asked.spacing)
        if what.code == SHARE:
            keys = [key for key, _ in covers_of(world)]
            mix = mix_of(world, land, posts, step)
            known = condition.cover in keys and mix is not None
            values = mix[keys.index(condition.cover or "")] if known and mix is not None else np.zeros(asked.shape)
        else:
            values = FIELDS[condition.what](asked, condition) if own is None else own
        if condition.what == "above_water":
            values = values - np.float32(world.sea_of(land.id))
    found = values[np.isfinite(values)].astype(np.float64)
    found = found[(found >= what.least) & (found <= what.most)]
    low, high = (float(found.min()), float(found.max())) if found.size else (0.0, 1.0)
    if what.code == CURVATURE and found.size:
        # A few sharp edges would leave nothing to be seen of the rest.
        low, high = (float(v) for v in np.quantile(found, (0.005, 0.995)))
    if what.around:
        low, high = 0.0, 360.0
    if high - low < 1e-6:
        low, high = low - 0.5, high + 0.5
    counts, _ = np.histogram(found, bins=BINS, range=(low, high))
    return {"low": low, "high": high, "counts": counts.tolist()}


# Findings


LEAST_M2 = 4.0
"""Patches under this are flecks, unless somebody says otherwise (our choice: a step or two across)."""
MOST_LOOKED_AT = 2_049 * 2_049
"""Posts of a tract in which flecks are looked for: larger ones would keep whoever hands over waiting."""


def foremost_in(world: OpenWorld, land: Land, window: Window) -> NDArray[np.int16]:
    """The cover with the largest share at every post of a window."""
    return np.concatenate([foremost(cover_shares(world, land, part)) for part in rows_of(window)])


def _most(land: Land, least_m2: float) -> int:
    """So many posts a fleck has at most."""
    return max(1, math.ceil(least_m2 / land.grid.spacing**2) - 1)


def flecks_in(
    world: OpenWorld, land: Land, window: Window, least_m2: float
) -> tuple[list[Fleck], NDArray[np.int16]]:  # fmt: skip
    """The flecks that the hand has left in a window, and for every post of one the cover around it.

    What rules scatter is meant so: only what is laid by hand, for the most part, is looked at.
    """
    found, to = flecks(foremost_in(world, land, window), _most(land, least_m2))
    if not found:
        return found, to
    by_hand = [fleck for fleck in found if _laid(world, land, fleck, window)]
    kept = {(fleck.row, fleck.col) for fleck in by_hand}
    if len(by_hand) < len(found):
        _, labels = cv2.connectedComponents((to != NOTHING).astype(np.uint8), connectivity=4)
        mine = {int(labels[spot]) for spot in kept}
        to = np.where(np.isin(labels, list(mine)), to, NOTHING).astype(np.int16)
    return by_hand, to


def _laid(world: OpenWorld, land: Land, fleck: Fleck, window: Window) -> bool:
    """Whether a fleck, or what is around it, is there by hand."""
    row, col = window.row0 + fleck.row, window.col0 + fleck.col
    spot = Window(row, col, row + 1, col + 1)
    through = 1.0
    for key, cover in covers_of(world):
        layer = cover_layer(key)
        if not cover.hidden and not land.blank(layer, spot):
            through *= 1 - float(land.read(layer, spot)[0, 0]) / 65_535
    return through < 0.5 or not world.only(COVER_RULES).rules


def _wide(world: OpenWorld, land: Land, window: Window) -> Window:
    """With so much around a tile that no fleck of it meets the border."""
    return window.pad(_most(land, LEAST_M2) + 1).meet(world.tract(land.id).grid.window)


def _by_rule(world: OpenWorld, land: Land, wide: Window) -> bool:
    """Whether nothing in a window is there by hand."""
    return bool(world.only(COVER_RULES).rules) and all(
        land.blank(cover_layer(key), wide) for key, _ in covers_of(world)
    )


def _look(world: OpenWorld, land: Land, window: Window) -> list[Fleck] | None:
    """The flecks of a tile: those of which the first post lies in it."""
    with world.lock:
        wide = _wide(world, land, window)
        found = [] if _by_rule(world, land, wide) else flecks_in(world, land, wide, LEAST_M2)[0]
    every = [replace(one, row=one.row + wide.row0, col=one.col + wide.col0) for one in found]
    return [one for one in every if window.has(one.row, one.col)] or None


def _tell(world: OpenWorld, seen: Mapping[str, list[list[Fleck]]]) -> Iterator[Finding]:
    for key, tiles in seen.items():
        grid, (row, col) = world.tract(key).grid, min((one.row, one.col) for tile in tiles for one in tile)
        yield from specks([Specks(sum(map(len, tiles)), LEAST_M2, grid.x_of(col), grid.y_of(row), key)])


def _around(world: OpenWorld, land: Land) -> int:
    return _most(land, LEAST_M2) + 2 + around_of(world, land)


def _near(world: OpenWorld, land: Land, window: Window) -> tuple[object, ...]:
    wide = _wide(world, land, window)
    return (wet_mark(world, land, wide),) if drains(world) and not _by_rule(world, land, wide) else ()


FLECKS = ByTile(_look, _tell, _around, _near, lambda tract: tract.grid.rows * tract.grid.cols > MOST_LOOKED_AT)


def meetings_of(world: OpenWorld) -> Iterator[Meeting]:
    """Where the most covers of every tract meet, of those with a share that is seen."""
    if len(covers_of(world)) <= MOST_MEETING:
        return
    for tract in world.tracts.values():
        with world.lock:
            land = world.land_from(tract.row.id)
            posts, step = _all(land)
            count = (shares_at(world, land, posts, step) >= 1 / 255).sum(axis=0)
        row, col = np.unravel_index(int(count.argmax()), count.shape)
        x, y = land.grid.x_of(posts.col0 + int(col) * step), land.grid.y_of(posts.row0 + int(row) * step)
        yield Meeting(int(count.max()), x, y, tract.row.id)


def tiles_of(world: OpenWorld) -> list[tuple[str, float]]:
    """The covers with a texture, and how wide their tile is. [m]"""
    return [(cover.name, cover.tile_m) for _, cover in covers_of(world) if cover.texture is not None]
