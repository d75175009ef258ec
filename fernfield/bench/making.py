"""Making land: files in, previews, a proof, and dabs over a join, beside libraries that do the plain part of it."""

from __future__ import annotations

import itertools
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.bench.core import RADIUS, land
from fernfield.core.brush.pace import FINE_STEP_S, Sample
from fernfield.core.travel.enclosure import enclosed
from fernfield.formats.source import Said
from fernfield.web.kernel.pictures import land_png
from fernfield.work.ground.making import preview
from fernfield.work.ground.rows import Landscape, Recipe
from fernfield.work.strokes import StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.intake import Placing, heights_of, read_samples
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec

MIXED = Recipe(
    seed=4, blend_m=120, landscapes=tuple(Landscape(name=n, patch_m=700) for n in ("moor", "fells", "fen", "crags"))
)


def rows(plan: Plan) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder) / "data")
        yield from _files(studio, Path(folder), plan)
        yield _preview(studio, plan)
        yield _proof(plan)
        yield _across(studio, plan)
        studio.close()


def _files(studio: Studio, folder: Path, plan: Plan) -> Iterator[Row]:
    import tifffile

    side = plan.large
    path = folder / "land.tif"
    tags = [(33550, "d", 3, (1.0, 1.0, 0.0), True), (33922, "d", 6, (0, 0, 0, 5e5, 4e6, 0.0), True)]
    tifffile.imwrite(path, land(side), tile=(256, 256), compression="zlib", extratags=tags)
    runs = max(3, plan.runs // 6)
    numbers = itertools.count()

    def theirs() -> None:
        tifffile.imread(path)

    def read() -> None:
        to = folder / f"{next(numbers)}.f32"
        read_samples(path, Said(), to)
        to.unlink()

    def bring_in() -> None:
        to = folder / f"{next(numbers)}.f32"
        samples = read_samples(path, Said(), to)
        with heights_of(samples, Placing()) as (heights, at):
            metres = (at.cols - 1) * at.spacing_m
            spec = WorldSpec(name="Bench", width_m=metres, depth_m=metres, spacing_m=at.spacing_m)
            world = studio.create(spec, heights=lambda window: np.asarray(heights[window.inside(spec.grid.window)]))
        to.unlink()
        studio.delete(world)
        studio.destroy(world)

    alone = "reading it with tifffile alone"
    yield row(f"a GeoTIFF of {side:,}² read into samples and counted", alone, "–", read, theirs, runs)
    yield row(f"a GeoTIFF of {side:,}² brought in as a world, on the disk", alone, "–", bring_in, theirs, runs)


def _preview(studio: Studio, plan: Plan) -> Row:
    from scipy.ndimage import gaussian_filter

    side = plan.large - 1
    spec = WorldSpec(name="Preview", width_m=side, depth_m=side, spacing_m=1)
    world = studio.world(studio.create(spec))
    tract = world.first_tract

    def ours() -> None:
        heights, metres = preview(world, tract, MIXED)
        land_png(heights, metres, world)

    grid = np.zeros((220, 220), np.float32)
    return row(
        f"preview of four landscapes on {plan.large:,}², as PNG", "SciPy's Gaussian filter of its 220², sigma 16",
        "1 s", ours, lambda: gaussian_filter(grid, 16.0), plan.runs,
    )  # fmt: skip


def _proof(plan: Plan) -> Row:
    from scipy.ndimage import label

    heights = land(plan.large)
    middle = [(plan.large // 2, plan.large // 2)]
    dry = heights > np.median(heights)
    return row(
        f"flooding {plan.large:,}² with walkers, to prove a boundary", "SciPy's labelling of it", "–",
        lambda: enclosed(heights, 1.0, -99.0, middle), lambda: label(dry), max(3, plan.runs // 6),
    )  # fmt: skip


def _across(studio: Studio, plan: Plan) -> Row:
    spec = WorldSpec(name="Joined", width_m=1024, depth_m=1024, spacing_m=1)
    world = studio.world(studio.create(spec))
    west = world.first_tract.row.id
    east, _ = studio.add_tract(world.id, TractSpec(name="East", x=1024, width_m=1024, depth_m=1024, spacing_m=1))
    join(world, JoinTracts(first=west, second=east))
    start = StrokeStart(tool="raise", radius_m=RADIUS, softness=0.6, strength=5)
    over, inside = world.begin_stroke(west, start), world.begin_stroke(east, start)
    times = iter(itertools.count())

    def across() -> None:
        over.add([Sample(1024, 500, next(times) * FINE_STEP_S)])

    def within() -> None:
        inside.add([Sample(512, 500, next(times) * FINE_STEP_S)])

    within()
    found = row(f"one dab of radius {RADIUS} over a join", "one inside a tract", "–", across, within, plan.runs * 4)
    world.abandon_stroke(over)
    world.abandon_stroke(inside)
    return found
