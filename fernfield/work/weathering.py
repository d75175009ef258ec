"""Weathering an area as a job: on copies of the ground, so that a job that stops leaves nothing behind."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.frost import NO_WEIGHTS, SHARE, THREADS, TOGETHER, bands_of, frost_band
from fernfield.core.ground.rain import Rain, rain_in_place
from fernfield.work.areas import share_of, weathered
from fernfield.work.commands import Weather
from fernfield.work.jobs import Job
from fernfield.work.layers import HEIGHT
from fernfield.work.world import OpenWorld, Outcome, Tract

MOST_IN_MEMORY = 64 << 20
"""Larger arrays than this live in a file, which the system pages in and out. [bytes]"""

DROPS_AT_ONCE = 20_000
"""Drops between two looks at whether the job should stop."""

ROWS_AT_ONCE = 256
BANDS_AT_ONCE = 16
"""Bands of frost between two looks at whether the job should stop."""


@contextmanager
def scratch(shape: tuple[int, int], dtype: Any) -> Iterator[Any]:
    """An array to work in, in memory or in a file that goes when it is done with."""
    if shape[0] * shape[1] * np.dtype(dtype).itemsize <= MOST_IN_MEMORY:
        yield np.empty(shape, dtype)
        return
    with tempfile.TemporaryFile() as file:
        yield np.memmap(file, dtype, "w+", shape=shape)


def weather(world: OpenWorld, tract: Tract, command: Weather, window: Window, job: Job) -> dict[str, Any]:
    """Weather `window` and write it as one revision; returns the outcome as the API shows it."""
    with scratch(window.shape, np.float32) as before:
        for row in range(0, window.rows, ROWS_AT_ONCE):
            job.step(0.02 * row / window.rows, "Reading the ground")
            part = Window(
                window.row0 + row, window.col0, min(window.row0 + row + ROWS_AT_ONCE, window.row1), window.col1
            )
            with world.lock:
                before[part.inside(window)] = tract.cache.read(HEIGHT, part)
        whole = command.plot is None and command.box is None
        shares = None if whole else share_of(world, tract.grid, command, window, command.feather_m)
        if command.kind == "frost":
            outcome = _frost(world, tract, command, window, before, shares, job)
        else:
            outcome = _rain(world, tract, command, window, before, shares, job)
    return {
        "revision": outcome.revision,
        "window": outcome.window.as_list(),
        "cut_m3": outcome.cut_m3,
        "fill_m3": outcome.fill_m3,
    }


def _frost(
    world: OpenWorld, tract: Tract, command: Weather, window: Window, before: Any, shares: FloatArray | None, job: Job
) -> Outcome:
    drop = math.tan(math.radians(command.repose_deg)) * tract.grid.spacing
    weights = NO_WEIGHTS if shares is None else shares
    bands = bands_of(window.rows)
    with scratch(window.shape, np.float32) as one, scratch(window.shape, np.float32) as two:
        now, after = one, two
        now[...] = before
        with ThreadPoolExecutor(THREADS) as pool:
            for done in range(0, command.passes, TOGETHER):
                count = min(TOGETHER, command.passes - done)
                for first in range(0, len(bands), BANDS_AT_ONCE):
                    words = f"Frost: pass {done + 1} of {command.passes}"
                    job.step(0.02 + 0.9 * (done + count * first / len(bands)) / command.passes, words)
                    parts = bands[first : first + BANDS_AT_ONCE]
                    for part in [
                        pool.submit(frost_band, now, after, rows, count, drop, SHARE, weights) for rows in parts
                    ]:
                        part.result()
                now, after = after, now
        job.step(0.93, "Writing the ground")
        return weathered(world, tract, command, window, before, now)


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
