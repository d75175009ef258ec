"""What covers every post: what was painted, what the rules say, and the shares that come of both."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from fernfield.core.brush.tool import Tool
from fernfield.core.cover import rules as core
from fernfield.core.cover.shares import (
    OpacityArray,
    SlopeRule,
    Under,
    compose_shares,
    rule_opacity,
    shares_as_bytes,
)
from fernfield.core.cover.tools import COVER
from fernfield.core.cover.transition import laid_along, reach
from fernfield.core.errors import Conflict, named
from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.light.relief import slope_degrees
from fernfield.work.asking.conditions import REACHING, reach_of
from fernfield.work.asking.fields import Asked, Asking, heights_around, noise
from fernfield.work.cover.rows import covers_of, shown_covers
from fernfield.work.cover.ruling import COVER_RULES, Rule, conditions_of
from fernfield.work.cover.transitions import strips_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.windows import ROWS_AT_ONCE, rows_of
from fernfield.work.kernel.world import OpenWorld

Painted = list[OpacityArray | None]
Ruled = list[FloatArray | None]


def cover_layer(key: str) -> str:
    return f"{COVER}:{key}"


def touched(world: OpenWorld, tool: Tool, cover: str | None) -> list[tuple[str, int]]:
    """The layers that a stroke with a cover works on: the cover's own, and those above it.

    A tool without a cover works on all of them. One that works on all masks at once is told of each: 1 or -1 for the
    cover's own, 0 for the others. The base is painted under all others: that keeps the rules away.

    Raises NotFound for a cover that is not there, Conflict for taking the base away.
    """
    covers = [key for key, _ in shown_covers(world)]
    if not tool.subject:
        return [(cover_layer(key), tool.sign) for key in covers]
    at = named({key: at for at, key in enumerate(covers)}, "cover", cover)
    if at == 0 and tool.sign < 0:
        raise Conflict(f"{cover!r} is the base cover: there is nothing under it to show")
    if tool.press_masks is not None or (tool.sign < 0 and world.only(COVER_RULES).rules):
        return [(cover_layer(key), tool.sign if i == at else 0) for i, key in enumerate(covers)]
    own = [(cover_layer(covers[at]), tool.sign)]
    above = [(cover_layer(key), -1) for key in covers[at + 1 :]] if tool.sign > 0 else []
    return own + above


@dataclass(frozen=True)
class Laid:
    """What the shares of some posts come of.

    painted, ruled : for every cover above the base, lowest first: what is painted, and what its own rule says
    under : what the list of rules puts under all of it; None where there are no rules
    """

    painted: Painted
    ruled: Ruled
    under: Under | None


def under_of(world: OpenWorld, land: Land) -> Callable[[Window], FloatArray | None] | None:
    """What the list of rules puts under the hand in a window, for strokes; None where there are no rules. It has the
    covers that are shown now, also when some came or went meanwhile: of what has gone there is nothing.
    """
    if not world.only(COVER_RULES).rules:
        return None
    shown = [key for key, _ in shown_covers(world)]

    def under(window: Window) -> FloatArray | None:
        mix = mix_of(world, land, window)
        if mix is None:
            return None
        now = {key: at for at, (key, _) in enumerate(covers_of(world))}
        return np.stack([mix[now[key]] if key in now else np.zeros_like(mix[0]) for key in shown])

    return under


def laid_on(world: OpenWorld, land: Land, posts: Window, step: int, heights: FloatArray | None = None) -> Laid:
    """What lies on every `step`-th post of a window; `heights` of the same posts where they are known. [m]

    A cover that is hidden is not there.
    """
    slope = None
    painted: Painted = []
    ruled: Ruled = []
    for key, cover in covers_of(world)[1:]:
        layer = cover_layer(key)
        there = not cover.hidden and not land.blank(layer, posts)
        painted.append(land.seen(layer, posts, step) if there else None)
        if cover.rule is None or cover.hidden:
            ruled.append(None)
            continue
        if slope is None:
            known = land.seen(HEIGHT, posts, step) if heights is None else heights
            slope = slope_degrees(known, land.grid.spacing * step)
        ruled.append(rule_opacity(slope, SlopeRule(cover.rule.above_deg, cover.rule.blend_deg)))
    return Laid(painted, ruled, _under(world, land, posts, step))


def _under(world: OpenWorld, land: Land, posts: Window, step: int) -> Under | None:
    """What the list of rules puts under the hand's work, and how much of the base the hand has put over it."""
    mix = mix_of(world, land, posts, step)
    if mix is None:
        return None
    layer = cover_layer(covers_of(world)[0][0])
    return Under(mix, None if land.blank(layer, posts) else land.seen(layer, posts, step))


