"""The application without its pages: the data folder, the worlds in it, those that are open, and the jobs."""

from __future__ import annotations

import fcntl
import logging
import secrets
import shutil
import threading
from collections.abc import Iterable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import Field

from fernfield.core.checks import run_checks
from fernfield.core.checks.finding import Finding
from fernfield.core.errors import Conflict, NotFound
from fernfield.core.grid import FloatArray, Grid
from fernfield.formats.elevation import Wanted, read_elevation
from fernfield.store.database import answers, open_database
from fernfield.store.logbook import LogbookStore
from fernfield.store.worlds import NewWorld, Tile, TileAt, TractRow, WorldStore
from fernfield.work.areas import reset, window_of
from fernfield.work.checking import survey
from fernfield.work.commands import Command, MakeLand, Reset, Weather
from fernfield.work.entries import Elevation, Name, Row, default_rows
from fernfield.work.events import Event, Revised
from fernfield.work.handover import write_package
from fernfield.work.history import joined
from fernfield.work.jobs import Job, Jobs
from fernfield.work.layers import HEIGHT, packed
from fernfield.work.making import make_land, region
from fernfield.work.sheeting import check_open
from fernfield.work.weathering import weather
from fernfield.work.world import OpenWorld, Outcome, Tract

log = logging.getLogger("fernfield")


MOST_PASTS = 4
"""Earlier states of worlds that are kept open."""

FOLD_EVERY = 64
"""How many revisions go by until the size of the logbook is looked at."""

KEPT_REVISIONS = 100
"""The newest revisions are never folded."""

FOLDED_AT_ONCE = 50


class WorldSpec(Command):
    """A new world on level ground. 256 m at 1 m are 257 posts."""

    name: Name
    width_m: float = Field(gt=0, le=200_000)
    depth_m: float = Field(gt=0, le=200_000)
    spacing_m: float = Field(gt=0, le=1000)
    elevation_m: Elevation = 10.0
    sea_level_m: Elevation = 0.0


def new_id(prefix: str) -> str:
    return prefix + secrets.token_hex(5)


