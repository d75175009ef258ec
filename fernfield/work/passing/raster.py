"""What each post of a land costs a walker to leave: the ground, what stands and runs over it, paces, what blocks."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable
from weakref import WeakKeyDictionary

import numpy as np

from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.travel.decks import decked
from fernfield.core.travel.passable import HALO, close_ways, obstacle_table, passable
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Obstacles
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.walkers import gait_of

MOST_KEPT_BYTES = 128 << 20
_Kept = OrderedDict[tuple[Hashable, ...], tuple[tuple[int, ...], ByteArray]]
_KEPT: WeakKeyDictionary[OpenWorld, _Kept] = WeakKeyDictionary()
"""By the open world: one that is opened again counts its changes anew."""
_LOCK = threading.Lock()


def passable_in(
    world: OpenWorld, land: Land, window: Window, walker: str, *, without: Obstacles | None = None
) -> ByteArray:
    """What each post of a window costs a walker to leave: shape (8, rows, cols), see `core.travel.passable`.

    without : a sort of obstacle that is left aside
    Kept until what it was worked out from changes in the window or around it. Not to be written to. Raises NotFound for
    a walker that there is not.
    """
    gait = gait_of(world, walker)
    with world.lock:
        key = land.id, walker, window, without
        stamp = _stamp(world, land, window)
        with _LOCK:
            mine = _KEPT.setdefault(world, OrderedDict())
            known = mine.get(key)
            if known is not None and known[0] == stamp:
                mine.move_to_end(key)
                return known[1]
        wide = window.pad(HALO)
        heights = _ground(world, land, wide)
        water = _reaching(land, wide, world.surface(land, land.clip(wide)))
        paces = world.house.given.paces(world, land, window)
        # Nothing reaches further than the posts that are looked at: obstacles around them are asked for by the window.
        near = land.clip(window.pad(HALO))
        standing = [
            one for stands in world.house.obstacles if stands is not without for one in stands(world, land, near)
        ]
        loose = bool(world.holds)
    table = obstacle_table(standing)
    x0, y0, spacing = land.grid.x_of(window.col0), land.grid.y_of(window.row0), land.grid.spacing
    if not gait.draught:
        heights = decked(
            heights, x0 - HALO * spacing, y0 + HALO * spacing, spacing, gait.step, gait.steepest_deg, table
        )  # fmt: skip
    out = passable(heights, spacing, gait, water=water, paces=paces)
    # What floats meets things at the height of the water.
    close_ways(out, np.maximum(heights, water) if gait.draught else heights, x0, y0, spacing, gait, table)
    out.setflags(write=False)
    if not loose:
        _keep(mine, key, stamp, out)
    return out


def _keep(mine: _Kept, key: tuple[Hashable, ...], stamp: tuple[int, ...], out: ByteArray) -> None:
    with _LOCK:
        mine[key] = stamp, out
        mine.move_to_end(key)
        while sum(kept.nbytes for _, kept in mine.values()) > MOST_KEPT_BYTES and len(mine) > 1:
            mine.popitem(last=False)


def _stamp(world: OpenWorld, land: Land, window: Window) -> tuple[int, ...]:
    """Changes when what a window is worked out from may have changed: tiles there, rows, and where water stands also
    the ground that it comes from."""
    wide = window.pad(HALO)
    here = sum(
        count
        for part in land.parts
        for place, count in part.tract.cache.written.items()
        if not part.tract.grid.tile_window(place[1], place[2]).meet(part.own(wide)).empty
    )
    far = sum(count for part in land.parts for place, count in part.tract.cache.written.items() if place[0] == HEIGHT)
    own = land.clip(wide)
    wet = bool((world.surface(land, own) > land.read(HEIGHT, own)).any())
    return here, world.rows_changed, far if wet else -1


def _ground(world: OpenWorld, land: Land, wide: Window) -> FloatArray:
    """The ground of a window that may reach past the land, where its border goes on; NaN where no tract lies. [m]"""
    own = land.clip(wide)
    firm = world.surface(land, own, firm=True)
    heights = np.maximum(np.asarray(land.read(HEIGHT, own), np.float32), firm.astype(np.float32))
    void = land.void(np.arange(own.row0, own.row1), np.arange(own.col0, own.col1))
    if void is not None:
        heights = np.where(void, np.float32(np.nan), heights)
    # Beyond the border nobody goes: the posts there are none.
    return _reaching(land, wide, heights, np.nan)


def _reaching(land: Land, wide: Window, values: FloatArray, beyond: float = -1e6) -> FloatArray:
    """Values of the part of a window that lies on the land, with `beyond` outside of it."""
    out = np.full(wide.shape, beyond, np.float32)
    out[land.clip(wide).inside(wide)] = values
    return out