def mix_of(world: OpenWorld, land: Land, posts: Window, step: int = 1) -> FloatArray | None:
    """The share of every cover by the list of rules alone: (covers, rows, cols); None where there are none."""
    rules = [rule for rule in world.only(COVER_RULES).rules if not rule.off]
    return by_rules(world, Asked(world, land, posts, step), rules) if rules else None


def by_rules(world: OpenWorld, asked: Asked, rules: Sequence[Rule]) -> FloatArray:
    """The share of every cover by a list of rules. A rule that names what has gone is met nowhere."""
    numbers = {key: at for at, (key, cover) in enumerate(covers_of(world)) if not cover.hidden}
    asking = Asking(asked)
    made: list[core.Rule] = []
    for rule in rules:
        if rule.cover not in numbers or any(c.cover is not None and c.cover not in numbers for c in rule.conditions):
            continue
        conditions = tuple(asking.condition(one, numbers) for one in rule.conditions)
        torn = asking.grain(rule.grain_m, rule.seed) if rule.ragged else 0
        made.append(core.Rule(numbers[rule.cover], rule.amount, conditions, rule.ragged, torn))
    return core.mixed(heights_around(asked), asked.spacing, made, asking.fields, len(covers_of(world)))


def moved_by(world: OpenWorld, land: Land, window: Window) -> Window:
    """The posts whose covers may change when the ground or what is painted in a window does, by rules and strips; of
    wetness see `ruling.drains`."""
    return land.clip(window.pad(around_of(world, land)))


def around_of(world: OpenWorld, land: Land) -> int:
    """So many posts around one decide which covers lie on it."""
    far = max((reach_of(c) for c in conditions_of(world) if c.what in REACHING), default=0.0)
    strips = reach([strip for _, strip in strips_of(world)], land.grid.spacing)
    return math.ceil(far / land.grid.spacing) + strips + 2


def met_by(world: OpenWorld, land: Land, posts: Window, step: int, rule: Rule) -> FloatArray:
    """How far every `step`-th post of a window meets a rule, alone: 0 to 1, times its amount."""
    covers = covers_of(world)
    # Asked for as of a cover that no rule stands above: the base takes what is left, so it is asked for the other way.
    number = next(at for at, (key, _) in enumerate(covers) if key == rule.cover)
    found = by_rules(world, Asked(world, land, posts, step), [rule])
    if number:
        return np.ascontiguousarray(found[number])
    other = next((key for key, cover in covers[1:] if not cover.hidden), None)
    if other is None:
        return np.zeros(found.shape[1:], np.float32)
    return met_by(world, land, posts, step, rule.model_copy(update={"cover": other}))


