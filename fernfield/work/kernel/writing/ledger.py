"""The ledger: every change of a world is written here, in one transaction, and can be taken back.

When writing fails, memory is put back as it was; only what is written is acknowledged.
"""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any
from weakref import proxy

from numpy.typing import NDArray
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict
from fernfield.core.grid import NOWHERE, Window
from fernfield.formats.tileblob import shape_of
from fernfield.store.rows import TileAt, TileChange
from fernfield.store.worlds import EntryChange, Revision
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.events import Changed, Moved, Revised, Touched
from fernfield.work.kernel.hands.strokes import StrokeRun
from fernfield.work.kernel.people import WHO
from fernfield.work.kernel.posts.bits import difference, swap_in_place
from fernfield.work.kernel.posts.lands import Older
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.overviews import Posts, Spot
from fernfield.work.kernel.posts.tiles import Place, TileCache, packed
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rows import Moves, Row
from fernfield.work.kernel.writing.before import Before
from fernfield.work.kernel.writing.draft import At, Draft, change_of
from fernfield.work.kernel.writing.order import UndoOrder
from fernfield.work.kernel.writing.sweep import Staging, Sweep, Unit

if TYPE_CHECKING:
    from fernfield.work.kernel.world import OpenWorld

MOST_TURNED = 128
"""Up to so many tiles are undone, or made again, while others wait: that is quicker for each."""

PATIENCE_S = 30.0
"""How long an edit waits for a stroke that is being drawn in the same place."""


NOTHING = "Nothing changed"
"""What is said of an edit that left all as it was."""


class Edited(TypedDict):
    """An outcome as the API tells it. `window` is [row0, col0, row1, col1]; `words` are the logbook's; where
    nothing was `changed`, the revision is one that was there before."""

    revision: int
    changed: bool
    window: list[int]
    cut_m3: float
    fill_m3: float
    words: str


@dataclass(frozen=True, slots=True)
class Outcome:
    """What an edit came to: its revision, the posts that changed, volumes where ground moved [m³], and what the logbook
    says of it."""

    revision: int
    window: Window
    cut_m3: float = 0.0
    fill_m3: float = 0.0
    words: str = NOTHING

    def public(self) -> Edited:
        """As the API and the results of jobs have it."""
        return {
            "revision": self.revision, "changed": self.words != NOTHING, "window": self.window.as_list(),
            "cut_m3": self.cut_m3, "fill_m3": self.fill_m3, "words": self.words,
        }  # fmt: skip


@dataclass(frozen=True)
class Ended:
    """What an edit that was worked out tile by tile comes to, besides its tiles.

    words : for the logbook; said : its command, as JSON
    moves : the rows that change; or `entries`, as they are stored
    sort, target : "edit", or the revision that is undone or made again
    """

    words: str
    said: str
    moves: Moves | None = None
    entries: Sequence[EntryChange] | None = None
    sort: str = "edit"
    target: int | None = None


def volume_words(cut_m3: float, fill_m3: float) -> str:
    volumes = [f"{name} {value:,.0f} m³" for name, value in (("cut", cut_m3), ("fill", fill_m3)) if value >= 0.5]
    return ", ".join(volumes)


def said(command: Command) -> str:
    return command.model_dump_json(exclude_none=True)


