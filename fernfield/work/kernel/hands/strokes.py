"""A stroke while it is being drawn: its samples, the tiles it holds, and how it is taken back and drawn again.

What a stroke does to the tiles is its hand's: see `brushwork`.
"""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Protocol

from numpy.typing import NDArray

from fernfield.core.brush.pace import Sample
from fernfield.core.earthworks import cut_and_fill
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import NOWHERE, Grid, Window, bilinear
from fernfield.work.kernel.commands import LONGEST_STROKE_S, MOST_POINTS, StrokeBase
from fernfield.work.kernel.hands.sides import Beside, Side, holders, read_across, write_across
from fernfield.work.kernel.locks import FairLock
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tiles import Place, TileCache

_serials = itertools.count(1)


MOST_HELD = 2 * 4_097 * 4_097
"""Posts of all layers that one stroke may hold."""


TOO_MUCH = f"a stroke works on at most {MOST_HELD:,} posts: draw it in parts, or with a smaller brush"


def _nobody(_done: float) -> None:
    pass


class TooMuch(Exception):
    """A stroke would hold more than it may."""


class InTheWay(Exception):
    """A dab touches tiles that other strokes hold."""

    def __init__(self, others: set[StrokeRun]) -> None:
        super().__init__("another stroke is being drawn here")
        self.others = others


class Hand(Protocol):
    """What draws a stroke on its canvas. Each call returns the posts that changed."""

    seen: str
    """What listeners are told has moved."""

    @property
    def drawn_to(self) -> float:
        """The time of the stroke up to which the tiles have been changed. [s]"""
        ...

    def add(self, samples: Sequence[Sample], every: Sequence[Sample]) -> Window:
        """Draw what new samples make certain; `every` holds them and all before."""
        ...

    def again(self, every: Sequence[Sample]) -> Window:
        """Draw from the first sample on, on tiles that were put back."""
        ...

    def finish(self, every: Sequence[Sample]) -> Window: ...

    def restart(self) -> None:
        """The tiles were put back: begin anew."""
        ...

    @property
    def full(self) -> bool:
        """Whether it holds all that a stroke may: the rest is not drawn."""
        ...

    def facts(self) -> dict[str, float]:
        """What is told of the work so far, besides cut and fill."""
        ...

    def loose(self) -> Window:
        """Posts that may have changed without being counted as changed yet."""
        ...


