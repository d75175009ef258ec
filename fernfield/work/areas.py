"""Edits of whole areas: resetting them, carrying them elsewhere, weathering them."""

from __future__ import annotations

import math
import secrets
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.ground.brush import HIGHEST_M, LOWEST_M
from fernfield.core.ground.carry import Carriage, mend, seen
from fernfield.core.ground.keep import inside
from fernfield.core.intake.square import between
from fernfield.work.commands import Area, MoveLand, PressFile, Reset, Weather
from fernfield.work.draft import Draft
from fernfield.work.edits import Moves
from fernfield.work.entries import Plot, Row, Thing
from fernfield.work.layers import HEIGHT, Place
from fernfield.work.sheeting import check_open, settle
from fernfield.work.world import OpenWorld, Outcome, Tract

MOST_CARRIED = 4_097 * 4_097
"""Posts that can be carried at once."""


class Ground:
    """Draws new ground into a draft, tile by tile, and settles it into a sheet at the end."""

    def __init__(self, world: OpenWorld, draft: Draft, sheet: str | None) -> None:
        check_open(world.sheets(), sheet)
        self._world, self._draft, self._sheet = world, draft, sheet
        self._touched: dict[tuple[str, tuple[int, int]], None] = {}

    def put(self, tract: Tract, window: Window, new: Callable[[Window, FloatArray], FloatArray]) -> None:
        """`new` makes the ground of each part of `window` from where it is and what is there."""
        limits, grid = self._world.limits, tract.grid
        for tile in grid.clip(window).tiles():
            whole = grid.tile_window(*tile)
            part = whole.meet(window)
            ground = self._draft.tile(tract.row.id, (HEIGHT, *tile))
            box = part.inside(whole)
            was = ground[box].copy()
            drawn = new(part, was)
            high = np.maximum(was, np.float32(min(limits.highest_m, HIGHEST_M)))
            low = np.minimum(was, np.float32(max(limits.lowest_m, LOWEST_M)))
            ground[box] = np.clip(drawn, low, high)
            self._touched[tract.row.id, tile] = None

    def settle(self) -> None:
        """What was drawn goes into the sheet."""
        for tract_id, tile in self._touched:
            cache = self._world.tract(tract_id).cache
            was = self._draft.was(tract_id, (HEIGHT, *tile))
            cache.widen_range((HEIGHT, *tile), cache.tile((HEIGHT, *tile)))
            settle(self._draft, tract_id, cache, tile, was, self._world.sheets(), self._sheet)


