"""How a land drains and what a hollow holds, beside a library that fills lands too."""

from __future__ import annotations

import itertools
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import cv2
import numpy as np

from fernfield.bench import Plan, Row, Task, row
from fernfield.core.grid import FloatArray
from fernfield.core.water.drainage import catchments, drain
from fernfield.core.water.streampower import Power, carved
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.drawing import draw_ground
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.studio import Studio
from fernfield.work.water.draining import stands_to
from fernfield.work.water.flowing import surface
from fernfield.work.water.hollows import PutPool, hollow_around, put_pool, told
from fernfield.work.water.rows import POOLS, Pool
from fernfield.work.water.running import way_down
from fernfield.work.water.streams import PutStream, drop_stream, look_at, put_stream
from fernfield.work.worlds.beginnings import WorldSpec


def rows(plan: Plan) -> Iterator[Row]:
    land = _land(plan.large)
    few = max(3, plan.runs // 8)
    yield row(f"hollows of {plan.large}² filled, and where they drain", *_filled_by_others(land), "a fifth",
              lambda: drain(land), _other(land), few)  # fmt: skip
    found = drain(land)
    yield row(f"catchments of {plan.large}²", "a copy of it", "20 million posts a second", lambda: catchments(found),
              land.copy, few)  # fmt: skip
    yield _stream_power(plan)
    yield from _worlds(plan)


def _stream_power(plan: Plan) -> Row:
    """A step of time of streams that cut while the land rises."""
    land, steps = _land(1_025), 4
    power = Power(0.0002, 5e-6, 0.45)
    made = row(f"stream power on 1,025²: {steps} steps", f"{steps} copies of it", "–",
               lambda: carved(land.copy(), 1.0, power, 40_000.0, steps, lambda done: None),
               lambda: [land.copy() for _ in range(steps)], max(3, plan.runs // 8))  # fmt: skip
    return replace(made, work=f"{made.work}, {steps / made.ours:.1f} a second")


def _land(side: int) -> FloatArray:
    """A land with hollows of all sizes, falling to one side. [m]"""
    noise = np.random.default_rng(1).normal(0, 1, (side, side)).astype(np.float32)
    rough = cv2.GaussianBlur(noise, (0, 0), 12) * 100 + cv2.GaussianBlur(noise, (0, 0), 3) * 4
    return np.asarray(rough + np.linspace(0, 40, side, dtype=np.float32)[None], np.float32)


def _filled_by_others(land: FloatArray) -> tuple[str]:
    return ("scikit-image's reconstruction" if _reconstruction() else "sorting it",)


def _reconstruction() -> Any:
    try:
        from skimage.morphology import reconstruction
    except ImportError:
        return None
    return reconstruction


def _other(land: FloatArray) -> Task:
    fill = _reconstruction()
    if fill is None:
        return lambda: np.sort(land, axis=None)
    seed = np.full_like(land, land.max())
    seed[0], seed[-1], seed[:, 0], seed[:, -1] = land[0], land[-1], land[:, 0], land[:, -1]
    return lambda: fill(seed, land, method="erosion", footprint=np.ones((3, 3)))


def _worlds(plan: Plan) -> Iterator[Row]:
    for side in (1_024, 8_192 if plan.large > 2_000 else 2_048):
        with tempfile.TemporaryDirectory() as folder:
            studio = Studio(Path(folder))
            try:
                yield from _in_world(studio, side, plan)
            finally:
                studio.close()


def _in_world(studio: Studio, side: int, plan: Plan) -> Iterator[Row]:
    """A click in a hollow of 300 m on a land, and the water around it after the ground changed."""
    world = studio.world(studio.create(WorldSpec(name="W", width_m=side, depth_m=side, spacing_m=1, elevation_m=10)))
    land, middle = world.first_land, side / 2
    _dig(world, land, middle)
    put_pool(world, "tarn", PutPool(name="Tarn", x=middle, y=middle, depth_m=5))
    window = land.around(middle, middle, 200)

    def read() -> object:
        with world.lock:
            return land.read("height", window)

    def click() -> object:
        return told(world, land, hollow_around(world, land, middle + 3, middle))

    levels = itertools.count()
    seen = 2 if side > 2_000 else 1

    def tried() -> object:
        # Another level each time, as it is dragged; what a screen shows of it.
        pool = Pool(
            name="?", x=middle, y=middle, level_m=world.row(POOLS, "tarn").level_m + 0.01 * (next(levels) % 100)
        )
        return stands_to(world, land, pool, land.around(middle, middle, 350 * seen), seen)

    def again() -> object:
        # A tile under it counts as written: the pool is looked for anew.
        cache = land.parts[0].tract.cache
        place = next(iter(key for key in cache.written))
        cache.written[place] += 1
        with world.lock:
            return surface(world, land, window)

    on = f"on {side + 1}²"
    posts = "reading its posts"
    yield row(f"a click in a hollow of 300 m, {on}", posts, "0.1 s", click, read, plan.runs)
    yield row(f"what another level puts under water, {on}", posts, "0.1 s", tried, read, plan.runs)
    yield row(f"its pool after the ground changed, {on}", posts, "the same on both", again, read, plan.runs)
    points = ((middle + 160, middle), (middle + 260, middle + 40), (middle + 400, middle))

    def stream() -> object:
        put_stream(world, "beck", PutStream(name="Beck", points=points, width_m=4, in_hollow="cut"))
        return drop_stream(world, "beck")

    long = look_at(world, "beck", PutStream(name="Beck", points=points, width_m=4, in_hollow="cut"))["length_m"]
    yield row(
        f"a stream of {long:,.0f} m put, and deleted again, {on}", posts, "–", stream, read, max(3, plan.runs // 4)
    )
    way: Task = partial(way_down, world, land, middle + 160, middle)
    yield row(f"the way down over {on[3:]}, from its middle", posts, "–", way, read, plan.runs)


def _dig(world: OpenWorld, land: Land, middle: float) -> None:
    """A bowl of 300 m, 12 m deep, on ground that falls to the east by a metre in a hundred."""
    grid = land.grid

    def new(part: object, was: FloatArray) -> FloatArray:
        window = part
        x = grid.x_of(getattr(window, "col0")) + np.arange(was.shape[1]) * grid.spacing  # noqa: B009
        y = grid.y_of(getattr(window, "row0")) - np.arange(was.shape[0]) * grid.spacing  # noqa: B009
        away = np.hypot(x[None] - middle, y[:, None] - middle)
        bowl = np.where(away < 150, -12 * (1 - (away / 150) ** 2), 0)
        return np.asarray(was + bowl - np.maximum(x[None] - middle - 150, 0) * 0.01, np.float32)

    world.sweep(lambda: draw_ground(world, land, land.bounds, None, new, lambda: Ended("Dug", "{}", {})))
