"""A guise is set over an area or a tract in one revision, and set back as easily: its covers, and the kinds and pieces
there."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np

from fernfield.core.brush.mask import taken_over
from fernfield.core.cover.areas import exchanged
from fernfield.core.cover.shares import OpacityArray
from fernfield.core.errors import Conflict
from fernfield.core.grid import Window
from fernfield.work.cover.areas import InArea
from fernfield.work.cover.guises import GUISES, Guise
from fernfield.work.cover.rows import COVERS, shown_covers
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.cover.shares import cover_layer, under_of
from fernfield.work.growth.rows import KINDS, MIXES
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Key, Moves
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import AsItWas, Masks, draw
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.plots.areas import Area, area_words, share_of, window_of
from fernfield.work.plots.rows import PLOTS
from fernfield.work.sites.rows import THINGS, things_of
from fernfield.work.worlds.regrowing import gone_kinds, regrown


class SetGuise(InArea):
    """Set a guise over an area, or the whole tract; `back`: the other way round."""

    do: Literal["set_guise"] = "set_guise"
    guise: Annotated[Key, UNASKED]
    back: Annotated[bool, Say("The other way round")] = False


def set_guise(world: OpenWorld, tract: Tract, command: SetGuise) -> Outcome:
    """One revision. Raises NotFound, and Conflict for a guise that names what has gone."""

    def begin() -> Sweep:
        land, area, guise = world.land_from(tract.row.id), command.area, world.row(GUISES, command.guise)
        keys = [key for key, _ in shown_covers(world)]
        to = np.arange(len(keys))
        for pair in guise.covers:
            one, other = (pair.to, pair.from_) if command.back else (pair.from_, pair.to)
            for key in (one, other):
                if key not in keys:
                    raise Conflict(f"the guise {guise.name} names the cover {key}, which is gone or hidden")
            to[keys.index(one)] = keys.index(other)
        layers, under = [cover_layer(key) for key in keys], under_of(world, land)

        def look(as_it_was: AsItWas, part: Window) -> dict[str, OpacityArray]:
            was = as_it_was(land)
            masks = np.stack([was.read(layer, part) for layer in layers])
            share = share_of(world, land, area, part, command.feather_m)
            mix = None if under is None else under(part)
            # What the rules show changes its guise too, and so becomes the hand's own.
            held = masks if mix is None else np.where(share > 0, taken_over(masks, mix), masks)
            made = exchanged(held, to, share)
            return {
                layer: now for layer, now, before in zip(layers, made, masks, strict=True)
                if not np.array_equal(now, before)
            }  # fmt: skip

        kinds = {p.to: p.from_ for p in guise.kinds} if command.back else {p.from_: p.to for p in guise.kinds}
        gone = gone_kinds(world, kinds)
        if gone:
            raise Conflict(f"the guise {guise.name} names the kind {gone[0]}, which is gone")
        grown = regrown(world, land, area, kinds, guise.name)
        puts = [Masks(land, window_of(world, land, area), look)] if guise.covers else []
        puts += grown.puts
        moves = {**_pieces(world, land, area, guise, back=command.back), **grown.moves}
        verb = "Set back" if command.back else "Set"
        words = f"{verb} the guise {guise.name} in {area_words(world, area)}"
        rests = PLOTS.name, COVERS.name, COVER_RULES.name, GUISES.name, THINGS.name, KINDS.name, MIXES.name
        return draw(world, puts, None, lambda: Ended(words, said(command), moves), *rests)

    return world.sweep(begin)


def _pieces(world: OpenWorld, land: Land, area: Area, guise: Guise, *, back: bool) -> Moves:
    """The pieces in an area as others of the kit, each where it stood."""
    kits = {pair.to: pair.from_ for pair in guise.pieces} if back else {p.from_: p.to for p in guise.pieces}
    moves: Moves = {}
    for part in land.parts:
        for key, thing in things_of(world, part.tract.row.id):
            if getattr(thing, "kit", None) not in kits or not _inside(
                world, land, area, thing.x + part.x, thing.y + part.y
            ):
                continue
            moves[THINGS.name, key] = thing.model_copy(update={"kit": kits[getattr(thing, "kit", "")]})
    return moves


def _inside(world: OpenWorld, land: Land, area: Area, x: float, y: float) -> bool:
    if area.whole:
        return land.grid.holds(x, y)
    row, col = round(land.grid.row_of(y)), round(land.grid.col_of(x))
    spot = land.clip(Window(row, col, row + 1, col + 1))
    return not spot.empty and float(share_of(world, land, area, spot, 0.0)[0, 0]) >= 0.5
