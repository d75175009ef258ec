"""The open world: the one place where edits are applied, written and told.

Every edit takes the world's lock, changes the cached tiles and rows, writes one revision
in one transaction, and only then is acknowledged. When writing fails, memory is put back
as it was.
"""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Callable, Sequence
from contextlib import nullcontext
from dataclasses import astuple, dataclass

import numpy as np
from sqlalchemy import Connection

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.grid import NOWHERE, FloatArray, Grid, Window
from fernfield.core.ground.pace import Sample
from fernfield.core.ground.tips import TIPS, tip
from fernfield.formats.tileblob import decode_tile
from fernfield.store.logbook import LogbookStore
from fernfield.store.worlds import EntryChange, Revision, TileAt, TileChange, TractRow, WorldStore
from fernfield.work.commands import Command, Edit, GroundEdit, Stroke, StrokeStart
from fernfield.work.draft import Draft, Held, change_of
from fernfield.work.edits import Moves, plan_edit
from fernfield.work.entries import COLLECTIONS, Row, parse_row
from fernfield.work.events import Event, Gone, Listener, Moved, Revised
from fernfield.work.history import UndoOrder, changed_back, difference, swap_in_place
from fernfield.work.layers import HEIGHT, HIDDEN_LAYERS, Place, TileCache, packed
from fernfield.work.manner import manner_of
from fernfield.work.rows import WorldRows
from fernfield.work.sheeting import check_open, settle
from fernfield.work.strokes import InTheWay, StrokeRun
from fernfield.work.words import stroke_words, volume_words

PATIENCE_S = 30.0
"""How long an edit waits for a stroke that is being drawn in the same place."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What an edit came to: its revision, the posts that changed, and volumes where ground moved. [m³]"""

    revision: int
    window: Window
    cut_m3: float = 0.0
    fill_m3: float = 0.0


@dataclass
class Tract:
    row: TractRow
    grid: Grid
    cache: TileCache


