"""How full the land is of each kind of a mix: what was sown and thinned, glades, habitats, clumps."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import cv2
import numpy as np

from fernfield.core.brush.tool import Tool
from fernfield.core.cover import rules as core
from fernfield.core.errors import InvalidInput, named
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.growth.tools import GLADE, GROWTH, SPARE
from fernfield.core.noise import Octaves, fractal, plain_spots
from fernfield.work.asking.conditions import Condition
from fernfield.work.asking.fields import OCTAVES, PERSISTENCE, Asked, Asking, heights_around, noise
from fernfield.work.growth.rows import MIXES, Mix, Part, mixes_of
from fernfield.work.kernel.commands import StrokeBase
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import WHOLE
from fernfield.work.kernel.world import OpenWorld

CONTRAST = 3.0
"""How sharply clumps end: noise is stretched by this before it says where they are."""


def growth_layer(key: str) -> str:
    """How full a mix is sown."""
    return f"{GROWTH}:{key}"


def spare_layer(key: str, kind: str) -> str:
    """How much of one kind of a mix was taken out again."""
    return f"{SPARE}:{key}/{kind}"


def touched(world: OpenWorld, tool: Tool, mix: str | None) -> list[tuple[str, int]]:
    """The layers that a stroke with a mix works on: how full it is, what is spared of each kind. Raises NotFound."""
    key = named({key: key for key, _ in mixes_of(world)}, "mix", mix)
    row = dict(mixes_of(world))[key]
    return [(growth_layer(key), tool.sign), *((spare_layer(key, part.kind), 0) for part in row.kinds)]


def told(world: OpenWorld, start: StrokeBase) -> dict[str, Any]:
    """Which kinds a stroke works on, and up to which part of the mix's density. Raises NotFound for a kind that the mix
    does not have."""
    key, said = getattr(start, "mix", None), getattr(start, "kinds", None)
    mix = world.rows[MIXES.name].get(key or "")
    if not isinstance(mix, Mix):
        return {}
    return ticks_of(mix, said, getattr(start, "target_per_ha", None))


def ticks_of(mix: Mix, kinds: list[str] | None, target_per_ha: float | None) -> dict[str, Any]:
    """What the tools are told: which kinds of a mix are worked on (all when none is said), and up to which part of its
    density. Raises NotFound, and InvalidInput for an empty list."""
    known = {part.kind: part.kind for part in mix.kinds}
    if kinds == []:
        raise InvalidInput("no kind of the mix is ticked: tick those that are to be worked on", "kinds")
    wanted = set(known) if kinds is None else {named(known, "kind", kind) for kind in kinds}
    share = 1.0
    if target_per_ha is not None:
        share = min(1.0, target_per_ha / mix.density_per_ha) if mix.density_per_ha > 0 else 0.0
    return {"ticked": tuple(part.kind in wanted for part in mix.kinds), "target_share": share}


@lru_cache(maxsize=64)
def below(share: float) -> float:
    """Below which value so much of all noise lies, from a sample of it."""
    spots = plain_spots(0.0, 0.0, 1.0)
    sample = fractal((512, 512), spots, Octaves(16.0, OCTAVES, PERSISTENCE, 5), 1.0)
    return float(np.quantile(sample, share))


def _clumps(asked: Asked, part: Part, seed: int) -> FloatArray:
    """How much more or less than their mean stands at each post: from 1 - clump to 1 + clump, over 1 + clump."""
    return clumped(noise(asked, part.clump_m, seed), part.clump)


def clump_seed(mix: Mix, number: int) -> int:
    """By which noise the kind with this number in a mix stands in clumps."""
    return mix.seed * 31 + number


def clumped(value: FloatArray, clump: float) -> FloatArray:
    """The share of its places that a kind takes, by noise from -1 to 1: from 1 - clump to 1 + clump, over 1 + clump."""
    value = np.clip(value * np.float32(CONTRAST), -1, 1)
    # Odd around its middle: as much is added as is taken away.
    value = np.sin(value * np.float32(math.pi / 2))
    return np.asarray((1 + clump * value) / (1 + clump), np.float32)


def _edge(asked: Asked, part: Part, layer: str) -> FloatArray:
    """1 within `edge_m` of ground that is not sown, or else only further inside."""
    around = math.ceil(part.edge_m / asked.spacing) + 1
    wide = asked.posts.pad(around * asked.step)
    sown = np.asarray(asked.land.seen(layer, wide, asked.step)) > 0
    mask: ByteArray = sown[: asked.shape[0] + 2 * around, : asked.shape[1] + 2 * around].astype(np.uint8)
    away = np.full(mask.shape, 1e6, np.float32)
    if not mask.all():
        away = cv2.distanceTransform(mask, cv2.DIST_L2, cv2.DIST_MASK_PRECISE) * np.float32(asked.spacing)
    inner = away[around : around + asked.shape[0], around : around + asked.shape[1]]
    at_edge = inner <= part.edge_m
    return (at_edge if part.edge == "edge" else ~at_edge).astype(np.float32)


def _mask(asked: Asked, layer: str) -> FloatArray | float:
    """A mask at the posts that are asked for, 0 to 1."""
    if asked.land.blank(layer, asked.posts):
        return 0.0
    seen = np.asarray(asked.land.seen(layer, asked.posts, asked.step), np.float32)
    return np.asarray(seen[: asked.shape[0], : asked.shape[1]] / np.float32(WHOLE), np.float32)


def shares_of(
    world: OpenWorld, land: Land, key: str, mix: Mix, posts: Window, step: int = 1, *, bare: bool = False
) -> list[FloatArray | None]:
    """For each kind of a mix, how much of its places is taken at every `step`-th post, 0 to 1; None where nothing is.

    `bare` leaves out what the hand has done: what the mix would be like on land that is wholly sown.
    """
    layer = growth_layer(key)
    if not bare and land.blank(layer, posts):
        return [None] * len(mix.kinds)
    asked = Asked(world, land, posts, step)
    full = np.ones(asked.shape, np.float32)
    if not bare:
        full *= _mask(asked, layer)
        full *= 1 - _mask(asked, GLADE)
    if mix.open:
        full *= noise(asked, mix.open_m, mix.seed + 977) > below(round(mix.open, 3))
    asking = Asking(asked)
    covers: dict[str, Any] = {key: row for key, row in world.rows["covers"].items() if getattr(row, "likes", ())}
    heights: FloatArray | None = None

    def met(conditions: Sequence[Condition]) -> FloatArray:
        """How far every post meets all of these, 0 to 1."""
        nonlocal heights
        heights = heights_around(asked) if heights is None else heights
        rule = core.Rule(1, 1.0, tuple(asking.condition(one) for one in conditions))
        return np.asarray(core.mixed(heights, asked.spacing, [rule], asking.fields, 2)[1])

    if mix.conditions:
        full *= met(mix.conditions)
    out: list[FloatArray | None] = []
    for number, part in enumerate(mix.kinds):
        if mix.per_ha(part) <= 0:
            out.append(None)
            continue
        share = full.copy()
        if not bare:
            share *= 1 - _mask(asked, spare_layer(key, part.kind))
        if part.clump:
            share *= _clumps(asked, part, clump_seed(mix, number))
        if part.edge != "all" and not bare:
            share *= _edge(asked, part, layer)
        if liked := [cover for cover, row in covers.items() if part.kind in row.likes]:
            share *= np.minimum(sum(asking.share(cover) for cover in liked), 1)
        if part.conditions:
            share *= met(part.conditions)
        out.append(share if share.any() else None)
    return out


def density_at(world: OpenWorld, land: Land, posts: Window, step: int = 1) -> FloatArray:
    """How many plants of all mixes stand on a hectare at every `step`-th post of a window, by how full it is sown."""
    found = np.zeros((-(-posts.rows // step), -(-posts.cols // step)), np.float32)
    for key, mix in mixes_of(world):
        for share, per_ha in zip(shares_of(world, land, key, mix, posts, step), mix.pattern.per_ha, strict=True):
            if share is not None:
                found += share * np.float32(per_ha)
    return found
