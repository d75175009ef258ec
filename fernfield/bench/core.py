"""Brushes, relief, shadows and pictures, beside copies of the same posts and gdaldem."""

from __future__ import annotations

import io
import random
import shutil
import subprocess
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image

from fernfield.bench import Plan, Row, row
from fernfield.core.brush.brush import Touch
from fernfield.core.brush.pressing import Laying
from fernfield.core.brush.tips import tip
from fernfield.core.cover.shares import compose_colours
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.grid import Array, ByteArray, FloatArray
from fernfield.core.ground.frost import NO_WEIGHTS, frost
from fernfield.core.ground.rain import Rain
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.landforms import LANDFORMS
from fernfield.core.landforms.landform import Ground
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.light.relief import relief
from fernfield.core.light.shadow import sunlit
from fernfield.core.settings import Values
from fernfield.core.travel.passable import passable
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.formats.asc import asc_lines
from fernfield.work.ground.room import WEATHER
from fernfield.work.ground.weathering import rain_over
from fernfield.work.kernel.jobs import Job

Lay = Callable[[Laying], None]

RADIUS = 64
RADII = (16, RADIUS, 256)
AIMS = {"raise": 3, "lower": 3, "flatten": 3, "smooth": 12, "roughen": 100}
"""Aims at a radius of 64 posts, in copies of the window."""

DROPS = 100_000
PASSES = 20
BEARINGS = (0, 45, 90, 135, 180, 225, 270, 300)


def land(side: int) -> FloatArray:
    """Hills of a few octaves, from a seed. [m]"""
    rng = np.random.default_rng(1)
    out = np.zeros((side, side), np.float32)
    for octave in range(5):
        coarse = rng.normal(0, 40 / 2**octave, (4 * 2**octave + 1,) * 2).astype(np.float32)
        out += np.asarray(Image.fromarray(coarse).resize((side, side), Image.Resampling.BICUBIC))
    return out


def _middles(heights: FloatArray, reach: int) -> Iterator[tuple[int, int]]:
    """A new place for each dab, so that neither side finds its posts in the processor's cache."""
    rng = random.Random(3)
    rows, cols = heights.shape
    while True:
        yield rng.randrange(reach, rows - reach), rng.randrange(reach, cols - reach)