def shares_at(world: OpenWorld, land: Land, posts: Window, step: int) -> FloatArray:
    """Share of every cover at every `step`-th post of any window, as it is looked at: (covers, rows, cols)."""

    def composed(wide: Window) -> FloatArray:
        found = laid_on(world, land, wide, step)
        shape = -(-wide.rows // step), -(-wide.cols // step)
        return compose_shares(found.painted, found.ruled, shape, found.under)

    return _with_strips(world, land, posts, step, composed)


def cover_shares(world: OpenWorld, land: Land, window: Window) -> FloatArray:
    """Share of every cover at every post of `window`, base first: (covers, rows, cols), adding up to 1."""

    def composed(wide: Window) -> FloatArray:
        painted, ruled, shape, (rows, cols), under = laid(world, land, wide)
        return compose_shares(painted, ruled, shape, under)[:, rows, cols]

    return _with_strips(world, land, window, 1, composed, land.clip)


def _with_strips(
    world: OpenWorld, land: Land, posts: Window, step: int, composed: Callable[[Window], FloatArray],
    clip: Callable[[Window], Window] = lambda window: window,
) -> FloatArray:  # fmt: skip
    """Shares with the transitions laid along their borders; what lies around a window says where those are."""
    strips = strips_of(world)
    if not strips:
        return composed(posts)
    spacing = land.grid.spacing * step
    around = reach([strip for _, strip in strips], spacing)
    wide = clip(posts.pad(around * step))
    shares = composed(wide)
    asked = Asked(world, land, wide, step)
    for row, strip in strips:
        torn = noise(asked, row.grain_m, row.seed) if row.ragged else np.zeros(asked.shape, np.float32)
        shares = laid_along(shares, strip, torn, spacing)
    row0, col0 = (posts.row0 - wide.row0) // step, (posts.col0 - wide.col0) // step
    rows, cols = -(-posts.rows // step), -(-posts.cols // step)
    return np.ascontiguousarray(shares[:, row0 : row0 + rows, col0 : col0 + cols])


Parts = tuple[Painted, Ruled, tuple[int, int], tuple[slice, slice], Under | None]


def laid(world: OpenWorld, land: Land, window: Window) -> Parts:
    """What the shares of a window come of, with a post around it: their shape, and where in them the window is."""
    with world.lock:
        wide = land.clip(window.pad(1))
        found = laid_on(world, land, wide, 1)
        return found.painted, found.ruled, wide.shape, window.inside(wide), found.under


def share_planes(world: OpenWorld, land: Land, window: Window, step: int = 1) -> ByteArray:
    """Shares as bytes that add up to 255 at every `step`-th post of `window`: (covers, rows, cols), base first. Raises
    Conflict where the covers are changed meanwhile."""
    parts, same = [], world.rests_on("covers")
    # In bands, so that little stands in memory at a time, and others come in between.
    rows = max(step, ROWS_AT_ONCE // step * step)
    for part in rows_of(window, rows):
        parts.append(shares_as_bytes(cover_shares(world, land, part)[:, ::step, ::step]))
        if not same():
            raise Conflict("the covers were changed while their shares were read: ask again")
    return np.concatenate(parts, axis=1)


def paces(world: OpenWorld, land: Land, window: Window) -> FloatArray | None:
    """How much of a walker's speed the covers leave at every post; None where none of them slows anybody."""
    left = np.array([cover.pace for _, cover in covers_of(world)], np.float32)
    if (left == 1).all():
        return None
    return np.asarray(np.tensordot(left, cover_shares(world, land, window), axes=1), np.float32)


def cover_share(world: OpenWorld, land: Land, key: str, window: Window, step: int = 1) -> FloatArray:
    """Share of one cover at every `step`-th post of `window`, 0 to 1; past the land the border's go on. Raises
    NotFound."""
    at = named({known: at for at, (known, _) in enumerate(covers_of(world))}, "cover", key)
    if step > 1:
        return np.asarray(shares_at(world, land, window, step)[at], np.float32)
    # What lies past the land has no shares of its own, but a picture's tile may reach there, or lie there wholly.
    bounds = land.bounds
    rows = np.clip(np.arange(window.row0, window.row1), bounds.row0, bounds.row1 - 1)
    cols = np.clip(np.arange(window.col0, window.col1), bounds.col0, bounds.col1 - 1)
    own = Window(int(rows[0]), int(cols[0]), int(rows[-1]) + 1, int(cols[-1]) + 1)
    share = cover_shares(world, land, own)[at]
    return np.asarray(share if own == window else share[np.ix_(rows - own.row0, cols - own.col0)], np.float32)
