"""Carrying the land of an area elsewhere, with what lies on it and stands in it when that is asked."""

from __future__ import annotations

import math
import secrets
from collections.abc import Callable, Iterator

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.carry import Carriage, mend, seen
from fernfield.work.ground.commands import MoveLand
from fernfield.work.kernel.draft import Draft
from fernfield.work.kernel.drawing import GroundDrawing
from fernfield.work.kernel.layers import HEIGHT
from fernfield.work.kernel.rows import Journey, Moves
from fernfield.work.kernel.tiles import Place
from fernfield.work.kernel.tracts import Tract
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import area_words, corners_of, mixed, share_of, window_of

MOST_CARRIED = 4_097 * 4_097
"""Posts that can be carried at once."""


def move_land(world: OpenWorld, tract: Tract, command: MoveLand) -> Outcome:
    """Carry the land of an area elsewhere."""
    target = tract if command.tract is None else world.tract(command.tract)

    def work(draft: Draft) -> tuple[str, Moves]:
        trip = _Trip(world, tract, target, command)
        ground = GroundDrawing(world, draft, command.sheet)
        trip.carry_ground(ground)
        for layer in trip.layers():
            trip.carry_mask(draft, layer)
        moves = trip.pieces() if command.pieces else {}
        verb = "Copied" if command.copy_land else "Moved"
        away = f"to {command.x:.0f}, {command.y:.0f}" + (
            "" if target is tract else f" in {world.place_of(target.row.id).name}"
        )
        return f"{verb} {area_words(world, command)} {away}", moves

    return world.change_ground(command, work)


def outline_there(world: OpenWorld, tract: Tract, command: MoveLand) -> list[tuple[float, float]]:
    """The corners of an area where it would come to lie. [m]"""
    target = tract if command.tract is None else world.tract(command.tract)
    trip = _Trip(world, tract, target, command)
    return [trip.place(x, y) for x, y in corners_of(world, command) or []]


