"""Carrying the land of an area elsewhere, with what lies on it and stands in it when that is asked."""

from __future__ import annotations

import itertools
import math
import secrets
from collections.abc import Callable, Iterator

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.carry import Carriage, mend, seen
from fernfield.work.ground.commands import MoveLand
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Journey, Moves
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.drawing import GroundDrawing
from fernfield.work.plots.areas import area_words, corners_of, mixed, said_in_world, share_of, window_of

MOST_CARRIED = 4_097 * 4_097
"""Posts that can be carried at once."""


def move_land(world: OpenWorld, tract: Tract, command: MoveLand) -> Outcome:
    """Carry the land of an area elsewhere."""
    source, target = _ends(world, tract, command)

    def work(draft: Draft) -> tuple[str, Moves]:
        trip = _Trip(world, source, target, command)
        ground = GroundDrawing(world, draft, command.sheet)
        trip.carry_ground(ground)
        for layer in trip.layers():
            trip.carry_mask(draft, layer)
        moves = trip.pieces() if command.pieces else {}
        verb = "Copied" if command.copy_land else "Moved"
        away = f"to {command.x:.0f}, {command.y:.0f}" + (
            "" if target is source else f" in {world.place_of(target.id).name}"
        )
        return f"{verb} {area_words(world, command)} {away}", moves

    return world.change_ground(command, work)


def outline_there(world: OpenWorld, tract: Tract, command: MoveLand) -> list[tuple[float, float]]:
    """The corners of an area where it would come to lie. [m]"""
    source, target = _ends(world, tract, command)
    trip = _Trip(world, source, target, command)
    return [trip.place(x, y) for x, y in corners_of(world, source, command) or []]


def move_in_world(world: OpenWorld, tract: Tract, command: MoveLand) -> tuple[Tract, MoveLand]:
    """A move said in the world's metres: the tract that it is worked from, and the same in the metres of the tracts."""
    at, own = said_in_world(world, tract, command)
    to = command.tract
    if to is None:
        there = world.country(at.row.id).part_at(command.x, command.y)
        if there is None or there.tract.row.id in world.land(at.row.id).tract_ids:
            return at, own
        to = there.tract.row.id
    place = world.place_of(to)
    return at, own.model_copy(update={"tract": to, "x": command.x - place.x, "y": command.y - place.y})


def _ends(world: OpenWorld, tract: Tract, command: MoveLand) -> tuple[Land, Land]:
    """The land that is carried, and that where it comes to lie, as the tract that is named sees it."""
    source = world.land_from(tract.row.id)
    return source, source if command.tract is None else world.land_from(command.tract)


class _Trip:
    """One carrying of land: where from, where to, and what of it belongs to the area."""

    def __init__(self, world: OpenWorld, source: Land, target: Land, command: MoveLand) -> None:
        self._world, self._source, self._target, self._command = world, source, target, command
        self._window = window_of(world, source, command)
        if self._window.rows * self._window.cols > MOST_CARRIED:
            raise InvalidInput(f"at most {MOST_CARRIED} posts can be carried at once", "box")
        corners = corners_of(world, source, command)
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
        window = self._target.clip(
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
        land = self._source.read(HEIGHT, self._window)
        if not self._command.copy_land:
            wide = self._source.clip(self._window.pad(12))
            gap = np.zeros(wide.shape, np.float32)
            gap[self._window.inside(wide)] = self._hard
            filled = mend(self._source.read(HEIGHT, wide), gap)
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
        parts = (*self._source.parts, *self._target.parts)
        names = {place[0] for part in parts for place in part.tract.cache.ranges}
        yield from sorted(n for n in names if self._world.house.layers(n).carried in wanted)

    def carry_mask(self, draft: Draft, layer: str) -> None:
        source, target = self._source, self._target
        if source.blank(layer, self._window) and target.blank(layer, self._reach):
            return
        mask = source.read(layer, self._window).astype(np.float32)
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
        draft: Draft, land: Land, layer: str, window: Window, new: Callable[[Window, FloatArray], FloatArray]
    ) -> None:
        for tract, tile, whole, part in land.tiles(window):
            own = draft.tile(tract.row.id, (layer, *tile))
            box = part.inside(whole)
            own[box] = np.clip(np.rint(new(part, own[box].astype(np.float32))), 0, 65_535).astype(np.uint16)

    def pieces(self) -> Moves:
        """The rows that stand on the land, as they come along or as copies."""
        moves: Moves = {}
        copied = self._command.copy_land
        carried = [c for c in self._world.house.collections.values() if c.carried is not None]
        for collection, part in itertools.product(carried, self._source.parts):
            for key, row in self._world.each_in(collection, part.tract.row.id):
                # Any row with a place.
                x, y = getattr(row, "x") + part.x, getattr(row, "y") + part.y  # noqa: B009
                if self._stands_on_it(x, y):
                    assert collection.carried is not None
                    journey = self._journey(part, x, y)
                    moves[collection.name, secrets.token_hex(5) if copied else key] = collection.carried(row, journey)
        return moves

    def _journey(self, source: Part, x: float, y: float) -> Journey:
        """How a row of a tract comes along that stands at (x, y) of the land."""
        there = self._target.part_at(*self.place(x, y)) or self._target.parts[0]

        def place(own_x: float, own_y: float) -> tuple[float, float]:
            to = self.place(own_x + source.x, own_y + source.y)
            return to[0] - there.x, to[1] - there.y

        return Journey(there.tract.row.id, there.tract.grid, place, self._bearing, self._command.copy_land)

    def _stands_on_it(self, x: float, y: float) -> bool:
        grid, window = self._source.grid, self._window
        row, col = round(grid.row_of(y)) - window.row0, round(grid.col_of(x)) - window.col0
        return 0 <= row < window.rows and 0 <= col < window.cols and bool(self._hard[row, col] > 0)

    def _bearing(self, degrees: float) -> float:
        return ((-degrees if self._command.mirror else degrees) + self._command.turn_deg) % 360
