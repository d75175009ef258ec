"""Checks, and their findings kept: a check looks again once what it reads has changed, and one that goes by tiles only
where that is."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Generic, TypeVar
from weakref import WeakKeyDictionary

from fernfield.core.checks.finding import Finding
from fernfield.core.grid import Window
from fernfield.work.kernel.crew import give_way
from fernfield.work.kernel.posts.layers import sort_of
from fernfield.work.kernel.posts.tracts import JOINS, PLACES

if TYPE_CHECKING:
    from fernfield.work.kernel.posts.lands import Land
    from fernfield.work.kernel.posts.tracts import Tract
    from fernfield.work.kernel.world import OpenWorld

P = TypeVar("P")
SOON_S = 0.15
"""So long is waited for checks that are quick. [s]"""
Stamp = tuple[Any, ...]
"""Is equal for as long as nothing has changed of what it was made from."""


@dataclass(frozen=True)
class Reads:
    """What a check reads: rows by their collections, posts by the sorts of their layers; None: any.

    but : collections of which it reads none, where it reads any others: what is new counts until somebody says so
    """

    rows: tuple[str, ...] | None = None
    layers: tuple[str, ...] | None = None
    but: tuple[str, ...] = ()

    def row_names(self, world: OpenWorld) -> tuple[str, ...]:
        """The collections that it reads."""
        if self.rows is not None:
            return PLACES.name, JOINS.name, *self.rows
        return tuple(name for name in world.rows if name not in self.but)

    def reads_layer(self, layer: str) -> bool:
        return self.layers is None or sort_of(layer) in self.layers

    def stamp(self, world: OpenWorld, land: Land | None = None, window: Window | None = None) -> Stamp:
        """Of the rows, and of the posts: of the whole world, of a land, or of a window of one. Hold the lock."""
        return world.changes_of(*self.row_names(world)), self.written(world, land, window)

    def written(self, world: OpenWorld, land: Land | None = None, window: Window | None = None) -> Stamp:
        """How often the posts were written. Hold the lock."""
        if self.layers == ():
            return ()
        if land is None:
            return tuple(self._count(tract, None) for tract in world.tracts.values())
        return tuple(self._count(part.tract, None if window is None else part.own(window)) for part in land.parts)

    def _count(self, tract: Tract, window: Window | None) -> int:
        return sum(
            count
            for (layer, *tile), count in tract.cache.written.items()
            if self.reads_layer(layer) and (window is None or not tract.grid.tile_window(*tile).meet(window).empty)
        )


@dataclass(frozen=True)
class ByTile(Generic[P]):
    """What a check sees in each tile by itself, and what it finds by all of them.

    look : sees the posts of one tile, in its tract's own land
    tell : finds, from what was seen by tract; tiles in which nothing was seen (None) are left out
    around : so many posts around a tile are read too; None: all there are
    near : what else comes to a tile, compared as it is: what stands around it, what flows in from far off
    skips : tracts that are not looked at
    """

    look: Callable[[OpenWorld, Land, Window], P | None]
    tell: Callable[[OpenWorld, Mapping[str, list[P]]], Iterable[Finding]]
    around: Callable[[OpenWorld, Land], int | None]
    near: Callable[[OpenWorld, Land, Window], Stamp] = lambda world, land, window: ()
    skips: Callable[[Tract], bool] = lambda tract: False


@dataclass(frozen=True)
class Check:
    """A check of a world: its name, what it finds, and what it reads for that: as little as is true, since it looks
    again at every change of it."""

    name: str
    find: Callable[[OpenWorld], Iterable[Finding]] | ByTile[Any]
    reads: Reads = Reads()


@dataclass
class Lookout:
    """What the checks have found in one world. From any thread; two who ask wait for one another."""

    looks: int = 0
    """How often a check has looked, at the world or at a tile."""
    _found: dict[str, tuple[Stamp, tuple[Finding, ...]]] = field(default_factory=dict)
    _seen: dict[str, dict[tuple[str, tuple[int, int]], tuple[Stamp, Any]]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def found(self, world: OpenWorld, checks: Iterable[Check]) -> Iterator[tuple[Check, tuple[Finding, ...]]]:
        """What each check finds in the world as it is; what is still true of an earlier time is not looked at again."""
        for check in checks:
            with self._lock:
                yield (
                    check,
                    self._by_tile(world, check) if isinstance(check.find, ByTile) else self._whole(world, check),
                )

    def _whole(self, world: OpenWorld, check: Check) -> tuple[Finding, ...]:
        assert not isinstance(check.find, ByTile)
        with world.lock:
            stamp, quiet = check.reads.stamp(world), not world.holds
        known = self._found.get(check.name)
        if known is not None and known[0] == stamp:
            return known[1]
        found = tuple(check.find(world))
        self.looks += 1
        if quiet:
            self._found[check.name] = stamp, found
        return found

    def _by_tile(self, world: OpenWorld, check: Check) -> tuple[Finding, ...]:
        by = check.find
        assert isinstance(by, ByTile)
        seen, before = {}, self._seen.get(check.name, {})
        told: dict[str, list[Any]] = {}
        for key, tract in list(world.tracts.items()):
            if by.skips(tract):
                continue
            for tile in tract.grid.window.tiles():
                with world.lock:
                    land, window = world.land_from(key), tract.grid.tile_window(*tile)
                    far = by.around(world, land)
                    wide = None if far is None else window.pad(far)
                    stamp = check.reads.stamp(world, land, wide), by.near(world, land, window)
                    quiet = not world.holds
                known = before.get((key, tile))
                if known is None or known[0] != stamp:
                    self.looks += 1
                    known = stamp, by.look(world, land, window)
                # What is seen while a stroke is drawn may be taken back, and nothing would tell.
                if quiet or known is before.get((key, tile)):
                    seen[key, tile] = known
                if known[1] is not None:
                    told.setdefault(key, []).append(known[1])
        self._seen[check.name] = seen
        return tuple(by.tell(world, told))


@dataclass(frozen=True)
class Looked:
    """What was found by now: by check, the checks that still look, and the revision that it is of, or a later one."""

    found: Mapping[str, tuple[Finding, ...]]
    left: tuple[str, ...]
    revision: int


@dataclass
class Watch:
    """The checks beside one world: they look once at each of its states, whoever asks; who does not wait is told what
    was found so far. From any thread. `over`: nobody asks any more, what is left undone may stay so."""

    checks: Sequence[Check]
    over: threading.Event
    _lookout: Lookout = field(default_factory=Lookout)
    _looked: Looked = Looked({}, (), -1)
    _state: str | None = None
    """Which state of the world that was, if it may be known again."""
    _one: threading.Lock = field(default_factory=threading.Lock)
    _asking: threading.Lock = field(default_factory=threading.Lock)
    _run: Future[Looked] | None = None

    def look(self, world: OpenWorld) -> Looked:
        """What each check finds in the world as it is: waits for all of them."""
        with self._one:
            state = world.state_name()
            if state is None or state != self._state:
                self._state, revision = None, world.revision
                left = [check.name for check in self.checks]
                found = {name: some for name, some in self._looked.found.items() if name in left}
                try:
                    for check, some in self._lookout.found(world, self.checks):
                        found[check.name] = some
                        left.remove(check.name)
                        self._looked = Looked({**found}, tuple(left), revision)
                        if self.over.is_set():
                            break
                finally:
                    self._looked = Looked(found, (), revision)
                self._state = state
            return self._looked

    def so_far(self, world: OpenWorld, pool: Executor) -> Looked:
        """What is found by now. Has the checks look, if the world is not as it was when they looked last."""
        with self._asking:
            run, state = self._run, world.state_name()
            if run is None or run.done():
                self._run = None
                if run is not None:
                    run.result()
                # What a run found that nobody waited for may be of long ago; while somebody draws no state has a name.
                drawn = state is None and run is not None and self._looked.revision == world.revision
                if drawn or (state is not None and state == self._state):
                    return self._looked
                self._run = run = pool.submit(self.look, world)
                wait([run], SOON_S)
                if run.done():
                    self._run = None
                    return run.result()
            known = self._looked
            left = known.left or tuple(check.name for check in self.checks)
            return Looked(known.found, left, known.revision)


class Watches:
    """The checks beside the worlds of one application, and the thread on which they look for who does not wait."""

    def __init__(self) -> None:
        self._watches: WeakKeyDictionary[OpenWorld, Watch] = WeakKeyDictionary()
        self._pool = ThreadPoolExecutor(max_workers=1, thread_name_prefix="checks", initializer=give_way)
        self._over, self._lock = threading.Event(), threading.Lock()

    def of(self, world: OpenWorld, checks: Sequence[Check]) -> Watch:
        with self._lock:
            return self._watches.setdefault(world, Watch(checks, self._over))

    def so_far(self, world: OpenWorld, checks: Sequence[Check]) -> Looked:
        return self.of(world, checks).so_far(world, self._pool)

    def close(self) -> None:
        self._over.set()
        self._pool.shutdown(cancel_futures=True)
