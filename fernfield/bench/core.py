"""Brushes, relief, shadows and pictures, beside copies of the same posts and gdaldem."""

from __future__ import annotations

import io
import random
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import numpy as np
from PIL import Image

from fernfield.bench import Plan, Row, row
from fernfield.core.cover.shares import compose_colours
from fernfield.core.drawing.plan import PlanLook, draw_plan
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.ground.brush import Touch
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.light.relief import relief
from fernfield.core.light.shadow import sunlit
from fernfield.formats.asc import asc_lines

RADIUS = 64
AIMS = {"raise": 3, "lower": 3, "flatten": 3, "smooth": 12}
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
    for side in (1025, plan.large) if plan.large != 1025 else (1025,):
        heights = land(side)
        for name, aim in AIMS.items():
            yield _dab(name, aim, heights, plan)
    heights = land(plan.large)
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
    yield from _gdal(heights, grid)
    yield _patch(plan)


def _dab(name: str, aim: int, heights: FloatArray, plan: Plan) -> Row:
    tool = GROUND_TOOLS[name]
    halo = tool.halo(RADIUS)
    middle = _middles(heights, RADIUS + halo)
    buffer = np.empty((2 * RADIUS + 1, 2 * RADIUS + 1), np.float32)

    def copy() -> None:
        r, c = next(middle)
        np.copyto(buffer, heights[r - RADIUS : r + RADIUS + 1, c - RADIUS : c + RADIUS + 1])

    def dab() -> None:
        r, c = next(middle)
        if halo == 0:
            tool.apply(heights, Touch(r, c, RADIUS, 0.6, 0.01), 5.0)
            return
        # A tool that reads beyond the brush works on a copy, as in the open tract.
        reach = RADIUS + halo
        wide = heights[r - reach : r + reach + 1, c - reach : c + reach + 1].copy()
        tool.apply(wide, Touch(reach, reach, RADIUS, 0.6, 0.01), 5.0)
        heights[r - RADIUS : r + RADIUS + 1, c - RADIUS : c + RADIUS + 1] = wide[halo:-halo, halo:-halo]

    return row(
        f"{name}, radius {RADIUS} posts, on {heights.shape[0]:,}²", "a copy of the window", f"{aim} copies",
        dab, copy, plan.runs, inner=100,
    )  # fmt: skip


def _patch(plan: Plan) -> Row:
    """Drawing the patch that a dab dirtied and packing it as raw pixels, as the page is sent it."""
    side = 2 * RADIUS + 5
    heights = land(side + 2)
    masks = [np.full((side, side), share, np.uint16) for share in (26_000, 9_000, 4_000)]
    colours = [(150, 160, 110), (120, 100, 80), (200, 180, 140), (160, 155, 146)]
    lit = np.full((side, side), 255, np.uint8)
    look = PlanLook(315, 32, 0.0, 2.0)

    def drawn() -> ByteArray:
        ground = compose_colours(masks, [None] * 3, colours, (side, side))
        return draw_plan(heights, 1.0, ground, lit, look)

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
