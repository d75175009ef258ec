"""Sheets in the open world: where an edit of the ground goes, and what hiding or merging one does to it.

The ground of a tract is one layer that holds the sum, so that reading it costs nothing
more for sheets. Beside it stand a layer for each sheet, and one that says in which bits
the base differs from the ground: where there are no sheets it is empty.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.sheets import base_of, compose, under_of
from fernfield.work.ground.rows import MOST_SHEETS, SHEETS, Sheet, sheets_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT, NewTile
from fernfield.work.kernel.posts.tiles import Place, TileCache
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Moves
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.sweep import Unit

Sheets = Sequence[tuple[str, Sheet]]

UNDER = "under"
"""The layer that says in which bits the base under the sheets differs from the ground."""

SHEET = "sheet"
"""The sort of layer that holds what a sheet adds: "sheet:" and the sheet's key."""


def sheet_layer(key: str) -> str:
    return f"{SHEET}:{key}"


def may_go_into(world: OpenWorld, key: str | None) -> None:
    """Raises when an edit cannot go into a sheet of a world."""
    check_open(sheets_of(world), key)


def settle_into(
    draft: Draft, world: OpenWorld, tract: Tract, tile: tuple[int, int], was: NDArray[Any], key: str | None
) -> None:
    """The ground of a tile was drawn on: put what changed into a sheet, or into the base."""
    settle(draft, tract.row.id, draft.cache(tract.row.id), tile, was, sheets_of(world), key)


def check_open(sheets: Sheets, key: str | None) -> None:
    """Raises when strokes cannot go into a sheet."""
    if key is None:
        return
    sheet = dict(sheets).get(key)
    if sheet is None:
        known = ", ".join(k for k, _ in sheets) or "none"
        raise NotFound(f"there is no sheet {key!r}; there is {known}")
    if sheet.locked:
        raise Conflict(f"the sheet {sheet.name} is locked: unlock it to work into it")
    if sheet.hidden or sheet.weight == 0:
        raise Conflict(f"the sheet {sheet.name} is hidden: show it to work into it")


def shown(sheets: Sheets) -> list[tuple[str, float]]:
    return [(key, sheet.weight) for key, sheet in sheets if not sheet.hidden and sheet.weight > 0]


def _stack(cache: TileCache, sheets: Sheets, tile: tuple[int, int]) -> list[tuple[float, FloatArray]]:
    """What lies over the base in a tile."""
    return [
        (weight, cache.tile((sheet_layer(key), *tile)))
        for key, weight in shown(sheets)
        if not cache.blank_tile((sheet_layer(key), *tile))
    ]


def settle(draft: Draft, tract_id: str, cache: TileCache, tile: tuple[int, int], was: FloatArray, sheets: Sheets,
           key: str | None) -> None:  # fmt: skip
    """The ground of a tile was drawn on: put what changed into a sheet, or into the base.

    was : the ground before; what is there now becomes the sum of base and sheets again
    """
    under: Place = (UNDER, *tile)
    if key is None and cache.blank_tile(under):
        return
    ground: FloatArray = cache.tile((HEIGHT, *tile))
    changed = ground != was
    if not changed.any():
        return
    base = base_of(was, cache.tile(under))
    rise = (ground.astype(np.float64) - was)[changed]
    if key is None:
        base = base.copy()
        base[changed] = (base[changed] + rise).astype(np.float32)
    else:
        own = draft.tile(tract_id, (sheet_layer(key), *tile))
        own[changed] = (own[changed] + rise / dict(shown(sheets))[key]).astype(np.float32)
        cache.widen_range((sheet_layer(key), *tile), own)
    new = compose(base, _stack(cache, sheets, tile))
    ground[changed] = new[changed]
    draft.tile(tract_id, under)[...] = under_of(ground, base)
    cache.widen_range(under, cache.tile(under))


def restack(draft: Draft, unit: Unit, sheets: Sheets, base: FloatArray | None = None) -> None:
    """Make the ground of a tile the sum of its base and `sheets` anew; `base` is another base than the one there."""
    tract_id, tile = unit
    ground = draft.tile(tract_id, (HEIGHT, *tile))
    under = draft.tile(tract_id, (UNDER, *tile))
    if base is None:
        base = base_of(draft.was(tract_id, (HEIGHT, *tile)), draft.was(tract_id, (UNDER, *tile))).copy()
    ground[...] = compose(base, _stack(draft.cache(tract_id), sheets, tile))
    under[...] = under_of(ground, base)


