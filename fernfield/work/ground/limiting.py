"""Ground that lies past the world's limits: how far, and bringing it within them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal

import numpy as np
from typing_extensions import TypedDict

from fernfield.core.grid import FloatArray, Window
from fernfield.work.ground.rows import LIMITS
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import Put, draw, plainly
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep


class BringWithin(Command):
    """Bring all ground that lies past the limits to them."""

    do: Literal["bring_within"] = "bring_within"


class Reached(TypedDict):
    """The lowest and highest ground [m], and whether some of it lies past the limits."""

    lowest_m: float
    highest_m: float
    past: bool


def beyond(world: OpenWorld) -> Reached:
    """The lowest and highest ground of a world [m], and whether some of it lies past the limits."""
    with world.lock:
        limits, ranges = world.only(LIMITS), [land.all_heights() for land in world.lands()]
    lowest, highest = min(low for low, _ in ranges), max(high for _, high in ranges)
    past = lowest < limits.lowest_m or highest > limits.highest_m
    return {"lowest_m": round(lowest, 3), "highest_m": round(highest, 3), "past": past}


def bring_within(world: OpenWorld) -> Outcome:
    """Bring all ground that lies past the limits to them, in one revision."""

    def begin() -> Sweep:
        limits = world.only(LIMITS)
        low, high = np.float32(limits.lowest_m), np.float32(limits.highest_m)

        def new(_part: Window, was: FloatArray) -> FloatArray:
            return np.asarray(np.clip(was, low, high))

        def puts() -> Iterator[Put]:
            for land in world.lands():
                for part in land.parts:
                    cache = part.tract.cache
                    for tile in part.tract.grid.window.tiles():
                        lowest, highest = cache.range_of((HEIGHT, *tile))
                        if lowest < low or highest > high:
                            whole = part.tract.grid.tile_window(*tile)
                            yield Put(land, whole.shifted(part.row, part.col), plainly(new))

        words = f"Brought the ground within {limits.lowest_m:g} and {limits.highest_m:g} m"
        return draw(world, puts(), None, lambda: Ended(words, said(BringWithin())), LIMITS.name)

    return world.sweep(begin)
