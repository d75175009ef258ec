"""What a hand does on a canvas: dabs of a brush along the path, or the work of a whole path laid at once."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.brush import HIGHEST_M, LOWEST_M, Brush, Touch
from fernfield.core.brush.keep import Limits, within
from fernfield.core.brush.mask import add_in_place, lift, press_mask, taken_over
from fernfield.core.brush.pace import Dab, Pace, Sample, dab_gap, dab_step
from fernfield.core.brush.pressing import Laying, MaskPressing, Pressing
from fernfield.core.brush.shapes import Outline, shaped_weights
from fernfield.core.brush.symmetry import Image
from fernfield.core.brush.tool import NOTHING, Tool
from fernfield.core.grid import NOWHERE, FloatArray, Window
from fernfield.core.light.relief import slope_degrees
from fernfield.core.noise import Spots
from fernfield.work.kernel.commands import StrokeBase
from fernfield.work.kernel.hands.sides import Planes, around
from fernfield.work.kernel.hands.strokes import Canvas, Hand, StrokeRun, TooMuch
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.writing.draft import differing

BREATH = 4_000_000
"""Posts that are worked on before those are let in who wait for the world."""

ITSELF = Image(1, 0, 0, 1, 0, 0, 0, False)
LEAST_TURN_M = 0.05
"""A brush that turns along the path keeps its turn until the path has gone this much of its radius on."""


@dataclass(frozen=True)
class Manner:
    """Everything about a stroke that is settled before its first sample.

    start : as it was asked for
    tool : what works
    values : the tool's settings, with pictures in the place of their keys
    masks : for a tool that works on masks, the layers and whether it adds to each (1), takes away (-1), or knows it (0)
    still : raises when what it works with, or one of the layers that it changed, has gone meanwhile
    under : for masks that lie over each other, the share of each where none of them was laid
    seen : what listeners are told has moved
    tip : image that shapes the brush
    limits : what it keeps to
    images : where else a symmetry repeats it
    lowest, highest : no post is taken past these [m]
    words : what it came to, for the logbook, by the run and its cut and fill [m³]
    """

    start: StrokeBase
    tool: Tool
    words: Callable[[StrokeRun, float, float], str]
    values: Mapping[str, Any] = field(default_factory=dict)
    masks: Sequence[tuple[str, int]] = ()
    seen: str = HEIGHT
    tip: FloatArray | None = None
    limits: Limits | None = None
    images: Sequence[Image] = ()
    lowest: float = LOWEST_M
    highest: float = HIGHEST_M
    under: Callable[[Window], FloatArray | None] | None = None
    still: Callable[[set[str]], object] | None = None


def hand_of(manner: Manner, canvas: Canvas) -> Hand:
    """The hand that draws a stroke of this manner."""
    return Laid(manner, canvas) if manner.tool.lay is not None else Dabbing(manner, canvas)


class _Bounded:
    """What both hands keep to: the limits of the stroke, and of the world."""

    def __init__(self, manner: Manner, canvas: Canvas) -> None:
        self.manner, self.canvas, self.tool, self.start = manner, canvas, manner.tool, manner.start
        self.seen = manner.seen
        self._kept = Planes(canvas.bounds, self._keep)
        self._times = 0
        self.full = False

    def restart(self) -> None:
        self._times += 1
        self.full = False
        self._kept = Planes(self.canvas.bounds, self._keep)

    def _keep(self, window: Window) -> FloatArray:
        """What the limits allow in a tile, from the ground as it was before the stroke."""
        assert self.manner.limits is not None
        wide = window.pad(1).meet(self.canvas.bounds)
        heights = self.canvas.was(HEIGHT, wide)
        slope = slope_degrees(heights, self.canvas.grid.spacing)
        inner = window.inside(wide)
        return within(self.manner.limits, heights[inner], slope[inner], window.row0, window.col0)

    def _bound(self, heights: FloatArray, was: FloatArray) -> None:
        """Take nothing past the world's limits; ground that lies beyond them already goes no further."""
        if self.manner.highest < HIGHEST_M:
            np.minimum(heights, np.maximum(was, np.float32(self.manner.highest)), out=heights)
        if self.manner.lowest > LOWEST_M:
            np.maximum(heights, np.minimum(was, np.float32(self.manner.lowest)), out=heights)

    @property
    def _bounds_ground(self) -> bool:
        return self.manner.lowest > LOWEST_M or self.manner.highest < HIGHEST_M