@dataclass(eq=False)
class Canvas:
    """The tiles under a stroke: its own tract, and those that are joined to it.

    Windows are in the posts of the stroke's own tract, and may reach into the others; `grid` says where these lie
    in the world's metres, in which the hand works.
    """

    tract_id: str
    cache: TileCache
    grid: Grid
    beside: Sequence[Beside]
    holds: dict[tuple[str, Place], Any]
    lock: FairLock
    owner: Any = None
    told: Callable[[float], None] = _nobody
    """Hears how far a long piece of drawing is, and may raise to stop it."""

    def __post_init__(self) -> None:
        self.own = Side(self.tract_id, self.cache)
        self.sides = (self.own, *(Side(b.tract_id, b.cache, b.row, b.col) for b in self.beside))
        self.bounds = self.cache.grid.window
        for side in self.sides[1:]:
            self.bounds = self.bounds.join(side.where)
        self.counted: set[tuple[Side, Place]] = set()
        self._held = 0

    def crosses(self, window: Window) -> bool:
        """Whether a window touches a tract that is joined to the stroke's own."""
        return any(not side.where.meet(window).empty for side in self.sides[1:])

    def read(self, layer: str, window: Window) -> NDArray[Any]:
        """A copy of a window."""
        return read_across(self.sides, layer, window, lambda side, name, part: side.cache.read(name, part))

    def was(self, layer: str, window: Window) -> NDArray[Any]:
        """A copy of a window as it was before the stroke."""
        return read_across(self.sides, layer, window, lambda side, name, part: side.was(name, part))

    def write(self, layer: str, window: Window, values: NDArray[Any]) -> None:
        """Put values into tiles that are held."""
        write_across(self.sides, layer, window, values)

    def blank(self, layer: str, window: Window) -> bool:
        return all(side.cache.blank(layer, side.own(window)) for side in self.sides)

    def elevation(self, x: float, y: float) -> float:
        """Elevation of the ground at a place, as it is now. [m]"""
        row, col = self.grid.post_of(x, y)
        r, c = int(row // 1), int(col // 1)
        return bilinear(self.read(HEIGHT, Window(r, c, r + 2, c + 2)), row - r, col - c)

    def height_range(self, window: Window, low: float, high: float) -> tuple[float, float]:
        """`low` and `high` widened by what lies in a window. [m]"""
        for side in self.sides:
            if not (part := side.own(window)).empty:
                found = side.cache.height_range(part)
                low, high = min(low, found[0]), max(high, found[1])
        return low, high

    def _parts(self, window: Window) -> list[tuple[Side, Window]]:
        """The tracts that a window touches, and where in each."""
        if len(self.sides) == 1:
            return [(self.own, window)]
        return [(side, part) for side in self.sides if not (part := side.own(window)).empty]

    def hold(self, layer: str, window: Window) -> None:
        """Keep the tiles of a window aside, to write into them. Raises InTheWay when others hold some."""
        parts = self._parts(window)
        others: set[StrokeRun] = set()
        for side, part in parts:
            others |= holders(self.holds, side.tract_id, [(layer, *tile) for tile in part.tiles()], self.owner)
        if others:
            raise InTheWay(others)
        if self._held + sum(part.rows * part.cols for _, part in parts) > MOST_HELD:
            new = [(side, (layer, *tile)) for side, part in parts for tile in part.tiles()]
            more = sum(side.cache.tile(place).size for side, place in new if place not in side.before)
            if self._held + more > MOST_HELD:
                raise TooMuch
        for side, part in parts:
            self._held += side.hold(layer, part, self.owner, self.holds)

    def soil(self, layer: str, window: Window) -> None:
        """Posts of a window have changed."""
        for side, part in self._parts(window):
            places = side.soil(layer, part)
            if layer == HEIGHT:
                self.counted.update((side, place) for place in places)

    def breathe(self, done: float) -> None:
        """Let those in who wait for the world; what is held stays held. The stroke may be taken back meanwhile."""
        self.lock.let_in()
        self.told(done)

    def put_back(self) -> Window:
        """Every tile as it was, still held; returns the posts that had changed."""
        return _joined(side.put_back() for side in self.sides)

    def roll_back(self) -> Window:
        """Every tile as it was, and let go; returns the posts that had changed."""
        self._held = 0
        return _joined(side.roll_back(self.holds) for side in self.sides)

    def let_go(self) -> None:
        for side in self.sides:
            side.let_go(self.holds)


def _joined(windows: Iterable[Window]) -> Window:
    whole = NOWHERE
    for window in windows:
        whole = whole.join(window)
    return whole


@dataclass(eq=False)
class StrokeRun:
    """One stroke on one tract. Holds the tiles it has touched until it is committed or taken back.

    Of two strokes that want the same tile the one begun earlier goes on; the later one is
    taken back whole, waits, and is drawn again from its own samples. So no revision ever
    holds part of another stroke.
    """

    start: StrokeBase
    canvas: Canvas
    hand: Hand
    serial: int = field(default_factory=lambda: next(_serials))
    samples: list[Sample] = field(default_factory=list)
    """In the metres of the stroke's own tract."""
    waits_for: StrokeRun | None = None
    ended: bool = False
    whole_or_nothing: bool = False
    """Whether it is kept only when all of it could be drawn."""

    def __post_init__(self) -> None:
        self.canvas.owner = self
        self.turn = threading.Lock()
        """Had by whoever draws more of it, or ends it: a long piece of drawing lets others have the world between."""
        self._volumes: dict[tuple[str, Place], tuple[float, float]] = {}
        self._there: list[Sample] = []

    @property
    def tract_id(self) -> str:
        return self.canvas.tract_id

    @property
    def sides(self) -> tuple[Side, ...]:
        return self.canvas.sides

    @property
    def drawn_to(self) -> float:
        return self.hand.drawn_to

    @property
    def full(self) -> bool:
        return self.hand.full

    @property
    def on_ground(self) -> bool:
        return bool(self.hand.seen == HEIGHT)

    def take(self, samples: Sequence[Sample]) -> Sequence[Sample]:
        """Keep samples, all or none, and say where they are in the world.

        Raises InvalidInput when they do not go on from the others.
        """
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
        grid = self.canvas.grid
        there = [replace(sample, x=sample.x + grid.west, y=sample.y + grid.south) for sample in samples]
        self._there.extend(there)
        return there

    def add(self, samples: Sequence[Sample]) -> Window:
        """Take samples in and draw what is certain; returns the posts that changed."""
        return self.hand.add(self.take(samples), self._there)

    def finish(self) -> Window:
        return self.hand.finish(self._there)

    def replay(self) -> Window:
        """Draw again, from all samples so far, after `roll_back`."""
        return self.hand.again(self._there)

    def replay_whole(self) -> Window:
        """Draw again from the first sample to the end."""
        return self.replay().join(self.finish())

    def roll_back(self) -> Window:
        """Put every tile back as it was and let go of it; returns the posts concerned."""
        changed = self.hand.loose().join(self.canvas.roll_back())
        self.hand.restart()
        self._volumes.clear()
        self.canvas.counted.clear()
        return changed

    def let_go(self) -> None:
        """After a commit: the tiles are the store's again."""
        self.canvas.let_go()

    def progress(self) -> dict[str, float]:
        """Cut and fill so far [m³], and what the hand tells. Only what moved is counted anew."""
        spacing = self.canvas.grid.spacing
        for side, place in self.canvas.counted:
            if place in side.dirty:
                whole = side.cache.grid.tile_window(place[1], place[2])
                box = side.dirty[place].inside(whole)
                moved = cut_and_fill(side.before[place][box], side.cache.tile(place)[box], spacing)
                self._volumes[side.tract_id, place] = moved
            else:
                self._volumes.pop((side.tract_id, place), None)
        self.canvas.counted.clear()
        return {
            "cut_m3": sum(cut for cut, _ in self._volumes.values()),
            "fill_m3": sum(fill for _, fill in self._volumes.values()),
            **self.hand.facts(),
        }
