"""Level ground under what wants it: kept in a sheet of its own, made with the thing, moved with it, gone with it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import TypeVar

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.sites.pads import Pad, level_of, padded
from fernfield.core.sites.placing import Pose, footprint_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import PLACES
from fernfield.work.kernel.rows import Moves, Works
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.earthworks import apart_of, in_a_sheet
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Assembled, Piece, Start, Thing
from fernfield.work.sites.standing import NONE, Asked, asked_of, box_of, near

SHEET, SHEET_NAME = "pads", "Pads"
"""What pads cut and fill is kept apart from all other ground under this key."""
LEVEL_FINE = 1e-3
FAR_OFF_M = 1e3
T = TypeVar("T", bound=Thing)


Levels = tuple[float, ...]


def levels_of(thing: Thing) -> Levels:
    """The elevations of the level ground that was made under a thing and its members. [m]"""
    if isinstance(thing, Assembled):
        return thing.levels
    return (thing.level_m,) if isinstance(thing, Piece) and thing.level_m is not None else ()


def _with(thing: T, levels: Levels) -> T:
    if isinstance(thing, Assembled):
        return thing.model_copy(update={"levels": levels})
    if not isinstance(thing, Piece):
        return thing
    return thing.model_copy(update={"level_m": levels[0] if levels else None})


def beds_of(world: OpenWorld, thing: Thing | None, x: float, y: float, coming: Moves = NONE) -> list[Asked]:
    """What of a thing at a place wants level ground under it: it stands on the ground, and its entry asks for it."""
    if thing is None or thing.on is not None:
        return []
    return [one for one in asked_of(world, "", thing, x, y, coming) if one.entry.meets == "pad"]


def _outline(one: Asked) -> tuple[list[np.ndarray], float, float]:
    pose = Pose(one.x, one.y, 0.0, one.turn_deg, 0.0, one.size)
    return footprint_of(one.entry, pose), one.entry.pad_m * one.size, one.entry.shoulder_m * one.size


def pad_of(one: Asked, level: float) -> Pad:
    polygons, wide, shoulder = _outline(one)
    return Pad(tuple(polygons), level, wide, shoulder)


def pads_of(world: OpenWorld, thing: Thing, x: float, y: float, coming: Moves = NONE) -> list[Pad]:
    """The level ground that was made under a thing, as it is kept; none where its assembly is another by now."""
    beds, levels = beds_of(world, thing, x, y, coming), levels_of(thing)
    return [pad_of(*pair) for pair in zip(beds, levels, strict=True)] if len(beds) == len(levels) else []


def pads_in(
    world: OpenWorld, land: Land, window: Window, changed: Mapping[str, Thing | None], coming: Moves
) -> Iterator[Pad]:  # fmt: skip
    """The pads that reach into a window as an edit leaves them, by the keys of their things.

    changed : things as they will be, by their keys; None for those that go
    """
    box = box_of(land, window)
    # What a pad adds to its piece's own reach.
    _, bulk = world.sorts_of(THINGS)
    around = max((entry.pad_m + entry.shoulder_m for entry in kit_of(world).values()), default=0.0) * bulk
    wide = box[0] - around, box[1] - around, box[2] + around, box[3] + around
    places = {part.tract.row.id: (part.x, part.y) for part in land.parts}
    known = {key: (thing, x, y) for key, thing, x, y in near(world, land, wide) if key not in changed}
    for key, thing in changed.items():
        home = places.get(world.of_tract(thing.tract)) if thing is not None else None
        if thing is not None and home is not None:
            known[key] = thing, thing.x + home[0], thing.y + home[1]
    for key in sorted(known):
        for pad in pads_of(world, *known[key], coming):
            if pad.box[0] <= box[2] and pad.box[2] >= box[0] and pad.box[1] <= box[3] and pad.box[3] >= box[1]:
                yield pad


def window_of_pad(land: Land, pad: Pad) -> Window:
    x0, y0, x1, y1 = pad.box
    return land.clip(land.grid.window_of(x0, y0, x1, y1).pad(1))


def pad_works(world: OpenWorld, moves: Moves) -> Works | None:
    """What an edit of things does to the ground: pads come, go along and go. Under the lock."""
    if any(name == PLACES.name for name, _ in moves):
        # The land itself is laid out anew, and its pads with it.
        return None
    changed: dict[str, Thing | None] = {}
    windows: list[tuple[Land, Window]] = []
    more: Moves = {}
    for (name, key), row in moves.items():
        if name != THINGS.name:
            continue
        was, now = world.rows[name].get(key), row if isinstance(row, Thing) else None
        old = was if isinstance(was, Thing) else None
        if now is not None and not isinstance(now, Start):
            now = _levelled(world, old, now, moves)
            if now != row:
                more[name, key] = now
        changed[key] = now
        if old is not None and now is not None and _bed(old) == _bed(now):
            continue
        for thing, coming in ((old, NONE), (now, moves)):
            windows += [] if thing is None else _places_of(world, thing, coming)

    def build(land: Land, whole: Window) -> Callable[[FloatArray], FloatArray]:
        pads = list(pads_in(world, land, whole, changed, moves))
        x0, y0 = land.grid.x_of(whole.col0), land.grid.y_of(whole.row0)
        return lambda ground: padded(ground, pads, x0, y0, land.grid.spacing)

    return in_a_sheet(world, (SHEET, SHEET_NAME), windows, build, more)


def _bed(thing: Thing) -> tuple[object, ...]:
    """What of a thing its pads follow from."""
    own = (thing.kit,) if isinstance(thing, Piece) else (getattr(thing, "assembly", ""), getattr(thing, "way", 0))
    size = getattr(thing, "size", 1.0)
    return (*own, thing.x, thing.y, thing.turn_deg, size, thing.tract, thing.on, *levels_of(thing))


def _levelled(world: OpenWorld, old: Thing | None, new: Thing, coming: Moves) -> Thing:
    """A thing with the elevations of its pads: as they were where it stays, else by the ground where it comes to stand.
    Said to have none, they are found anew."""
    beds = beds_of(world, new, new.x, new.y, coming)
    levels = levels_of(new)
    if not beds:
        return new if not levels else _with(new, ())
    moved = old is None or _bed(_with(old, ())) != _bed(_with(new, ()))
    if len(levels) == len(beds) and not moved:
        return new
    return _with(new, tuple(_level(world, new, one) for one in beds))


def _places_of(world: OpenWorld, thing: Thing, coming: Moves) -> list[tuple[Land, Window]]:
    land = world.land_from(world.of_tract(thing.tract))
    return [(land, window_of_pad(land, pad)) for pad in pads_of(world, thing, thing.x, thing.y, coming)]


def _level(world: OpenWorld, thing: Thing, one: Asked) -> float:
    """The mean of the ground that is to be level, as it is without any pad. [m]"""
    land = world.land_from(world.of_tract(thing.tract))
    polygons, wide, _ = _outline(one)
    window = window_of_pad(land, Pad(tuple(polygons), 0.0, wide, 0.0))
    ground = np.asarray(apart_of(world).without(world, land, window, SHEET))
    x0, y0 = land.grid.x_of(window.col0), land.grid.y_of(window.row0)
    return round(level_of(ground, polygons, wide, x0, y0, land.grid.spacing) / LEVEL_FINE) * LEVEL_FINE


def uneven(world: OpenWorld, land: Land, thing: Thing, x: float, y: float) -> float:
    """By how much the ground under a thing is off the level that it wants at most; far where it has none. [m]"""
    beds, pads = beds_of(world, thing, x, y), pads_of(world, thing, x, y)
    if len(beds) != len(pads):
        return FAR_OFF_M
    off = 0.0
    for pad in pads:
        # Half as far around: the outermost posts may be another pad's.
        inner = Pad(pad.polygons, pad.level, pad.wide / 2, 0.0)
        window = window_of_pad(land, inner)
        ground = np.asarray(land.read(HEIGHT, window), np.float32)
        x0, y0 = land.grid.x_of(window.col0), land.grid.y_of(window.row0)
        # Posts that are to be level are those that padding without a shoulder would change.
        level = padded(ground, [inner], x0, y0, land.grid.spacing)
        off = max(off, float(np.abs(level - ground).max(initial=0.0)))
    return off
