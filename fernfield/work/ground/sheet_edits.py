"""The edits of sheets as commands: each one revision, each undone like any other."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray
from fernfield.core.ground.carry import Carriage, seen
from fernfield.formats.asc import asc_lines
from fernfield.work.ground.commands import ClearSheet, MergeSheet, PasteSheet, PutSheet, RemoveSheet
from fernfield.work.ground.rows import MOST_SHEETS, RECIPES, SHEETS, Sheet, sheets_of
from fernfield.work.ground.sheeting import check_open, clear_tile, holding, merge_tile, restack, sheet_layer, shown
from fernfield.work.kernel.commands import Command, said_of
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Moves
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit


def put_sheet(world: OpenWorld, command: PutSheet) -> Outcome:
    """Add a sheet or change one; the ground follows when it is hidden, shown or weighed."""

    def begin() -> Sweep:
        old = sheets_of(world)
        was = dict(old).get(command.key)
        if was is None and len(old) >= MOST_SHEETS:
            raise Conflict(f"a world holds at most {MOST_SHEETS} sheets")
        sheet = SHEETS.merged(was, said_of(command.sheet))
        new = [*((k, s) for k, s in old if k != command.key), (command.key, sheet)]
        changes = dict(shown(old)).get(command.key) != dict(shown(new)).get(command.key)
        return _sweep(
            world, command, holding(world.caches, command.key) if changes else [],
            lambda draft, unit: restack(draft, unit, new), _words(was, sheet), {(SHEETS.name, command.key): sheet},
        )  # fmt: skip

    return world.sweep(begin)


def _sweep(
    world: OpenWorld, command: Command, units: Sequence[Unit], draw: Callable[[Draft, Unit], None], words: str,
    moves: Moves,
) -> Sweep:  # fmt: skip
    """An edit of what sheets hold."""
    return Sweep(units, draw, lambda: Ended(words, said(command), moves), world.rests_on(SHEETS.name))


def _words(was: Sheet | None, sheet: Sheet) -> str:
    if was is None:
        return f"Added the sheet {sheet.name}"
    if was.hidden != sheet.hidden:
        return f"{'Hid' if sheet.hidden else 'Showed'} the sheet {sheet.name}"
    if was.locked != sheet.locked:
        return f"{'Locked' if sheet.locked else 'Unlocked'} the sheet {sheet.name}"
    if was.weight != sheet.weight:
        return f"The sheet {sheet.name} at {sheet.weight * 100:.0f} %"
    return f"Changed the sheet {sheet.name}"


def empty_sheet(world: OpenWorld, command: ClearSheet | RemoveSheet) -> Outcome:
    """Take everything out of a sheet, and away with it when it is removed."""

    def begin() -> Sweep:
        sheet = world.row(SHEETS, command.key)
        if sheet.locked:
            raise Conflict(f"the sheet {sheet.name} is locked: unlock it first")
        sheets, only = sheets_of(world), isinstance(command, ClearSheet)
        return _sweep(
            world, command, holding(world.caches, command.key),
            lambda draft, unit: clear_tile(draft, unit, command.key, sheets),
            f"{'Cleared' if only else 'Deleted'} the sheet {sheet.name}", {} if only else _gone(world, command.key),
        )  # fmt: skip

    return world.sweep(begin)


def _gone(world: OpenWorld, key: str) -> Moves:
    """The rows of a sheet that goes: itself, and the recipe that made it."""
    moves: Moves = {("sheets", key): None}
    if key in world.rows[RECIPES.name]:
        moves["recipes", key] = None
    return moves


def merge(world: OpenWorld, command: MergeSheet) -> Outcome:
    """Put what a sheet holds into another or the base, and remove it."""

    def begin() -> Sweep:
        sheets = sheets_of(world)
        sheet = world.row(SHEETS, command.key)
        check_open(sheets, command.key)
        check_open(sheets, command.into)
        if command.into == command.key:
            raise Conflict(f"the sheet {sheet.name} cannot be merged into itself")
        into = "the base" if command.into is None else world.row(SHEETS, command.into).name
        return _sweep(
            world, command, holding(world.caches, command.key),
            lambda draft, unit: merge_tile(draft, unit, command.key, command.into, sheets),
            f"Merged the sheet {sheet.name} into {into}", _gone(world, command.key),
        )  # fmt: skip

    return world.sweep(begin)


def sheet_asc(world: OpenWorld, tract: Tract, key: str) -> Iterator[bytes]:
    """What a sheet holds, as an ESRI ASCII grid of differences in metres, line by line."""
    world.row(SHEETS, key)

    def parts() -> Iterator[FloatArray]:
        for window in bands(tract.grid):
            with world.lock:
                yield tract.cache.read(sheet_layer(key), window)

    return asc_lines(parts(), tract.grid.rows, tract.grid.cols, tract.grid.spacing)


def paste_sheet(world: OpenWorld, tract: Tract, command: PasteSheet, rise: FloatArray, spacing: float) -> Outcome:
    """A new sheet from differences [m] of any spacing, south-west corner on the tract's; what lies beyond is cut."""
    grid = tract.grid

    def begin() -> Sweep:
        sheets = sheets_of(world)
        if command.key in dict(sheets) or len(sheets) >= MOST_SHEETS:
            raise Conflict(f"there is a sheet {command.key!r} already, or there are {MOST_SHEETS} of them")
        new = [*sheets, (command.key, command.sheet)]

        def draw(draft: Draft, unit: Unit) -> None:
            whole = grid.tile_window(*unit[1])
            carriage = Carriage(
                grid.rows - 1 - whole.row0, -whole.col0, rise.shape[0] - 1, 0, scale=grid.spacing / spacing
            )
            own = np.nan_to_num(seen(rise, whole.shape, carriage))
            if own.any():
                place = sheet_layer(command.key), *unit[1]
                draft.tile(unit[0], place)[...] = own
                draft.cache(unit[0]).widen_range(place, own)
                restack(draft, unit, new)

        units = [(tract.row.id, tile) for tile in grid.window.tiles()]
        moves: Moves = {(SHEETS.name, command.key): command.sheet}
        return _sweep(world, command, units, draw, f"Brought in the sheet {command.sheet.name}", moves)

    return world.sweep(begin)
