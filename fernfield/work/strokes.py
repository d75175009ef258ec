"""A stroke while it is being drawn: dabs into tiles, with the tiles as they were kept aside."""

from __future__ import annotations

import itertools
import math
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.grid import NOWHERE, FloatArray, Window, bilinear
from fernfield.core.ground.brush import HIGHEST_M, LOWEST_M, Brush, Touch
from fernfield.core.ground.earthworks import cut_and_fill
from fernfield.core.ground.grade import axis, length_of
from fernfield.core.ground.keep import Limits, within
from fernfield.core.ground.mask import add_in_place, press_mask
from fernfield.core.ground.pace import Dab, Pace, Sample, dab_gap, dab_step
from fernfield.core.ground.pressing import Laying, Pressing
from fernfield.core.ground.shapes import Outline, shaped_weights
from fernfield.core.ground.symmetry import Image
from fernfield.core.ground.tools import GROUND_TOOLS, NOTHING, GroundTool
from fernfield.core.light.relief import slope_degrees
from fernfield.core.noise import Spots
from fernfield.work.commands import LONGEST_STROKE_S, MOST_POINTS, StrokeStart
from fernfield.work.draft import differing
from fernfield.work.layers import HEIGHT, OPENING, Place, TileCache
from fernfield.work.sides import Beside, Planes, Side, around, holders, read_across, write_across

_serials = itertools.count(1)


class InTheWay(Exception):
    """A dab touches tiles that other strokes hold."""

    def __init__(self, others: set[StrokeRun]) -> None:
        super().__init__("another stroke is being drawn here")
        self.others = others


@dataclass(frozen=True)
class Manner:
    """Everything about a stroke that is settled before its first sample.

    start : as it was asked for
    values : the tool's settings, with pictures in the place of their keys
    mask_layers : for paint and take_away the cover's own layer (or none for the base), then those above it
    tip : image that shapes the brush
    limits : what it keeps to
    images : where else a symmetry repeats it
    lowest, highest : no post is taken past these [m]
    beside : tracts that it runs over into
    """

    start: StrokeStart
    values: Mapping[str, Any] = field(default_factory=dict)
    mask_layers: Sequence[str] = ()
    tip: FloatArray | None = None
    limits: Limits | None = None
    images: Sequence[Image] = ()
    lowest: float = LOWEST_M
    highest: float = HIGHEST_M
    beside: Sequence[Beside] = ()


ITSELF = Image(1, 0, 0, 1, 0, 0, 0, False)
LEAST_TURN_M = 0.05
"""A brush that turns along the path keeps its turn until the path has gone this much of its radius on."""


