"""The application without its pages: the data folder, the worlds in it, those that are open, and the jobs."""

from __future__ import annotations

import fcntl
import logging
import shutil
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any
from weakref import WeakValueDictionary

from fernfield.core.checks.finding import Finding
from fernfield.core.errors import Conflict, FernError, NotFound
from fernfield.formats.tileblob import decode_tile
from fernfield.store.database import answers, open_database
from fernfield.store.keeping import KeepingStore
from fernfield.store.logbook import LogbookStore
from fernfield.store.onefile import read_world, write_world
from fernfield.store.staged import StagedStore
from fernfield.store.worlds import NewWorld, TractRow, WorldRow, WorldStore
from fernfield.work.delivery.making import (
    MAKE,
    PackageTold,
    SinceTold,
    SummaryTold,
    delivery_of,
    package_path,
    packages_of,
    since,
    summary,
)
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import MakeLand, PressFile, Reset, Weather
from fernfield.work.ground.making import region
from fernfield.work.ground.room import MAKE_LAND, WEATHER
from fernfield.work.ground.rows import Recipe
from fernfield.work.ground.sheeting import may_go_into
from fernfield.work.handover.deliveries import Delivery
from fernfield.work.handover.findings import Found, gone_through
from fernfield.work.handover.package import inside
from fernfield.work.handover.room import HANDOVER
from fernfield.work.house import HOUSE
from fernfield.work.kernel.checking import Check, Looked, Watches
from fernfield.work.kernel.crew import crew_of
from fernfield.work.kernel.events import Event, Revised
from fernfield.work.kernel.jobs import Job, JobKind, Jobs
from fernfield.work.kernel.posts.bits import joined
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.overviews import VERSION
from fernfield.work.kernel.posts.tracts import Tract, TractPlace
from fernfield.work.kernel.rooms import House
from fernfield.work.kernel.rows import ONLY, Row
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import window_of
from fernfield.work.seen.baking import BAKE, BakeTold, bakes, check_moods, forget_bakes
from fernfield.work.sites.rows import things_of
from fernfield.work.strokes import STROKE, Stroke
from fernfield.work.trial.running import RUN, ToRun, check_run, sound_tracks, take_in_runs
from fernfield.work.worlds.apart import read_apart
from fernfield.work.worlds.beginnings import Ground, WorldSpec, ground_of
from fernfield.work.worlds.bounding import PutBoundary, boundary_of
from fernfield.work.worlds.dressing import suits
from fernfield.work.worlds.intake import Incoming, Placing, Reading, Waiting
from fernfield.work.worlds.placing import IMPORT, IMPORT_TRACT, PRESS, READ, Placed
from fernfield.work.worlds.room import BOUNDARY, COPY, CROP, RESPACE
from fernfield.work.worlds.rows import ABOUT, default_rows
from fernfield.work.worlds.tracts import (
    CropTract,
    RespaceTract,
    TractSpec,
    add_tract,
    cropped_grid,
    new_id,
    respaced_grid,
    seen_from_afar,
    tiles_of,
)

log = logging.getLogger("fernfield")


BLOBS = {"tiles": decode_tile, "overviews": decode_tile, "pictures": decode_tile, "run_tracks": sound_tracks}
"""What raises for a stored array of a table that cannot be read."""
MOST_OPEN = 8
"""Worlds that are kept open when nobody works on them any more."""

MOST_PASTS = 4
"""Earlier states of worlds that are kept open."""

FOLD_EVERY = 64
"""How many revisions go by until the size of the logbook is looked at."""

KEPT_REVISIONS = 100
"""The newest revisions are never folded."""

FOLDED_AT_ONCE = 50


