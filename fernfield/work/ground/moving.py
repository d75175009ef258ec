"""Carrying the land of an area elsewhere, with what lies on it and stands in it when that is asked."""

from __future__ import annotations

import itertools
import math
import secrets
from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.carry import Carriage, mend, seen
from fernfield.work.ground.commands import MoveLand
from fernfield.work.kernel.declared import renamed, spots_of
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Journey, Moves
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.aside import Asides, overtaken
from fernfield.work.kernel.writing.drawing import AsItWas, Make, Put, draw, plainly
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.plots.areas import area_words, corners_of, mixed, said_in_world, share_of, window_of
from fernfield.work.plots.rows import PLOTS

ROUNDS = 5
"""So often the work begins anew when the land that it carries is changed."""

CUBIC = 4
"""Posts around a place that the carried land is drawn from, with one for the rounding."""

MOST_CARRIED = 4_097 * 4_097
"""Posts that can be carried at once."""


def move_land(world: OpenWorld, tract: Tract, command: MoveLand) -> Outcome:
    """Carry the land of an area elsewhere. Raises Conflict when the land it leaves is worked on again and again."""
    for _ in range(ROUNDS):
        with world.lock:
            world.check_open()
            trip = _Trip(world, *_ends(world, tract, command), command)
        closed = None if command.copy_land else trip.closed()
        try:
            return world.sweep(partial(_carrying, world, trip, closed, command))
        except _OvertakenError:
            continue
    raise Conflict("the land that is to be carried was changed again and again meanwhile; nothing was changed")


class _OvertakenError(Exception):
    """What the gap was closed from is not there any more."""


