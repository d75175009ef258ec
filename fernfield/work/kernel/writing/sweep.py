"""Edits of many tiles: each tile is worked out by itself, beside the world, and all become one revision at once.

The world's lock is held for a tile that is read, and for the moment of the switch. What others write meanwhile is
taken in: the tiles concerned are worked out again. Tiles that were worked out stand aside in the store, so that the
memory an edit needs does not grow with it. When it is stopped, nothing of it is left.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from numpy.typing import NDArray

from fernfield.core.errors import Conflict
from fernfield.core.grid import NOWHERE, Window
from fernfield.formats.tileblob import decode_tile
from fernfield.store.rows import TileAt, TileChange
from fernfield.store.staged import StagedStore
from fernfield.work.kernel.posts.overviews import Posts, Spot, by_place
from fernfield.work.kernel.writing.aside import Asides, overtaken
from fernfield.work.kernel.writing.draft import At, Draft

if TYPE_CHECKING:
    from fernfield.work.kernel.posts.tiles import Place
    from fernfield.work.kernel.world import OpenWorld
    from fernfield.work.kernel.writing.ledger import Ended, Outcome

Unit = tuple[str, tuple[int, int]]
"""A tract's id, and the row and column of one of its tiles: in all layers."""

Say = Callable[[float], None]
"""Hears how far the work is, 0 to 1; may raise to stop it."""

AtHand = dict[tuple[At, int, bool], NDArray[Any]]
"""Tiles that were read: each as it was then, or as it will be."""

AT_ONCE = 32
"""An edit of up to so many tiles is worked out under the lock."""

TOGETHER = 16
"""Tiles that are worked out between two looks at whether to stop."""

THREADS = 2
PATIENCE_S = 30.0
"""How long an edit waits for a stroke that is being drawn in the same place."""
SOON_S = 5.0
"""How long a small one does: whoever asked for it waits for the answer, and others wait behind it."""

ROUNDS = 5
"""So often the work begins anew when the rows that it rests on change."""

MOST_POSTS = 1 << 22
"""So many posts that differ are looked at together at the switch."""
NEIGHBOURS = 96
"""Tiles kept at hand while coarser levels are made: two rows of the widest tract."""


@dataclass(frozen=True)
class Sweep:
    """An edit, tile by tile.

    units : the tiles that it may change
    draw : works on one of them, through the draft alone: its tiles, those of others, `draft.cache`
    ends : its words, rows and place in the logbook; under the lock, when all is done. May raise
    still : whether it can go on as it was planned: the rows that it rests on are as they were
    """

    units: Sequence[Unit]
    draw: Callable[[Draft, Unit], None]
    ends: Callable[[], Ended]
    still: Callable[[], bool] = lambda: True


def _quiet(_done: float) -> None:
    pass


def sweep(world: OpenWorld, begin: Callable[[], Sweep], say: Say = _quiet) -> Outcome:
    """Make an edit. `begin` plans it, under the lock, and raises when it cannot be; it may be asked again.

    Raises Conflict when strokes or other edits are in the way for too long; then nothing is changed.
    """
    until, rounds = time.monotonic() + SOON_S, 0
    while rounds < ROUNDS:
        with world.lock:
            world.check_open()
            plan = begin()
            small = len(plan.units) <= AT_ONCE
            # While it waits for a stroke others may do anything: then it is planned anew.
            found = _under_lock(world, plan, until) if small else None
        if not small:
            rounds += 1
            found = _aside(world, plan, say)
        if found is not None:
            return found
    raise Conflict("others changed what this rests on, again and again; nothing was changed: try it again")


def at_once(world: OpenWorld, plan: Sweep) -> Outcome:
    """Make an edit under the lock that is held already. Raises Conflict where a stroke is being drawn in its way."""
    work = Staging(world, plan)
    for unit in plan.units:
        work.draw(unit)
    if set(work.places) & set(world.holds):
        words = "a stroke is being drawn where this would change the ground"
        raise Conflict(f"{words}; nothing was changed: try again when it has ended")
    return world.followed(world.ledger.switch(work))


def _under_lock(world: OpenWorld, plan: Sweep, until: float) -> Outcome | None:
    work = Staging(world, plan)
    for unit in plan.units:
        work.draw(unit)
    return world.followed(world.ledger.switch(work)) if _free(world, work.places, until) else None


