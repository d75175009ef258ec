"""Drawing whole areas of ground: tile by tile into a draft, within the world's limits, and settled where it goes."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.draft import Draft
from fernfield.work.kernel.lands import Land
from fernfield.work.kernel.layers import HEIGHT

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


class GroundDrawing:
    """New ground of an edit. `into` says where it goes, as for a stroke; raises when it cannot go there."""

    def __init__(self, world: OpenWorld, draft: Draft, into: str | None) -> None:
        self._layer = world.house.layers(HEIGHT)
        if self._layer.check is not None:
            self._layer.check(world, into)
        self._world, self._draft, self._into = world, draft, into
        bounds = (LOWEST_M, HIGHEST_M) if self._layer.bounds is None else self._layer.bounds(world)
        self._low, self._high = np.float32(max(bounds[0], LOWEST_M)), np.float32(min(bounds[1], HIGHEST_M))
        self._touched: dict[tuple[str, tuple[int, int]], None] = {}

    def put(self, land: Land, window: Window, new: Callable[[Window, FloatArray], FloatArray]) -> None:
        """`new` makes the ground of each part of `window` from where it is and what is there."""
        for tract, tile, whole, part in land.tiles(window):
            ground = self._draft.tile(tract.row.id, (HEIGHT, *tile))
            box = part.inside(whole)
            was = ground[box].copy()
            drawn = new(part, was)
            ground[box] = np.clip(drawn, np.minimum(was, self._low), np.maximum(was, self._high))
            self._touched[tract.row.id, tile] = None

    def settle(self) -> None:
        """What was drawn goes where it was said to go."""
        for tract_id, tile in self._touched:
            tract = self._world.tract(tract_id)
            place = (HEIGHT, *tile)
            was = self._draft.was(tract_id, place)
            tract.cache.widen_range(place, tract.cache.tile(place))
            if self._layer.settle is not None:
                self._layer.settle(self._draft, self._world, tract, tile, was, self._into)
