"""Ground that rows make: worked out tile by tile into a sheet of its own, beside all that people have drawn."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT, Apart
from fernfield.work.kernel.rows import Moves, Works
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.draft import Draft

Build = Callable[[Land, Window], Callable[[FloatArray], FloatArray]]
"""For a window of a land: what makes of the ground there, as it is without them, the ground with them."""


def apart_of(world: OpenWorld) -> Apart:
    found = world.house.layers(HEIGHT).apart
    assert found is not None
    return found


def in_a_sheet(
    world: OpenWorld, sheet: tuple[str, str], windows: Sequence[tuple[Land, Window]], build: Build, more: Moves
) -> Works | None:  # fmt: skip
    """The works of some windows in a sheet (its key, and what it is called); `more` are rows that change with them.
    None where there is nothing to do. Under the lock."""
    if not windows:
        return Works((), lambda draft, unit: None, more) if more else None
    parts = {part.tract.row.id: (land, part) for land, _ in windows for part in land.parts}
    units = sorted({(tract.row.id, tile) for land, window in windows for tract, tile, _, _ in land.tiles(window)})
    apart = apart_of(world)

    def draw(draft: Draft, unit: tuple[str, tuple[int, int]]) -> None:
        land, part = parts[unit[0]]
        made = build(land, part.tract.grid.tile_window(*unit[1]).shifted(part.row, part.col))
        apart.lay(draft, world, unit, sheet[0], lambda ground: made(np.asarray(ground, np.float32)))

    return Works(units, draw, {**apart.moves(world, *sheet), **more})
