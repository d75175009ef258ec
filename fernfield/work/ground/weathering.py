"""Weathering an area as a job: on copies of the ground, so that a job that stops leaves nothing behind."""

from __future__ import annotations

import math
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.frost import (
    NO_WEIGHTS,
    ROUNDS,
    SHARE,
    TOGETHER,
    around,
    bands_of,
    frost_band,
    slump_in_place,
)
from fernfield.core.ground.rain import Rain, Shower, rain_on, reach_of, showers
from fernfield.work.ground.areas import weathered
from fernfield.work.ground.commands import Weather
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.windows import let_go, over, rows_of, scratch
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import share_of

MOST_SLUMPED = 8_193 * 8_193
"""On more posts than this only fine passes are made: the coarser ones need the whole in memory."""


def weather(job: Job, world: OpenWorld, tract: Tract, command: Weather, window: Window) -> dict[str, Any]:
    """Weather `window` and write it as one revision; returns the outcome as the API shows it."""
    land = world.land_from(tract.row.id)
    with scratch(window.shape, np.float32) as before:
        for part in rows_of(window):
            job.step(0.02 * (part.row0 - window.row0) / window.rows, "Reading the ground")
            with world.lock:
                before[part.inside(window)] = land.read(HEIGHT, part)
            let_go(before)
        whole = command.whole
        shares = None if whole else share_of(world, land, command, window, command.feather_m)
        if command.kind == "frost":
            outcome = _frost(world, tract, command, window, before, shares, job)
        else:
            outcome = _rain(world, tract, command, window, before, shares, job)
    return outcome.public()


def _writing(job: Job, done: float) -> None:
    job.step(0.93 + 0.06 * done, "Writing the ground")


def _frost(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, shares: FloatArray | None, job: Job
) -> Outcome:
    weights = NO_WEIGHTS if shares is None else shares
    with scratch(window.shape, np.float32) as now:
        for part in rows_of(Window(0, 0, *window.shape)):
            now[part.row0 : part.row1] = before[part.row0 : part.row1]
            let_go(before)
            let_go(now)
        frost_in_place(now, tract.grid.spacing, command.repose_deg, command.passes, weights, job, (0.02, 0.92))
        return weathered(world, tract, command, window, before, now, partial(_writing, job))


def frost_in_place(
    heights: Any, spacing: float, repose_deg: float, passes: int, weights: FloatArray, job: Job,
    part: tuple[float, float],
) -> None:  # fmt: skip
    """Frost on `heights` (modified): rounds of coarser passes and of fine ones, `passes` of these in all.

    `part` is the stretch of the job's progress that this takes.
    """
    drop = math.tan(math.radians(repose_deg)) * spacing
    bands = [Window(first, 0, last, heights.shape[1]) for first, last in bands_of(heights.shape[0])]
    rounds = [passes // ROUNDS + (1 if k < passes % ROUNDS else 0) for k in range(ROUNDS)]
    done = 0
    with scratch(heights.shape, np.float32) as other:
        now, after = heights, other
        for fine in rounds:
            if fine and heights.size <= MOST_SLUMPED:
                job.step(part[0] + (part[1] - part[0]) * done / passes, "Frost: the coarse of it")
                slump_in_place(now, spacing, repose_deg, fine, weights, partial(let_go, now))
            for first in range(0, fine, TOGETHER):
                count = min(TOGETHER, fine - first)

                def give(band: Window, now: Any = now, count: int = count) -> tuple[Any, ...]:
                    return (*around(now, (band.row0, band.row1), count, weights), count, drop, SHARE)

                share = [part[0] + (part[1] - part[0]) * n / passes for n in (done, done + count)]
                words = f"Frost: pass {done + 1} of {passes}"
                for band, made in over(
                    bands, give, frost_band, crew=job.crew, job=job, words=words, part=(share[0], share[1])
                ):
                    after[band.row0 : band.row1] = made
                    let_go(now)
                    let_go(after)
                now, after = after, now
                done += count
        for rows in rows_of(Window(0, 0, *heights.shape)) if now is not heights else ():
            heights[rows.row0 : rows.row1] = now[rows.row0 : rows.row1]
            let_go(now)
            let_go(heights)


def _rain(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, shares: FloatArray | None, job: Job
) -> Outcome:
    drops = max(1, round(window.rows * window.cols * tract.grid.spacing**2 * command.drops_per_m2))
    rain = replace(Rain(), capacity=command.capacity, inertia=command.inertia)
    with scratch(window.shape, np.float64) as exact:
        for part in rows_of(Window(0, 0, *window.shape)):
            exact[part.row0 : part.row1] = before[part.row0 : part.row1]
            let_go(before)
            let_go(exact)
        rain_over(exact, tract.grid.spacing, drops, command.seed, rain, shares, job, (0.02, 0.92))
        return weathered(world, tract, command, window, before, exact, partial(_writing, job))


def rain_over(
    heights: Any, spacing: float, drops: int, seed: int, rain: Rain, weights: FloatArray | None, job: Job,
    part: tuple[float, float],
) -> None:  # fmt: skip
    """Rain on `heights` (modified, float64), block by block. `part` is the stretch of the job's progress."""
    if min(heights.shape) < 3:
        return
    whole, reach, fallen = Window(0, 0, *heights.shape), reach_of(rain), 0
    for turn in showers(heights.shape[0], heights.shape[1], drops, seed, rain):
        sizes = {shower.block: shower for shower in turn}
        around_it = {block: block.pad(reach).meet(whole) for block in sizes}

        def give(
            block: Window, sizes: dict[Window, Shower] = sizes, around_it: dict[Window, Window] = around_it
        ) -> tuple[Any, ...]:
            wide, shower = around_it[block], sizes[block]
            box = wide.inside(whole)
            inner = block.shifted(-wide.row0, -wide.col0)
            held = None if weights is None else np.ascontiguousarray(weights[box])
            ground = np.array(heights[box], np.float64, order="C")
            return ground, held, spacing, shower.drops, shower.seed, rain, (
                inner.row0, inner.row1, inner.col0, inner.col1
            )  # fmt: skip

        there = part[0] + (part[1] - part[0]) * fallen / max(drops, 1)
        fallen += sum(shower.drops for shower in turn)
        until = part[0] + (part[1] - part[0]) * fallen / max(drops, 1)
        words = f"Rain: {fallen:,} of {drops:,} drops"
        for block, made in over(list(sizes), give, rain_on, crew=job.crew, job=job, words=words, part=(there, until)):
            heights[around_it[block].inside(whole)] = made
        let_go(heights)