class OpenWorld(WorldRows):
    """A world in memory. Methods may be called from any thread."""

    def __init__(
        self, store: WorldStore, world_id: str, snapshot: Connection | None = None, at: int | None = None
    ) -> None:
        """Open a world of `store`; with `snapshot`, as that reading transaction sees it, to read only.

        With `at`, as it was after that revision, to read only.
        """
        self.id = world_id
        self.lock = threading.RLock()
        self._freed = threading.Condition(self.lock)
        self._store = store
        self._listeners: list[Listener] = []
        self._holds: dict[tuple[str, Place], StrokeRun] = {}
        self._last_ground: dict[tuple[str, Place], np.ndarray] = {}
        self.closed = at is not None
        if snapshot is None and at is None:
            store.drop_stray_tracts(world_id)
        with nullcontext(snapshot) if snapshot is not None else store.reading() as c:
            self.revision = store.world(world_id, c).revision
            self._every_tract = {
                row.id: self._open_tract(row, store.tile_ranges(row.id, c), snapshot, at)
                for row in store.tracts(world_id, c)
            }
            self.rows: dict[str, dict[str, Row]] = {collection: {} for collection in COLLECTIONS}
            for collection, key, body in store.entries(world_id, c):
                row = parse_row(collection, key, body)
                self.rows[collection][key] = row
        self._order = UndoOrder(store.steps(world_id))
        if at is not None:
            self._go_back(at)

    def _go_back(self, number: int) -> None:
        """Make the rows and the ranges of tiles those of an earlier revision; tiles go back as they are loaded."""
        logbook = LogbookStore(self._store.engine)
        for entry in logbook.entries_after(self.id, number):
            if entry.before is None:
                self.rows[entry.collection].pop(entry.key, None)
            else:
                row = parse_row(entry.collection, entry.key, entry.before)
                self.rows[entry.collection][entry.key] = row
        for at in logbook.tiles_changed_after(self.id, number):
            place = at.layer, at.tile_row, at.tile_col
            cache = self._every_tract[at.tract_id].cache
            tile = cache.tile(place)
            cache.set_range(place, float(tile.min()), float(tile.max()))
        self.revision = number

    def _open_tract(
        self,
        row: TractRow,
        ranges: Sequence[tuple[TileAt, float, float]],
        snapshot: Connection | None,
        number: int | None,
    ) -> Tract:
        grid = Grid(row.rows, row.cols, row.spacing_m)
        logbook = LogbookStore(self._store.engine)

        def load(place: Place) -> bytes | None:
            at = TileAt(row.id, *place)
            if number is None:
                return self._store.tile(at, snapshot)
            blob, later = logbook.tile_and_later(self.id, number, at)
            return blob if blob is None else changed_back(blob, later)

        known = {(at.layer, at.tile_row, at.tile_col): (low, high) for at, low, high in ranges}
        return Tract(row, grid, TileCache(grid, row.base_m, load, known))

    # Reading

    @property
    def tracts(self) -> dict[str, Tract]:
        """The tracts of the world by their id, in their order."""
        return {key: self._every_tract[key] for key, _ in self.places()}

    @property
    def caches(self) -> dict[str, TileCache]:
        return {key: tract.cache for key, tract in self.tracts.items()}

    def tract(self, tract_id: str) -> Tract:
        if tract_id not in self.rows["tracts"]:
            raise NotFound(f"there is no tract {tract_id!r} in this world")
        return self._every_tract[tract_id]

    def _any(self, tract_id: str) -> Tract:
        """A tract that the logbook names: it may be gone by now."""
        return self._every_tract[tract_id]

    def adopt(self, row: TractRow) -> Tract:
        """A tract that was written to the store is known from now on; it becomes part of the world by a row."""
        with self.lock:
            opened = self._open_tract(row, self._store.tile_ranges(row.id), None, None)
            self._every_tract[row.id] = opened
            return opened

    @property
    def first_tract(self) -> Tract:
        return next(iter(self.tracts.values()))

    def picture(self, key: str) -> FloatArray:
        """A grey image of 0 to 1: one of our own, or the user's. Raises NotFound."""
        if key in TIPS:
            return tip(key)
        blob = self._store.picture(self.id, key)
        if blob is None:
            known = ", ".join([*TIPS, *(p.key for p in self._store.pictures(self.id))])
            raise NotFound(f"there is no picture {key!r}; there is {known}")
        return decode_tile(blob)

    @property
    def can_undo(self) -> bool:
        return self._order.next_undo is not None

    @property
    def can_redo(self) -> bool:
        return self._order.next_redo is not None

    def ground_before(self, tract_id: str, window: Window) -> np.ndarray:
        """The ground of `window` as it was before the last edit of the ground, or the stroke under way."""
        with self.lock:
            tract = self.tract(tract_id)
            window = tract.grid.clip(window)
            values = tract.cache.read(HEIGHT, window)
            older: dict[Place, np.ndarray] = {p: v for (t, p), v in self._last_ground.items() if t == tract_id}
            live = [run for (t, _), run in self._holds.items() if t == tract_id]
            for run in live:
                for side in run.sides:
                    if side.tract_id == tract_id:
                        older.update({p: v for p, v in side.before.items() if p[0] == HEIGHT})
            for (_layer, tile_row, tile_col), was in older.items():
                whole = tract.grid.tile_window(tile_row, tile_col)
                part = whole.meet(window)
                if not part.empty:
                    values[part.inside(window)] = was[part.inside(whole)]
            return values

    # Listening

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Hear every event from now on; call what is returned to stop. Called under the lock: be quick."""
        with self.lock:
            self._listeners.append(listener)

        def stop() -> None:
            with self.lock:
                if listener in self._listeners:
                    self._listeners.remove(listener)

        return stop

    def _tell(self, event: Event) -> None:
        for listener in list(self._listeners):
            listener(event)

    def close(self) -> None:
        """The world was deleted: nothing can be done to it any more."""
        with self.lock:
            self.closed = True
            self._tell(Gone())

    def _check_open(self) -> None:
        if self.closed and self.revision < self._store.world(self.id).revision:
            raise Conflict(f"r{self.revision} is of the past: it can only be looked at")
        if self.closed:
            raise NotFound(f"world {self.id!r} was deleted")

    # Strokes

    def begin_stroke(self, tract_id: str, start: StrokeStart) -> StrokeRun:
        """Begin a stroke; nothing changes yet. Raises for a tract, cover, sheet, plot or picture that is not there."""
        with self.lock:
            self._check_open()
            tract = self.tract(tract_id)
            return StrokeRun(tract_id, tract.cache, manner_of(self, tract_id, tract.grid, start), self._holds)

    def extend_stroke(self, run: StrokeRun, samples: Sequence[Sample]) -> Window:
        """Draw more of a stroke. While an earlier stroke is in the way, the samples are only kept."""
        with self.lock:
            self._check_open()
            if run.ended:
                raise Conflict("the stroke has already ended")
            if run.waits_for is not None:
                run.take(samples)
                if not run.waits_for.ended:
                    return NOWHERE
                run.waits_for = None
                return self._draw(run, run.replay, run.replay)
            return self._draw(run, lambda: run.add(samples), run.replay)

    def stroke_progress(self, run: StrokeRun) -> dict[str, float]:
        """What a stroke under way has done: cut and fill, and what a grade measures."""
        with self.lock:
            return run.progress()

    def _draw(self, run: StrokeRun, action: Callable[[], Window], again: Callable[[], Window]) -> Window:
        """Do `action`; when later strokes are in the way take them back and do `again`."""
        while True:
            try:
                window = action()
            except InTheWay as meeting:
                older = [other for other in meeting.others if other.serial < run.serial]
                if older:
                    self._moved(run, run.roll_back())
                    run.waits_for = older[0]
                    return NOWHERE
                for other in meeting.others:
                    self._moved(other, other.roll_back())
                    other.waits_for = run
                # The dabs before the one that failed are in; begin again from the samples.
                self._moved(run, run.roll_back())
                action = again
                continue
            self._moved(run, window)
            return window

    def _moved(self, run: StrokeRun, window: Window) -> None:
        for side in run.sides:
            part = side.own(window)
            if not part.empty:
                self._tell(Moved(side.tract_id, run.layer_moved, part))

    def abandon_stroke(self, run: StrokeRun) -> None:
        """Take a stroke back as if it had never begun."""
        with self._freed:
            if not run.ended:
                self._moved(run, run.roll_back())
                run.ended = True
                self._freed.notify_all()

    def finish_stroke(self, run: StrokeRun) -> Outcome:
        """Draw the rest, write the revision, and let the ground go. Waits for a stroke in the way.

        Raises Conflict when that takes longer than PATIENCE_S; the stroke is then taken back.
        """
        with self._freed:
            self._check_open()
            if run.ended:
                raise Conflict("the stroke has already ended")
            try:
                self._finish_drawing(run)
                return self._commit_stroke(run)
            except BaseException:
                self._moved(run, run.roll_back())
                raise
            finally:
                run.ended = True
                self._freed.notify_all()

    def _finish_drawing(self, run: StrokeRun) -> None:
        until = time.monotonic() + PATIENCE_S
        drawn = False
        while not drawn:
            while run.waits_for is not None:
                if run.waits_for.ended:
                    run.waits_for = None
                    self._draw(run, run.replay, run.replay)
                elif not self._freed.wait(until - time.monotonic()):
                    raise Conflict("another stroke is being drawn in the same place; this one was not kept")
            self._draw(run, run.finish, run.replay_whole)
            drawn = run.waits_for is None

    def _commit_stroke(self, run: StrokeRun) -> Outcome:
        draft = Draft(self.caches, {})
        try:
            check_open(self.sheets(), run.start.sheet)
            changes, window, cut, fill = [], NOWHERE, 0.0, 0.0
            for side in run.sides:
                cache = side.cache
                for place in side.dirty if run.start.on_ground else ():
                    was = side.before[place]
                    settle(draft, side.tract_id, cache, place[1:], was, self.sheets(), run.start.sheet)
                for place, part in side.dirty.items():
                    whole = cache.grid.tile_window(place[1], place[2])
                    here = part.shifted(-whole.row0, -whole.col0)
                    was, tile = side.before[place], cache.tile(place)
                    if difference(was, tile, here) is None:
                        continue
                    change, moved, tile_cut, tile_fill = change_of(
                        side.tract_id, place, was, tile, here, cache.grid.spacing, whole
                    )
                    changes.append(change)
                    window = window.join(moved) if side is run.own else window
                    cut, fill = cut + tile_cut, fill + tile_fill
            if not changes:
                run.roll_back()
                return Outcome(self.revision, NOWHERE)
            changes += [change for change, *_ in draft.changes()]
            path = [astuple(s) for s in run.samples]
            command = Stroke(**run.start.model_dump(), path=path or [(0, 0, 0, 1)])
            number = self._write("edit", None, stroke_words(run, cut, fill), command, changes, ())
        except BaseException:
            draft.put_back()
            raise
        draft.let_go()
        ground = {(s.tract_id, p): v for s in run.sides for p, v in s.before.items() if p[0] == HEIGHT and p in s.dirty}
        if ground:
            self._last_ground = ground
        run.let_go()
        return Outcome(number, window, cut, fill)

    def stroke(self, tract_id: str, stroke: Stroke) -> Outcome:
        """A whole stroke at once."""
        start = StrokeStart(**stroke.model_dump(exclude={"path", "do"}))
        run = self.begin_stroke(tract_id, start)
        try:
            self.extend_stroke(run, [Sample(*point) for point in stroke.path])
        except BaseException:
            self.abandon_stroke(run)
            raise
        return self.finish_stroke(run)

    # Other edits

    def edit(self, command: Edit) -> Outcome:
        """Change rows: names, water, light, covers, mixes, pieces, starts, plots, levels, symmetry, limits."""
        with self.lock:
            self._check_open()
            words, moves = plan_edit(command, self)
            changes = self._row_changes(moves)
            if not changes:
                return Outcome(self.revision, NOWHERE)
            number = self._write("edit", None, words, command, (), changes)
            return Outcome(number, NOWHERE)

    def change_rows(
        self, command: Command, words: str, moves: Moves, *, busy: str | None = None, since: int | None = None
    ) -> Outcome:
        """Write rows that a command came to. Raises Conflict when a stroke is being drawn in the tract `busy`, or
        when the world is no longer at the revision `since`.
        """
        with self.lock:
            self._check_open()
            if busy is not None and any(tract_id == busy for tract_id, _ in self._holds):
                raise Conflict("a stroke is being drawn in this tract; nothing was changed")
            if since is not None and self.revision != since:
                raise Conflict("the world was changed while this was worked out; nothing was done: try it again")
            changes = self._row_changes(moves)
            if not changes:
                return Outcome(self.revision, NOWHERE)
            return Outcome(self._write("edit", None, words, command, (), changes), NOWHERE)

    def change_ground(self, command: GroundEdit, work: Callable[[Draft], tuple[str, Moves]]) -> Outcome:
        """Do `work` on tiles and write it as one revision. Waits for strokes that are in its way.

        `work` gives the words and the rows that change; when it or the writing fails,
        everything is as it was. Raises Conflict when a stroke is in the way for too long.
        """
        with self._freed:
            self._check_open()
            until = time.monotonic() + PATIENCE_S
            while True:
                draft = Draft(self.caches, self._holds)
                try:
                    words, moves = work(draft)
                    outcome = self._write_draft(draft, command, words, moves)
                except Held:
                    draft.put_back()
                    if not self._freed.wait(until - time.monotonic()):
                        raise Conflict("a stroke is being drawn where this would work; nothing was changed") from None
                except BaseException:
                    draft.put_back()
                    raise
                else:
                    draft.let_go()
                    return outcome

    def _write_draft(self, draft: Draft, command: GroundEdit, words: str, moves: Moves) -> Outcome:
        changes: list[TileChange] = []
        moved: dict[tuple[str, str], Window] = {}
        cut = fill = 0.0
        for change, window, tile_cut, tile_fill in draft.changes():
            changes.append(change)
            cut, fill = cut + tile_cut, fill + tile_fill
            at = change.at.tract_id, change.at.layer.split(":")[0]
            moved[at] = moved.get(at, NOWHERE).join(window)
        rows = self._row_changes(moves)
        if not changes and not rows:
            return Outcome(self.revision, NOWHERE)
        volumes = volume_words(cut, fill)
        number = self._write("edit", None, words + (f": {volumes}" if volumes else ""), command, changes, rows)
        if any(layer == HEIGHT for _, layer in moved):
            self._last_ground = draft.ground_before()
        seen = NOWHERE
        for (tract_id, layer), window in moved.items():
            if layer not in HIDDEN_LAYERS:
                seen = seen.join(window)
                self._tell(Moved(tract_id, layer, window))
        return Outcome(number, seen, cut, fill)

    def _row_changes(self, moves: Moves) -> list[EntryChange]:
        return [
            EntryChange(
                collection,
                key,
                old.model_dump_json() if (old := self.rows[collection].get(key)) is not None else None,
                row.model_dump_json() if row is not None else None,
            )
            for (collection, key), row in moves.items()
            if self.rows[collection].get(key) != row
        ]

    def forget_steps(self) -> None:
        """The logbook was folded: ask it anew what can be undone."""
        self._order = UndoOrder(self._store.steps(self.id))

    def undo(self) -> Outcome:
        """Take the newest edit back that still stands. Raises Conflict when there is none."""
        return self._turn("undo")

    def redo(self) -> Outcome:
        """Make the edit again that was undone last. Raises Conflict when there is none."""
        return self._turn("redo")

    def _turn(self, sort: str) -> Outcome:
        with self._freed:
            self._check_open()
            until = time.monotonic() + PATIENCE_S
            while True:
                target = self._order.next_undo if sort == "undo" else self._order.next_redo
                if target is None:
                    raise Conflict(f"there is nothing to {sort}")
                tiles, entries = self._store.changes(self.id, target)
                held = {(at.tract_id, (at.layer, at.tile_row, at.tile_col)) for at, *_ in tiles} & set(self._holds)
                if not held:
                    break
                if not self._freed.wait(until - time.monotonic()):
                    raise Conflict(f"a stroke is being drawn where the {sort} would work; nothing was changed")
            if sort == "undo":
                entries = [EntryChange(e.collection, e.key, e.after, e.before) for e in entries]
            words = f"{'Undid' if sort == 'undo' else 'Redid'} r{target}: {self._store.revision_words(self.id, target)}"
            return self._swap(sort, target, words, tiles, entries)

    def _swap(
        self,
        sort: str,
        target: int,
        words: str,
        tiles: Sequence[tuple[TileAt, int, int, bytes]],
        entries: Sequence[EntryChange],
    ) -> Outcome:
        swapped: list[tuple[TileAt, int, int, bytes]] = []
        changes: list[TileChange] = []
        windows: dict[tuple[str, str], Window] = {}
        try:
            for at, row0, col0, diff in tiles:
                tract = self._any(at.tract_id)
                place = (at.layer, at.tile_row, at.tile_col)
                tile = tract.cache.tile(place)
                tract.cache.pin(place)
                part = swap_in_place(tile, row0, col0, diff)
                swapped.append((at, row0, col0, diff))
                whole = tract.grid.tile_window(at.tile_row, at.tile_col)
                window = part.shifted(whole.row0, whole.col0)
                sort_of_layer = at.layer.split(":")[0]
                old = windows.get((at.tract_id, sort_of_layer), NOWHERE)
                windows[at.tract_id, sort_of_layer] = old.join(window)
                changes.append(TileChange(at, row0, col0, diff, packed(tile)))
            number = self._write(sort, target, words, None, changes, entries)
        except BaseException:
            for at, row0, col0, diff in swapped:
                swap_in_place(self._any(at.tract_id).cache.tile((at.layer, at.tile_row, at.tile_col)), row0, col0, diff)
            raise
        finally:
            for at, *_ in swapped:
                self._any(at.tract_id).cache.unpin((at.layer, at.tile_row, at.tile_col))
        self._last_ground = {}
        joined = NOWHERE
        for (tract_id, layer), window in windows.items():
            if layer in HIDDEN_LAYERS:
                continue
            joined = joined.join(window)
            self._tell(Moved(tract_id, layer, window))
        return Outcome(number, joined)

    # Writing

    def _write(
        self,
        sort: str,
        target: int | None,
        words: str,
        command: Command | None,
        tile_changes: Sequence[TileChange],
        entry_changes: Sequence[EntryChange],
    ) -> int:
        number = self.revision + 1
        rows = {
            (e.collection, e.key): parse_row(e.collection, e.key, e.after) if e.after is not None else None
            for e in entry_changes
        }
        self._store.write(
            Revision(
                self.id,
                number,
                sort,
                target,
                words,
                command.model_dump_json(exclude_none=True) if command else json.dumps({"do": sort}),
                tile_changes,
                entry_changes,
            )
        )
        self.revision = number
        self._order.note(number, sort, target)
        for change in tile_changes:
            at = change.at
            place = (at.layer, at.tile_row, at.tile_col)
            self._any(at.tract_id).cache.set_range(place, change.tile.lowest, change.tile.highest)
        for (collection, key), row in rows.items():
            if row is None:
                self.rows[collection].pop(key, None)
            else:
                self.rows[collection][key] = row
        self._tell(Revised(number, words, tuple(sorted({c for c, _ in rows}))))
        return number