def _carrying(world: OpenWorld, trip: _Trip, closed: FloatArray | None, command: MoveLand) -> Sweep:
    if not trip.still():
        raise _OvertakenError
    puts = [*trip.ground(closed), *(put for layer in trip.layers() for put in trip.mask(layer))]

    def ends() -> Ended:
        verb = "Copied" if command.copy_land else "Moved"
        away = f"to {command.x:.0f}, {command.y:.0f}"
        away += "" if trip.target is trip.source else f" in {world.place_of(trip.target.id).name}"
        words = f"{verb} {area_words(world, command)} {away}"
        return Ended(words, said(command), trip.pieces() if command.pieces else {})

    carried = [collection.name for collection in world.house.collections.values() if collection.in_tract]
    return draw(world, puts, command.sheet, ends, PLOTS.name, "covers", *carried, still=trip.still)


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
        self._world, self.source, self.target, self._command = world, source, target, command
        self._there = Asides(world)
        self._window = window_of(world, source, command)
        if self._window.rows * self._window.cols > MOST_CARRIED:
            raise InvalidInput(f"at most {MOST_CARRIED} posts can be carried at once", "box")
        corners = corners_of(world, source, command)
        assert corners is not None
        xs, ys = [x for x, _ in corners], [y for _, y in corners]
        self._middle = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
        self._reach = self._area_at_target([self.place(x, y) for x, y in corners])

    def _share_of(self, part: Window, blend_m: float) -> FloatArray:
        return share_of(self._world, self.source, self._command, part, blend_m)

    def place(self, x: float, y: float) -> tuple[float, float]:
        """Where a place of the source comes to lie. [m]"""
        east, north = x - self._middle[0], y - self._middle[1]
        if self._command.mirror:
            east = -east
        turn = math.radians(self._command.turn_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        return self._command.x + east * cos + north * sin, self._command.y - east * sin + north * cos

    def _area_at_target(self, corners: list[tuple[float, float]]) -> Window:
        grid = self.target.grid
        rows, cols = [grid.row_of(y) for _, y in corners], [grid.col_of(x) for x, _ in corners]
        window = self.target.clip(
            Window(math.floor(min(rows)), math.floor(min(cols)), math.ceil(max(rows)) + 1, math.ceil(max(cols)) + 1)
        )
        if window.empty:
            words = f"the land must come to lie in the tract (0 to {grid.width:g}, 0 to {grid.depth:g})"
            raise InvalidInput(f"{words}, not at {self._command.x:g}, {self._command.y:g}", "x")
        return window

    def _carriage(self, part: Window, source: Window) -> Carriage:
        """From posts of `part` at the target to posts of a window of the source."""
        to, grid = self.target.grid, self.source.grid
        return Carriage(
            to.row_of(self._command.y) - part.row0,
            to.col_of(self._command.x) - part.col0,
            grid.row_of(self._middle[1]) - source.row0,
            grid.col_of(self._middle[0]) - source.col0,
            self._command.turn_deg,
            self._command.mirror,
            to.spacing / grid.spacing,
        )

    def _from(self, part: Window) -> Window:
        """The posts of the source that come to lie in a part of the target, with those that the cubic looks at."""
        matrix = self._carriage(part, self._window).matrix()
        ends = [(r, c, 1) for r in (0, part.rows - 1) for c in (0, part.cols - 1)]
        rows, cols = zip(*(matrix @ end for end in ends), strict=True)
        near = Window(math.floor(min(rows)), math.floor(min(cols)), math.ceil(max(rows)) + 1, math.ceil(max(cols)) + 1)
        return near.shifted(self._window.row0, self._window.col0).pad(CUBIC).meet(self._window)

    def closed(self) -> FloatArray:
        """The ground of the area with the gap closed from around it; worked out beside the world. [m]"""
        wide = self.source.clip(self._window.pad(12))
        gap, box = np.zeros(wide.shape, np.float32), self._window.inside(wide)
        gap[box] = self._share_of(self._window, 0.0)
        land = self.source.read_by(self._there.__getitem__)
        return mend(land.read(HEIGHT, wide), gap)[box]

    def still(self) -> bool:
        """Whether nobody has written what the gap was closed from."""
        return not overtaken(self._world, self._there.seen)

    def ground(self, closed: FloatArray | None) -> Iterator[Put]:
        blend = self._command.blend_m
        if closed is not None:

            def close(part: Window, was: FloatArray) -> FloatArray:
                return mixed(was, closed[part.inside(self._window)], self._share_of(part, blend))

            yield Put(self.source, self._window, plainly(close))

        def look(as_it_was: AsItWas, part: Window) -> Make:
            there, share = self._arriving(as_it_was, HEIGHT, part, blend)
            lift = np.float32(self._command.lift_m)
            return lambda was: mixed(was, np.where(np.isnan(there), was, there + lift), share)

        yield Put(self.target, self._reach, look)

    def _arriving(self, as_it_was: AsItWas, layer: str, part: Window, blend_m: float) -> tuple[FloatArray, FloatArray]:
        """What comes to lie in a part of the target, NaN where nothing does, and how much of it."""
        source = self._from(part)
        if source.empty:
            return np.full(part.shape, np.nan, np.float32), np.zeros(part.shape, np.float32)
        carriage = self._carriage(part, source)
        there = seen(as_it_was(self.source).read(layer, source), part.shape, carriage)
        share = seen(self._share_of(source, blend_m), part.shape, carriage)
        return there, np.clip(np.nan_to_num(share), 0, 1)

    def layers(self) -> Iterator[str]:
        """The masks that come along: those whose rooms say that they go by a word which was ticked."""
        wanted = {word for word in ("growth", "covers") if getattr(self._command, word)}
        parts = (*self.source.parts, *self.target.parts)
        names = {place[0] for part in parts for place in part.tract.cache.ranges}
        yield from sorted(n for n in names if self._world.house.layers(n).carried in wanted)

    def mask(self, layer: str) -> Iterator[Put]:
        if self.source.blank(layer, self._window) and self.target.blank(layer, self._reach):
            return
        if not self._command.copy_land:

            def leave(part: Window, was: FloatArray) -> FloatArray:
                return was * (1 - self._share_of(part, 0.0))

            yield Put(self.source, self._window, plainly(leave), layer)

        def look(as_it_was: AsItWas, part: Window) -> Make:
            there, share = self._arriving(as_it_was, layer, part, 0.0)
            return lambda was: was + (np.nan_to_num(there) - was) * share

        yield Put(self.target, self._reach, look, layer)

    def pieces(self) -> Moves:
        """The rows that lie on the land, as they come along or as copies, which are related among themselves."""
        found: dict[tuple[str, str], Any] = {}
        keys: dict[tuple[str, str], str] = {}
        carried = [c for c in self._world.house.collections.values() if c.in_tract and not c.stays]
        for collection, part in itertools.product(carried, self.source.parts):
            for key, row in self._world.each_in(collection, part.tract.row.id):
                spots = [(x + part.x, y + part.y) for x, y in spots_of(row)]
                if spots and all(self._stands_on_it(x, y, around=len(spots) > 1) for x, y in spots):
                    at = collection.name, key
                    journey = self._journey(part, *np.mean(spots, axis=0).tolist())
                    found[at] = collection.carry(row, journey)
                    keys[at] = secrets.token_hex(5) if self._command.copy_land else key
        return {(name, keys[name, key]): renamed(row, keys) for (name, key), row in found.items()}

    def _journey(self, source: Part, x: float, y: float) -> Journey:
        """How a row of a tract comes along that stands at (x, y) of the land."""
        there = self.target.part_at(*self.place(x, y)) or self.target.parts[0]

        def place(own_x: float, own_y: float) -> tuple[float, float]:
            to = self.place(own_x + source.x, own_y + source.y)
            return to[0] - there.x, to[1] - there.y

        return Journey(there.tract.row.id, there.tract.grid, place, self._bearing, self._command.copy_land)

    def _stands_on_it(self, x: float, y: float, *, around: bool = False) -> bool:
        """Whether a place belongs to the land; with `around`, also beside it: the corners of a plot that is carried."""
        row, col = round(self.source.grid.row_of(y)), round(self.source.grid.col_of(x))
        posts = Window(row, col, row + 1, col + 1).pad(1 if around else 0).meet(self._window)
        return not posts.empty and bool((self._share_of(posts, 0.0) > 0).any())

    def _bearing(self, degrees: float) -> float:
        return ((-degrees if self._command.mirror else degrees) + self._command.turn_deg) % 360
