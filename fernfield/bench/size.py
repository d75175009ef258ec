"""What must not grow with the land: seen from afar, strokes under coarser levels, work on the whole, more workers."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.bench.core import RADIUS, land
from fernfield.bench.whole import WAYS
from fernfield.core.brush.pace import Sample
from fernfield.core.grid import FloatArray, Window
from fernfield.core.overview import MEAN
from fernfield.store.overviews import OverviewStore
from fernfield.work.ground.making import land_in
from fernfield.work.ground.rows import Landscape, Recipe
from fernfield.work.kernel.crew import processes
from fernfield.work.kernel.windows import over, rows_of
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import levels
from fernfield.work.strokes import StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

PICTURE = 1_024
"""Pixels along the side of the first picture."""


def rows(plan: Plan) -> Iterator[Row]:
    quick = plan.large < 4_097
    with tempfile.TemporaryDirectory() as folder:
        with closing(Studio(Path(folder) / "data")) as studio:
            for side in (2_049, 4_097) if quick else (8_193, 16_385):
                yield _cold(studio, side, plan)
            yield _levels(studio, plan)
        yield from _whole(Path(folder), 2_049 if quick else 8_193)
        yield _workers(plan)


def _rolling(side: int) -> Any:
    """Land of any size from one tile of it, turned over at its edges."""
    one = land(1_025)[:1_024, :1_024]
    both = np.concatenate([one, one[::-1]])
    period = np.concatenate([both, both[:, ::-1]], axis=1)

    def heights(window: Window) -> FloatArray:
        r, c = (np.arange(a, b) % 2_048 for a, b in ((window.row0, window.row1), (window.col0, window.col1)))
        return np.asarray(period[np.ix_(r, c)])

    return heights


def _cold(studio: Studio, side: int, plan: Plan) -> Row:
    """Opening a world, the plan of all of it, and its histogram."""
    spec = WorldSpec(name="Cold", width_m=side - 1, depth_m=side - 1, spacing_m=1)
    world_id = studio.create(spec, heights=_rolling(side))
    level = (side // PICTURE).bit_length() - 1
    store = OverviewStore(studio.store.engine)
    tract = OpenWorld(studio.house, studio.store, world_id).first_tract
    tiles = tract.overviews.whole(level - 1)
    box = Window(0, 0, -(-tiles.rows // 64), -(-tiles.cols // 64))

    def ours() -> None:
        world = OpenWorld(studio.house, studio.store, world_id)
        whole = world.first_land
        plan_pixels(world, whole, level, Window(0, 0, PICTURE + 1, PICTURE + 1), Show(contour_m="auto"))
        levels(world, whole, whole.bounds)

    return row(
        f"first picture ({PICTURE:,}²) and histogram of a cold world of {side:,}²",
        "reading the stored levels that it needs", "0.3 s", ours,
        lambda: store.some(tract.row.id, "height", MEAN.name, level - 1, box), max(5, plan.runs // 4),
    )  # fmt: skip


def _levels(studio: Studio, plan: Plan) -> Row:
    """A committed stroke where four tiles meet, with the levels above it and without."""
    heights, spec = _rolling(2_049), WorldSpec(name="Levels", width_m=2_048, depth_m=2_048, spacing_m=1)
    with_them, without = (studio.world(studio.create(spec, heights=heights)) for _ in range(2))
    without.first_tract.overviews.ready = False
    start = StrokeStart(tool="raise", radius_m=RADIUS, softness=0.6, strength=5)

    def stroke(world: OpenWorld) -> None:
        run = world.begin_stroke(world.first_tract.row.id, start)
        world.extend_stroke(run, [Sample(512, 512, t / 60) for t in range(3)])
        world.finish_stroke(run)

    return row(
        "a stroke of 0.1 s over four tiles, with its overviews", "the same without", "1.15",
        lambda: stroke(with_them), lambda: stroke(without), plan.runs,
    )  # fmt: skip


def _whole(folder: Path, side: int) -> Iterator[Row]:
    command = [sys.executable, "-m", "fernfield.bench.whole", str(folder / "whole"), str(side)]
    found = json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)
    values = np.zeros((side, side), np.float32)
    other = np.empty_like(values)
    copied = row("", "", "", lambda: np.copyto(other, values), lambda: None, 5).ours
    for way in WAYS:
        seconds, most = found[way]
        words = f"{way}, {side:,}²: at most {most / (1 << 20):.0f} MiB more"
        yield Row(words, "a copy of it", seconds, copied, seconds / copied, "500 MiB")


def _workers(plan: Plan) -> Row:
    """Land from a seed by one process and by two."""
    recipe = Recipe(seed=4, landscapes=(Landscape(name="fells", patch_m=700),))
    whole = Window(0, 0, 1_025 if plan.large < 4_097 else 2_049, 2_049)

    def give(part: Window) -> tuple[Any, ...]:
        xs, ys = np.arange(part.col0, part.col1), np.arange(part.row0, part.row1)
        return recipe, xs, ys, (1_024.0, 1_024.0), 1_024.0

    crews = [processes(count) for count in (1, 2)]

    def made(number: int) -> None:
        for _part, _heights in over(rows_of(whole, 64), give, land_in, crew=crews[number]):
            pass

    for number in range(2):
        made(number)
    found = row(
        f"land from a seed on {whole.rows:,} by {whole.cols:,}, by one process", "by two processes", "1.7",
        lambda: made(0), lambda: made(1), 3,
    )  # fmt: skip
    for crew in crews:
        crew.close()
    return found
