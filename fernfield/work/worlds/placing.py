"""Elevation files placed: as a world, as a tract, or pressed into the land; each as a job."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import numpy as np

from fernfield.core.grid import Grid
from fernfield.store.worlds import WorldStore
from fernfield.work.ground.areas import press_file
from fernfield.work.ground.commands import PressFile
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.worlds.beginnings import Ground, WorldSpec
from fernfield.work.worlds.intake import Incoming, Layout, Placing, Reading, Waiting, heights_of
from fernfield.work.worlds.tracts import TractSpec, put_tract


@dataclass(frozen=True)
class Placed:
    """A file that waits, how it is read, and how it is placed."""

    waiting: Waiting
    file: Incoming
    reading: Reading
    placing: Placing


@contextmanager
def _laid_out(job: Job, how: Placed) -> Iterator[tuple[Any, Layout]]:
    """Read a file, unless it was read already, and lay it out; it goes when what is done with it has been done.

    A file that was read before and looked at is kept when this fails, to be placed another way.
    """
    file = how.file
    looked_at = file.samples is not None
    try:
        samples = file.samples or how.waiting.read(file, how.reading, lambda done, words: job.step(0.3 * done, words))
        with heights_of(samples, how.placing, lambda d, words: job.step(0.3 + 0.25 * d, words)) as found:
            yield found
    except BaseException:
        if not looked_at:
            how.waiting.drop(file.id)
        raise
    how.waiting.drop(file.id)


def _spec_of(plan: Layout, heights: Any) -> dict[str, Any]:
    """Extent, spacing and base of land that comes from a file."""
    return {
        "width_m": (plan.cols - 1) * plan.spacing_m,
        "depth_m": (plan.rows - 1) * plan.spacing_m,
        "spacing_m": plan.spacing_m,
        "elevation_m": float(np.clip(heights[0, 0], -12_000, 12_000)),
    }


def _windows(grid: Grid, heights: Any) -> Ground:
    return lambda window: np.asarray(heights[window.inside(grid.window)], np.float32)


def _read(job: Job, waiting: Waiting, file: Incoming, reading: Reading) -> dict[str, Any]:
    return {"file": file.id, **waiting.read(file, reading, job.step).public()}


def _as_world(
    job: Job, how: Placed, make: Callable[[WorldSpec, Ground, Job], str], name: str, sea_level_m: float
) -> dict[str, Any]:
    with _laid_out(job, how) as (heights, plan):
        spec = WorldSpec(**_spec_of(plan, heights), name=name, sea_level_m=sea_level_m)
        return {"world": make(spec, _windows(spec.grid, heights), job)}


def _as_tract(
    job: Job, how: Placed, world: OpenWorld, store: WorldStore, name: str, x: float, y: float
) -> dict[str, Any]:
    with _laid_out(job, how) as (heights, plan):
        spec = TractSpec(**_spec_of(plan, heights), name=name, x=x, y=y)
        grid = Grid(plan.rows, plan.cols, plan.spacing_m)
        tract_id, outcome = put_tract(world, store, spec, grid, spec.elevation_m, _windows(grid, heights), job)
        return {"world": world.id, "tract": tract_id, "revision": outcome.revision}


def _pressed(job: Job, how: Placed, world: OpenWorld, tract: Tract, command: PressFile) -> dict[str, Any]:
    with _laid_out(job, how) as (heights, _plan):
        job.step(0.6, "Pressing it into the land")
        outcome = press_file(world, tract, command, heights)
        return {"revision": outcome.revision, "cut_m3": outcome.cut_m3, "fill_m3": outcome.fill_m3}


READ = JobKind("read", "Reading the file", _read, card="files/job_read.html")
IMPORT = JobKind("import", "Making the world", _as_world, card="worlds/job_world.html")
IMPORT_TRACT = JobKind("import tract", "Making the tract", _as_tract, card="worlds/job_entered.html")
PRESS = JobKind("press", "Pressing the file in", _pressed)
