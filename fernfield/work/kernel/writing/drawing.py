"""Drawing whole areas of ground: tile by tile into a draft, within the world's limits, and settled where it goes."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.kernel.writing.sweep import Sweep, Unit

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


New = Callable[[Window, FloatArray], FloatArray]
"""Makes the ground of a part of a window from where it is and what is there."""


class Pen:
    """Puts ground into tiles, within the limits of a world. `into` says where it goes, as for a stroke; raises when it
    cannot go there.
    """

    def __init__(self, world: OpenWorld, into: str | None) -> None:
        self._layer = world.house.layers(HEIGHT)
        if self._layer.check is not None:
            self._layer.check(world, into)
        self._world, self._into = world, into
        bounds = (LOWEST_M, HIGHEST_M) if self._layer.bounds is None else self._layer.bounds(world)
        self._low, self._high = np.float32(max(bounds[0], LOWEST_M)), np.float32(min(bounds[1], HIGHEST_M))

    def put(self, draft: Draft, unit: Unit, box: tuple[slice, slice], new: Callable[[FloatArray], FloatArray]) -> None:
        """`new` makes the ground of a part of a tile from what is there."""
        ground = draft.tile(unit[0], (HEIGHT, *unit[1]))
        was = ground[box].copy()
        ground[box] = np.clip(new(was), np.minimum(was, self._low), np.maximum(was, self._high))

    def settle(self, draft: Draft, unit: Unit) -> None:
        """What was drawn in a tile goes where it was said to go."""
        tract_id, place = unit[0], (HEIGHT, *unit[1])
        was, cache = draft.was(tract_id, place), draft.cache(tract_id)
        cache.widen_range(place, cache.tile(place))
        if self._layer.settle is not None:
            self._layer.settle(draft, self._world, self._world.tract(tract_id), unit[1], was, self._into)


class GroundDrawing:
    """New ground of an edit that is made while others wait, in any order of its tiles."""

    def __init__(self, world: OpenWorld, draft: Draft, into: str | None) -> None:
        self._pen, self._draft = Pen(world, into), draft
        self._touched: dict[Unit, None] = {}

    def put(self, land: Land, window: Window, new: New) -> None:
        """`new` makes the ground of each part of `window` from where it is and what is there."""
        for tract, tile, whole, part in land.tiles(window):
            unit = tract.row.id, tile
            self._pen.put(self._draft, unit, part.inside(whole), partial(new, part))
            self._touched[unit] = None

    def settle(self) -> None:
        """What was drawn goes where it was said to go."""
        for unit in self._touched:
            self._pen.settle(self._draft, unit)


def draw_ground(
    world: OpenWorld, land: Land, window: Window, into: str | None, new: New, ends: Callable[[], Ended],
    *rests_on: str,
) -> Sweep:  # fmt: skip
    """An edit of the ground of a window, tile by tile. `rests_on`: the collections that `new` reads."""
    pen = Pen(world, into)
    parts = {(tract.row.id, tile): (part, part.inside(whole)) for tract, tile, whole, part in land.tiles(window)}

    def draw(draft: Draft, unit: Unit) -> None:
        part, box = parts[unit]
        pen.put(draft, unit, box, partial(new, part))
        pen.settle(draft, unit)

    return Sweep(list(parts), draw, ends, world.rests_on(*world.house.layers(HEIGHT).rests_on, *rests_on))
