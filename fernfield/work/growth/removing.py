"""Kinds and mixes that go, with all that is sown of them: one revision each, undone as one."""

from __future__ import annotations

from typing import Annotated, Literal

from fernfield.work.growth.rows import KINDS, MIXES, mixes_of
from fernfield.work.growth.sowing import growth_layer, spare_layer
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.edits import freed
from fernfield.work.kernel.rows import Key, Moves
from fernfield.work.kernel.says import UNASKED
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.clearing import emptied
from fernfield.work.kernel.writing.sweep import Sweep


class RemoveMix(Command):
    """Take a mix away, with all that is sown of it."""

    do: Literal["remove_mix"] = "remove_mix"
    mix: Annotated[Key, UNASKED]


class RemoveKind(Command):
    """Take a kind away, and its place in every mix."""

    do: Literal["remove_kind"] = "remove_kind"
    kind: Annotated[Key, UNASKED]


def remove_mix(world: OpenWorld, key: str) -> Outcome:
    """Raises NotFound."""

    def begin() -> Sweep:
        mix = world.row(MIXES, key)
        layers = [growth_layer(key), *(spare_layer(key, part.kind) for part in mix.kinds)]
        words = f"Deleted the mix {mix.name}, and what was sown of it"
        return emptied(world, layers, RemoveMix(mix=key), words, {(MIXES.name, key): None}, MIXES.name)

    return world.sweep(begin)


def remove_kind(world: OpenWorld, key: str) -> Outcome:
    """Raises NotFound."""

    def begin() -> Sweep:
        kind = world.row(KINDS, key)
        moves: Moves = {(KINDS.name, key): None}
        layers, left = [], []
        for name, mix in mixes_of(world):
            if not any(part.kind == key for part in mix.kinds):
                continue
            parts = tuple(
                part.model_copy(update={"near": None}) if part.near == key else part
                for part in mix.kinds
                if part.kind != key
            )
            moves[MIXES.name, name] = mix.model_copy(update={"kinds": parts})
            layers.append(spare_layer(name, key))
            left.append(mix.name)
        words = f"Deleted the kind {kind.name}" + (f", which left {', '.join(left)}" if left else "")
        return emptied(world, layers, RemoveKind(kind=key), words, freed(world, moves), MIXES.name, KINDS.name)

    return world.sweep(begin)
