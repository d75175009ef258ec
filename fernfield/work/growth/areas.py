"""Growth of an area at once: sown to a density, or cleared, of all kinds of a mix or of some."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.core.growth.spacing import DENSEST_PER_HA
from fernfield.core.growth.tools import clear, sow
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.sowing import growth_layer, spare_layer, ticks_of
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import AsItWas, Masks, draw
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.plots.areas import InArea, area_words, share_of, window_of
from fernfield.work.plots.rows import PLOTS


class GrowArea(InArea):
    """Sow a mix all over an area, up to a density; `clear` takes it away instead. `kinds`: left out, all of it."""

    do: Literal["grow_area"] = "grow_area"
    mix: Annotated[Key, UNASKED]
    kinds: Annotated[list[Key] | None, Field(max_length=16), UNASKED] = None
    target_per_ha: Annotated[
        float | None, Field(ge=0, le=DENSEST_PER_HA), Say("Up to", "/ha", left_out="full")
    ] = None  # fmt: skip
    clear: Annotated[bool, UNASKED] = False


def grow_area(world: OpenWorld, tract: Tract, command: GrowArea) -> Outcome:
    """One revision. Raises NotFound for a mix or kind, InvalidInput when no kind is ticked."""
    if command.clear and command.target_per_ha is not None:
        raise InvalidInput("target_per_ha goes with sowing, not with clearing", "target_per_ha")

    def begin() -> Sweep:
        land, area, mix = world.land_from(tract.row.id), command.area, world.row(MIXES, command.mix)
        values = ticks_of(mix, command.kinds, command.target_per_ha)
        layers = [growth_layer(command.mix), *(spare_layer(command.mix, part.kind) for part in mix.kinds)]

        def look(as_it_was: AsItWas, part: Window) -> dict[str, np.ndarray]:
            was = as_it_was(land)
            before = np.stack([was.read(layer, part) for layer in layers])
            share = share_of(world, land, area, part, command.feather_m)
            masks = before.copy()
            pressing = MaskPressing(masks, False, share, 1.0, values, land.grid.spacing, before)
            if command.clear:
                clear(pressing)
            else:
                sow(pressing)
            drawn = zip(layers, masks, before, strict=True)
            return {layer: now for layer, now, old in drawn if not np.array_equal(now, old)}

        verb = "Cleared" if command.clear else "Sowed"
        words = f"{verb} {mix.name} in {area_words(world, area)}"
        put = Masks(land, window_of(world, land, area), look)
        return draw(world, [put], None, lambda: Ended(words, said(command), {}), PLOTS.name, MIXES.name, "covers")

    return world.sweep(begin)
