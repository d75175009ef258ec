"""The tracts of a world: adding one, taking one away, cropping or extending it, and giving it another spacing.

A tract's grid never changes. Work that changes it makes a new tract beside the old one, and one
revision puts the new in the place of the old: undo is to put the old one back.
"""

from __future__ import annotations

import math
import secrets
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Annotated, Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import TILE, FloatArray, Grid, Window
from fernfield.core.ground.carry import Carriage, seen
from fernfield.core.ground.openings import HOLE
from fernfield.core.ground.sheets import base_of, compose, under_of
from fernfield.store.rows import Tile, TileAt
from fernfield.store.worlds import TractRow, WorldStore
from fernfield.work.ground.rows import sheets_of
from fernfield.work.ground.sheeting import SHEET, UNDER, sheet_layer, shown
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.edits import freed
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.layers import HEIGHT, WHOLE, sort_of
from fernfield.work.kernel.posts.overviews import VERSION
from fernfield.work.kernel.posts.tiles import packed
from fernfield.work.kernel.posts.tracts import JOINS, PLACES, Kind, Tract, TractPlace
from fernfield.work.kernel.rows import ONLY, Collection, Coordinate, Elevation, Moves, Name, Shift, Spacing, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.windows import over, quiet, rows_of
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.rows import SYMMETRY
from fernfield.work.water.rows import sea_level
from fernfield.work.worlds.beginnings import Begin, Ground, Plain, Seed, WorldSpec, ground_of

MOST_TRACTS = 32
Tiles = Iterator[tuple[TileAt, Tile]]


def new_id(prefix: str) -> str:
    return prefix + secrets.token_hex(5)


class TractSpec(Command):
    """A new tract: its extent and spacing, the ground that it begins on, and where it lies on the layout. [m]"""

    do: Literal["add_tract"] = "add_tract"
    name: Name
    x: Annotated[Coordinate, Say("West edge at", "m")] = 0.0
    y: Annotated[Coordinate, Say("South edge at", "m")] = 0.0
    kind: Kind = "open"
    width_m: Annotated[float, Field(gt=0, le=200_000), Say("Width", "m")]
    depth_m: Annotated[float, Field(gt=0, le=200_000), Say("Depth", "m")]
    spacing_m: Annotated[Spacing, Say("Spacing", "m")]
    elevation_m: Annotated[Elevation, Say("Elevation", "m")] = 10.0
    begin: Annotated[Begin, UNASKED] = Plain()

    @model_validator(mode="after")
    def _not_from_a_seed(self) -> TractSpec:
        if isinstance(self.begin, Seed):
            words = "a new tract begins on plain, sea_floor or rim; make land from a seed in it afterwards"
            raise InvalidInput(words, "begin.ground")
        return self


class RemoveTract(Command):
    do: Literal["remove_tract"] = "remove_tract"
    key: str


class CropTract(Command):
    """Other bounds of a tract, in its own metres: inside it crops, outside it extends; each is put on a post.

    `fill` is what new ground is: level at `elevation_m`, or the old edge carried on.
    """

    do: Literal["crop_tract"] = "crop_tract"
    key: Annotated[str, UNASKED] = ""
    x0: Annotated[Coordinate, Say("West edge", "m")]
    x1: Annotated[Coordinate, Say("East edge", "m")]
    y0: Annotated[Coordinate, Say("South edge", "m")]
    y1: Annotated[Coordinate, Say("North edge", "m")]
    fill: Annotated[Literal["edge", "level"], Say("New ground", called={"edge": "the old edge carried on"})] = "edge"
    elevation_m: Annotated[Elevation, Say("At", "m", when="fill=level")] = 0.0


class RespaceTract(Command):
    """Another spacing of a tract's posts over the same land. [m]"""

    do: Literal["respace_tract"] = "respace_tract"
    key: Annotated[str, UNASKED] = ""
    spacing_m: Annotated[Spacing, Say("A post every", "m")]


class PlaceTract(Command):
    """Another name or place on the layout of a tract; what is left out stays. [m]"""

    do: Literal["place_tract"] = "place_tract"
    key: TractId
    name: Name | None = None
    x: Coordinate | None = None
    y: Coordinate | None = None
    kind: Kind | None = None


