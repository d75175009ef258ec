"""The growth of a guise: what is sown in an area goes over to a mix with the other kinds, and stays where it stands.

A mix with exchanged kinds has the same seed and the same numbers, so its plants stand in the same places. Where there
is such a mix already, it is that one: so what goes over and comes back is what it was.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from fernfield.core.cover.shares import OpacityArray
from fernfield.core.grid import Window
from fernfield.work.growth.rows import KINDS, MIXES, Mix, mixes_of
from fernfield.work.growth.sowing import growth_layer, spare_layer
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Moves, new_key
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.drawing import AsItWas, Masks
from fernfield.work.plots.areas import Area, share_of, window_of


@dataclass(frozen=True)
class Regrown:
    """What comes of it: masks to draw, and mixes that are new."""

    puts: list[Masks]
    moves: Moves


def dressed_mix(mix: Mix, kinds: Mapping[str, str]) -> Mix:
    """A mix with some of its kinds exchanged."""
    parts = tuple(
        part.model_copy(update={"kind": kinds.get(part.kind, part.kind), "near": kinds.get(part.near or "", part.near)})
        for part in mix.kinds
    )
    return mix.model_copy(update={"kinds": parts})


def gone_kinds(world: OpenWorld, kinds: Mapping[str, str]) -> list[str]:
    """Those of an exchange that the world does not have."""
    return [key for pair in kinds.items() for key in pair if key not in world.rows[KINDS.name]]


def regrown(world: OpenWorld, land: Land, area: Area, kinds: Mapping[str, str], name: str) -> Regrown:
    """What a guise does to the growth of an area. `name` tells the new mixes from those that they come from."""
    found = Regrown([], {})
    mixes = mixes_of(world)
    window = window_of(world, land, area)
    for key, mix in mixes:
        wanted = dressed_mix(mix, kinds)
        there = len({part.kind for part in wanted.kinds}) == len(wanted.kinds)
        if wanted == mix or not there or land.blank(growth_layer(key), window):
            continue
        to = next((other for other, row in mixes if row.model_copy(update={"name": mix.name}) == wanted), None)
        if to is None:
            to = new_key(mix.name)
            found.moves[MIXES.name, to] = wanted.model_copy(update={"name": f"{mix.name}, {name}"[:80]})
        found.puts.append(Masks(land, window, _over(world, land, area, key, mix, to, kinds)))
    return found


def _over(
    world: OpenWorld, land: Land, area: Area, key: str, mix: Mix, to: str, kinds: Mapping[str, str]
) -> Callable[[AsItWas, Window], dict[str, OpacityArray]]:
    """Draws one mix over into another where an area has more than half of a post."""
    layers = [(growth_layer(key), growth_layer(to))]
    layers += [(spare_layer(key, p.kind), spare_layer(to, kinds.get(p.kind, p.kind))) for p in mix.kinds]

    def look(as_it_was: AsItWas, part: Window) -> dict[str, OpacityArray]:
        was = as_it_was(land)
        inside = share_of(world, land, area, part, 0.0) >= 0.5
        full = was.read(layers[0][0], part)
        # Where the other mix was sown already, the fuller of the two stays.
        goes = inside & (full > 0)
        wins = goes & (full >= was.read(layers[0][1], part))
        out: dict[str, OpacityArray] = {}
        for of, into in layers:
            old, new = was.read(of, part), was.read(into, part)
            for layer, before, after in (
                (of, old, np.where(goes, 0, old)), (into, new, np.where(wins, old, new)),
            ):  # fmt: skip
                if not np.array_equal(before, after):
                    out[layer] = after.astype(np.uint16)
        return out

    return look