def tiles_of(cache: TileCache, key: str) -> list[tuple[int, int]]:
    """The tiles in which a sheet holds something."""
    layer = sheet_layer(key)
    return sorted((place[1], place[2]) for place in cache.ranges if place[0] == layer and not cache.blank_tile(place))


def holding(caches: Mapping[str, TileCache], key: str) -> list[Unit]:
    """The tiles of all tracts in which a sheet holds something."""
    return [(tract_id, tile) for tract_id, cache in caches.items() for tile in tiles_of(cache, key)]


def clear_tile(draft: Draft, unit: Unit, key: str, sheets: Sheets) -> None:
    """Take everything out of a sheet in a tile; the ground is the sum of the others."""
    draft.tile(unit[0], (sheet_layer(key), *unit[1]))[...] = 0
    draft.cache(unit[0]).set_range((sheet_layer(key), *unit[1]), 0.0, 0.0)
    restack(draft, unit, sheets)


def merge_tile(draft: Draft, unit: Unit, key: str, into: str | None, sheets: Sheets) -> None:
    """Put what a sheet holds in a tile into another or the base; the ground stays, to the rounding of a float32."""
    tract_id, tile = unit
    weights = dict(shown(sheets))
    left = [pair for pair in sheets if pair[0] != key]
    own = draft.tile(tract_id, (sheet_layer(key), *tile))
    held = weights[key] * own.astype(np.float64)
    base: NDArray[Any] | None = None
    if into is None:
        old = base_of(draft.was(tract_id, (HEIGHT, *tile)), draft.was(tract_id, (UNDER, *tile)))
        base = (old + held).astype(np.float32)
    else:
        other = draft.tile(tract_id, (sheet_layer(into), *tile))
        other[...] = (other + held / weights[into]).astype(np.float32)
        draft.cache(tract_id).widen_range((sheet_layer(into), *tile), other)
    own[...] = 0
    restack(draft, unit, left, base)


class ApartInSheets:
    """What a room adds to the ground by itself lies in a sheet of its own, which no stroke goes into."""

    def moves(self, world: OpenWorld, key: str, name: str) -> Moves:
        sheets = sheets_of(world)
        if key in dict(sheets):
            return {}
        if len(sheets) >= MOST_SHEETS:
            raise Conflict(f"a world holds at most {MOST_SHEETS} sheets, and {name.lower()} need one of their own")
        return {(SHEETS.name, key): Sheet(name=name, position=len(sheets), locked=True)}

    def without(self, world: OpenWorld, land: Land, window: Window, key: str) -> FloatArray:
        ground = land.read(HEIGHT, window)
        if land.blank(sheet_layer(key), window):
            return np.asarray(ground)
        base = base_of(ground, land.read(UNDER, window))
        others = [
            (weight, np.asarray(land.read(sheet_layer(one), window)))
            for one, weight in shown(sheets_of(world)) if one != key and not land.blank(sheet_layer(one), window)
        ]  # fmt: skip
        return compose(base, others)

    def lay(self, draft: Draft, world: OpenWorld, unit: Unit, key: str, new: NewTile) -> None:
        tract_id, tile = unit
        own = sheet_layer(key), *tile
        stack = [*((one, sheet) for one, sheet in sheets_of(world) if one != key)]
        sheet = dict(sheets_of(world)).get(key, Sheet(name=key))
        base = base_of(draft.was(tract_id, (HEIGHT, *tile)), draft.was(tract_id, (UNDER, *tile))).copy()
        ground = compose(base, _stack(draft.cache(tract_id), stack, tile))
        rise = (new(ground).astype(np.float64) - ground).astype(np.float32)
        if not rise.any() and draft.cache(tract_id).blank_tile(own):
            return
        draft.tile(tract_id, own)[...] = rise
        draft.cache(tract_id).set_range(own, float(rise.min()), float(rise.max()))
        restack(draft, unit, [*stack, (key, sheet)], base)