class _Trip:
    """One carrying of land: where from, where to, and what of it belongs to the area."""

    def __init__(self, world: OpenWorld, source: Tract, target: Tract, command: MoveLand) -> None:
        self._world, self._source, self._target, self._command = world, source, target, command
        grid = source.grid
        self._window = window_of(world, grid, command)
        if self._window.rows * self._window.cols > MOST_CARRIED:
            raise InvalidInput(f"at most {MOST_CARRIED} posts can be carried at once", "box")
        corners = corners_of(world, command)
        assert corners is not None
        xs, ys = [x for x, _ in corners], [y for _, y in corners]
        self._middle = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
        self._share = share_of(world, source, command, self._window, command.blend_m)
        self._hard = share_of(world, source, command, self._window, 0.0)
        self._reach = self._area_at_target([self.place(x, y) for x, y in corners])

    def place(self, x: float, y: float) -> tuple[float, float]:
        """Where a place of the source comes to lie. [m]"""
        east, north = x - self._middle[0], y - self._middle[1]
        if self._command.mirror:
            east = -east
        turn = math.radians(self._command.turn_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        return self._command.x + east * cos + north * sin, self._command.y - east * sin + north * cos

    def _area_at_target(self, corners: list[tuple[float, float]]) -> Window:
        grid = self._target.grid
        rows, cols = [grid.row_of(y) for _, y in corners], [grid.col_of(x) for x, _ in corners]
        window = grid.clip(
            Window(math.floor(min(rows)), math.floor(min(cols)), math.ceil(max(rows)) + 1, math.ceil(max(cols)) + 1)
        )
        if window.empty:
            words = f"the land must come to lie in the tract (0 to {grid.width:g}, 0 to {grid.depth:g})"
            raise InvalidInput(f"{words}, not at {self._command.x:g}, {self._command.y:g}", "x")
        return window

    def _carriage(self, part: Window) -> Carriage:
        """From posts of `part` at the target to posts of the source's window."""
        to, source = self._target.grid, self._source.grid
        return Carriage(
            to.row_of(self._command.y) - part.row0,
            to.col_of(self._command.x) - part.col0,
            source.row_of(self._middle[1]) - self._window.row0,
            source.col_of(self._middle[0]) - self._window.col0,
            self._command.turn_deg,
            self._command.mirror,
            to.spacing / source.spacing,
        )

    def carry_ground(self, ground: GroundDrawing) -> None:
        cache = self._source.cache
        land = cache.read(HEIGHT, self._window)
        if not self._command.copy_land:
            wide = self._source.grid.clip(self._window.pad(12))
            gap = np.zeros(wide.shape, np.float32)
            gap[self._window.inside(wide)] = self._hard
            filled = mend(cache.read(HEIGHT, wide), gap)
            box = self._window.inside(wide)
            closed = filled[box]
            ground.put(
                self._source,
                self._window,
                lambda part, was: mixed(was, closed[part.inside(self._window)], self._share[part.inside(self._window)]),
            )

        def new(part: Window, was: FloatArray) -> FloatArray:
            carriage = self._carriage(part)
            there, share = seen(land, part.shape, carriage), seen(self._share, part.shape, carriage)
            share = np.clip(np.nan_to_num(share), 0, 1)
            return mixed(was, np.where(np.isnan(there), was, there + np.float32(self._command.lift_m)), share)

        ground.put(self._target, self._reach, new)
        ground.settle()

    def layers(self) -> Iterator[str]:
        """The masks that come along: those whose rooms say that they go by a word which was ticked."""
        wanted = {word for word in ("growth", "covers") if getattr(self._command, word)}
        names = {place[0] for tract in (self._source, self._target) for place in tract.cache.ranges}
        yield from sorted(n for n in names if self._world.house.layers(n).carried in wanted)

    def carry_mask(self, draft: Draft, layer: str) -> None:
        source, target = self._source, self._target
        if source.cache.blank(layer, self._window) and target.cache.blank(layer, self._reach):
            return
        mask = source.cache.read(layer, self._window).astype(np.float32)
        if not self._command.copy_land:
            self._put_mask(
                draft, source, layer, self._window, lambda part, was: was * (1 - self._hard[part.inside(self._window)])
            )

        def new(part: Window, was: FloatArray) -> FloatArray:
            carriage = self._carriage(part)
            there, share = seen(mask, part.shape, carriage), seen(self._hard, part.shape, carriage)
            share = np.clip(np.nan_to_num(share), 0, 1)
            return was + (np.nan_to_num(there) - was) * share

        self._put_mask(draft, target, layer, self._reach, new)

    @staticmethod
    def _put_mask(
        draft: Draft, tract: Tract, layer: str, window: Window, new: Callable[[Window, FloatArray], FloatArray]
    ) -> None:
        for tile in window.tiles():
            place: Place = (layer, *tile)
            whole = tract.grid.tile_window(*tile)
            part = whole.meet(window)
            own = draft.tile(tract.row.id, place)
            box = part.inside(whole)
            own[box] = np.clip(np.rint(new(part, own[box].astype(np.float32))), 0, 65_535).astype(np.uint16)

    def pieces(self) -> Moves:
        """The rows that stand on the land, as they come along or as copies."""
        moves: Moves = {}
        source, copied = self._source, self._command.copy_land
        journey = Journey(self._target.row.id, self._target.grid, self.place, self._bearing, copied)
        for collection in self._world.house.collections.values():
            if collection.carried is None:
                continue
            for key, row in self._world.each_in(collection, source.row.id):
                if self._stands_on_it(getattr(row, "x"), getattr(row, "y")):  # noqa: B009 (any row with a place)
                    moves[collection.name, secrets.token_hex(5) if copied else key] = collection.carried(row, journey)
        return moves

    def _stands_on_it(self, x: float, y: float) -> bool:
        grid, window = self._source.grid, self._window
        row, col = round(grid.row_of(y)) - window.row0, round(grid.col_of(x)) - window.col0
        return 0 <= row < window.rows and 0 <= col < window.cols and bool(self._hard[row, col] > 0)

    def _bearing(self, degrees: float) -> float:
        return ((-degrees if self._command.mirror else degrees) + self._command.turn_deg) % 360