class Studio:
    """One data folder. Raises Conflict when another process has it open."""

    def __init__(
        self, data: Path, logbook_mib: int = 1024, house: House = HOUSE, *, workers: int = 0, cluster: str = ""
    ) -> None:
        self.data, self.house = data, house
        self.logbook_bytes = logbook_mib << 20
        for folder in (data, data / "packages", data / "incoming"):
            folder.mkdir(parents=True, exist_ok=True)
        self._guard = (data / "in-use").open("w")
        try:
            fcntl.flock(self._guard, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._guard.close()
            raise Conflict(f"the data folder {data} is in use by another Fern Field") from None
        try:
            self._open_all(data, workers, cluster)
        except BaseException:
            self._guard.close()
            raise

    def _open_all(self, data: Path, workers: int, cluster: str) -> None:
        # Uploads and half-written packages of a run that was killed.
        for left in (*(data / "incoming").iterdir(), *(data / "packages").glob("*.part")):
            shutil.rmtree(left) if left.is_dir() and not left.is_symlink() else left.unlink(missing_ok=True)
        self.store = WorldStore(open_database(data / "fernfield.db"))
        self.store.drop_unfinished()
        take_in_runs(data, self.store)
        StagedStore(self.store.engine).drop(None)
        self.waiting = Waiting(data / "incoming", read_apart)
        self.jobs = Jobs(crew_of(workers, cluster))
        self._open: WeakValueDictionary[str, OpenWorld] = WeakValueDictionary()
        self.watches = Watches()
        self._newest: OrderedDict[str, OpenWorld] = OrderedDict()
        self._past: dict[tuple[str, int], OpenWorld] = {}
        self._lock = threading.Lock()
        self.jobs.on_end(self._rested)

    def _rested(self, job: Job) -> None:
        """After a job: a world that nobody looks at needs little memory."""
        world = self._open.get(job.world_id or "")
        if world is not None:
            world.rest()

    def close(self) -> None:
        self.watches.close()
        self.jobs.close()
        self.store.engine.dispose()
        self._guard.close()

    def healthy(self) -> bool:
        return answers(self.store.engine)

    def room(self) -> int:
        """Free space on the disk of the data folder. [bytes]"""
        return shutil.disk_usage(self.data).free

    def size(self) -> int:
        """Size of the database. [bytes]"""
        return sum(path.stat().st_size for path in self.data.glob("fernfield.db*"))

    def count_open(self) -> int:
        return len(self._open)

    # Worlds

    def world(self, world_id: str) -> OpenWorld:
        """The open world; opened from the store when it is not. Raises NotFound.

        It stays open while somebody holds it (a page, a job, a call), and the last few that were asked for do anyway.
        """
        found, newly = self._opened(world_id)
        if newly and found.without_overviews:
            self.jobs.start(OVERVIEWS, world_id, found)
        return found

    def _opened(self, world_id: str) -> tuple[OpenWorld, bool]:
        """An open world, and whether it was opened just now."""
        with self._lock:
            found = self._open.get(world_id)
            newly = found is None
            if found is None:
                if self.store.world(world_id).binned_at is not None:
                    raise NotFound(f"world {world_id!r} is in the bin: bring it back to work on it")
                found = self._open[world_id] = OpenWorld(self.house, self.store, world_id)
                found.listen(partial(self._hear, world_id))
            self._newest[world_id] = found
            self._newest.move_to_end(world_id)
            while len(self._newest) > MOST_OPEN:
                self._newest.popitem(last=False)
            return found, newly

    def _hear(self, world_id: str, event: Event) -> None:
        if isinstance(event, Revised):
            self.mind_logbook(world_id, event.number)

    def tract(self, tract_id: str) -> tuple[OpenWorld, Tract]:
        with self._lock:
            for world in list(self._open.values()):
                if tract_id in world.tracts:
                    return world, world.tracts[tract_id]
        world = self.world(self.store.world_of_tract(tract_id))
        return world, world.tract(tract_id)

    def worlds(self) -> Iterator[OpenWorld]:
        """Every world that can be opened, the one changed last first."""
        for row in self.store.list_worlds():
            try:
                yield self.world(row.id)
            except FernError as error:
                log.error("world %s cannot be opened: %s", row.id, error)

    def listed(self) -> tuple[list[OpenWorld], list[tuple[WorldRow, str]]]:
        """Every world to be looked at, the one changed last first, and those that cannot be opened, with why.

        None is opened by this: one that is not open is read as it is stored, and can only be looked at.
        """
        found: list[OpenWorld] = []
        shut: list[tuple[WorldRow, str]] = []
        with self.store.reading() as c:
            for row in self.store.list_worlds():
                world = self._open.get(row.id)
                try:
                    found.append(world or OpenWorld(self.house, self.store, row.id, c))
                except FernError as error:
                    shut.append((row, str(error)))
        return found, shut

    def changed_at(self, world_id: str) -> str:
        return self.store.world(world_id).changed_at

    def create(
        self,
        spec: WorldSpec,
        rows: Iterable[tuple[str, str, Row]] | None = None,
        heights: Ground | None = None,
        job: Job | None = None,
    ) -> str:
        """Make a world on the ground that its spec begins on, or on `heights` of its shape; returns its id.

        The land of a seed is made afterwards: see `start_seed`.
        """
        grid = spec.grid
        world_id, tract_id = new_id("w"), new_id("t")
        first = default_rows(spec.name, spec.sea_level_m, spec.description) if rows is None else rows
        ground = heights or ground_of(spec)
        row = TractRow(tract_id, world_id, 0, "Main tract", grid.rows, grid.cols, grid.spacing, spec.base_m)
        # Ground that is level has nothing to be told of from afar.
        tract = row if ground else replace(row, overviews=VERSION)
        tiles = tiles_of(tract_id, HEIGHT, grid, ground, job, (0.55, 0.9)) if ground else iter(())
        place: tuple[str, str, Row] = ("tracts", tract_id, TractPlace(name=tract.name))
        bodies = [(name, key, self.house.collection(name).dump(row)) for name, key, row in [*first, place]]
        self.store.create(NewWorld(world_id, [tract], bodies, tiles))
        if ground:
            world, newly = self._opened(world_id)
            for one in world.without_overviews if newly else ():
                world.make_overviews(one, seen_from_afar(job, (0.9, 0.98)))
        return world_id

    def start_seed(self, world_id: str, recipe: Recipe) -> Job:
        """Make the land of a world that begins from a seed."""
        tract_id = self.world(world_id).first_tract.row.id
        return self.start_making(tract_id, MakeLand(key="land", name="Land", recipe=recipe))

    def start_copy(self, world_id: str, name: str) -> Job:
        """Copy a world; the job's result is {world}."""
        self.world(world_id)
        return self.jobs.start(COPY, world_id, self.house, self.store, world_id, name)

    def delete(self, world_id: str) -> None:
        """Put a world into the bin, from which it can be brought back."""
        world = self.world(world_id)
        with world.lock:
            self.store.put_in_bin(world_id, True)
            world.close()
        self._forget(world_id)

    def _forget(self, world_id: str) -> None:
        with self._lock:
            self._open.pop(world_id, None)
            self._newest.pop(world_id, None)
            for key in [key for key in self._past if key[0] == world_id]:
                del self._past[key]

    def bin(self) -> list[tuple[WorldRow, str]]:
        """What lies in the bin, and its name; the world changed last first."""
        found = []
        for row in self.store.list_worlds(binned=True):
            rows = {(c, k): body for c, k, body in self.store.entries(row.id)}
            try:
                name = ABOUT.parse(ONLY, rows[ABOUT.name, ONLY]).name
            except (FernError, KeyError):
                name = row.id
            found.append((row, name))
        return found

    def binned(self, world_id: str) -> WorldRow:
        """Raises NotFound for a world that is not in the bin."""
        row = self.store.world(world_id)
        if row.binned_at is None:
            raise NotFound(f"world {world_id!r} is not in the bin")
        return row

    def restore(self, world_id: str) -> OpenWorld:
        """Bring a world back from the bin."""
        self.binned(world_id)
        self.store.put_in_bin(world_id, False)
        return self.world(world_id)

    def destroy(self, world_id: str) -> None:
        """Delete a world that lies in the bin, and its packages, for good."""
        self.binned(world_id)
        self.store.delete(world_id)
        for package in (self.data / "packages").glob(f"{world_id}-*"):
            package.unlink(missing_ok=True)
        forget_bakes(self.data, world_id)
        self.jobs.start(GIVE_BACK, None, KeepingStore(self.store.engine))

    # Files in

    def start_reading(self, file: Incoming, reading: Reading) -> Job:
        """Read a file that waits; the job's result is what it holds."""
        return self.jobs.start(READ, None, self.waiting, file, reading)

    def start_import(
        self, file: Incoming, name: str, reading: Reading, placing: Placing, sea_level_m: float = 0.0
    ) -> Job:
        """Make a world from an elevation file, which goes afterwards; the job's result is {world}."""
        how = Placed(self.waiting, file, reading, placing)

        def make(spec: WorldSpec, ground: Ground, job: Job) -> str:
            return self.create(spec, heights=ground, job=job)

        return self.jobs.start(IMPORT, None, how, make, name, sea_level_m)

    def start_tract_import(
        self, world_id: str, file: Incoming, reading: Reading, placing: Placing, name: str, x: float, y: float
    ) -> Job:
        """Make a new tract of a world from an elevation file; the job's result is {world, tract, revision}."""
        how = Placed(self.waiting, file, reading, placing)
        return self.jobs.start(IMPORT_TRACT, world_id, how, self.world(world_id), self.store, name, x, y)

    def start_press(self, tract_id: str, file: Incoming, reading: Reading, placing: Placing, command: PressFile) -> Job:
        """Press an elevation file into an area; the job's result is the outcome."""
        world, tract = self.tract(tract_id)
        may_go_into(world, command.sheet)
        window_of(world, world.land_from(tract_id), command)
        return self.jobs.start(PRESS, world.id, Placed(self.waiting, file, reading, placing), world, tract, command)

    # Tracts

    def add_tract(self, world_id: str, spec: TractSpec) -> tuple[str, Outcome]:
        return add_tract(self.world(world_id), self.store, spec)

    def start_crop(self, tract_id: str, command: CropTract) -> Job:
        """Give a tract other bounds; the job's result is {revision}."""
        world, tract = self.tract(tract_id)
        cropped_grid(tract, command)
        return self.jobs.start(CROP, world.id, world, self.store, tract, command)

    def start_respace(self, tract_id: str, command: RespaceTract) -> Job:
        """Give a tract's posts another spacing; the job's result is {revision}."""
        world, tract = self.tract(tract_id)
        respaced_grid(tract, command.spacing_m)
        return self.jobs.start(RESPACE, world.id, world, self.store, tract, command)

    def start_bound(self, tract_id: str, command: PutBoundary) -> Job:
        """Put a boundary around a tract and prove it; the job's result says whether it holds."""
        world, tract = self.tract(tract_id)
        boundary_of(world, tract, command)
        may_go_into(world, command.sheet)
        return self.jobs.start(BOUNDARY, world.id, world, tract, command, partial(_stood_on, world))

    # Light

    def start_bake(self, world_id: str, moods: tuple[str, ...] = ()) -> Job:
        """Bake what is missing or stale of the light of some moods, or of all; the job's result says how much that was.
        Raises NotFound for a mood that is not there."""
        world = self.world(world_id)
        return self.jobs.start(BAKE, world_id, world, check_moods(world, moods), self.data)

    def bakes(self, world_id: str) -> list[BakeTold]:
        """What is baked of a world, and where it is stale."""
        return bakes(self.world(world_id), self.data)

    # Bots

    def start_run(self, world_id: str, asked: ToRun, tract: str | None = None) -> Job:
        """Have simulated testers play a world; the job's result names the row of the run. Raises InvalidInput for more
        than can be done, NotFound for a walker or start that there is not."""
        world = self.world(world_id)
        with world.lock:
            tract_id = world.tract(world.of_tract(tract)).row.id
            land = world.country(tract_id)
            check_run(world, land, asked)
        return self.jobs.start(RUN, world_id, world, land, asked, self.data, tract_id)

    # The past

    def past(self, world_id: str, number: int) -> OpenWorld:
        """The world as it was after revision `number` (0: as it was made), to look at. Raises NotFound."""
        world = self.world(world_id)
        if number == world.revision:
            return world
        if number != 0:
            self.store.revision(world_id, number)
        with self._lock:
            found = self._past.get((world_id, number))
        if found is None:
            found = OpenWorld(self.house, self.store, world_id, at=number)
            with self._lock:
                self._past[world_id, number] = found
                while len(self._past) > MOST_PASTS:
                    del self._past[next(iter(self._past))]
        return found

    def past_tract(self, tract_id: str, number: int | None) -> tuple[OpenWorld, Tract]:
        """A tract as it is, or as it was after a revision."""
        world, tract = self.tract(tract_id)
        if number is None:
            return world, tract
        past = self.past(world.id, number)
        return past, past.tract(tract_id)

    def fold(self, world_id: str) -> int:
        """Fold the oldest revisions of a world together until its logbook is small enough; returns how many runs."""
        logbook, runs = LogbookStore(self.store.engine), 0
        while logbook.size(world_id) > self.logbook_bytes:
            span = logbook.foldable(world_id, KEPT_REVISIONS, FOLDED_AT_ONCE)
            if span is None:
                break
            world = self.world(world_id)
            with world.lock:
                logbook.fold(world_id, *span, joined)
                world.forget_steps()
            runs += 1
        return runs

    def mind_logbook(self, world_id: str, revision: int) -> None:
        """After a revision: now and then see to the size of the logbook, beside the rest."""
        if revision % FOLD_EVERY == 0 and LogbookStore(self.store.engine).size(world_id) > self.logbook_bytes:
            self.jobs.start(FOLD, world_id, partial(self.fold, world_id))

    # Strokes

    def start_stroke(self, tract_id: str, stroke: Stroke) -> Job:
        """Draw a stroke that takes long; the job's result is the outcome."""
        return self.jobs.start(STROKE, self.tract(tract_id)[0].id, self.tract(tract_id)[0], tract_id, stroke)

    # Areas

    def reset(self, tract_id: str, command: Reset) -> Outcome:
        """Bring an area back to the base, to a revision, or to an elevation."""
        world, tract = self.tract(tract_id)
        number = 0 if command.to == "base" else command.revision
        return reset(world, tract, command, None if number is None else self.past(world.id, number))

    def start_weather(self, tract_id: str, command: Weather) -> Job:
        """Weather an area beside the rest; the job's result is the outcome."""
        world, tract = self.tract(tract_id)
        may_go_into(world, command.sheet)
        window = window_of(world, world.land_from(tract_id), command)
        return self.jobs.start(WEATHER, world.id, world, tract, command, window)

    def start_making(self, tract_id: str, command: MakeLand) -> Job:
        """Make land from a recipe beside the rest; the job's result is the outcome."""
        world, tract = self.tract(tract_id)
        region(world, tract, command.recipe)
        return self.jobs.start(MAKE_LAND, world.id, world, tract, command, suits)

    # Handover

    def start_handover(self, world_id: str) -> Job:
        """Write the package of a world as it is now; the job's result is {revision, file}."""
        self.world(world_id)
        return self.jobs.start(HANDOVER, world_id, self.house, self.store, world_id, self.data / "packages")

    def package(self, world_id: str) -> tuple[int, str, Path]:
        """Revision, time and file of the newest package. Raises NotFound when there is none."""
        self.store.world(world_id)
        found = self.store.package(world_id)
        if found is None:
            raise NotFound("this world has not been handed over yet: POST …/handover makes a package")
        path = self.data / "packages" / found[2]
        if not path.exists():
            raise NotFound("the package is missing from the data folder: hand the world over again")
        return found[0], found[1], path

    def start_delivery(self, world_id: str, key: str) -> Job:
        """Make a delivery of a world as it is now; the job's result is {revision, file}. Raises NotFound."""
        delivery = self._delivery(world_id, key)
        args = self.house, self.store, world_id, key, self._doubts(world_id, delivery), self.data / "packages"
        return self.jobs.start(MAKE, world_id, *args)

    def summary(self, world_id: str, key: str) -> SummaryTold:
        """What a delivery would hold now. Raises NotFound."""
        delivery = self._delivery(world_id, key)
        world, doubts = self.world(world_id), self._doubts(world_id, delivery)
        with world.lock:
            return summary(world, delivery, inside(world), doubts)

    def _delivery(self, world_id: str, key: str) -> Delivery:
        world = self.world(world_id)
        with world.lock:
            return delivery_of(world, key)

    def _doubts(self, world_id: str, delivery: Delivery) -> list[tuple[bool, str]]:
        """What is found in a world and was not accepted, whether it is grave and in words; asked for only where a
        delivery waits for it."""
        if delivery.must_be_empty == "nothing":
            return []
        return [(one.finding.grave, one.finding.words) for one in self.findings(world_id) if one.accepted is None]

    def packages(self, world_id: str) -> list[PackageTold]:
        """The packages of deliveries that are kept, the newest first."""
        return packages_of(self.data / "packages", self.world(world_id))

    def package_file(self, world_id: str, key: str) -> Path:
        """Raises NotFound for a package that is not kept."""
        return package_path(self.data / "packages", self.world(world_id), key)

    def since(self, world_id: str, key: str) -> SinceTold:
        """What has changed since a package was made."""
        return since(self.store, self.world(world_id), int(self.package_file(world_id, key).stem.rpartition("-r")[2]))

    def write_world(self, world_id: str, to: Path, *, logbook: bool = True) -> None:
        """A world as one file. Raises NotFound."""
        write_world(self.store.engine, self.world(world_id).id, to, logbook=logbook)

    def read_world(self, path: Path) -> OpenWorld:
        """Take in a world that is one file. Raises FormatError, Conflict where it is here already."""
        return self.world(read_world(self.store.engine, path, BLOBS))

    def copy_package(self, world_id: str, to: Path) -> None:
        shutil.copyfile(self.package(world_id)[2], to)

    # Checks

    def check(self, world_id: str) -> list[Finding]:
        """What the checks find in a world, and whether its package is older than it."""
        return [one.finding for one in self.findings(world_id)]

    @property
    def checks(self) -> list[tuple[str, str]]:
        """Every check by its stage and name."""
        return [(room.name, check.name) for room in self.house.rooms for check in room.checks]

    def findings(self, world_id: str) -> list[Found]:
        """The same with the stage of each, and what was accepted."""
        world = self.world(world_id)
        return self._gone_through(world, self.watches.of(world, self._every_check).look(world))

    def findings_so_far(self, world_id: str) -> tuple[list[Found], Looked]:
        """What is known of them by now, without waiting for checks that take long: they look meanwhile."""
        world = self.world(world_id)
        looked = self.watches.so_far(world, self._every_check)
        return self._gone_through(world, looked), looked

    @property
    def _every_check(self) -> list[Check]:
        return [check for room in self.house.rooms for check in room.checks]

    def _gone_through(self, world: OpenWorld, looked: Looked) -> list[Found]:
        stages = {name: stage for stage, name in self.checks}
        found = [(stages[name], one) for name, some in looked.found.items() for one in some]
        package = self.store.package(world.id)
        if package is not None and package[0] < world.revision:
            words = f"The package was made from r{package[0]}; the world is at r{world.revision}."
            found.append(("handover", Finding("package age", words, "Hand the world over again.", False)))
        return gone_through(world, found)


def _stood_on(world: OpenWorld, tract_id: str) -> list[tuple[float, float]]:
    """Where something stands in a tract: walkers begin there too. [m]"""
    return [(thing.x, thing.y) for _, thing in things_of(world, tract_id)]


def _fold(job: Job, fold: Callable[[], int]) -> dict[str, Any]:
    return {"runs": fold()}


def _make_overviews(job: Job, world: OpenWorld) -> dict[str, Any]:
    for tract in world.without_overviews:
        world.make_overviews(tract, seen_from_afar(job, (0.0, 1.0)))
    return {"world": world.id}


def _give_back(job: Job, keeping: KeepingStore) -> dict[str, Any]:
    return {"pages": keeping.give_back(lambda done: job.step(done, "Giving space back"))}


GIVE_BACK = JobKind("give back", "Giving space back", _give_back, card="job_plain.html")
OVERVIEWS = JobKind("overviews", "Preparing the view from afar", _make_overviews, card="job_plain.html")
FOLD = JobKind("fold", "Folding the logbook", _fold, card="job_plain.html")