def corners_of(world: OpenWorld, area: Area) -> list[tuple[float, float]] | None:
    """The polygon of an area [m]; None for the whole tract."""
    if area.plot is not None:
        return list(world.row(Plot, "plots", area.plot).points)
    if area.box is not None:
        x0, y0, x1, y1 = area.box
        return [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
    return None


def window_of(world: OpenWorld, grid: Grid, area: Area) -> Window:
    """The posts of an area. Raises InvalidInput when it holds none."""
    corners = corners_of(world, area)
    if corners is None:
        return grid.window
    xs, ys = [x for x, _ in corners], [y for _, y in corners]
    window = grid.clip(
        Window(
            math.floor(grid.row_of(max(ys))),
            math.floor(grid.col_of(min(xs))),
            math.ceil(grid.row_of(min(ys))) + 1,
            math.ceil(grid.col_of(max(xs))) + 1,
        )
    )
    if window.empty:
        words = f"the area must reach into the tract (0 to {grid.width:g}, 0 to {grid.depth:g})"
        raise InvalidInput(words, "plot" if area.plot else "box")
    return window


def share_of(world: OpenWorld, grid: Grid, area: Area, part: Window, feather_m: float) -> FloatArray:
    """How much of each post of `part` belongs to an area, 0 to 1."""
    corners = corners_of(world, area)
    if corners is None:
        return np.ones(part.shape, np.float32)
    # A hair outwards, so that posts on the edge of a box belong to it.
    outline = np.array([(grid.row_of(y), grid.col_of(x)) for x, y in corners], np.float64)
    middle = outline.mean(axis=0)
    outline = middle + (outline - middle) * (1 + 1e-9)
    return inside([outline], part.shape, part.row0, part.col0, feather_m / grid.spacing)


def mixed(was: FloatArray, new: FloatArray, share: FloatArray) -> FloatArray:
    """`new` by its share; where that is whole, to the last bit."""
    return np.where(share >= 1, new, was + (new - was) * share).astype(np.float32)


def area_words(world: OpenWorld, area: Area) -> str:
    if area.plot is not None:
        return f"the plot {world.row(Plot, 'plots', area.plot).name}"
    if area.box is not None:
        return f"{area.box[2] - area.box[0]:.0f} by {area.box[3] - area.box[1]:.0f} m"
    return "the whole tract"


def reset(world: OpenWorld, tract: Tract, command: Reset, past: OpenWorld | None) -> Outcome:
    """Bring an area back to an elevation, or to the ground of `past`, the world as it was."""

    def work(draft: Draft) -> tuple[str, Moves]:
        window = window_of(world, tract.grid, command)
        ground = Ground(world, draft, command.sheet)

        def new(part: Window, was: FloatArray) -> FloatArray:
            share = share_of(world, tract.grid, command, part, command.feather_m)
            if past is None:
                return mixed(was, np.full_like(was, command.elevation_m), share)
            return mixed(was, past.tract(tract.row.id).cache.read(HEIGHT, part), share)

        ground.put(tract, window, new)
        ground.settle()
        to = {"base": "to the base", "revision": f"to r{command.revision}"}.get(
            command.to, f"to {command.elevation_m or 0:g} m"
        )
        return f"Reset {area_words(world, command)} {to}", {}

    return world.change_ground(command, work)


def weathered(world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, after: Any) -> Outcome:
    """Write what weathering came to. Where the ground has changed meanwhile, what it did is added to that."""

    def work(draft: Draft) -> tuple[str, Moves]:
        ground = Ground(world, draft, command.sheet)

        def new(part: Window, was: FloatArray) -> FloatArray:
            box = part.inside(window)
            old, then = np.asarray(before[box], np.float32), np.asarray(after[box], np.float32)
            return np.where(was == old, then, was + (then - old)).astype(np.float32)

        ground.put(tract, window, new)
        ground.settle()
        how = (
            f"frost, {command.passes} passes to {command.repose_deg:g}°"
            if command.kind == "frost"
            else f"rain, {command.drops_per_m2:g} drops/m²"
        )
        return f"Weathered {area_words(world, command)} by {how}", {}

    return world.change_ground(command, work)


def press_file(world: OpenWorld, tract: Tract, command: PressFile, heights: Any) -> Outcome:
    """Press heights of another grid into an area, stretched to its bounds. [m]"""

    def work(draft: Draft) -> tuple[str, Moves]:
        window = window_of(world, tract.grid, command)
        ground = Ground(world, draft, command.sheet)
        corners = corners_of(world, command)
        xs, ys = (
            ([x for x, _ in corners], [y for _, y in corners])
            if corners
            else ([0.0, tract.grid.width], [0.0, tract.grid.depth])
        )
        rows0, cols0 = tract.grid.row_of(max(ys)), tract.grid.col_of(min(xs))
        down = (heights.shape[0] - 1) / max(tract.grid.row_of(min(ys)) - rows0, 1e-9)
        across = (heights.shape[1] - 1) / max(tract.grid.col_of(max(xs)) - cols0, 1e-9)
        # A finer file is averaged first, or its detail would alias.
        coarser = max(1, int(min(down, across)))
        source = _averaged(heights, coarser)

        def new(part: Window, was: FloatArray) -> FloatArray:
            rows = (np.arange(part.row0, part.row1) - rows0) * down
            cols = (np.arange(part.col0, part.col1) - cols0) * across
            middle = (coarser - 1) / 2
            pressed = between(source, (rows - middle) / coarser, (cols - middle) / coarser)
            share = share_of(world, tract.grid, command, part, command.feather_m)
            return mixed(was, pressed + np.float32(command.lift_m), share)

        ground.put(tract, window, new)
        ground.settle()
        return f"Pressed a file into {area_words(world, command)}", {}

    return world.change_ground(command, work)


def _averaged(heights: Any, block: int) -> Any:
    """Means of blocks of posts, band by band; the last ones of what is left."""
    if block == 1:
        return heights
    rows, cols = heights.shape[0] // block, heights.shape[1] // block
    out = np.empty((max(rows, 1), max(cols, 1)), np.float32)
    for row in range(len(out)):
        band = np.asarray(heights[row * block : (row + 1) * block, : out.shape[1] * block], np.float64)
        out[row] = band.reshape(len(band), out.shape[1], -1).mean(axis=(0, 2))
    return out


# Moving


def move_land(world: OpenWorld, tract: Tract, command: MoveLand) -> Outcome:
    """Carry the land of a plot or a box elsewhere."""
    target = tract if command.tract is None else world.tract(command.tract)

    def work(draft: Draft) -> tuple[str, Moves]:
        trip = _Trip(world, tract, target, command)
        ground = Ground(world, draft, command.sheet)
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
        self._share = share_of(world, grid, command, self._window, command.blend_m)
        self._hard = share_of(world, grid, command, self._window, 0.0)
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

    def carry_ground(self, ground: Ground) -> None:
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
        if self._command.growth:
            yield from (f"growth:{key}" for key, _ in self._world.mixes())
        if self._command.covers:
            yield from (f"cover:{key}" for key, _ in self._world.covers()[1:])

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
        moves: dict[tuple[str, str], Row | None] = {}
        grid, to = self._source.grid, self._target.grid
        for key, thing in self._world.things(self._source.row.id):
            row, col = round(grid.row_of(thing.y)) - self._window.row0, round(grid.col_of(thing.x)) - self._window.col0
            if not (0 <= row < self._window.rows and 0 <= col < self._window.cols and self._hard[row, col] > 0):
                continue
            x, y = self.place(thing.x, thing.y)
            if not to.holds(x, y):
                raise InvalidInput(f"{thing.name} would come to stand outside the tract", "x")
            turn = ((-thing.turn_deg if self._command.mirror else thing.turn_deg) + self._command.turn_deg) % 360
            copied = self._command.copy_land
            update: dict[str, Any] = {"x": x, "y": y, "turn_deg": turn, "tract": self._target.row.id}
            if copied:
                update |= {"name": f"{thing.name[:70]} copy", "default": False}
            new_key = secrets.token_hex(5) if copied else key
            moves["things", new_key] = Thing.model_validate({**thing.model_dump(), **update})
        return moves