def _aside(world: OpenWorld, plan: Sweep, say: Say) -> Outcome | None:
    """The work beside the world; None when it has to begin anew."""
    work = Staging(world, plan)
    try:
        work.draw_all(plan.units, lambda done: say(0.8 * done))
        until = time.monotonic() + PATIENCE_S
        while True:
            with world.lock:
                stale = work.stale()
            # What was overtaken is worked out again outside of the lock, as long as it is much.
            if len(stale) > AT_ONCE:
                work.draw_all(stale, _quiet)
                continue
            work.look_from_afar(lambda done: say(0.8 + 0.2 * done))
            with world.lock:
                world.check_open()
                _free(world, work.places, until)
                if not plan.still():
                    return None
                stale = work.stale()
                if len(stale) <= AT_ONCE:
                    for unit in stale:
                        work.draw(unit)
                    return world.followed(world.ledger.switch(work))
    finally:
        work.clear()


def _free(world: OpenWorld, places: Iterable[At], until: float) -> bool:
    """Wait until no stroke holds these tiles. False when it had to wait. Raises Conflict after too long."""
    wanted, waited = set(places), False
    while wanted & set(world.holds):
        waited = True
        if not world.freed.wait(until - time.monotonic()):
            words = "a stroke is being drawn where this would work"
            raise Conflict(f"{words}; nothing was changed: try again when it has ended")
    return not waited


@dataclass
class Written:
    """What is known of a tile that was worked out: its range, the posts that differ, its volumes, and what it was
    made from. [m³]"""

    lowest: float
    highest: float
    window: Window
    cut: float
    fill: float


@dataclass
class _Read:
    """What a unit of the work was made from, and what it came to."""

    seen: dict[At, int]
    written: list[At] = field(default_factory=list)


