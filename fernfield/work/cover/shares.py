"""What covers every post: what was painted, what the rules say, and the shares that come of both."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.tool import Tool
from fernfield.core.cover.shares import (
    OpacityArray,
    SlopeRule,
    compose_shares,
    rule_opacity,
    shares_as_bytes,
)
from fernfield.core.cover.tools import COVER
from fernfield.core.errors import Conflict, named
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light.relief import slope_degrees
from fernfield.work.cover.rows import covers_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.windows import ROWS_AT_ONCE, rows_of
from fernfield.work.kernel.world import OpenWorld

Painted = list[OpacityArray | None]
Ruled = list[FloatArray | None]


def cover_layer(key: str) -> str:
    return f"{COVER}:{key}"


def touched(world: OpenWorld, tool: Tool, cover: str | None) -> list[tuple[str, int]]:
    """The layers that a stroke with a cover works on: the cover's own (the base has none), and those above it.

    A tool without a cover works on all of them.

    Raises NotFound for a cover that is not there, Conflict for taking the base away.
    """
    covers = [key for key, _ in covers_of(world)]
    if not tool.subject:
        return [(cover_layer(key), tool.sign) for key in covers[1:]]
    at = named({key: at for at, key in enumerate(covers)}, "cover", cover)
    if at == 0 and tool.sign < 0:
        raise Conflict(f"{cover!r} is the base cover: there is nothing under it to show")
    own = [] if at == 0 else [(cover_layer(covers[at]), tool.sign)]
    above = [(cover_layer(key), -1) for key in covers[at + 1 :]] if tool.sign > 0 else []
    return own + above


def painted_and_ruled(
    world: OpenWorld, land: Land, posts: Window, step: int, heights: FloatArray
) -> tuple[Painted, Ruled]:
    """What is painted and what the rules say of every cover above the base; None where there is nothing."""
    slope = None
    painted: Painted = []
    ruled: Ruled = []
    for key, cover in covers_of(world)[1:]:
        layer = cover_layer(key)
        painted.append(None if land.blank(layer, posts) else land.seen(layer, posts, step))
        if cover.rule is None:
            ruled.append(None)
            continue
        if slope is None:
            slope = slope_degrees(heights, land.grid.spacing * step)
        ruled.append(rule_opacity(slope, SlopeRule(cover.rule.above_deg, cover.rule.blend_deg)))
    return painted, ruled


def cover_shares(world: OpenWorld, land: Land, window: Window) -> FloatArray:
    """Share of every cover at every post of `window`, base first: (covers, rows, cols), adding up to 1."""
    painted, ruled, shape, (rows, cols) = laid(world, land, window)
    return compose_shares(painted, ruled, shape)[:, rows, cols]


def laid(world: OpenWorld, land: Land, window: Window) -> tuple[Painted, Ruled, tuple[int, int], tuple[slice, slice]]:
    """What the shares of a window come of, with a post around it: their shape, and where in them the window is."""
    with world.lock:
        wide = land.clip(window.pad(1))
        heights = land.read(HEIGHT, wide)
        return *painted_and_ruled(world, land, wide, 1, heights), wide.shape, window.inside(wide)


def share_planes(world: OpenWorld, land: Land, window: Window, step: int = 1) -> ByteArray:
    """Shares as bytes that add up to 255 at every `step`-th post of `window`: (covers, rows, cols), base first."""
    parts = []
    # In bands, so that little stands in memory at a time, and others come in between.
    rows = max(step, ROWS_AT_ONCE // step * step)
    for part in rows_of(window, rows):
        parts.append(shares_as_bytes(cover_shares(world, land, part)[:, ::step, ::step]))
    return np.concatenate(parts, axis=1)


def cover_share(world: OpenWorld, land: Land, key: str, window: Window) -> FloatArray:
    """Share of one cover at every post of `window`, 0 to 1. Raises NotFound."""
    at = named({known: at for at, (known, _) in enumerate(covers_of(world))}, "cover", key)
    return np.asarray(cover_shares(world, land, window)[at], np.float32)
