"""Layers that are emptied as one revision, with the rows that they belonged to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.rows import Moves
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


def laid_units(world: OpenWorld, layers: Sequence[str]) -> list[Unit]:
    """The tiles of all tracts on which anything of these layers lies."""
    wanted = set(layers)
    found = {
        (tract_id, (place[1], place[2]))
        for tract_id, cache in world.caches.items()
        for place in cache.ranges
        if place[0] in wanted and not cache.blank_tile(place)
    }
    return sorted(found)


def clear_tile(draft: Draft, unit: Unit, layer: str) -> None:
    """Empty one tile of a mask."""
    draft.tile(unit[0], (layer, *unit[1]))[...] = 0
    draft.cache(unit[0]).set_range((layer, *unit[1]), 0.0, 0.0)


def emptied(world: OpenWorld, layers: Sequence[str], command: Command, words: str, moves: Moves, *rests: str) -> Sweep:
    """What empties masks and moves rows. `rests`: the collections that this was worked out from."""

    def clear(draft: Draft, unit: Unit) -> None:
        for layer in layers:
            if not draft.cache(unit[0]).blank_tile((layer, *unit[1])):
                clear_tile(draft, unit, layer)

    units = laid_units(world, layers)
    return Sweep(units, clear, lambda: Ended(words, said(command), moves), world.rests_on(*rests))
