"""Weathering an area as a job: on copies of the ground, so that a job that stops leaves nothing behind."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.frost import (
    NO_WEIGHTS,
    ROUNDS,
    SHARE,
    THREADS,
    TOGETHER,
    bands_of,
    frost_band,
    slump_in_place,
)
from fernfield.core.ground.rain import Rain, rain_in_place
from fernfield.work.ground.areas import weathered
from fernfield.work.ground.commands import Weather
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.layers import HEIGHT
from fernfield.work.kernel.tracts import Tract
from fernfield.work.kernel.windows import ROWS_AT_ONCE, scratch
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import share_of

DROPS_AT_ONCE = 20_000
"""Drops between two looks at whether the job should stop."""

MOST_SLUMPED = 8_193 * 8_193
"""On more posts than this only fine passes are made: the coarser ones need the whole in memory."""

BANDS_AT_ONCE = 16
"""Bands of frost between two looks at whether the job should stop."""


def weather(job: Job, world: OpenWorld, tract: Tract, command: Weather, window: Window) -> dict[str, Any]:
    """Weather `window` and write it as one revision; returns the outcome as the API shows it."""
    land = world.land_from(tract.row.id)
    with scratch(window.shape, np.float32) as before:
        for row in range(0, window.rows, ROWS_AT_ONCE):
            job.step(0.02 * row / window.rows, "Reading the ground")
            part = Window(
                window.row0 + row, window.col0, min(window.row0 + row + ROWS_AT_ONCE, window.row1), window.col1
            )
            with world.lock:
                before[part.inside(window)] = land.read(HEIGHT, part)
        whole = command.whole
        shares = None if whole else share_of(world, land, command, window, command.feather_m)
        if command.kind == "frost":
            outcome = _frost(world, tract, command, window, before, shares, job)
        else:
            outcome = _rain(world, tract, command, window, before, shares, job)
    return outcome.public()


def _frost(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, shares: FloatArray | None, job: Job
) -> Outcome:
    weights = NO_WEIGHTS if shares is None else shares
    with scratch(window.shape, np.float32) as now:
        now[...] = before
        frost_in_place(now, tract.grid.spacing, command.repose_deg, command.passes, weights, job, (0.02, 0.92))
        job.step(0.93, "Writing the ground")
        return weathered(world, tract, command, window, before, now)


def frost_in_place(
    heights: Any, spacing: float, repose_deg: float, passes: int, weights: FloatArray, job: Job,
    part: tuple[float, float],
) -> None:  # fmt: skip
    """Frost on `heights` (modified): rounds of coarser passes and of fine ones, `passes` of these in all.

    `part` is the stretch of the job's progress that this takes.
    """
    drop = math.tan(math.radians(repose_deg)) * spacing
    bands = bands_of(heights.shape[0])
    rounds = [passes // ROUNDS + (1 if k < passes % ROUNDS else 0) for k in range(ROUNDS)]
    done = 0
    with scratch(heights.shape, np.float32) as other, ThreadPoolExecutor(THREADS) as pool:
        now, after = heights, other
        for fine in rounds:
            if fine and heights.size <= MOST_SLUMPED:
                job.step(part[0] + (part[1] - part[0]) * done / passes, "Frost: the coarse of it")
                slump_in_place(now, spacing, repose_deg, fine, weights)
            for first in range(0, fine, TOGETHER):
                count = min(TOGETHER, fine - first)
                for number in range(0, len(bands), BANDS_AT_ONCE):
                    share = (done + count * number / len(bands)) / passes
                    job.step(part[0] + (part[1] - part[0]) * share, f"Frost: pass {done + 1} of {passes}")
                    at_once = bands[number : number + BANDS_AT_ONCE]
                    for work in [
                        pool.submit(frost_band, now, after, rows, count, drop, SHARE, weights) for rows in at_once
                    ]:
                        work.result()
                now, after = after, now
                done += count
        if now is not heights:
            heights[...] = now


def _rain(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, shares: FloatArray | None, job: Job
) -> Outcome:
    drops = max(1, round(window.rows * window.cols * tract.grid.spacing**2 * command.drops_per_m2))
    rain = replace(Rain(), capacity=command.capacity, inertia=command.inertia)
    with scratch(window.shape, np.float64) as exact:
        exact[...] = before
        for number, first in enumerate(range(0, drops, DROPS_AT_ONCE)):
            job.step(0.02 + 0.9 * first / drops, f"Rain: {first:,} of {drops:,} drops")
            count = min(DROPS_AT_ONCE, drops - first)
            if min(window.shape) >= 3:
                rain_in_place(exact, tract.grid.spacing, count, command.seed * 104_729 + number, rain, weights=shares)
        job.step(0.93, "Writing the ground")
        return weathered(world, tract, command, window, before, exact)
