"""Weathering an area as a job: on copies of the ground, so that a job that stops leaves nothing behind."""

from __future__ import annotations

import math
from collections.abc import Callable
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
from fernfield.work.kernel.windows import let_go, over, rows_of, scratch, take_out
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.areas import share_of


def weather(job: Job, world: OpenWorld, tract: Tract, command: Weather, window: Window) -> dict[str, Any]:
    """Weather `window` and write it as one revision; returns the outcome as the API shows it."""
    land = world.land_from(tract.row.id)
    with scratch(window.shape, np.float32) as before:
        take_out(world.lock, partial(land.read, HEIGHT), window, before, job.step, "Reading the ground", (0.0, 0.02))
        with scratch((1, 1) if command.whole else window.shape, np.float32) as shares:
            for part in () if command.whole else rows_of(window):
                job.step(0.02, "Reading the area")
                shares[part.inside(window)] = share_of(world, land, command, part, command.feather_m)
                let_go(shares)
            work = _frost if command.kind == "frost" else _rain
            outcome = work(world, tract, command, window, before, NO_WEIGHTS if command.whole else shares, job)
    return dict(outcome.public())


def _writing(job: Job, done: float) -> None:
    job.step(0.93 + 0.06 * done, "Writing the ground")


def _frost(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, weights: Any, job: Job
) -> Outcome:
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
    rounds = [passes // ROUNDS + (1 if k < passes % ROUNDS else 0) for k in range(ROUNDS)]
    done = 0

    def share(count: int) -> float:
        return part[0] + (part[1] - part[0]) * count / passes

    def coarse(heights: Any, spacing: float, repose_deg: float, count: int, weights: FloatArray) -> None:
        words, so_far = "Frost: the coarse of it", (share(done), share(done))
        _fine(heights, spacing, repose_deg, count, weights, job, lambda _first: words, so_far)

    for fine in rounds:
        if fine:
            slump_in_place(
                heights, spacing, repose_deg, fine, weights,
                room=partial(scratch, dtype=np.float32), fine=coarse, let_go=let_go,
            )  # fmt: skip
        stretch = share(done), share(done + fine)
        _fine(heights, spacing, repose_deg, fine, weights, job, partial(_pass_words, done, passes), stretch)
        done += fine


def _pass_words(begun: int, passes: int, first: int) -> str:
    return f"Frost: pass {begun + first + 1} of {passes}"


def _fine(
    heights: Any, spacing: float, repose_deg: float, passes: int, weights: FloatArray, job: Job,
    words: Callable[[int], str], part: tuple[float, float],
) -> None:  # fmt: skip
    """Passes of frost on `heights` (modified), band by band, some at a time."""
    drop = math.tan(math.radians(repose_deg)) * spacing
    bands = [Window(first, 0, last, heights.shape[1]) for first, last in bands_of(heights.shape[0])]
    with scratch(heights.shape, np.float32) as other:
        now, after = heights, other
        for first in range(0, passes, TOGETHER):
            count = min(TOGETHER, passes - first)

            def give(band: Window, now: Any = now, count: int = count) -> tuple[Any, ...]:
                return (*around(now, (band.row0, band.row1), count, weights), count, drop, SHARE)

            stretch = [part[0] + (part[1] - part[0]) * n / passes for n in (first, first + count)]
            for band, made in over(
                bands, give, frost_band, crew=job.crew, say=job.step, words=words(first), part=(stretch[0], stretch[1])
            ):
                after[band.row0 : band.row1] = made
                let_go(now)
                let_go(after)
            now, after = after, now
        for rows in rows_of(Window(0, 0, *heights.shape)) if now is not heights else ():
            heights[rows.row0 : rows.row1] = now[rows.row0 : rows.row1]
            let_go(now)
            let_go(heights)


def _rain(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, weights: Any, job: Job
) -> Outcome:
    drops = max(1, round(window.rows * window.cols * tract.grid.spacing**2 * command.drops_per_m2))
    rain = replace(Rain(), capacity=command.capacity, inertia=command.inertia)
    with scratch(window.shape, np.float64) as exact:
        for part in rows_of(Window(0, 0, *window.shape)):
            exact[part.row0 : part.row1] = before[part.row0 : part.row1]
            let_go(before)
            let_go(exact)
        rain_over(exact, tract.grid.spacing, drops, command.seed, rain, weights, job, (0.02, 0.92))
        return weathered(world, tract, command, window, before, exact, partial(_writing, job))


def rain_over(
    heights: Any, spacing: float, drops: int, seed: int, rain: Rain, weights: FloatArray, job: Job,
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
            held = np.ascontiguousarray(weights[box]) if weights.shape[0] else None
            ground = np.array(heights[box], np.float64, order="C")
            return ground, held, spacing, shower.drops, shower.seed, rain, (
                inner.row0, inner.row1, inner.col0, inner.col1
            )  # fmt: skip

        there = part[0] + (part[1] - part[0]) * fallen / max(drops, 1)
        fallen += sum(shower.drops for shower in turn)
        until = part[0] + (part[1] - part[0]) * fallen / max(drops, 1)
        words = f"Rain: {fallen:,} of {drops:,} drops"
        for block, made in over(
            list(sizes), give, rain_on, crew=job.crew, say=job.step, words=words, part=(there, until)
        ):
            heights[around_it[block].inside(whole)] = made
        let_go(heights)