class Dabbing(_Bounded):
    """A brush that dabs along the path and through time."""

    def __init__(self, manner: Manner, canvas: Canvas) -> None:
        super().__init__(manner, canvas)
        Brush(self.start.radius_m, self.start.softness)
        self.restart()

    def restart(self) -> None:
        super().restart()
        radius, grid = self.start.radius_m, self.canvas.grid
        self._posts = (1 + len(self.manner.images)) * math.ceil(2 * radius / grid.spacing) ** 2
        self._pace = Pace(dab_gap(radius), dab_step(radius / grid.spacing))
        self._target: float | None = self.manner.values.get("target_m")
        self._first: Sample | None = None
        self._ahead: Sequence[Sample] = ()
        self._fresh = NOWHERE
        self._dabs = 0
        self._heading = self.start.turn_deg
        self._last: Dab | None = None
        self._before: Dab | None = None
        self._dab: Dab | None = None
        self._covered = Planes(self.canvas.bounds, lambda window: np.zeros(window.shape, np.float32))

    @property
    def drawn_to(self) -> float:
        return self._pace.drawn_to

    def facts(self) -> dict[str, float]:
        return {}

    def loose(self) -> Window:
        return NOWHERE

    def add(self, samples: Sequence[Sample], every: Sequence[Sample]) -> Window:
        self._ahead = every
        return self._draw(self._pace.add(samples))

    def again(self, every: Sequence[Sample]) -> Window:
        self._ahead = every
        return self._draw(self._pace.add(every))

    def finish(self, every: Sequence[Sample]) -> Window:
        self._ahead = every
        return self._draw(self._pace.finish())

    def _draw(self, dabs: Sequence[Dab]) -> Window:
        self._fresh = NOWHERE
        began, posts = self._times, 0
        for number, dab in enumerate(dabs if not self.full else ()):
            try:
                self._one(dab)
            except TooMuch:
                self.full = True
                break
            posts += self._posts
            if posts > BREATH:
                posts = 0
                self.canvas.breathe(number / len(dabs))
                if self._times != began:
                    # It was taken back meanwhile: it is drawn anew when its turn comes.
                    return NOWHERE
        return self._fresh

    def _one(self, dab: Dab) -> None:
        self._before, self._dab = self._dab, dab
        turn = self._turn_of(dab)
        if self._target is None and self.tool.aims is not None:
            first = self._ahead[0]
            begins = self.canvas.elevation(first.x, first.y)
            self._target = self.tool.aims(self.manner.values, begins, lambda: self._mean(first, begins))
        for image in (ITSELF, *self.manner.images):
            x, y = image.place(dab.x, dab.y)
            outline = Outline(self.start.shape, image.bearing(turn), self.manner.tip, image.flipped)
            window = around(self.canvas.grid, x, y, outline.reach(self.start.radius_m), self.canvas.bounds)
            if not window.empty:
                self._at(dab, x, y, outline, window, image)
                self._fresh = self._fresh.join(window)
        self._dabs += 1

    def _at(self, dab: Dab, x: float, y: float, outline: Outline, window: Window, image: Image) -> None:
        grid = self.canvas.grid
        touch = Touch(*grid.post_of(x, y), self.start.radius_m / grid.spacing, self.start.softness, 0.0)
        amount = self.tool.amount(self.start.strength, dab.seconds) * dab.pressure
        if self.tool.sign:
            self._mask_dab(window, touch, outline, amount, image, self._pull(image))
            return
        plain = outline.plain and self.manner.limits is None and not self._bounds_ground
        if plain and self.tool.quick is not None and self.tool.plain(self.manner.values):
            self._quick_dab(window, touch, amount)
        else:
            self._any_dab(window, touch, outline, amount, image)
        self.canvas.soil(HEIGHT, window)

    def _pull(self, image: Image) -> tuple[float, float]:
        """How far the hand has come since the dab before, down and right. [posts]"""
        if self._before is None or self._dab is None:
            return 0.0, 0.0
        x0, y0 = image.place(self._before.x, self._before.y)
        x, y = image.place(self._dab.x, self._dab.y)
        return (y0 - y) / self.canvas.grid.spacing, (x - x0) / self.canvas.grid.spacing

    def _turn_of(self, dab: Dab) -> float:
        """The brush's turn for a dab: fixed, by chance from the dab's own number, or the way the hand goes. [°]"""
        if self.start.turn_by == "random":
            return (self._dabs * 222.4922 + self.start.turn_deg) % 360
        if self.start.turn_by == "path":
            if self._last is None:
                self._last = dab
                ahead = next((s for s in self._ahead if math.hypot(s.x - dab.x, s.y - dab.y) > 1e-6), None)
                if ahead is not None:
                    self._heading = math.degrees(math.atan2(ahead.x - dab.x, ahead.y - dab.y)) + self.start.turn_deg
            away = math.hypot(dab.x - self._last.x, dab.y - self._last.y)
            if away > LEAST_TURN_M * self.start.radius_m:
                east, north = dab.x - self._last.x, dab.y - self._last.y
                self._heading = math.degrees(math.atan2(east, north)) + self.start.turn_deg
                self._last = dab
            return self._heading
        return self.start.turn_deg

    def _mean(self, first: Sample, otherwise: float) -> float:
        """The mean elevation under the brush where the stroke begins. [m]"""
        grid = self.canvas.grid
        window = around(grid, first.x, first.y, self.start.radius_m, self.canvas.bounds)
        if window.empty:
            return otherwise
        touch = Touch(*grid.post_of(first.x, first.y), self.start.radius_m / grid.spacing, self.start.softness, 0.0)
        weights = shaped_weights(window.shape, _moved(touch, window, 0.0), Outline()).astype(np.float64)
        if weights.sum() <= 0:
            return otherwise
        return float((self.canvas.read(HEIGHT, window) * weights).sum() / weights.sum())

    def _quick_dab(self, window: Window, touch: Touch, amount: float) -> None:
        spacing, values, canvas = self.canvas.grid.spacing, self.manner.values, self.canvas
        halo = self.tool.halo(touch.radius, values, spacing)
        target = self._target or 0.0
        wide = window.pad(halo).meet(canvas.bounds)
        canvas.hold(HEIGHT, wide)
        if halo or canvas.crosses(window):
            heights = canvas.read(HEIGHT, wide)
            self.tool.apply(heights, _moved(touch, wide, amount), target, values, spacing)
            canvas.write(HEIGHT, window, heights[window.inside(wide)])
            return
        for tile, where in canvas.cache.whole_tiles(HEIGHT, window):
            self.tool.apply(tile, _moved(touch, where, amount), target, values, spacing)

    def _any_dab(self, window: Window, touch: Touch, outline: Outline, amount: float, image: Image) -> None:
        grid, values = self.canvas.grid, self.manner.values
        wide = window.pad(self.tool.halo(touch.radius, values, grid.spacing)).meet(self.canvas.bounds)
        self.canvas.hold(HEIGHT, wide)
        heights = self.canvas.read(HEIGHT, wide)
        was = heights.copy()
        weights = shaped_weights(wide.shape, _moved(touch, wide, 0.0), outline)
        if self.manner.limits is not None:
            weights *= self._kept.read(wide)
        covered = self._covered.read(wide) if self.tool.covers else NOTHING
        if self.tool.press is not None:
            pressing = Pressing(
                heights, weights, amount, grid.spacing, values, self._target or 0.0, self._spots(wide, image),
                covered, self._dabs, touch.radius,
            )  # fmt: skip
            self.tool.press(pressing)
        if self.tool.covers:
            self._covered.write(wide, covered)
        self._bound(heights, was)
        self.canvas.write(HEIGHT, window, heights[window.inside(wide)])

    def _spots(self, window: Window, image: Image) -> Spots:
        """Where the posts of a window are, seen from the stroke's own side of the symmetry."""
        grid, back = self.canvas.grid, image.back()
        x, y = back.place(grid.x_of(window.col0), grid.y_of(window.row0))
        step = grid.spacing
        return Spots(x, y, back.xx * step, back.yx * step, -back.xy * step, -back.yy * step)

    def _mask_weights(self, window: Window, touch: Touch, outline: Outline, image: Image) -> FloatArray:
        """How much of a dab counts at each post of a mask, 0 to 1."""
        weights = shaped_weights(window.shape, _moved(touch, window, 0.0), outline)
        if self.manner.limits is not None:
            weights *= self._kept.read(window)
        if self.tool.pattern is not None:
            spots, values = self._spots(window, image), self.manner.values
            weights *= self.tool.pattern(window.shape, spots, values, self.canvas.grid.spacing)
        return weights

    def _masks_dab(
        self, press: Callable[[MaskPressing], None], window: Window, touch: Touch, outline: Outline, amount: float,
        image: Image, pull: tuple[float, float],
    ) -> None:  # fmt: skip
        """A dab on all the masks at once. Those that are blank, and not to be laid, stay so."""
        canvas, masks, values, spacing = self.canvas, self.manner.masks, self.manner.values, self.canvas.grid.spacing
        wide = window.pad(self.tool.halo(touch.radius, values, spacing)).meet(canvas.bounds)
        under = None if self.manner.under is None else self.manner.under(wide)
        own = next((layer for layer, sign in masks if sign), None) if self.tool.subject else None
        every = under is not None or self.tool.every_mask
        layers = [layer for layer, _ in masks if every or layer == own or not canvas.blank(layer, wide)]
        for layer in layers:
            canvas.hold(layer, wide)
        held = np.zeros((len(layers), *wide.shape), np.uint16)
        for i, layer in enumerate(layers):
            if not canvas.blank(layer, wide):
                held[i] = canvas.read(layer, wide)
        now = held.copy()
        before = np.stack([canvas.was(layer, wide) for layer in layers]) if self.tool.looks_back and layers else now
        if under is not None:
            # What shows through all of them becomes the hand's own, where it works.
            held = taken_over(held, under)
            before = taken_over(before, under) if self.tool.looks_back else now
        weights = self._mask_weights(wide, touch, outline, image)
        at = None if own is None else layers.index(own)
        base = own is not None and own == masks[0][0]
        press(MaskPressing(held, base, weights, amount, values, spacing, before, at or 0, pull))
        inner = window.inside(wide)
        touched = weights[inner] > 0
        for mask, was, layer in zip(held, now, layers, strict=True):
            new = np.where(touched, mask[inner], was[inner])
            if not np.array_equal(new, was[inner]):
                canvas.write(layer, window, new)
                canvas.soil(layer, window)

    def _mask_dab(
        self, window: Window, touch: Touch, outline: Outline, amount: float, image: Image, pull: tuple[float, float]
    ) -> None:
        press = self.tool.press_masks
        if press is None and any(sign == 0 for _, sign in self.manner.masks):
            press = lift
        if press is not None:
            self._masks_dab(press, window, touch, outline, amount, image, pull)
            return
        plain, crosses = outline.plain and self.manner.limits is None, self.canvas.crosses(window)
        plain = plain and self.tool.pattern is None
        for layer, sign in self.manner.masks:
            if sign < 0 and self.canvas.blank(layer, window):
                continue
            self.canvas.hold(layer, window)
            if plain and not crosses:
                for tile, where in self.canvas.cache.whole_tiles(layer, window):
                    add_in_place(tile, _moved(touch, where, sign * amount))
            elif plain:
                mask = self.canvas.read(layer, window)
                add_in_place(mask, _moved(touch, window, sign * amount))
                self.canvas.write(layer, window, mask)
            else:
                mask = self.canvas.read(layer, window)
                press_mask(mask, self._mask_weights(window, touch, outline, image), sign * amount)
                self.canvas.write(layer, window, mask)
            self.canvas.soil(layer, window)