def rows(plan: Plan) -> Iterator[Row]:
    if plan.large != 1025:
        heights = land(1025)
        for name in AIMS:
            yield _dab(name, RADIUS, heights, plan)
    heights = land(plan.large)
    for radius in RADII:
        for name in (*AIMS, "weather"):
            yield _dab(name, radius, heights, plan)
    yield from _laid(heights, plan)
    yield from _weather(plan)
    yield from _made(plan)
    out = np.empty_like(heights)
    grid = f"{plan.large:,}²"
    yield row(
        f"relief shading of {grid}", "a copy of it", "3 copies",
        lambda: relief(heights, 1.0, 315, 35), lambda: np.copyto(out, heights), plan.runs,
    )  # fmt: skip
    for bearing in BEARINGS:
        yield row(
            f"shadows of {grid}, sun at {bearing}°", "a copy of it", "10 copies",
            partial(sunlit, heights, 1.0, bearing, 25), lambda: np.copyto(out, heights), max(5, plan.runs // 3),
        )  # fmt: skip
    dry = np.full_like(heights, -1e4)
    gaits = WALKERS[WALKER], WALKERS["cart"]
    for gait, times in zip(gaits, ("20 million posts/s", "–"), strict=True):
        yield row(
            f"what {grid} posts of bare land cost {gait.label.lower()} to leave", "a copy of the land", times,
            partial(passable, heights, 1.0, gait, water=dry), lambda: np.copyto(out, heights), max(5, plan.runs // 3),
        )  # fmt: skip
    yield from _gdal(heights, grid)
    yield _patch(plan)


def _dab(name: str, radius: int, heights: FloatArray, plan: Plan) -> Row:
    """One dab of a plain round brush, as the open tract makes it: on the tract's own posts, or on a copy."""
    tool = GROUND_TOOLS[name]
    halo = tool.halo(radius)
    middle = _middles(heights, radius + halo)
    buffer = np.empty((2 * radius + 1, 2 * radius + 1), np.float32)
    reach = radius + halo
    alone = tool.quick is not None and halo == 0

    def copy() -> None:
        r, c = next(middle)
        np.copyto(buffer, heights[r - radius : r + radius + 1, c - radius : c + radius + 1])

    def dab() -> None:
        r, c = next(middle)
        if alone:
            tool.apply(heights, Touch(r, c, radius, 0.6, 0.01), 5.0)
            return
        # A tool that reads beyond the brush, or works on any form, works on a copy, as in the open tract.
        wide = heights[r - reach : r + reach + 1, c - reach : c + reach + 1].copy()
        tool.apply(wide, Touch(reach, reach, radius, 0.6, 0.01), 5.0)
        inner = slice(halo, halo + 2 * radius + 1)
        heights[r - radius : r + radius + 1, c - radius : c + radius + 1] = wide[inner, inner]

    aim = f"{AIMS[name]} copies" if radius == RADIUS and name in AIMS else "–"
    return row(
        f"{name}, radius {radius} posts, on {heights.shape[0]:,}²", "a copy of the window", aim,
        dab, copy, plan.runs, inner=max(2, 100 * 16 // radius),
    )  # fmt: skip


def _laid(heights: FloatArray, plan: Plan) -> Iterator[Row]:
    """Tools that lay a whole path: as often as the pointer moves, from the ground as it was."""
    side = 2 * 256 + 1
    window = heights[300 : 300 + side, 300 : 300 + side].copy()
    out = np.empty_like(window)
    curve = np.array([(256 + 120 * np.sin(t / 9), 60 + 8 * t) for t in range(50)], np.float32)
    image = tip("ridge")
    for name, path, words in (("grade", curve, "a curve of 400 posts"), ("imprint", curve[-1:], "256 posts wide")):
        tool = GROUND_TOOLS[name]
        lay = tool.lay
        assert lay is not None
        values = {**tool.first, "image": image, "size_m": 256.0, "turn_deg": 20.0}
        low, high = float(window.min()), float(window.max())
        level = (low + high) / 2

        def work(lay: Lay = lay, path: FloatArray = path, values: Values = values, level: float = level) -> None:
            lay(Laying(window.copy(), path, 1.0, values, level, level + 8))

        yield row(
            f"{name}, {words}, on {side}²", "a copy of the window", "–", work, lambda: np.copyto(out, window), plan.runs
        )


def _made(plan: Plan) -> Iterator[Row]:
    """Land from a seed, beside SciPy's Gaussian filter of as many posts (where SciPy is installed)."""
    try:
        from scipy.ndimage import gaussian_filter
    except ImportError:
        return
    form = LANDFORMS["fells"]
    for side in (1025, plan.large) if plan.large != 1025 else (1025,):
        heights = land(side)
        line = np.arange(side, dtype=np.float64)
        x, y = np.meshgrid(line, line)

        def make(x: Array = x, y: Array = y, side: int = side) -> None:
            # Band by band, as the job does it.
            for first in range(0, side, 256):
                band = slice(first, first + 256)
                form.make(Ground(x[band], y[band], (side / 2, side / 2), side / 2, 3), form.first)

        def theirs(heights: FloatArray = heights) -> None:
            gaussian_filter(heights, 16.0)

        found = row("fells", "SciPy's Gaussian filter, sigma 16", "–", make, theirs, max(3, plan.runs // 8))
        rate = side * side / found.ours
        yield replace(found, work=f"fells from a seed on {side:,}²: {rate / 1e6:.2f} million posts a second")


def _weather(plan: Plan) -> Iterator[Row]:
    heights = land(1025)
    exact, out = heights.astype(np.float64), np.empty((1025, 1025), np.float64)
    seeds, job = iter(range(1, 10_000)), Job("bench", WEATHER)
    found = row(
        "rain", "a copy of it", "150,000 a second",
        lambda: rain_over(exact, 1.0, DROPS, next(seeds), Rain(), NO_WEIGHTS, job, (0.0, 1.0)),
        lambda: np.copyto(out, exact), max(5, plan.runs // 3),
    )  # fmt: skip
    yield replace(found, work=f"rain on 1,025²: {DROPS:,} drops, {DROPS / found.ours:,.0f} a second")
    flat = np.empty_like(heights)

    def copies() -> None:
        for _ in range(PASSES):
            np.copyto(flat, heights)

    found = row(
        "frost", f"{PASSES} copies of it", "800 a second",
        lambda: frost(heights, 1.0, 34, PASSES), copies, plan.runs,
    )  # fmt: skip
    yield replace(found, work=f"frost on 1,025²: {PASSES} passes, {PASSES / found.ours:,.0f} a second")


def _patch(plan: Plan) -> Row:
    """Drawing the patch that a dab dirtied and packing it as raw pixels, as the page is sent it."""
    side = 2 * RADIUS + 5
    heights = land(side + 2)
    masks = [np.full((side, side), share, np.uint16) for share in (26_000, 9_000, 4_000)]
    colours = [(150, 160, 110), (120, 100, 80), (200, 180, 140), (160, 155, 146)]
    lit = np.full((side, side), 255, np.uint8)
    look, day = PlanLook(0.0, 2.0), Daylight(315, 32)

    def drawn() -> ByteArray:
        ground = compose_colours(masks, [None] * 3, colours, (side, side))
        return draw_plan(heights, 1.0, ground, daylight(heights, 1.0, lit, day), look)

    picture = drawn()

    def png() -> None:
        Image.fromarray(picture).save(io.BytesIO(), "PNG", compress_level=1)

    return row(
        f"render and pack the {side}² patch it dirtied", "encoding it as PNG, level 1", "1",
        lambda: drawn().tobytes(), png, plan.runs, inner=5,
    )  # fmt: skip


def _gdal(heights: FloatArray, grid: str) -> Iterator[Row]:
    if shutil.which("gdaldem") is None:
        return
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder, "land.asc"), Path(folder, "out.tif")
        with source.open("wb") as file:
            file.writelines(asc_lines(iter([heights]), heights.shape[0], heights.shape[1], 1.0))
        tif = Path(folder, "land.tif")
        subprocess.run(["gdal_translate", "-q", str(source), str(tif)], check=True)

        def theirs() -> None:
            subprocess.run(["gdaldem", "hillshade", "-q", str(tif), str(target)], check=True)

        yield row(
            f"relief shading of {grid}", "gdaldem hillshade, a process with its files", "0.1",
            lambda: relief(heights, 1.0, 315, 45), theirs, 5,
        )  # fmt: skip
