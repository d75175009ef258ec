"""A stroke while it is being drawn: dabs into tiles, with the tiles as they were kept aside."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.grid import NOWHERE, Window, bilinear
from fernfield.core.ground.brush import Brush, Touch
from fernfield.core.ground.mask import add_in_place
from fernfield.core.ground.pace import Dab, Pace, Sample, dab_gap, dab_step
from fernfield.core.ground.tools import GROUND_TOOLS, GroundTool
from fernfield.work.commands import LONGEST_STROKE_S, MOST_POINTS, StrokeStart
from fernfield.work.layers import HEIGHT, Place, TileCache

_serials = itertools.count(1)


class InTheWay(Exception):
    """A dab touches tiles that other strokes hold."""

    def __init__(self, others: set[StrokeRun]) -> None:
        super().__init__("another stroke is being drawn here")
        self.others = others


@dataclass(eq=False)
class StrokeRun:
    """One stroke on one tract. Holds the tiles it has touched until it is committed or taken back.

    Of two strokes that want the same tile the one begun earlier goes on; the later one is
    taken back whole, waits, and is drawn again from its own samples. So no revision ever
    holds part of another stroke.
    """

    tract_id: str
    cache: TileCache
    start: StrokeStart
    mask_layers: Sequence[str]
    """For paint and take_away: the cover's own layer (or none for the base), then those above it."""
    holds: dict[tuple[str, Place], StrokeRun]
    serial: int = field(default_factory=lambda: next(_serials))
    samples: list[Sample] = field(default_factory=list)
    before: dict[Place, NDArray[Any]] = field(default_factory=dict)
    dirty: dict[Place, Window] = field(default_factory=dict)
    waits_for: StrokeRun | None = None
    ended: bool = False

    def __post_init__(self) -> None:
        Brush(self.start.radius_m, self.start.softness)
        self._restart()

    def _restart(self) -> None:
        radius = self.start.radius_m
        self._pace = Pace(dab_gap(radius), dab_step(radius / self.cache.grid.spacing))
        self._target = self.start.target_m
        self._fresh = NOWHERE

    @property
    def layer_moved(self) -> str:
        """ "height", "cover" or "growth": what a listener needs to draw again."""
        return HEIGHT if self.start.tool in GROUND_TOOLS else self.mask_layers[0].split(":")[0]

    @property
    def drawn_to(self) -> float:
        """The time of the stroke up to which the ground has been changed. [s]"""
        return self._pace.drawn_to

    def take(self, samples: Sequence[Sample]) -> None:
        """Keep samples; all of them or none. Raises InvalidInput when they do not go on from the others."""
        last = self.samples[-1].seconds if self.samples else 0.0
        for sample in samples:
            if sample.seconds < last:
                raise InvalidInput(f"times must not run backwards: {sample.seconds} s after {last} s", "samples")
            last = sample.seconds
        first = (self.samples or samples)[0].seconds if self.samples or samples else 0.0
        if last - first > LONGEST_STROKE_S or len(self.samples) + len(samples) > MOST_POINTS:
            words = f"a stroke lasts at most {LONGEST_STROKE_S:g} s and has at most {MOST_POINTS} samples"
            raise InvalidInput(f"{words}; it ends here", "samples")
        self.samples.extend(samples)

    def add(self, samples: Sequence[Sample]) -> Window:
        """Take samples in and draw what is certain; returns the posts that changed."""
        self.take(samples)
        return self._draw(self._pace.add(samples))

    def finish(self) -> Window:
        return self._draw(self._pace.finish())

    def replay(self) -> Window:
        """Draw again, from all samples so far, after `roll_back`."""
        return self._draw(self._pace.add(self.samples))

    def replay_whole(self) -> Window:
        """Draw again from the first sample to the end."""
        return self.replay().join(self.finish())

    def roll_back(self) -> Window:
        """Put every tile back as it was and let go of it; returns the posts concerned."""
        changed = NOWHERE
        for place, values in self.before.items():
            self.cache.tile(place)[...] = values
            self.cache.set_range(place, float(values.min()), float(values.max()))
            self.cache.unpin(place)
            self.holds.pop((self.tract_id, place), None)
        for window in self.dirty.values():
            changed = changed.join(window)
        self.before.clear()
        self.dirty.clear()
        self._restart()
        return changed

    def let_go(self) -> None:
        """After a commit: the tiles are the store's again."""
        for place in self.before:
            self.cache.unpin(place)
            self.holds.pop((self.tract_id, place), None)

    def _draw(self, dabs: Sequence[Dab]) -> Window:
        self._fresh = NOWHERE
        for dab in dabs:
            self._one(dab)
        return self._fresh

    def _one(self, dab: Dab) -> None:
        grid = self.cache.grid
        window = grid.around(dab.x, dab.y, self.start.radius_m)
        tool = GROUND_TOOLS.get(self.start.tool)
        if self._target is None and self.start.tool == "flatten":
            first = self.samples[0]
            self._target = self._elevation(first.x, first.y)
        if window.empty:
            return
        touch = Touch(
            row=grid.row_of(dab.y),
            col=grid.col_of(dab.x),
            radius=self.start.radius_m / grid.spacing,
            softness=self.start.softness,
            amount=0.0,
        )
        if tool is None:
            self._mask_dab(window, touch, self.start.strength / 100 * dab.seconds)
        else:
            self._ground_dab(tool, window, touch, tool.amount(self.start.strength, dab.seconds))
        self._fresh = self._fresh.join(window)

    def _elevation(self, x: float, y: float) -> float:
        grid = self.cache.grid
        row, col = grid.row_of(y), grid.col_of(x)
        corner = Window(int(np.floor(row)), int(np.floor(col)), int(np.floor(row)) + 2, int(np.floor(col)) + 2)
        return bilinear(self.cache.read(HEIGHT, corner), row - corner.row0, col - corner.col0)

    def _ground_dab(self, tool: GroundTool, window: Window, touch: Touch, amount: float) -> None:
        halo = tool.halo(touch.radius)
        target = self._target or 0.0
        if halo:
            wide = self.cache.grid.clip(window.pad(halo))
            self._hold(HEIGHT, wide)
            values = self.cache.read(HEIGHT, wide)
            tool.apply(values, self._moved(touch, wide, amount), target)
            self.cache.write(HEIGHT, window, values[window.inside(wide)])
            self._soil(HEIGHT, window)
            return
        self._hold(HEIGHT, window)
        for tile, where in self.cache.whole_tiles(HEIGHT, window):
            tool.apply(tile, self._moved(touch, where, amount), target)
        self._soil(HEIGHT, window)

    def _mask_dab(self, window: Window, touch: Touch, amount: float) -> None:
        for layer, sign in self._mask_moves():
            if sign < 0 and self.cache.blank(layer, window):
                continue
            self._hold(layer, window)
            for tile, where in self.cache.whole_tiles(layer, window):
                add_in_place(tile, self._moved(touch, where, sign * amount))
            self._soil(layer, window)

    def _mask_moves(self) -> Iterator[tuple[str, int]]:
        own, above = self.mask_layers[0], self.mask_layers[1:]
        adds = self.start.tool in ("paint", "sow")
        if not own.endswith(":"):
            yield own, 1 if adds else -1
        if self.start.tool == "paint":
            for layer in above:
                yield layer, -1

    @staticmethod
    def _moved(touch: Touch, where: Window, amount: float) -> Touch:
        return Touch(touch.row - where.row0, touch.col - where.col0, touch.radius, touch.softness, amount)

    def _hold(self, layer: str, window: Window) -> None:
        places = [(layer, *tile) for tile in window.tiles()]
        others = {
            holder
            for place in places
            if (holder := self.holds.get((self.tract_id, place))) is not None and holder is not self
        }
        if others:
            raise InTheWay(others)
        for place in places:
            if place not in self.before:
                self.before[place] = self.cache.tile(place).copy()
                self.cache.pin(place)
                self.holds[self.tract_id, place] = self

    def _soil(self, layer: str, window: Window) -> None:
        for tile in window.tiles():
            place = (layer, *tile)
            whole = self.cache.grid.tile_window(*tile)
            part = window.meet(whole)
            self.dirty[place] = self.dirty.get(place, NOWHERE).join(part)
            self.cache.widen_range(place, self.cache.tile(place)[part.inside(whole)])


def mask_layers(start: StrokeStart, covers: Sequence[str], mixes: Sequence[str]) -> list[str]:
    """The layers that a paint, take_away, sow or thin works on; "cover:" alone is the base.

    Raises NotFound for a cover or mix that is not there, Conflict for taking the base away.
    """
    if start.cover is not None:
        if start.cover not in covers:
            raise NotFound(f"cover must be one of {', '.join(covers)}, not {start.cover!r}")
        at = covers.index(start.cover)
        if at == 0 and start.tool == "take_away":
            raise Conflict(f"{start.cover!r} is the base cover: there is nothing under it to show")
        own = "cover:" if at == 0 else f"cover:{start.cover}"
        return [own, *(f"cover:{key}" for key in covers[at + 1 :])]
    if start.mix is not None:
        if start.mix not in mixes:
            raise NotFound(f"mix must be one of {', '.join(mixes)}, not {start.mix!r}")
        return [f"growth:{start.mix}"]
    return []
