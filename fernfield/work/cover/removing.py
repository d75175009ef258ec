"""Covers that go: taken out of the stack, or merged into another. One revision, with all that was painted of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Literal

import numpy as np

from fernfield.core.cover.areas import swapped
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.work.cover.rows import COVERS, Cover, covers_of
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.cover.shares import cover_layer
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.edits import freed, named_instead
from fernfield.work.kernel.rows import Key, Moves
from fernfield.work.kernel.says import UNASKED
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.clearing import clear_tile, laid_units
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit


class RemoveCover(Command):
    """Take a cover away: what lay under it is there again, in its old proportions."""

    do: Literal["remove_cover"] = "remove_cover"
    cover: Annotated[Key, UNASKED]


class MergeCover(Command):
    """Put another cover wherever one is, and take that one away."""

    do: Literal["merge_cover"] = "merge_cover"
    cover: Annotated[Key, UNASKED]
    into: Annotated[Key, UNASKED]


def remove_cover(world: OpenWorld, key: str) -> Outcome:
    """Raises NotFound, or Conflict for the base."""

    def begin() -> Sweep:
        cover = _may_go(world, key)
        layer = cover_layer(key)

        def clear(draft: Draft, unit: Unit) -> None:
            clear_tile(draft, unit, layer)

        return _sweep(world, RemoveCover(cover=key), key, clear, f"Deleted the cover {cover.name}", {})

    return world.sweep(begin)


def merge_cover(world: OpenWorld, command: MergeCover) -> Outcome:
    """Raises NotFound, Conflict for the base, and InvalidInput for a cover that is merged into itself."""

    def begin() -> Sweep:
        cover, into = _may_go(world, command.cover), world.row(COVERS, command.into)
        if command.cover == command.into:
            raise InvalidInput(f"{cover.name} cannot be merged into itself", "into")
        keys = [key for key, _ in covers_of(world)]
        at, to = keys.index(command.cover), keys.index(command.into)
        layers = [cover_layer(key) for key in keys]

        def merge(draft: Draft, unit: Unit) -> None:
            cache = draft.cache(unit[0])
            masks = np.stack([cache.tile((layer, *unit[1])) for layer in layers])
            made = swapped(masks, at, to, np.ones(masks.shape[1:], np.float32), 0.0)
            # What was hidden whole keeps its opacity in a swap; here nothing of it may stay.
            made[at] = 0
            for layer, was, now in zip(layers, masks, made, strict=True):
                if not np.array_equal(was, now):
                    draft.tile(unit[0], (layer, *unit[1]))[...] = now
                    cache.set_range((layer, *unit[1]), float(now.min()), float(now.max()))

        named = named_instead(world, (COVERS.name, command.cover), command.into)
        words = f"Merged the cover {cover.name} into {into.name}"
        return _sweep(world, command, command.cover, merge, words, named)

    return world.sweep(begin)


def _may_go(world: OpenWorld, key: str) -> Cover:
    cover = world.row(COVERS, key)
    if cover.position == 0:
        raise Conflict(f"{cover.name} is the base cover: there is nothing under it")
    return cover


def _sweep(
    world: OpenWorld, command: Command, key: str, draw: Callable[[Draft, Unit], None], words: str, named: Moves
) -> Sweep:
    units = laid_units(world, [cover_layer(key)])
    moves: Moves = {(COVERS.name, key): None, **named}
    left = [(other, row) for other, row in covers_of(world) if other != key]
    for at, (other, row) in enumerate(left):
        if row.position != at:
            moves[COVERS.name, other] = row.model_copy(update={"position": at})
    still = world.rests_on(COVERS.name, COVER_RULES.name)
    return Sweep(units, draw, lambda: Ended(words, said(command), freed(world, moves)), still)
