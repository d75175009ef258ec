"""The open world: its rows, its tracts, and the one door through which everything is changed.

Every edit takes the world's lock, changes the cached tiles and rows, writes one revision
in one transaction, and only then is acknowledged: see `ledger`, and `arbiter` for strokes.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from sqlalchemy import Connection

from fernfield.core.brush.pace import Sample
from fernfield.core.brush.tips import TIPS, tip
from fernfield.core.errors import Conflict, FernError, FormatError, NotFound
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.formats.tileblob import decode_tile
from fernfield.store.logbook import LogbookStore
from fernfield.store.overviews import OverviewStore
from fernfield.store.rows import TileAt
from fernfield.store.worlds import TractRow, WorldStore
from fernfield.work.kernel.commands import Command, Edit, StrokeBase, WholeStroke
from fernfield.work.kernel.edits import first_of, plan
from fernfield.work.kernel.events import Event, Gone, Listener
from fernfield.work.kernel.hands.arbiter import Arbiter
from fernfield.work.kernel.hands.strokes import StrokeRun
from fernfield.work.kernel.locks import FairLock
from fernfield.work.kernel.posts.bits import changed_back
from fernfield.work.kernel.posts.lands import (
    Land,
    ground_with,
    joined_to,
    land_of,
    on_one_lattice,
    seen_from,
    seen_together,
)
from fernfield.work.kernel.posts.near import PlacedRows
from fernfield.work.kernel.posts.overviews import VERSION, AtHand, Overviews
from fernfield.work.kernel.posts.tiles import Place, TileCache
from fernfield.work.kernel.posts.tracts import JOINS, PLACES, Tract, TractPlace
from fernfield.work.kernel.relations import not_there
from fernfield.work.kernel.rooms import House
from fernfield.work.kernel.rows import Collection, Moves, R, Row, drawn_by, together
from fernfield.work.kernel.writing.draft import At
from fernfield.work.kernel.writing.ledger import Ended, Ledger, Outcome, said
from fernfield.work.kernel.writing.sweep import Sweep, at_once, sweep

SPOTS_AT_ONCE = 48
"""Tiles of coarser levels that are made while others wait."""
AHEAD = 3
"""So often a plan is made beside a world that others change."""
T = TypeVar("T")

__all__ = ["OpenWorld", "Outcome", "Tract", "Unread"]


def _no_step(_done: float) -> None:
    pass


@dataclass(frozen=True, slots=True)
class Unread:
    """A stored row that this version cannot read: the world is opened without it, and it stays as it is stored."""

    body: str
    why: str


class OpenWorld:
    """A world in memory. Methods may be called from any thread."""

    def __init__(
        self, house: House, store: WorldStore, world_id: str, snapshot: Connection | None = None, at: int | None = None
    ) -> None:
        """Open a world of `store`; with `snapshot`, as that reading transaction sees it, to read only.

        With `at`, as it was after that revision, to read only.
        """
        self.id, self.house, self.store = world_id, house, store
        self.lock = FairLock()
        self.freed = threading.Condition(self.lock)  # type: ignore[arg-type]
        self.holds: dict[tuple[str, Place], StrokeRun] = {}
        self.closed, self._glanced = at is not None, snapshot is not None
        self._listeners: list[Listener] = []
        self._changed_rows: dict[str, int] = {}
        if snapshot is None and at is None:
            store.drop_stray_tracts(world_id)
        with nullcontext(snapshot) if snapshot is not None else store.reading() as c:
            self.revision = store.world(world_id, c).revision
            self._every_tract = {
                row.id: self._open_tract(row, store.tile_ranges(row.id, c), snapshot, at)
                for row in store.tracts(world_id, c)
            }
            if not self._every_tract:
                raise FormatError(f"the world {world_id!r} has no tract")
            self.rows: dict[str, dict[str, Row]] = {name: {} for name in house.collections}
            self.unread: dict[tuple[str, str], Unread] = {}
            self._placed = {c.name: PlacedRows(*c.place) for c in house.collections.values() if c.place is not None}
            for collection, key, body in store.entries(world_id, c):
                self.take_row(collection, key, body)
        for tract_id, tract in self._every_tract.items():
            if (PLACES.name, tract_id) in self.unread:
                # Its place cannot be read; the land is there all the same, as it was laid out at first.
                place = TractPlace(name=tract.row.name, position=tract.row.position)
                self.rows[PLACES.name].setdefault(tract_id, place)
        self.ledger = Ledger(self)
        self._arbiter = Arbiter(self)
        if at is not None:
            self._go_back(at)

    def _go_back(self, number: int) -> None:
        """Make the rows and the ranges of tiles those of an earlier revision; tiles go back as they are loaded."""
        logbook = LogbookStore(self.store.engine)
        for entry in logbook.entries_after(self.id, number):
            self.take_row(entry.collection, entry.key, entry.before)
        for at in logbook.tiles_changed_after(self.id, number):
            place = at.layer, at.tile_row, at.tile_col
            cache = self._every_tract[at.tract_id].cache
            tile = cache.tile(place)
            cache.set_range(place, float(tile.min()), float(tile.max()))
        self.revision = number

    def _open_tract(
        self,
        row: TractRow,
        known: dict[Place, tuple[float, float]],
        snapshot: Connection | None,
        number: int | None,
    ) -> Tract:
        grid = Grid(row.rows, row.cols, row.spacing_m)
        logbook = LogbookStore(self.store.engine)

        # No reference to the world itself: one that nobody holds goes at once.
        store, world_id = self.store, self.id

        def load(place: Place) -> bytes | None:
            at = TileAt(row.id, *place)
            if number is None:
                return store.tile(at, snapshot)
            blob, later = logbook.tile_and_later(world_id, number, at)
            return blob if blob is None else changed_back(blob, later)

        coarser = OverviewStore(self.store.engine)

        def some(layer: str, rule: str, level: int, tiles: Window) -> list[tuple[int, int, bytes]]:
            return coarser.some(row.id, layer, rule, level, tiles, snapshot)

        cache = TileCache(grid, row.base_m, self.house.layers, load, known)
        # Earlier states have none: only what is newest is kept.
        overviews = Overviews(row.id, cache, some, row.overviews if number is None else 0)
        return Tract(row, grid, cache, overviews)

    # Rows

    def row(self, collection: Collection[R], key: str) -> R:
        """Raises NotFound."""
        found = self.rows[collection.name].get(key)
        if not isinstance(found, collection.model):
            raise not_there(collection, key, list(self.rows[collection.name]))
        return found

    def get(self, collection: Collection[R], key: str) -> R | None:
        found = self.rows[collection.name].get(key)
        return found if isinstance(found, collection.model) else None

    def only(self, collection: Collection[R]) -> R:
        """The only row of a collection; what it is at first when nothing was said."""
        return self.get(collection, collection.only or "") or first_of(collection)

    def each(self, collection: Collection[R]) -> list[tuple[str, R]]:
        """Key and row, in the collection's order."""
        found = [(k, r) for k, r in self.rows[collection.name].items() if isinstance(r, collection.model)]
        return sorted(found, key=collection.order) if collection.order is not None else sorted(found, key=_by_key)

    def each_in(self, collection: Collection[R], tract_id: str) -> list[tuple[str, R]]:
        """Those of a collection that lie in a tract."""
        found = self.each(collection)
        return [(k, r) for k, r in found if self.of_tract(getattr(r, "tract", None)) == tract_id]

    def near(
        self, collection: Collection[R], tract_id: str, box: tuple[float, float, float, float]
    ) -> list[tuple[str, R]]:
        """Those of a collection with a place that lie in a box of a tract (x0, y0, x1, y1), by their keys. [m]"""
        placed = self._placed[collection.name]
        found = list(placed.within(tract_id, *box))
        if tract_id == self.of_tract(None):
            found += placed.within(None, *box)
        return sorted(((k, r) for k, r in found if isinstance(r, collection.model)), key=_by_key)

    def count_of(self, collection: Collection[Any], sort_named: str) -> int:
        """How many rows of a collection with a place are named alike."""
        return self._placed[collection.name].sorts[sort_named]

    def sorts_of(self, collection: Collection[Any]) -> tuple[list[str], float]:
        """What the rows of a collection with a place are named by, and at most how many times as large any of them
        is as others of its sort."""
        placed = self._placed[collection.name]
        return [sort for sort, count in placed.sorts.items() if count > 0], placed.bulkiest

    def told(self, collection: Collection[R]) -> list[dict[str, Any]]:
        """Rows as the API and the page know them."""
        return [collection.tell(self, key, row) for key, row in self.each(collection)]

    def set_row(self, collection: str, key: str, row: Row | None) -> None:
        """After it was written."""
        self._changed_rows[collection] = self._changed_rows.get(collection, 0) + 1
        self.unread.pop((collection, key), None)
        if collection in self._placed:
            self._placed[collection].change(key, self.rows[collection].get(key), row)
        if row is None:
            self.rows[collection].pop(key, None)
        else:
            self.rows[collection][key] = row

    def take_row(self, collection: str, key: str, body: str | None) -> Row | None:
        """A stored row is part of the world; one that cannot be read is set aside, and nothing else suffers."""
        row, known = None, self.house.collections.get(collection)
        if body is not None and known is None:
            self.unread[collection, key] = Unread(body, f"the collection {collection!r} is not known to this version")
            return None
        if body is not None and known is not None:
            try:
                row = known.parse(key, body)
            except FernError as error:
                self.set_row(collection, key, None)
                self.unread[collection, key] = Unread(body, str(error))
                return None
        if known is not None:
            self.set_row(collection, key, row)
        return row

    # Tracts

    def places(self) -> list[tuple[str, TractPlace]]:
        """Id and place of every tract, in their order."""
        return self.each(PLACES)

    def place_of(self, tract_id: str) -> TractPlace:
        return self.row(PLACES, tract_id)

    def of_tract(self, own: str | None) -> str:
        """The tract that a row belongs to: the first where it names none."""
        return own or self.places()[0][0]

    @property
    def tracts(self) -> dict[str, Tract]:
        """The tracts of the world by their id, in their order."""
        return {key: self._every_tract[key] for key, _ in self.places()}

    @property
    def caches(self) -> dict[str, TileCache]:
        return {key: tract.cache for key, tract in self.tracts.items()}

    @property
    def first_tract(self) -> Tract:
        return self._every_tract[self.places()[0][0]]

    def tract(self, tract_id: str) -> Tract:
        if tract_id not in self.rows[PLACES.name]:
            raise NotFound(f"there is no tract {tract_id!r} in this world")
        return self._every_tract[tract_id]

    def any_tract(self, tract_id: str) -> Tract:
        """A tract that the logbook names: it may be gone by now."""
        return self._every_tract[tract_id]

    def land(self, tract_id: str) -> Land:
        """The land of a tract: itself and all that are joined to it, in the world's metres."""
        self.tract(tract_id)
        mine = joined_to(tract_id, (join for _, join in self.each(JOINS)))
        return land_of([(self._every_tract[key], place) for key, place in self.places() if key in mine])

    @property
    def first_land(self) -> Land:
        """The land of the first tract, in that tract's own posts and metres."""
        return self.land_from(self.first_tract.row.id)

    def land_from(self, tract_id: str) -> Land:
        """The land of a tract, in the tract's own posts and metres."""
        return seen_from(self.land(tract_id), tract_id)

    def lands(self) -> Iterator[Land]:
        """Every land once, in the posts and metres of its first tract."""
        seen: set[str] = set()
        for tract_id in self.tracts:
            if tract_id not in seen:
                land = self.land_from(tract_id)
                seen.update(land.tract_ids)
                yield land

    def country(self, tract_id: str) -> Land:
        """All that is seen with a tract, in the world's metres: its land first, then all other open land on the same
        lattice that is not too far off; of an underground tract only its land."""
        own = self.tract(tract_id), self.place_of(tract_id)
        mine = joined_to(tract_id, (join for _, join in self.each(JOINS)))
        every = [(self._every_tract[key], place) for key, place in self.places()]
        seen = [pair for pair in every if pair[0].row.id in mine]
        if own[1].kind == "open":
            others = [pair for pair in every if pair[0].row.id not in mine and pair[1].kind == "open"]
            seen = seen_together(seen, [pair for pair in others if on_one_lattice(own, pair)])
        return land_of(seen)

    def adopt(self, row: TractRow) -> Tract:
        """A tract that was written to the store is known from now on; it becomes part of the world by a row."""
        with self.lock:
            opened = self._open_tract(row, self.store.tile_ranges(row.id), None, None)
            self._every_tract[row.id] = opened
            return opened

    # Seen from afar

    @property
    def without_overviews(self) -> list[Tract]:
        """Tracts that were made before there were overviews, or by other rules."""
        return [tract for tract in self._every_tract.values() if not tract.overviews.ready]

    def make_overviews(self, tract: Tract, step: Callable[[float], None] = _no_step) -> None:
        """Make the coarser levels of a tract, so many tiles at a time, while others work on it. `step` hears how far
        it is, and may raise to stop it: the next one begins anew."""
        store, overviews = OverviewStore(self.store.engine), tract.overviews
        with self.lock:
            overviews.begin()
            most = max(len(overviews.pending), 1)
            at_hand = AtHand(tract.cache, self.ledger.committed_tile(tract.row.id))
        while True:
            with self.lock:
                if self.closed:
                    return
                if not overviews.pending:
                    store.done(tract.row.id, VERSION)
                    overviews.ready = True
                    return
                fresh = overviews.some(SPOTS_AT_ONCE, at_hand.read)
                store.put(overviews.written(fresh))
                overviews.take(fresh)
                overviews.pending -= set(fresh)
                left = len(overviews.pending)
            step(1 - left / most)

    def state_name(self) -> str | None:
        """What names the state of all that is stored and seen: under the same name, pictures and findings are the same.
        None while it may change without a revision: somebody draws, or overviews are being made."""
        with self.lock:
            loose = self.holds or self.without_overviews or self._glanced or self.closed
            return None if loose else f"{self.id} r{self.revision}"

    # Asked of the rooms

    def sea_of(self, tract_id: str) -> float:
        """The level of standing water in a tract. [m]"""
        return self.house.given.sea_of(self, tract_id)

    def surface(
        self, land: Land, window: Window, step: int = 1, *, firm: bool = False, sea_m: float | None = None
    ) -> FloatArray:
        """The elevation of what lies liquid over the ground, far under it where nothing does. Hold the lock. [m]"""
        return self.house.given.surface(self, land, window, step, firm=firm, sea_m=sea_m)

    def picture(self, key: str) -> FloatArray:
        """A grey image of 0 to 1: one of our own, or the user's. Raises NotFound."""
        if key in TIPS:
            return tip(key)
        blob = self.store.picture(self.id, key)
        if blob is None:
            known = ", ".join([*TIPS, *(p.key for p in self.store.pictures(self.id))])
            raise NotFound(f"there is no picture {key!r}; there is {known}")
        return decode_tile(blob)

    # Listening

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Hear every event from now on; call what is returned to stop. Called under the lock: be quick."""
        with self.lock:
            self._listeners.append(listener)

        def stop() -> None:
            with self.lock:
                if listener in self._listeners:
                    self._listeners.remove(listener)
            self.rest()

        return stop

    def rest(self) -> None:
        """Nobody may be looking any more: then little of it stays in memory."""
        with self.lock:
            # The first who listens is whoever keeps the world open.
            if len(self._listeners) <= 1:
                for tract in self._every_tract.values():
                    tract.cache.rest()

    def tell(self, event: Event) -> None:
        for listener in list(self._listeners):
            listener(event)

    def close(self) -> None:
        """The world was deleted: nothing can be done to it any more."""
        with self.lock:
            self.closed = True
            self.tell(Gone())

    def check_open(self) -> None:
        """Raises when nothing can be done to it."""
        if self._glanced:
            raise Conflict("this world was read to be looked at: open it to change it")
        if self.closed and self.revision < self.store.world(self.id).revision:
            raise Conflict(f"r{self.revision} is of the past: it can only be looked at")
        if self.closed:
            raise NotFound(f"world {self.id!r} was deleted")

    # Strokes

    def begin_stroke(self, tract_id: str, start: StrokeBase) -> StrokeRun:
        """Begin a stroke; nothing changes yet. Raises for anything it names that is not there."""
        with self.lock:
            self.check_open()
            return self._arbiter.begin(tract_id, start)

    def extend_stroke(self, run: StrokeRun, samples: Sequence[Sample]) -> Window:
        """Draw more of a stroke, letting others in between. While an earlier stroke is in the way, the samples are only
        kept."""
        with run.turn, self.lock:
            self.check_open()
            return self._arbiter.extend(run, samples)

    def stroke_progress(self, run: StrokeRun) -> dict[str, float]:
        """What a stroke under way has done: cut and fill, and what its tool measures."""
        with self.lock:
            return run.progress()

    def abandon_stroke(self, run: StrokeRun) -> None:
        """Take a stroke back as if it had never begun."""
        with run.turn, self.lock:
            self._arbiter.abandon(run)

    def finish_stroke(self, run: StrokeRun) -> Outcome:
        """Draw the rest, write the revision, and let the tiles go. Waits for a stroke in the way; else Conflict."""
        with run.turn, self.lock:
            self.check_open()
            return self.followed(self._arbiter.finish(run))

    def stroke(self, tract_id: str, stroke: WholeStroke, say: Callable[[float], None] = _no_step) -> Outcome:
        """A whole stroke at once. `say` hears how far it is, and may raise to take it back."""
        run = self.begin_stroke(tract_id, stroke.begins)
        run.canvas.told, run.whole_or_nothing = say, True
        try:
            self.extend_stroke(run, [Sample(*point) for point in stroke.path])
        except BaseException:
            self.abandon_stroke(run)
            raise
        return self.finish_stroke(run)

    # Other edits

    def edit(self, command: Edit) -> Outcome:
        """Change rows."""
        with self.lock:
            self.check_open()
            made = plan(command, self)
            return self._write_rows(command, made.words, made.moves)

    def change_rows(
        self, command: Command, words: str, moves: Moves, *, busy: str | None = None, since: int | None = None
    ) -> Outcome:
        """Write rows that a command came to. Raises Conflict when a stroke is being drawn in the tract `busy`, or
        when the world is no longer at the revision `since`.
        """
        with self.lock:
            self.check_open()
            if busy is not None and any(tract_id == busy for tract_id, _ in self.holds):
                raise Conflict("a stroke is being drawn in this tract; nothing was changed")
            if since is not None and self.revision != since:
                raise Conflict("the world was changed while this was worked out; nothing was done: try it again")
            return self._write_rows(command, words, moves)

    def _write_rows(self, command: Command, words: str, moves: Moves) -> Outcome:
        """Rows, and with them what their collections do to the ground. Raises Conflict for those that may not."""
        self.house.given.guards(self, moves)
        grounds = (self.house.collection(name).ground for name in sorted({name for name, _ in moves}))
        every = [works for ground in grounds if ground is not None and (works := ground(self, moves)) is not None]
        if every:
            ended = Ended(words, said(command), {**moves, **{k: v for works in every for k, v in works.moves.items()}})
            return at_once(self, Sweep(together(every), drawn_by(every), lambda: ended))
        return self.followed(self.ledger.change_rows(command, words, moves))

    def followed(self, outcome: Outcome) -> Outcome:
        """Let what follows from the edit that was just written be written too, under the same lock. Whoever asked is
        told of both."""
        with self.ledger.following() as touched:
            if touched is None:
                return outcome
            self.house.given.follows(self, touched)
        return replace(outcome, revision=self.revision)

    def sweep(self, begin: Callable[[], Sweep], say: Callable[[float], None] = _no_step) -> Outcome:
        """Make an edit of many tiles beside the world, as one revision: see `sweep`."""
        return sweep(self, begin, say)

    def ahead(self, plan: Callable[[], T]) -> Callable[[], T]:
        """Work a plan out beside the world, before an edit holds it: what is given tells it then, under the lock. It is
        worked out again where others have changed the world meanwhile, and only then while a stroke is drawn: what that
        has moved may go back where it was. Raises what `plan` raises.
        """
        for _ in range(AHEAD):
            with self.lock:
                at, quiet = self.revision, not self.holds
            if not quiet:
                break
            found = plan()
            with self.lock:
                if at == self.revision and not self.holds:
                    return lambda: found if at == self.revision else plan()
        return plan

    @property
    def rows_changed(self) -> int:
        """How often rows were changed since the world was opened."""
        return sum(self._changed_rows.values())

    def rests_on(self, *collections: str) -> Callable[[], bool]:
        """Says whether the rows of some collections are as they are now, and the tracts lie as they do."""
        names = (PLACES.name, JOINS.name, *collections)
        now = self.changes_of(*names)
        return lambda: now == self.changes_of(*names)

    def changes_of(self, *collections: str) -> tuple[int, ...]:
        """How often the rows of each of these collections were changed since the world was opened."""
        return tuple(self._changed_rows.get(name, 0) for name in collections)

    def undo(self) -> Outcome:
        """Take the newest edit back that still stands. Raises Conflict when there is none."""
        return self._turn("undo")

    def redo(self) -> Outcome:
        """Make the edit again that was undone last. Raises Conflict when there is none."""
        return self._turn("redo")

    def _turn(self, sort: str) -> Outcome:
        first: Outcome | None = None
        while True:
            with self.lock:
                self.check_open()
                many = self.ledger.turns_many(sort)
                while not many and (first is None or self.ledger.half_way):
                    made = self.ledger.turn(sort)
                    # What is told of is the edit, not what follows from it.
                    first = made if sort == "undo" or first is None else replace(first, revision=made.revision)
                    many = self.ledger.half_way and self.ledger.turns_many(sort)
                if not many and first is not None:
                    return first
            made = self.sweep(lambda: self.ledger.turning(sort))
            first = made if sort == "undo" or first is None else replace(first, revision=made.revision)
            if not self.ledger.half_way:
                return first

    def forget_steps(self) -> None:
        """The logbook was folded: ask it anew what can be undone."""
        with self.lock:
            self.ledger.ask_anew()

    @property
    def can_undo(self) -> bool:
        return self.ledger.next_undo is not None

    @property
    def can_redo(self) -> bool:
        return self.ledger.next_redo is not None

    def ground_before(self, land: Land, window: Window) -> np.ndarray:
        """The ground of `window` as it was before the last edit of the ground, or the stroke under way."""
        with self.lock:
            now, last = self._arbiter.ground_under_way(), self.ledger.last_ground

            def older(at: At) -> np.ndarray | None:
                return now[at] if at in now else last.get(at)

            return ground_with(land, window, older if now or last else None)


def _by_key(pair: tuple[str, Row]) -> str:
    return pair[0]