class Staging:
    """The tiles of one edit as far as they are worked out."""

    def __init__(self, world: OpenWorld, plan: Sweep) -> None:
        self.world, self.plan = world, plan
        self.id = secrets.token_hex(8)
        self.tiles: dict[At, Written] = {}
        self.held: dict[At, TileChange] = {}
        """Changes that are not in the store yet."""
        self.in_store = False
        self._store = StagedStore(world.store.engine)
        self._units: dict[Unit, _Read] = {}
        self._far: dict[tuple[str, Spot], tuple[NDArray[Any], dict[At, int]]] = {}

    @property
    def places(self) -> Iterable[At]:
        return self.tiles.keys()

    # Working out

    def draw_all(self, units: Sequence[Unit], say: Say) -> None:
        """Work out many tiles, some at a time, and put them aside."""
        with ThreadPoolExecutor(THREADS) as pool:
            for first in range(0, len(units), TOGETHER):
                say(first / len(units))
                some = units[first : first + TOGETHER]
                for unit, made in zip(some, pool.map(self._made, some), strict=True):
                    self._keep(unit, *made)
                self._put_aside()

    def draw(self, unit: Unit) -> None:
        """Work out one tile; it is kept in memory."""
        self._keep(unit, *self._made(unit))

    def _made(self, unit: Unit) -> tuple[_Read, list[tuple[TileChange, Written]]]:
        asides = Asides(self.world)
        draft = Draft(asides)
        self.plan.draw(draft, unit)
        found = []
        for change, window, cut, fill in draft.changes():
            found.append((change, Written(change.tile.lowest, change.tile.highest, window, cut, fill)))
        return _Read(asides.seen), found

    def _keep(self, unit: Unit, read: _Read, made: list[tuple[TileChange, Written]]) -> None:
        gone = [] if unit not in self._units else self._units[unit].written
        if unit in self._units:
            over = {*gone, *((c.at.tract_id, (c.at.layer, c.at.tile_row, c.at.tile_col)) for c, _ in made)}
            self._far = {key: far for key, far in self._far.items() if not over & far[1].keys()}
        for at in gone:
            self.held.pop(at, None)
            self.tiles.pop(at, None)
        if gone and self.in_store:
            self._store.put(self.id, [], [TileAt(tract_id, *place) for tract_id, place in gone])
        for change, written in made:
            at = change.at.tract_id, (change.at.layer, change.at.tile_row, change.at.tile_col)
            self.held[at], self.tiles[at] = change, written
            read.written.append(at)
        self._units[unit] = read

    def _put_aside(self) -> None:
        if self.held:
            self.in_store = True
            self._store.put(self.id, list(self.held.values()))
            self.held.clear()

    def clear(self) -> None:
        """Nothing of it is left in the store, unless it has become the world's."""
        if self.in_store:
            self._store.drop(self.id)

    def stale(self) -> list[Unit]:
        """What was made from tiles that others have written since. Under the lock."""
        return [unit for unit, read in self._units.items() if self._moved(read.seen)]

    def _moved(self, seen: dict[At, int]) -> bool:
        return overtaken(self.world, seen)

    # From afar

    def look_from_afar(self, say: Say) -> None:
        """Make the finest of the coarser levels over what has changed; beside the world too."""
        todo = list(self._spots())
        at_hand: AtHand = {}
        for number, (tract_id, spot) in enumerate(todo):
            if number % TOGETHER == 0:
                say(number / len(todo))
            with self.world.lock:
                known = self._far.get((tract_id, spot))
                if known is None or self._moved(known[1]):
                    self._make_spot(tract_id, spot, at_hand)

    def _spots(self) -> Iterator[tuple[str, Spot]]:
        """The tiles of the finest stored levels over what has changed."""
        for (tract_id, layer), windows in self.windows().items():
            overviews = self.world.any_tract(tract_id).overviews
            if overviews.ready:
                for spot in sorted(overviews.first_spots(layer, windows), key=by_place):
                    yield tract_id, spot

    def _make_spot(self, tract_id: str, spot: Spot, at_hand: AtHand) -> None:
        seen: dict[At, int] = {}
        posts = self._posts(tract_id, seen, at_hand)
        self._far[tract_id, spot] = self.world.any_tract(tract_id).overviews.made(spot, posts), seen

    def _posts(self, tract_id: str, seen: dict[At, int], at_hand: AtHand) -> Posts:
        """Reads a tract as it will be; tiles that were read stay at hand. Under the lock."""
        cache = self.world.any_tract(tract_id).cache
        committed = self.world.ledger.committed_tile(tract_id)

        def tile(place: Place) -> NDArray[Any]:
            at = tract_id, place
            seen[at] = cache.written.get(place, 0)
            own = at, seen[at], at in self.tiles
            if own not in at_hand:
                while len(at_hand) >= NEIGHBOURS:
                    del at_hand[next(iter(at_hand))]
                at_hand[own] = made(at) if at in self.tiles else committed(place)
            return at_hand[own]

        def made(at: At) -> NDArray[Any]:
            if at in self.held:
                return decode_tile(self.held[at].tile.blob)
            blob = self._store.tile(self.id, TileAt(tract_id, *at[1]))
            assert blob is not None
            return decode_tile(blob)

        return lambda layer, window: cache.assembled(layer, window, tile)

    def far(self) -> dict[str, dict[Spot, NDArray[Any]]]:
        """The coarser levels as they will be, by tract. Under the lock, at the switch."""
        found: dict[str, dict[Spot, NDArray[Any]]] = {}
        at_hand: AtHand = {}
        posts = sum(window.rows * window.cols for windows in self.windows().values() for window in windows)
        if not self._far and posts <= MOST_POSTS:
            # Little differs, and nothing was made ahead: only what lies over it is made, not whole tiles.
            for (tract_id, layer), windows in self.windows().items():
                overviews = self.world.any_tract(tract_id).overviews
                if overviews.ready:
                    made = overviews.reworked(layer, windows, self._posts(tract_id, {}, at_hand))
                    found.setdefault(tract_id, {}).update(made)
                elif overviews.pending:
                    overviews.pending |= overviews.spots(layer, windows)
            return found
        for tract_id, spot in self._spots():
            known = self._far.get((tract_id, spot))
            if known is None or self._moved(known[1]):
                self._make_spot(tract_id, spot, at_hand)
            found.setdefault(tract_id, {})[spot] = self._far[tract_id, spot][0]
        for (tract_id, layer), windows in self.windows().items():
            overviews = self.world.any_tract(tract_id).overviews
            if overviews.ready:
                overviews.above(layer, windows, found.setdefault(tract_id, {}))
            elif overviews.pending:
                overviews.pending |= overviews.spots(layer, windows)
        return found

    def windows(self) -> dict[tuple[str, str], list[Window]]:
        """The posts that differ, by tract and layer, of what is seen."""
        found: dict[tuple[str, str], list[Window]] = {}
        for (tract_id, place), written in self.tiles.items():
            if self.world.house.layers(place[0]).seen:
                found.setdefault((tract_id, place[0]), []).append(written.window)
        return found

    def moved(self) -> dict[tuple[str, str], Window]:
        """The posts that differ, as one window for each tract and layer."""
        found: dict[tuple[str, str], Window] = {}
        for (tract_id, place), written in self.tiles.items():
            found[tract_id, place[0]] = found.get((tract_id, place[0]), NOWHERE).join(written.window)
        return found