class Laid(_Bounded):
    """A tool that lays its work along the whole path at once, anew whenever the path has grown."""

    def __init__(self, manner: Manner, canvas: Canvas) -> None:
        super().__init__(manner, canvas)
        self.restart()

    def restart(self) -> None:
        super().restart()
        self._laid_at, self._lay_took = 0.0, 0.0
        self._loose = NOWHERE
        self._told: Mapping[str, float] = {}
        self._until = 0.0

    @property
    def drawn_to(self) -> float:
        return self._until

    def facts(self) -> dict[str, float]:
        return dict(self._told)

    def loose(self) -> Window:
        return self._loose

    def add(self, samples: Sequence[Sample], every: Sequence[Sample]) -> Window:
        # Laying it takes a while: not more often than the rest of the work can bear.
        if time.monotonic() - self._laid_at < 3 * self._lay_took:
            return NOWHERE
        return self._lay(every)

    def again(self, every: Sequence[Sample]) -> Window:
        return self._lay(every)

    def finish(self, every: Sequence[Sample]) -> Window:
        return self._lay(every)

    def _lay(self, samples: Sequence[Sample]) -> Window:
        """Put the ground back and lay the path so far into it; returns the posts that changed by both."""
        began = time.monotonic()
        # What was counted is put back too.
        for side in self.canvas.sides:
            self.canvas.counted.update((side, place) for place in side.dirty)
        changed = self._loose = self.canvas.put_back()
        if not samples:
            return changed
        first, last = samples[0], samples[-1]
        ends = self.canvas.elevation(first.x, first.y), self.canvas.elevation(last.x, last.y)
        for image in (ITSELF, *self.manner.images):
            changed = changed.join(self._lay_image(samples, image, ends))
        if self.tool.measures is not None:
            path = self._path(samples, ITSELF).astype(np.float32)
            self._told = self.tool.measures(path, self.manner.values, self.canvas.grid.spacing, ends)
        self._loose = NOWHERE
        self._until = last.seconds
        self._laid_at = time.monotonic()
        self._lay_took = self._laid_at - began
        return changed

    def _path(self, samples: Sequence[Sample], image: Image) -> NDArray[np.float64]:
        """Row and column of every sample. [posts]"""
        grid = self.canvas.grid
        return np.array([grid.post_of(*image.place(s.x, s.y)) for s in samples], np.float64)

    def _lay_image(self, samples: Sequence[Sample], image: Image, ends: tuple[float, float]) -> Window:
        tool, grid, values, canvas = self.tool, self.canvas.grid, self.manner.values, self.canvas
        assert tool.lay is not None
        assert tool.area is not None
        path = self._path(samples, image)
        # The area depends on how high the ground in it is: from little on, until it holds its own.
        area = NOWHERE
        low, high = min(ends), max(ends)
        for _ in range(6):
            wider = tool.area(path.astype(np.float32), values, grid.spacing, low, high).meet(canvas.bounds)
            if wider == area:
                break
            area = wider
            if area.empty:
                return NOWHERE
            low, high = canvas.height_range(area, low, high)
        try:
            canvas.hold(HEIGHT, area)
        except TooMuch:
            self.full = True
            return NOWHERE
        heights = canvas.read(HEIGHT, area)
        was = heights.copy()
        own = (path - [area.row0, area.col0]).astype(np.float32)
        laying = Laying(heights, own, grid.spacing, values, *ends, image.turn, image.flipped)
        if heights.size <= BREATH:
            tool.lay(laying)
        else:
            # On a copy of what is held: others go on meanwhile.
            began = self._times
            with canvas.lock.away():
                tool.lay(laying)
            if self._times != began:
                return NOWHERE
        if self.manner.limits is not None:
            heights = (was + (heights - was) * self._kept.read(area)).astype(np.float32)
        self._bound(heights, was)
        moved = differing(was, heights)
        if moved.empty:
            return NOWHERE
        window = moved.shifted(area.row0, area.col0)
        canvas.write(HEIGHT, window, heights[moved.inside(Window(0, 0, *heights.shape))])
        canvas.soil(HEIGHT, window)
        return window


def _moved(touch: Touch, where: Window, amount: float) -> Touch:
    return Touch(touch.row - where.row0, touch.col - where.col0, touch.radius, touch.softness, amount)