@dataclass(eq=False)
class StrokeRun:
    """One stroke on one tract. Holds the tiles it has touched until it is committed or taken back.

    Of two strokes that want the same tile the one begun earlier goes on; the later one is
    taken back whole, waits, and is drawn again from its own samples. So no revision ever
    holds part of another stroke.
    """

    tract_id: str
    cache: TileCache
    manner: Manner
    holds: dict[tuple[str, Place], StrokeRun]
    serial: int = field(default_factory=lambda: next(_serials))
    samples: list[Sample] = field(default_factory=list)
    waits_for: StrokeRun | None = None
    ended: bool = False

    def __post_init__(self) -> None:
        Brush(self.start.radius_m, self.start.softness)
        self.tool = GROUND_TOOLS.get(self.start.tool)
        self.own = Side(self.tract_id, self.cache)
        joined = (Side(b.tract_id, b.cache, b.row, b.col) for b in self.manner.beside)
        self.sides = (self.own, *joined)
        self._bounds = self.cache.grid.window
        for side in self.sides[1:]:
            self._bounds = self._bounds.join(side.where)
        self._restart()

    @property
    def start(self) -> StrokeStart:
        return self.manner.start

    def _restart(self) -> None:
        radius = self.start.radius_m
        grid = self.cache.grid
        self._pace = Pace(dab_gap(radius), dab_step(radius / grid.spacing))
        self._target = self.manner.values.get("target_m")
        self._fresh = NOWHERE
        self._dabs = 0
        self._heading = self.start.turn_deg
        self._last: Dab | None = None
        self._kept = Planes(self._bounds, self._keep)
        self._covered = Planes(self._bounds, lambda window: np.zeros(window.shape, np.float32))
        self._laid_at, self._lay_took = 0.0, 0.0
        self._loose = NOWHERE
        self._laid: tuple[float, float, float] | None = None
        self._volumes: dict[tuple[str, Place], tuple[float, float]] = {}
        self._counted: set[tuple[Side, Place]] = set()

    @property
    def on_ground(self) -> bool:
        return self.tool is not None

    @property
    def layer_moved(self) -> str:
        """ "height", "cover", "growth" or "opening": what a listener needs to draw again."""
        return HEIGHT if self.tool is not None else self.manner.mask_layers[0].split(":")[0]

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
        if self._lays:
            # Laying it takes a while: not more often than the rest of the work can bear.
            if time.monotonic() - self._laid_at < 3 * self._lay_took:
                return NOWHERE
            return self._lay()
        return self._draw(self._pace.add(samples))

    def finish(self) -> Window:
        if self._lays:
            return self._lay()
        return self._draw(self._pace.finish())

    def replay(self) -> Window:
        """Draw again, from all samples so far, after `roll_back`."""
        if self._lays:
            return self._lay()
        return self._draw(self._pace.add(self.samples))

    def replay_whole(self) -> Window:
        """Draw again from the first sample to the end."""
        return self.replay().join(self.finish())

    def roll_back(self) -> Window:
        """Put every tile back as it was and let go of it; returns the posts concerned."""
        changed = self._loose
        for side in self.sides:
            changed = changed.join(side.roll_back(self.holds))
        self._restart()
        return changed

    def let_go(self) -> None:
        """After a commit: the tiles are the store's again."""
        for side in self.sides:
            side.let_go(self.holds)

    def progress(self) -> dict[str, float]:
        """Cut and fill so far [m³]; for a grade its length [m] and slope [%] too. Only what moved is counted anew."""
        spacing = self.cache.grid.spacing
        for side, place in self._counted:
            if place in side.dirty:
                whole = side.cache.grid.tile_window(place[1], place[2])
                box = side.dirty[place].inside(whole)
                moved = cut_and_fill(side.before[place][box], side.cache.tile(place)[box], spacing)
                self._volumes[side.tract_id, place] = moved
        self._counted.clear()
        found = {
            "cut_m3": sum(cut for cut, _ in self._volumes.values()),
            "fill_m3": sum(fill for _, fill in self._volumes.values()),
        }
        if self._laid is not None:
            length, begins, ends = self._laid
            found |= {"length_m": length, "from_m": begins, "to_m": ends}
            found |= {"percent": (ends - begins) / length * 100 if length > 0 else 0.0}
        return found

    # Dabs

    def _draw(self, dabs: Sequence[Dab]) -> Window:
        self._fresh = NOWHERE
        for dab in dabs:
            self._one(dab)
        return self._fresh

    def _one(self, dab: Dab) -> None:
        turn = self._turn_of(dab)
        if self._target is None and self.start.tool == "flatten":
            self._target = self._first_target()
        for image in (ITSELF, *self.manner.images):
            x, y = image.place(dab.x, dab.y)
            outline = Outline(self.start.shape, image.bearing(turn), self.manner.tip, image.flipped)
            window = around(self.cache.grid, x, y, outline.reach(self.start.radius_m), self._bounds)
            if not window.empty:
                self._at(dab, x, y, outline, window, image)
                self._fresh = self._fresh.join(window)
        self._dabs += 1

    def _at(self, dab: Dab, x: float, y: float, outline: Outline, window: Window, image: Image) -> None:
        grid = self.cache.grid
        touch = Touch(grid.row_of(y), grid.col_of(x), self.start.radius_m / grid.spacing, self.start.softness, 0.0)
        if self.tool is None:
            self._mask_dab(window, touch, outline, self.start.strength / 100 * dab.seconds * dab.pressure)
            return
        amount = self.tool.amount(self.start.strength, dab.seconds) * dab.pressure
        bounded = self.manner.lowest > LOWEST_M or self.manner.highest < HIGHEST_M
        plain = outline.plain and self.manner.limits is None and not bounded
        if len(self.sides) > 1:
            plain &= not self._crosses(window.pad(self.tool.halo(touch.radius, self.manner.values, grid.spacing)))
        if plain and self.tool.quick is not None and self.tool.plain(self.manner.values):
            self._quick_dab(self.tool, window, touch, amount)
        else:
            self._any_dab(self.tool, window, touch, outline, amount, image)
        self._soil(HEIGHT, window)

    def _turn_of(self, dab: Dab) -> float:
        """The brush's turn for a dab: fixed, by chance from the dab's own number, or the way the hand goes. [°]"""
        if self.start.turn_by == "random":
            return (self._dabs * 222.4922 + self.start.turn_deg) % 360
        if self.start.turn_by == "path":
            if self._last is None:
                self._last = dab
                ahead = next((s for s in self.samples if math.hypot(s.x - dab.x, s.y - dab.y) > 1e-6), None)
                if ahead is not None:
                    self._heading = math.degrees(math.atan2(ahead.x - dab.x, ahead.y - dab.y)) + self.start.turn_deg
            away = math.hypot(dab.x - self._last.x, dab.y - self._last.y)
            if away > LEAST_TURN_M * self.start.radius_m:
                east, north = dab.x - self._last.x, dab.y - self._last.y
                self._heading = math.degrees(math.atan2(east, north)) + self.start.turn_deg
                self._last = dab
            return self._heading
        return self.start.turn_deg

    def _first_target(self) -> float:
        """What Flatten brings the ground to when no elevation is given."""
        first = self.samples[0]
        if self.manner.values["target_from"] == "mean":
            grid = self.cache.grid
            window = grid.around(first.x, first.y, self.start.radius_m)
            if not window.empty:
                touch = Touch(
                    grid.row_of(first.y) - window.row0, grid.col_of(first.x) - window.col0,
                    self.start.radius_m / grid.spacing, self.start.softness, 0.0,
                )  # fmt: skip
                weights = shaped_weights(window.shape, touch, Outline()).astype(np.float64)
                if weights.sum() > 0:
                    return float((self.cache.read(HEIGHT, window) * weights).sum() / weights.sum())
        return self._elevation(first.x, first.y)

    def _elevation(self, x: float, y: float) -> float:
        grid = self.cache.grid
        row, col = grid.row_of(y), grid.col_of(x)
        corner = Window(int(np.floor(row)), int(np.floor(col)), int(np.floor(row)) + 2, int(np.floor(col)) + 2)
        return bilinear(self._read(HEIGHT, corner), row - corner.row0, col - corner.col0)

    def _quick_dab(self, tool: GroundTool, window: Window, touch: Touch, amount: float) -> None:
        spacing, values = self.cache.grid.spacing, self.manner.values
        halo = tool.halo(touch.radius, values, spacing)
        target = self._target or 0.0
        if halo:
            wide = self.cache.grid.clip(window.pad(halo))
            self._hold(HEIGHT, wide)
            heights = self.cache.read(HEIGHT, wide)
            tool.apply(heights, self._moved(touch, wide, amount), target, values, spacing)
            self.cache.write(HEIGHT, window, heights[window.inside(wide)])
            return
        self._hold(HEIGHT, window)
        for tile, where in self.cache.whole_tiles(HEIGHT, window):
            tool.apply(tile, self._moved(touch, where, amount), target, values, spacing)

    def _any_dab(
        self, tool: GroundTool, window: Window, touch: Touch, outline: Outline, amount: float, image: Image
    ) -> None:
        grid, values = self.cache.grid, self.manner.values
        wide = window.pad(tool.halo(touch.radius, values, grid.spacing)).meet(self._bounds)
        self._hold(HEIGHT, wide)
        heights = self._read(HEIGHT, wide)
        was = heights.copy()
        weights = shaped_weights(wide.shape, self._moved(touch, wide, 0.0), outline)
        if self.manner.limits is not None:
            weights *= self._kept.read(wide)
        covered = self._covered.read(wide) if tool.covers else NOTHING
        if tool.press is not None:
            pressing = Pressing(
                heights, weights, amount, grid.spacing, values, self._target or 0.0, self._spots(wide, image),
                covered, self._dabs, touch.radius,
            )  # fmt: skip
            tool.press(pressing)
        if tool.covers:
            self._covered.write(wide, covered)
        self._bound(heights, was)
        write_across(self.sides, HEIGHT, window, heights[window.inside(wide)])

    def _crosses(self, window: Window) -> bool:
        """Whether a window touches a tract that is joined to the stroke's own."""
        return any(not side.where.meet(window).empty for side in self.sides[1:])

    def _read(self, layer: str, window: Window) -> NDArray[Any]:
        """A copy of a window, which may reach into joined tracts."""
        return read_across(self.sides, layer, window, lambda side, name, part: side.cache.read(name, part))

    def _bound(self, heights: FloatArray, was: FloatArray) -> None:
        """Take nothing past the world's limits; ground that lies beyond them already goes no further."""
        if self.manner.highest < HIGHEST_M:
            np.minimum(heights, np.maximum(was, np.float32(self.manner.highest)), out=heights)
        if self.manner.lowest > LOWEST_M:
            np.maximum(heights, np.minimum(was, np.float32(self.manner.lowest)), out=heights)

    def _spots(self, window: Window, image: Image) -> Spots:
        """Where the posts of a window are, seen from the stroke's own side of the symmetry."""
        grid, back = self.cache.grid, image.back()
        x, y = back.place(grid.x_of(window.col0), grid.y_of(window.row0))
        step = grid.spacing
        return Spots(x, y, back.xx * step, back.yx * step, -back.xy * step, -back.yy * step)

    def _keep(self, window: Window) -> FloatArray:
        """What the limits allow in a tile, from the ground as it was before the stroke."""
        assert self.manner.limits is not None
        wide = window.pad(1).meet(self._bounds)
        heights = read_across(self.sides, HEIGHT, wide, lambda side, name, part: side.was(name, part))
        slope = slope_degrees(heights, self.cache.grid.spacing)
        inner = window.inside(wide)
        return within(self.manner.limits, heights[inner], slope[inner], window.row0, window.col0)

    # Whole paths

    @property
    def _lays(self) -> bool:
        return self.tool is not None and self.tool.lay is not None

    def _lay(self) -> Window:
        """Put the ground back and lay the path so far into it; returns the posts that changed by both."""
        began = time.monotonic()
        changed = NOWHERE
        for side in self.sides:
            changed = changed.join(side.put_back())
        self._loose = changed
        self._volumes.clear()
        if not self.samples:
            return changed
        first, last = self.samples[0], self.samples[-1]
        ends = self._elevation(first.x, first.y), self._elevation(last.x, last.y)
        for image in (ITSELF, *self.manner.images):
            changed = changed.join(self._lay_image(image, ends))
        if self.start.tool == "grade":
            self._laid = self._grade_facts(ends)
        self._loose = NOWHERE
        self._laid_at = time.monotonic()
        self._lay_took = self._laid_at - began
        return changed

    def _path(self, image: Image) -> FloatArray:
        """Row and column of every sample. [posts]"""
        grid = self.cache.grid
        places = [image.place(s.x, s.y) for s in self.samples]
        return np.array([(grid.row_of(y), grid.col_of(x)) for x, y in places], np.float32)

    def _grade_facts(self, ends: tuple[float, float]) -> tuple[float, float, float]:
        values, grid = self.manner.values, self.cache.grid
        length = length_of(axis(self._path(ITSELF), values, grid.spacing)) * grid.spacing
        begins = ends[0] if values["from_m"] is None else values["from_m"]
        return length, begins, ends[1] if values["to_m"] is None else values["to_m"]

    def _lay_image(self, image: Image, ends: tuple[float, float]) -> Window:
        tool, grid, values = self.tool, self.cache.grid, self.manner.values
        assert tool is not None
        assert tool.lay is not None
        assert tool.area is not None
        path = self._path(image)
        # The area depends on how high the ground in it is: from little on, until it holds its own.
        area = NOWHERE
        low, high = ends[0], ends[0]
        for _ in range(6):
            wider = tool.area(path, values, grid.spacing, low, high).meet(self._bounds)
            if wider == area:
                break
            area = wider
            if area.empty:
                return NOWHERE
            for side in self.sides:
                if not (part := side.own(area)).empty:
                    found = side.cache.height_range(part)
                    low, high = min(low, found[0]), max(high, found[1])
        self._hold(HEIGHT, area)
        heights = self._read(HEIGHT, area)
        was = heights.copy()
        origin = np.array([area.row0, area.col0], np.float32)
        tool.lay(Laying(heights, path - origin, grid.spacing, values, *ends, image.turn, image.flipped))
        if self.manner.limits is not None:
            heights = (was + (heights - was) * self._kept.read(area)).astype(np.float32)
        self._bound(heights, was)
        moved = differing(was, heights)
        if moved.empty:
            return NOWHERE
        window = moved.shifted(area.row0, area.col0)
        write_across(self.sides, HEIGHT, window, heights[moved.inside(Window(0, 0, *heights.shape))])
        self._soil(HEIGHT, window)
        return window

    # Masks

    def _mask_dab(self, window: Window, touch: Touch, outline: Outline, amount: float) -> None:
        plain = outline.plain and self.manner.limits is None and not self._crosses(window)
        for layer, sign in self._mask_moves():
            if sign < 0 and all(side.cache.blank(layer, side.own(window)) for side in self.sides):
                continue
            self._hold(layer, window)
            if plain:
                for tile, where in self.cache.whole_tiles(layer, window):
                    add_in_place(tile, self._moved(touch, where, sign * amount))
            else:
                weights = shaped_weights(window.shape, self._moved(touch, window, 0.0), outline)
                if self.manner.limits is not None:
                    weights *= self._kept.read(window)
                mask = self._read(layer, window)
                press_mask(mask, weights, sign * amount)
                write_across(self.sides, layer, window, mask)
            self._soil(layer, window)

    def _mask_moves(self) -> Iterator[tuple[str, int]]:
        own, above = self.manner.mask_layers[0], self.manner.mask_layers[1:]
        adds = self.start.tool in ("paint", "sow", "open")
        if not own.endswith(":"):
            yield own, 1 if adds else -1
        if self.start.tool == "paint":
            for layer in above:
                yield layer, -1

    @staticmethod
    def _moved(touch: Touch, where: Window, amount: float) -> Touch:
        return Touch(touch.row - where.row0, touch.col - where.col0, touch.radius, touch.softness, amount)

    def _parts(self, window: Window) -> list[tuple[Side, Window]]:
        """The tracts that a window of the stroke's own posts touches, and where in each."""
        if len(self.sides) == 1:
            return [(self.own, window)]
        return [(side, part) for side in self.sides if not (part := side.own(window)).empty]

    def _hold(self, layer: str, window: Window) -> None:
        parts = self._parts(window)
        others: set[StrokeRun] = set()
        for side, part in parts:
            others |= holders(self.holds, side.tract_id, [(layer, *tile) for tile in part.tiles()], self)
        if others:
            raise InTheWay(others)
        for side, part in parts:
            side.hold(layer, part, self, self.holds)

    def _soil(self, layer: str, window: Window) -> None:
        for side, part in self._parts(window):
            places = side.soil(layer, part)
            if layer == HEIGHT:
                self._counted.update((side, place) for place in places)


def mask_layers(start: StrokeStart, covers: Sequence[str], mixes: Sequence[str]) -> list[str]:
    """The layers that a paint, take_away, sow or thin works on; "cover:" alone is the base.

    Raises NotFound for a cover or mix that is not there, Conflict for taking the base away.
    """
    if start.tool in ("open", "close"):
        return [OPENING]
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