class Studio:
    """One data folder. Raises Conflict when another process has it open."""

    def __init__(self, data: Path, logbook_mib: int = 1024) -> None:
        self.data = data
        self.logbook_bytes = logbook_mib << 20
        for folder in (data, data / "packages", data / "incoming"):
            folder.mkdir(parents=True, exist_ok=True)
        self._guard = (data / "in-use").open("w")
        try:
            fcntl.flock(self._guard, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            self._guard.close()
            raise Conflict(f"the data folder {data} is in use by another Fern Field") from None
        # Uploads and half-written packages of a run that was killed.
        for left in (*(data / "incoming").iterdir(), *(data / "packages").glob("*.part")):
            left.unlink(missing_ok=True)
        self.store = WorldStore(open_database(data / "fernfield.db"))
        self.jobs = Jobs(lambda job, error: log.error("job %s failed", job.kind, exc_info=error))
        self._open: dict[str, OpenWorld] = {}
        self._past: dict[tuple[str, int], OpenWorld] = {}
        self._lock = threading.Lock()

    def close(self) -> None:
        self.jobs.close()
        self.store.engine.dispose()
        self._guard.close()

    def healthy(self) -> bool:
        return answers(self.store.engine)

    # Worlds

    def world(self, world_id: str) -> OpenWorld:
        """The open world; opened from the store when it is not. Raises NotFound."""
        with self._lock:
            found = self._open.get(world_id)
            if found is None:
                found = self._open[world_id] = OpenWorld(self.store, world_id)
                found.listen(partial(self._hear, world_id))
            return found

    def _hear(self, world_id: str, event: Event) -> None:
        if isinstance(event, Revised):
            self.mind_logbook(world_id, event.number)

    def tract(self, tract_id: str) -> tuple[OpenWorld, Tract]:
        with self._lock:
            for world in self._open.values():
                if tract_id in world.tracts:
                    return world, world.tracts[tract_id]
        world = self.world(self.store.world_of_tract(tract_id))
        return world, world.tract(tract_id)

    def worlds(self) -> Iterator[OpenWorld]:
        """Every world, the one changed last first."""
        for row in self.store.list_worlds():
            yield self.world(row.id)

    def changed_at(self, world_id: str) -> str:
        return self.store.world(world_id).changed_at

    def create(
        self,
        spec: WorldSpec,
        rows: Iterable[tuple[str, str, Row]] | None = None,
        heights: FloatArray | None = None,
        job: Job | None = None,
    ) -> str:
        """Make a world on level ground, or on `heights` of the spec's shape; returns its id."""
        grid = Grid.from_extent(spec.width_m, spec.depth_m, spec.spacing_m)
        world_id, tract_id = new_id("w"), new_id("t")
        tract = TractRow(tract_id, world_id, 0, "Main tract", grid.rows, grid.cols, grid.spacing, spec.elevation_m)
        first = default_rows(spec.name, spec.sea_level_m) if rows is None else rows

        def tiles() -> Iterator[tuple[TileAt, Tile]]:
            if heights is None:
                return
            places = list(grid.window.tiles())
            for number, (tile_row, tile_col) in enumerate(places):
                if job:
                    job.step(0.5 + 0.45 * number / len(places), "Storing the ground")
                part = heights[grid.tile_window(tile_row, tile_col).inside(grid.window)]
                yield TileAt(tract_id, HEIGHT, tile_row, tile_col), packed(np.ascontiguousarray(part))

        bodies = [(collection, key, row.model_dump_json()) for collection, key, row in first]
        self.store.create(NewWorld(world_id, [tract], bodies, tiles()))
        return world_id

    def delete(self, world_id: str) -> None:
        """Delete a world and its packages, for good."""
        world = self.world(world_id)
        with world.lock:
            self.store.delete(world_id)
            world.close()
        with self._lock:
            self._open.pop(world_id, None)
            for key in [key for key in self._past if key[0] == world_id]:
                del self._past[key]
        for package in (self.data / "packages").glob(f"{world_id}-*"):
            package.unlink(missing_ok=True)

    def start_import(self, upload: Path, name: str, wanted: Wanted, sea_level_m: float = 0.0) -> Job:
        """Make a world from an elevation file, which is deleted afterwards; the job's result is {world}."""

        def work(job: Job) -> dict[str, Any]:
            try:
                job.step(0.05, "Reading the file")
                elevation = read_elevation(
                    upload, wanted, lambda done: job.step(0.05 + 0.45 * done, "Reading the file")
                )
                job.step(0.5, "Storing the ground")
                rows, cols = elevation.heights.shape
                spec = WorldSpec(
                    name=name,
                    width_m=(cols - 1) * elevation.spacing_m,
                    depth_m=(rows - 1) * elevation.spacing_m,
                    spacing_m=elevation.spacing_m,
                    elevation_m=float(np.clip(elevation.heights.min(), -12_000, 12_000)),
                    sea_level_m=sea_level_m,
                )
                return {"world": self.create(spec, heights=elevation.heights, job=job)}
            finally:
                upload.unlink(missing_ok=True)

        return self.jobs.start("import", work)

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
            found = OpenWorld(self.store, world_id, at=number)
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
            self.jobs.start("fold", lambda job: {"runs": self.fold(world_id)}, world_id)

    # Areas

    def reset(self, tract_id: str, command: Reset) -> Outcome:
        """Bring an area back to the base, to a revision, or to an elevation."""
        world, tract = self.tract(tract_id)
        number = 0 if command.to == "base" else command.revision
        return reset(world, tract, command, None if number is None else self.past(world.id, number))

    def start_weather(self, tract_id: str, command: Weather) -> Job:
        """Weather an area beside the rest; the job's result is the outcome."""
        world, tract = self.tract(tract_id)
        check_open(world.sheets(), command.sheet)
        window = window_of(world, tract.grid, command)
        return self.jobs.start("weather", lambda job: weather(world, tract, command, window, job), world.id)

    def start_making(self, tract_id: str, command: MakeLand) -> Job:
        """Make land from a recipe beside the rest; the job's result is the outcome."""
        world, tract = self.tract(tract_id)
        region(world, tract, command.recipe)
        return self.jobs.start("make land", lambda job: make_land(world, tract, command, job), world.id)

    # Handover

    def start_handover(self, world_id: str) -> Job:
        """Write the package of a world as it is now; the job's result is {revision, file}."""
        self.world(world_id)

        def work(job: Job) -> dict[str, Any]:
            with self.store.reading() as snapshot:
                world = OpenWorld(self.store, world_id, snapshot)
                name = f"{world_id}-r{world.revision}.zip"
                path = self.data / "packages" / name
                write_package(world, path, job.step)
            self.store.set_package(world_id, world.revision, name)
            for old in (self.data / "packages").glob(f"{world_id}-*.zip"):
                if old.name != name:
                    old.unlink(missing_ok=True)
            return {"revision": world.revision, "file": f"/api/worlds/{world_id}/handover.zip"}

        return self.jobs.start("handover", work, world_id)

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

    def copy_package(self, world_id: str, to: Path) -> None:
        shutil.copyfile(self.package(world_id)[2], to)

    # Checks

    def check(self, world_id: str) -> list[Finding]:
        """What the checks find in a world, and whether its package is older than it."""
        world = self.world(world_id)
        found = run_checks(survey(world))
        package = self.store.package(world_id)
        if package is not None and package[0] < world.revision:
            words = f"The package was made from r{package[0]}; the world is at r{world.revision}."
            found.append(Finding("package age", words, "Hand the world over again.", False))
        return found
