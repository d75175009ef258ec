"""Drawing whole areas: tile by tile, the ground within the world's limits, and settled where it goes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.kernel.writing.sweep import Sweep, Unit

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld


New = Callable[[Window, FloatArray], FloatArray]
"""Makes the values of a part of a window from where it is and what is there."""

Make = Callable[[FloatArray], FloatArray]
"""Makes new values from what is there."""

AsItWas = Callable[[Land], Land]
"""Gives a land as it is before the edit, to read."""


@dataclass(frozen=True)
class Put:
    """New values of a layer in a window of a land.

    look : reads what is needed for a part of the window, and says what becomes of what is there; masks as float32
    """

    land: Land
    window: Window
    look: Callable[[AsItWas, Window], Make]
    layer: str = HEIGHT


@dataclass(frozen=True)
class Masks:
    """New values of several masks in a window of a land, which are worked out together.

    look : reads what is needed for a part of the window, and gives the masks that differ by their layers
    """

    land: Land
    window: Window
    look: Callable[[AsItWas, Window], Mapping[str, NDArray[Any]]]


def draw(
    world: OpenWorld, puts: Iterable[Put | Masks], into: str | None, ends: Callable[[], Ended], *rests_on: str,
    still: Callable[[], bool] = lambda: True,
) -> Sweep:  # fmt: skip
    """An edit of areas, tile by tile; where several puts meet they follow one another, and all read what was before.

    into : where the ground goes, as for a stroke; raises when it cannot go there
    rests_on : the collections that the puts read
    still : whether what was read before is as it was
    """
    pen = _Pen(world, into)
    here: dict[Unit, list[tuple[Put | Masks, Window, tuple[slice, slice]]]] = {}
    for put in puts:
        for tract, tile, whole, part in put.land.tiles(put.window):
            here.setdefault((tract.row.id, tile), []).append((put, part, part.inside(whole)))

    def draw_tile(draft: Draft, unit: Unit) -> None:
        def as_it_was(land: Land) -> Land:
            return land.read_by(draft.cache)

        makes = []
        for put, part, box in here[unit]:
            if isinstance(put, Put):
                makes.append((put.layer, box, put.look(as_it_was, part)))
            else:
                makes += [(layer, box, _set(values)) for layer, values in put.look(as_it_was, part).items()]
        for layer, box, make in makes:
            if layer == HEIGHT:
                pen.put(draft, unit, box, make)
            else:
                mask = draft.tile(unit[0], (layer, *unit[1]))
                mask[box] = np.clip(np.rint(make(mask[box].astype(np.float32))), 0, _most(mask)).astype(mask.dtype)
        if any(layer == HEIGHT for layer, *_ in makes):
            pen.settle(draft, unit)

    rows_still = world.rests_on(*world.house.layers(HEIGHT).rests_on, *rests_on)
    return Sweep(list(here), draw_tile, ends, lambda: rows_still() and still())


def draw_ground(
    world: OpenWorld, land: Land, window: Window, into: str | None, new: New, ends: Callable[[], Ended],
    *rests_on: str,
) -> Sweep:  # fmt: skip
    """An edit of the ground of one window. `rests_on`: the collections that `new` reads."""
    return draw(world, [Put(land, window, plainly(new))], into, ends, *rests_on)


def plainly(new: New) -> Callable[[AsItWas, Window], Make]:
    """What needs to know nothing but what is there."""
    return lambda _as_it_was, part: partial(new, part)


def _set(values: NDArray[Any]) -> Make:
    """Just these values; float32 holds every 16-bit number."""
    exact = values.astype(np.float32)
    return lambda _was: exact


def _most(mask: NDArray[Any]) -> int:
    return int(np.iinfo(mask.dtype).max)


class _Pen:
    """Puts ground into tiles, within the limits of a world. `into` says where it goes, as for a stroke; raises when it
    cannot go there.
    """

    def __init__(self, world: OpenWorld, into: str | None) -> None:
        self._layer = world.house.layers(HEIGHT)
        if self._layer.check is not None:
            self._layer.check(world, into)
        self._world, self._into = world, into
        bounds = (LOWEST_M, HIGHEST_M) if self._layer.bounds is None else self._layer.bounds(world)
        self._low, self._high = np.float32(max(bounds[0], LOWEST_M)), np.float32(min(bounds[1], HIGHEST_M))

    def put(self, draft: Draft, unit: Unit, box: tuple[slice, slice], make: Make) -> None:
        """New ground in a part of a tile."""
        ground = draft.tile(unit[0], (HEIGHT, *unit[1]))
        was = ground[box].copy()
        ground[box] = np.clip(make(was), np.minimum(was, self._low), np.maximum(was, self._high))

    def settle(self, draft: Draft, unit: Unit) -> None:
        """What was drawn in a tile goes where it was said to go."""
        tract_id, place = unit[0], (HEIGHT, *unit[1])
        was, cache = draft.was(tract_id, place), draft.cache(tract_id)
        cache.widen_range(place, cache.tile(place))
        if self._layer.settle is not None:
            self._layer.settle(draft, self._world, self._world.tract(tract_id), unit[1], was, self._into)