class Ledger:
    """Writes the changes of one open world. Every method is called under the world's lock."""

    def __init__(self, world: OpenWorld) -> None:
        self._world: OpenWorld = proxy(world)
        self._store = world.store
        self._order = UndoOrder(self._store.steps(world.id))
        self.last_ground: Older = {}
        """The tiles of the ground as they were before the last edit of it."""
        self._touched: Touched | None = None
        """What the edit that was written last changed, until what follows from it is asked for."""
        self._followed: int | None = None
        """The edit that others follow from just now."""
        self._was: dict[str, float] = {}
        """By tract, how high the ground was that the last revision changed. [m]"""

    @property
    def next_undo(self) -> int | None:
        return self._order.next_undo

    @property
    def next_redo(self) -> int | None:
        return self._order.next_redo

    @property
    def half_way(self) -> bool:
        """Whether an undo or redo has to go on: what follows from an edit goes with it."""
        return self._order.half_way

    def ask_anew(self) -> None:
        """The logbook was folded: ask it what can be undone."""
        self._order = UndoOrder(self._store.steps(self._world.id))

    # Rows

    def change_rows(self, command: Command, words: str, moves: Moves) -> Outcome:
        changes = self._row_changes(moves)
        if not changes:
            return Outcome(self._world.revision, NOWHERE)
        return Outcome(self._write("edit", None, words, said(command), (), changes, moves), NOWHERE, words=words)

    def _row_changes(self, moves: Moves) -> list[EntryChange]:
        found = []
        for (name, key), row in moves.items():
            collection = self._world.house.collection(name)
            old, unread = self._world.rows[name].get(key), self._world.unread.get((name, key))
            if old == row and unread is None:
                continue
            before = unread.body if unread is not None else None if old is None else collection.dump(old)
            found.append(EntryChange(name, key, before, None if row is None else collection.dump(row)))
        return found

    # Tiles

    def _tell_moved(self, moved: Mapping[tuple[str, str], Window]) -> Window:
        """Tell what those who look on see of it; returns all of that."""
        seen = NOWHERE
        told: dict[tuple[str, str], Window] = {}
        for (tract_id, layer), window in moved.items():
            name = self._world.house.layers(layer).seen
            if name:
                seen = seen.join(window)
                told[tract_id, name] = told.get((tract_id, name), NOWHERE).join(window)
        for (tract_id, name), window in told.items():
            self._world.tell(Moved(tract_id, name, window, self._was.get(tract_id) if name == HEIGHT else None))
        return seen

    def _note_height(self, tract_id: str, cache: TileCache, place: Place) -> None:
        """A tile is about to be what was written: how high the ground in it was."""
        if place[0] == HEIGHT:
            high = cache.range_of(place)[1]
            self._was[tract_id] = max(self._was.get(tract_id, high), high)

    def commit_stroke(self, run: StrokeRun, words: Callable[[StrokeRun, float, float], str], said: str) -> Outcome:
        """Write what a stroke drew; a stroke that changed nothing is taken back without a revision."""
        world, house = self._world, self._world.house
        draft = Draft(world.caches)
        try:
            changes, window, cut, fill = [], NOWHERE, 0.0, 0.0
            for side in run.sides:
                tract = world.tract(side.tract_id)
                for place in side.dirty:
                    settle = house.layers(place[0]).settle
                    if settle is not None:
                        settle(draft, world, tract, place[1:], side.before[place], run.start.into)
                for place, part in side.dirty.items():
                    whole = tract.grid.tile_window(place[1], place[2])
                    here = part.shifted(-whole.row0, -whole.col0)
                    was, tile = side.before[place], tract.cache.tile(place)
                    if difference(was, tile, here) is None:
                        continue
                    change, moved, tile_cut, tile_fill = change_of(
                        side.tract_id, place, was, tile, here, tract.grid.spacing, whole
                    )
                    changes.append(change)
                    window = window.join(moved) if side is run.canvas.own else window
                    cut, fill = cut + tile_cut, fill + tile_fill
            if not changes:
                run.roll_back()
                return Outcome(world.revision, NOWHERE)
            changes += [change for change, *_ in draft.changes()]
            told = words(run, cut, fill)
            number = self._write("edit", None, told, said, changes, (), {})
        except BaseException:
            draft.put_back()
            raise
        draft.let_go()
        ground = {(s.tract_id, p): v for s in run.sides for p, v in s.before.items() if p[0] == HEIGHT and p in s.dirty}
        if ground:
            self.last_ground = ground
        run.let_go()
        return Outcome(number, window, cut, fill, told)

    def switch(self, work: Staging) -> Outcome:
        """What was worked out beside the world becomes the world's, as one revision."""
        world, ended = self._world, work.plan.ends()
        rows = self._row_changes(ended.moves or {}) if ended.entries is None else ended.entries
        if not work.tiles and not rows:
            return Outcome(world.revision, NOWHERE)
        cut, fill = (sum(getattr(w, name) for w in work.tiles.values()) for name in ("cut", "fill"))
        volumes = volume_words(cut, fill) if ended.sort == "edit" else ""
        words = ended.words + (f": {volumes}" if volumes else "")
        moves = None if ended.entries is not None else ended.moves
        changes = list(work.held.values())
        number = self._write(ended.sort, ended.target, words, ended.said, changes, rows, moves, work)
        ground = {at for at in work.tiles if at[1][0] == HEIGHT}
        if ended.sort != "edit":
            self.last_ground = {}
        elif ground:
            self.last_ground = Before(world, number, ground)
        return Outcome(number, self._tell_moved(work.moved()), cut, fill, words)

    def _take_in(self, work: Staging) -> None:
        """The tiles of an edit that was worked out beside the world are read from the store from now on."""
        for (tract_id, place), written in work.tiles.items():
            cache = self._world.any_tract(tract_id).cache
            cache.forget(place)
            self._note_height(tract_id, cache, place)
            cache.set_range(place, written.lowest, written.highest)
            cache.written[place] = cache.written.get(place, 0) + 1

    # What follows by itself

    @contextmanager
    def following(self) -> Iterator[Touched | None]:
        """What the edit that was just written changed; what is written meanwhile follows from it. None where there was
        no edit, or where this is what follows already."""
        touched, self._touched = self._touched, None
        if touched is None or self._followed is not None:
            yield None
            return
        self._followed = self._world.revision
        try:
            yield touched
        finally:
            self._followed = None

    def _note_touched(self, tiles: Iterable[At], rows: Sequence[EntryChange]) -> None:
        windows: dict[str, Window] = {}
        for tract_id, place in tiles:
            whole = self._world.any_tract(tract_id).grid.tile_window(*place[1:])
            windows[tract_id] = windows.get(tract_id, NOWHERE).join(whole)
        self._touched = Touched(windows, frozenset(row.collection for row in rows))

    # Undo and redo

    def turns_many(self, sort: str) -> bool:
        """Whether what would be undone or made again next is more than is done while others wait."""
        target = self._order.next_undo if sort == "undo" else self._order.next_redo
        return target is not None and len(self._store.changed(self._world.id, target)) > MOST_TURNED

    def turning(self, sort: str) -> Sweep:
        """Undo or redo as an edit that is worked out beside the world."""
        world, store = self._world, self._store
        target = self._next(sort)
        layers: dict[Unit, list[str]] = {}
        for at in store.changed(world.id, target):
            layers.setdefault((at.tract_id, (at.tile_row, at.tile_col)), []).append(at.layer)

        def draw(draft: Draft, unit: Unit) -> None:
            for layer in layers[unit]:
                row0, col0, diff = store.change(world.id, target, TileAt(unit[0], layer, *unit[1]))
                swap_in_place(draft.tile(unit[0], (layer, *unit[1])), row0, col0, diff)

        def ends() -> Ended:
            entries = self._turned(sort, store.entry_changes(world.id, target))
            return Ended(self._turn_words(sort, target), json.dumps({"do": sort}), None, entries, sort, target)

        def still() -> bool:
            return target == (self._order.next_undo if sort == "undo" else self._order.next_redo)

        return Sweep(list(layers), draw, ends, still)

    def _next(self, sort: str) -> int:
        target = self._order.next_undo if sort == "undo" else self._order.next_redo
        if target is None:
            raise Conflict(f"there is nothing to {sort}")
        return target

    @staticmethod
    def _turned(sort: str, entries: Sequence[EntryChange]) -> Sequence[EntryChange]:
        if sort != "undo":
            return entries
        return [EntryChange(e.collection, e.key, e.after, e.before) for e in entries]

    def _turn_words(self, sort: str, target: int) -> str:
        verb = "Undid" if sort == "undo" else "Redid"
        return f"{verb} r{target}: {self._store.revision_words(self._world.id, target)}"

    def turn(self, sort: str) -> Outcome:
        """Take the newest edit back that still stands, or make again the one that was undone last."""
        world = self._world
        until = time.monotonic() + PATIENCE_S
        while True:
            target = self._next(sort)
            tiles, entries = self._store.changes(world.id, target)
            held = {(at.tract_id, (at.layer, at.tile_row, at.tile_col)) for at, *_ in tiles} & set(world.holds)
            if not held:
                break
            if not world.freed.wait(until - time.monotonic()):
                raise Conflict(f"a stroke is being drawn where the {sort} would work; nothing was changed")
        return self._swap(sort, target, self._turn_words(sort, target), tiles, self._turned(sort, entries))

    def _swap(
        self,
        sort: str,
        target: int,
        words: str,
        tiles: Sequence[tuple[TileAt, int, int, bytes]],
        entries: Sequence[EntryChange],
    ) -> Outcome:
        world = self._world
        swapped: list[tuple[TileAt, int, int, bytes]] = []
        changes: list[TileChange] = []
        windows: dict[tuple[str, str], Window] = {}
        try:
            for at, row0, col0, diff in tiles:
                tract = world.any_tract(at.tract_id)
                place = (at.layer, at.tile_row, at.tile_col)
                tile = tract.cache.tile(place)
                tract.cache.pin(place)
                part = swap_in_place(tile, row0, col0, diff)
                swapped.append((at, row0, col0, diff))
                whole = tract.grid.tile_window(at.tile_row, at.tile_col)
                window = part.shifted(whole.row0, whole.col0)
                windows[at.tract_id, at.layer] = windows.get((at.tract_id, at.layer), NOWHERE).join(window)
                changes.append(TileChange(at, row0, col0, diff, packed(tile)))
            number = self._write(sort, target, words, json.dumps({"do": sort}), changes, entries, None)
        except BaseException:
            for at, row0, col0, diff in swapped:
                tile = world.any_tract(at.tract_id).cache.tile((at.layer, at.tile_row, at.tile_col))
                swap_in_place(tile, row0, col0, diff)
            raise
        finally:
            for at, *_ in swapped:
                world.any_tract(at.tract_id).cache.unpin((at.layer, at.tile_row, at.tile_col))
        self.last_ground = {}
        return Outcome(number, self._tell_moved(windows), words=words)

    # Overviews

    def committed(self, tract: Tract, written: Collection[Place] = ()) -> Posts:
        """Reads a tract without what strokes are drawing; tiles in `written` as they are in memory."""
        cache, committed = tract.cache, self.committed_tile(tract.row.id)

        def tile(place: Place) -> NDArray[Any]:
            return cache.tile(place) if place in written else committed(place)

        return lambda layer, window: cache.assembled(layer, window, tile)

    def committed_tile(self, tract_id: str) -> Callable[[Place], NDArray[Any]]:
        """Gives the tiles of a tract as they are written: to look at, not to keep."""
        cache, holds = self._world.any_tract(tract_id).cache, self._world.holds

        def tile(place: Place) -> NDArray[Any]:
            run = holds.get((tract_id, place))
            for side in () if run is None else run.sides:
                if side.tract_id == tract_id and place in side.before:
                    return side.before[place]
            return cache.peek(place)

        return tile

    def _overviews(self, changes: Sequence[TileChange]) -> dict[str, dict[Spot, NDArray[Any]]]:
        """The coarser levels above what changes, by tract."""
        world = self._world
        parts: dict[tuple[str, str], list[Window]] = {}
        written: dict[str, set[Place]] = {}
        for change in changes:
            at = change.at
            if not world.house.layers(at.layer).seen:
                continue
            rows, cols = shape_of(change.diff)
            whole = world.any_tract(at.tract_id).grid.tile_window(at.tile_row, at.tile_col)
            part = Window(change.row0, change.col0, change.row0 + rows, change.col0 + cols)
            parts.setdefault((at.tract_id, at.layer), []).append(part.shifted(whole.row0, whole.col0))
            written.setdefault(at.tract_id, set()).add((at.layer, at.tile_row, at.tile_col))
        found: dict[str, dict[Spot, NDArray[Any]]] = {}
        for (tract_id, layer), windows in parts.items():
            tract = world.any_tract(tract_id)
            if tract.overviews.ready:
                own = tract.overviews.reworked(layer, windows, self.committed(tract, written[tract_id]))
                found.setdefault(tract_id, {}).update(own)
            elif tract.overviews.pending:
                # They are being made: what stands over these posts is made (again) afterwards.
                tract.overviews.pending |= tract.overviews.spots(layer, windows)
        return found

    # Writing

    def _write(
        self,
        sort: str,
        target: int | None,
        words: str,
        said: str,
        tile_changes: Sequence[TileChange],
        entry_changes: Sequence[EntryChange],
        moves: Moves | None,
        staging: Staging | None = None,
    ) -> int:
        """Write a revision: `said` is its command as JSON, `moves` are the rows that change, where at hand; `staging`
        has tiles that were worked out beside the world."""
        world = self._world
        number = world.revision + 1
        if self._followed is not None:
            sort, target = "follow", self._followed
        fresh = self._overviews(tile_changes) if staging is None else staging.far()
        levels = {tract_id: world.any_tract(tract_id).overviews for tract_id in fresh}
        coarser = [change for tract_id, own in levels.items() for change in own.written(fresh[tract_id])]
        aside = staging.id if staging is not None and staging.in_store else None
        self._was = {}
        self._store.write(
            Revision(
                world.id, number, sort, target, words, said, tile_changes, entry_changes, coarser, aside, WHO.get()
            )
        )
        for tract_id, own in levels.items():
            own.take(fresh[tract_id])
        world.revision = number
        self._order.note(number, sort, target)
        for change in tile_changes:
            at = change.at
            place = (at.layer, at.tile_row, at.tile_col)
            cache = world.any_tract(at.tract_id).cache
            self._note_height(at.tract_id, cache, place)
            cache.set_range(place, change.tile.lowest, change.tile.highest)
            cache.written[place] = cache.written.get(place, 0) + 1
        if staging is not None:
            self._take_in(staging)
        changed = []
        for entry in entry_changes:
            row: Row | None
            was = world.rows[entry.collection].get(entry.key)
            if moves is None:
                row = world.take_row(entry.collection, entry.key, entry.after)
            else:
                row = moves[entry.collection, entry.key]
                world.set_row(entry.collection, entry.key, row)
            changed.append(Changed(entry.collection, entry.key, row, was))
        if sort == "edit":
            written = () if staging is None else staging.places
            self._note_touched([*_places(tile_changes), *written], entry_changes)
        world.tell(Revised(number, words, tuple(changed)))
        return number


def _places(changes: Iterable[TileChange]) -> Iterator[At]:
    for change in changes:
        yield change.at.tract_id, (change.at.layer, change.at.tile_row, change.at.tile_col)