def tiles_of(tract_id: str, layer: str, grid: Grid, read: Ground, job: Job | None, part: tuple[float, float]) -> Tiles:
    """Every tile of a layer, as the store keeps it; `part` is the stretch of the job's progress that this takes."""
    tiles = [grid.tile_window(*place) for place in grid.window.tiles()]

    def give(window: Window) -> tuple[FloatArray]:
        return (np.ascontiguousarray(read(window)),)

    say = quiet if job is None else job.step
    for window, tile in over(tiles, give, packed, say=say, words="Storing the ground", part=part):
        yield TileAt(tract_id, layer, window.row0 // TILE, window.col0 // TILE), tile


def seen_from_afar(job: Job | None, part: tuple[float, float]) -> Callable[[float], None]:
    """Tells a job how far the coarser levels of a tract are; `part` is the stretch of its progress that they take."""

    def step(done: float) -> None:
        if job:
            job.step(part[0] + (part[1] - part[0]) * done, "Preparing the view from afar")

    return step


def _next_place(world: OpenWorld, **fields: Any) -> TractPlace:
    if len(world.places()) >= MOST_TRACTS:
        raise Conflict(f"a world holds at most {MOST_TRACTS} tracts")
    position = max((place.position for _, place in world.places()), default=-1) + 1
    return TractPlace(position=position, **fields)


def add_tract(world: OpenWorld, store: WorldStore, spec: TractSpec) -> tuple[str, Outcome]:
    """A new tract on ground of its own; returns its id."""
    as_world = WorldSpec(
        **spec.model_dump(exclude={"do", "x", "y", "kind", "begin"}), begin=spec.begin, sea_level_m=sea_level(world)
    )
    return put_tract(world, store, spec, as_world.grid, as_world.base_m, ground_of(as_world))


def put_tract(
    world: OpenWorld, store: WorldStore, spec: TractSpec, grid: Grid, base: float, ground: Ground | None,
    job: Job | None = None,
) -> tuple[str, Outcome]:  # fmt: skip
    """A new tract on `ground` (on its base when there is none); returns its id."""
    place = _next_place(world, name=spec.name, x=spec.x, y=spec.y, kind=spec.kind)
    tract_id = new_id("t")
    row = TractRow(tract_id, world.id, place.position, spec.name, grid.rows, grid.cols, grid.spacing, base)
    row = row if ground else replace(row, overviews=VERSION)
    store.add_tract(row, tiles_of(tract_id, HEIGHT, grid, ground, job, (0.55, 0.9)) if ground else iter(()))
    new = world.adopt(row)
    if ground:
        world.make_overviews(new, seen_from_afar(job, (0.9, 0.96)))
    outcome = world.change_rows(spec, f"Added the tract {spec.name}", {("tracts", tract_id): place})
    return tract_id, outcome


def parted(key: str, new: TractPlace, world: OpenWorld) -> Moves:
    """A tract that is moved or goes underground is joined to no other any more."""
    old = world.get(PLACES, key)
    if old is not None and (old.x, old.y, old.kind) == (new.x, new.y, new.kind):
        return {}
    return {(JOINS.name, k): None for k, join in world.each(JOINS) if key in (join.first, join.second)}


def place_tract(world: OpenWorld, command: PlaceTract) -> Outcome:
    """Another name or place on the layout; what is left out stays."""
    with world.lock:
        was = world.place_of(command.key)
        said = command.model_dump(exclude={"do", "key"}, exclude_none=True)
        new = PLACES.merged(was, said)
        verb = "Renamed" if new.name != was.name else "Moved"
        moves = {(PLACES.name, command.key): new, **parted(command.key, new, world)}
        return world.change_rows(command, f"{verb} the tract {new.name}", moves)


def _inside(world: OpenWorld, tract_id: str) -> Iterator[tuple[Collection[Any], str, Any]]:
    """Every row that lies in a tract."""
    for collection in world.house.collections.values():
        if collection.in_tract:
            for key, row in world.each_in(collection, tract_id):
                yield collection, key, row


def _leaving(world: OpenWorld, tract_id: str) -> Moves:
    """The rows that go with a tract: itself, its joins, and what lies in it."""
    moves: Moves = {(PLACES.name, tract_id): None}
    moves |= {(JOINS.name, key): None for key, join in world.each(JOINS) if tract_id in (join.first, join.second)}
    return moves | {(collection.name, key): None for collection, key, _ in _inside(world, tract_id)}


def remove_tract(world: OpenWorld, command: RemoveTract) -> Outcome:
    """Take a tract out of the world, with what stands in it. Its ground stays in the store: undo brings it back."""
    with world.lock:
        place = world.place_of(command.key)
        if len(world.places()) == 1:
            raise Conflict("a world has at least one tract: put the world into the bin instead")
        return world.change_rows(
            command, f"Took away the tract {place.name}", freed(world, _leaving(world, command.key)), busy=command.key
        )


def _replaced(
    job: Job, world: OpenWorld, store: WorldStore, tract: Tract, command: CropTract | RespaceTract, grid: Grid,
    layers: Callable[[str], Tiles], words: str, moved: tuple[float, float], revision: int,
) -> Outcome:  # fmt: skip
    """Put a new tract in the place of an old one. `moved` is the new south-west corner in the old one's metres."""
    old = world.place_of(tract.row.id)
    tract_id = new_id("t")
    row = TractRow(
        tract_id, world.id, tract.row.position, old.name, grid.rows, grid.cols, grid.spacing, tract.row.base_m
    )
    store.add_tract(row, layers(tract_id))
    new = world.adopt(row)
    world.make_overviews(new, seen_from_afar(job, (0.94, 0.98)))
    with world.lock:
        moves = _leaving(world, tract.row.id)
        moves[PLACES.name, tract_id] = old.model_copy(update={"x": old.x + moved[0], "y": old.y + moved[1]})
        shift = Shift(tract_id, new.grid, *moved)
        lost = 0
        for collection, key, found in _inside(world, tract.row.id):
            kept = collection.moved(found, shift)
            moves[collection.name, key] = kept
            lost += kept is None
        symmetry = world.only(SYMMETRY)
        if symmetry.kind != "off" and moved != (0.0, 0.0):
            update = {"x": symmetry.x - moved[0], "y": symmetry.y - moved[1]}
            moves[SYMMETRY.name, ONLY] = symmetry.model_copy(update=update)
        if lost:
            words += f"; {lost} pieces, starts and other places stood outside and went"
        return world.change_rows(command, words, freed(world, moves), busy=tract.row.id, since=revision)


# Crop and extend


def cropped_grid(tract: Tract, command: CropTract) -> tuple[Grid, int, int]:
    """The new grid, and the row and column of its north-west post in the old one's. Raises for an empty one."""
    grid = tract.grid
    col0, col1 = round(command.x0 / grid.spacing), round(command.x1 / grid.spacing)
    row0, row1 = (round(grid.row_of(y)) for y in (command.y1, command.y0))
    if col1 <= col0 or row1 <= row0:
        words = f"the bounds must be x0 < x1 and y0 < y1, at least a post ({grid.spacing:g} m) apart"
        raise InvalidInput(f"{words}, not {command.x0:g} to {command.x1:g}, {command.y0:g} to {command.y1:g}", "x0")
    new = Grid(row1 - row0 + 1, col1 - col0 + 1, grid.spacing)
    if new.window.shifted(row0, col0).meet(grid.window).empty:
        raise InvalidInput("the new bounds must hold some of the old land", "x0")
    return new, row0, col0


def crop(job: Job, world: OpenWorld, store: WorldStore, tract: Tract, command: CropTract) -> dict[str, Any]:
    """Give a tract other bounds, as one revision."""
    grid, row0, col0 = cropped_grid(tract, command)
    with world.lock:
        revision = world.revision
        layers = sorted({place[0] for place in tract.cache.ranges} | {HEIGHT})

    def read(layer: str) -> Callable[[Window], NDArray[Any]]:
        def values(window: Window) -> NDArray[Any]:
            there = window.shifted(row0, col0)
            with world.lock:
                found = tract.cache.read(layer, there)
            outside = np.ones(there.shape, bool)
            part = there.meet(tract.grid.window)
            if not part.empty:
                outside[part.inside(there)] = False
            if layer != HEIGHT:
                found[outside] = 0
            elif command.fill == "level":
                found[outside] = command.elevation_m
            return found

        return values

    def tiles(tract_id: str) -> Tiles:
        for number, layer in enumerate(layers):
            part = 0.05 + 0.85 * number / len(layers), 0.05 + 0.85 * (number + 1) / len(layers)
            for at, tile in tiles_of(tract_id, layer, grid, read(layer), job, part):
                if layer == HEIGHT or (tile.lowest, tile.highest) != (0.0, 0.0):
                    yield at, tile

    corner = col0 * grid.spacing, tract.grid.y_of(row0 + grid.rows - 1)
    name = world.place_of(tract.row.id).name
    words = (
        f"Bounds of {name}: {grid.width:g} by {grid.depth:g} m instead of {tract.grid.width:g} by {tract.grid.depth:g}"
    )
    outcome = _replaced(job, world, store, tract, command, grid, tiles, words, corner, revision)
    return {"revision": outcome.revision, "world": world.id}


# Another spacing


def respaced_grid(tract: Tract, spacing: float) -> Grid:
    """Raises GridError when the land is no whole number of such spacings, or makes too many posts."""
    return Grid.from_extent(tract.grid.width, tract.grid.depth, spacing)


def _resampled(read: Ground, old: Grid, new: Grid, window: Window) -> FloatArray:
    """Values of `window` of the new grid from those of the old one: smoothed first where it is coarser. [m]"""
    scale = new.spacing / old.spacing
    sigma = 0.4 * scale if scale > 1 else 0.0
    reach = math.ceil(3 * sigma) + 3
    wide = old.clip(
        Window(
            math.floor(window.row0 * scale) - reach, math.floor(window.col0 * scale) - reach,
            math.ceil((window.row1 - 1) * scale) + reach + 1, math.ceil((window.col1 - 1) * scale) + reach + 1,
        )
    )  # fmt: skip
    values = np.asarray(read(wide), np.float32)
    if sigma:
        side = 2 * math.ceil(3 * sigma) + 1
        values = np.asarray(
            cv2.GaussianBlur(values, (side, side), sigma, borderType=cv2.BORDER_REFLECT_101), np.float32
        )
    carriage = Carriage(0, 0, window.row0 * scale - wide.row0, window.col0 * scale - wide.col0, scale=scale)
    found = seen(values, window.shape, carriage)
    if np.isnan(found).any():
        raise AssertionError("the two grids must cover the same land")
    return found


def _base(tract: Tract, window: Window) -> FloatArray:
    return base_of(tract.cache.read(HEIGHT, window), tract.cache.read(UNDER, window))


def respace(job: Job, world: OpenWorld, store: WorldStore, tract: Tract, command: RespaceTract) -> dict[str, Any]:
    """Give a tract's land posts of another spacing, sheets, covers and growth with it, as one revision."""
    old, new = tract.grid, respaced_grid(tract, command.spacing_m)
    with world.lock:
        revision = world.revision
        sheets = sheets_of(world)
        masks = sorted({p[0] for p in tract.cache.ranges if p[0] not in (HEIGHT, UNDER) and sort_of(p[0]) != SHEET})
    weights = dict(shown(sheets))

    def at(layer: str, window: Window) -> FloatArray:
        def read(part: Window) -> FloatArray:
            with world.lock:
                return np.asarray(tract.cache.read(layer, part), np.float32)

        return _resampled(read, old, new, window)

    def base(part: Window) -> FloatArray:
        with world.lock:
            return _base(tract, part)

    def tiles(tract_id: str) -> Tiles:
        places = list(new.window.tiles())
        for number, place in enumerate(places):
            job.step(0.05 + 0.9 * number / len(places), "Laying out the posts anew")
            window = new.tile_window(*place)
            below = _resampled(base, old, new, window)
            own = {
                key: at(sheet_layer(key), window)
                for key, _ in sheets
                if not _blank(tract, sheet_layer(key), new, window)
            }
            ground = compose(below, [(weights[key], values) for key, values in own.items() if key in weights])
            yield TileAt(tract_id, HEIGHT, *place), packed(np.ascontiguousarray(ground, np.float32))
            under = under_of(ground, below)
            if under.any():
                yield TileAt(tract_id, UNDER, *place), packed(under)
            for key, values in own.items():
                if values.any():
                    yield TileAt(tract_id, sheet_layer(key), *place), packed(np.ascontiguousarray(values))
            for layer in masks:
                if not _blank(tract, layer, new, window):
                    mask = at(layer, window)
                    if not world.house.layers(layer).gathers:
                        mask = np.where(mask >= HOLE, WHOLE, 0)
                    whole = np.clip(np.rint(mask), 0, WHOLE).astype(world.house.layers(layer).dtype)
                    if whole.any():
                        yield TileAt(tract_id, layer, *place), packed(whole)

    name = world.place_of(tract.row.id).name
    words = f"Posts of {name} every {new.spacing:g} m instead of {old.spacing:g}"
    outcome = _replaced(job, world, store, tract, command, new, tiles, words, (0.0, 0.0), revision)
    return {"revision": outcome.revision, "world": world.id}


def _blank(tract: Tract, layer: str, new: Grid, window: Window) -> bool:
    """Whether a layer of the old grid holds nothing where a window of the new one lies."""
    scale = new.spacing / tract.grid.spacing
    there = Window(
        math.floor(window.row0 * scale) - 4, math.floor(window.col0 * scale) - 4,
        math.ceil(window.row1 * scale) + 4, math.ceil(window.col1 * scale) + 4,
    )  # fmt: skip
    return tract.cache.blank(layer, there)


def loss_of(world: OpenWorld, tract: Tract, spacing: float, side: int = 320) -> tuple[FloatArray, float, float]:
    """What another spacing would take from the ground: by how much each place would differ once drawn between the
    new posts, the greatest in each cell of a map of at most `side` cells, and the greatest and mean (RMS) of all. [m]
    """
    old, new = tract.grid, respaced_grid(tract, spacing)
    block = max(1, math.ceil(max(old.rows, old.cols) / side))
    lost = np.zeros((-(-old.rows // block), -(-old.cols // block)), np.float32)
    squares, greatest = 0.0, 0.0

    def ground(part: Window) -> FloatArray:
        with world.lock:
            return np.asarray(tract.cache.read(HEIGHT, part), np.float32)

    scale = old.spacing / new.spacing

    cols = (np.arange(old.cols) * scale).clip(0, new.cols - 1).astype(np.float32)

    def give(window: Window) -> tuple[Any, ...]:
        there = new.clip(Window(math.floor(window.row0 * scale) - 2, 0, math.ceil(window.row1 * scale) + 3, new.cols))
        rows = (np.arange(window.row0, window.row1) * scale - there.row0).clip(0, there.rows - 1).astype(np.float32)
        return ground(window), _resampled(ground, old, new, there), rows, cols, block

    windows = rows_of(old.window, max(block, TILE // block * block))
    for window, (cells, total) in over(windows, give, lost_between):
        first = window.row0 // block
        lost[first : first + len(cells)] = cells
        squares, greatest = squares + total, max(greatest, float(cells.max()))
    return lost, greatest, math.sqrt(squares / (old.rows * old.cols))


def lost_between(
    ground: FloatArray, coarse: FloatArray, rows: FloatArray, cols: FloatArray, block: int
) -> tuple[FloatArray, float]:
    """By how much a band of ground differs from what is drawn between other posts: the greatest in each cell of `block`
    posts a side, and the sum of squares. [m, m²]

    rows, cols : where the band's posts stand among the others
    """
    across = np.broadcast_to(cols, ground.shape).copy()
    down = np.broadcast_to(rows[:, None], ground.shape).copy()
    away = np.abs(np.asarray(cv2.remap(coarse, across, down, cv2.INTER_LINEAR)) - ground)
    pad = np.pad(away, ((0, -ground.shape[0] % block), (0, -ground.shape[1] % block)))
    cells = pad.reshape(pad.shape[0] // block, block, pad.shape[1] // block, block).max(axis=(1, 3))
    return cells, float((away.astype(np.float64) ** 2).sum())
