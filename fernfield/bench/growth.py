"""Plants worked out from a seed: how many a second, and how long a mix that is changed keeps the map waiting."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.core.cover import rules as asked
from fernfield.core.grid import Grid, Window
from fernfield.core.growth import spacing
from fernfield.core.growth.scatter import Sort, scatter
from fernfield.core.growth.spacing import Pattern
from fernfield.work.growth.hand import TOUCHED
from fernfield.work.growth.listing import listed
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.sowing import growth_layer
from fernfield.work.growth.standing import plants_of
from fernfield.work.growth.touching import ChangePlants, PlantChange, change_plants
from fernfield.work.kernel.commands import patch
from fernfield.work.kernel.posts.layers import WHOLE
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.drawing import Make, Put, draw
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

DRAWS = 9
"""Numbers that each plant is made of: its place, and what it is like."""


def rows(plan: Plan) -> Iterator[Row]:
    yield _made(plan)
    yield from _changed(plan)
    yield _chosen(plan)


def _made(plan: Plan) -> Row:
    """Plants of three kinds with distances and a habitat of two conditions, from nothing."""
    side = 1_024 if plan.large < 2_000 else 2_600
    grid = Grid(side + 1, side + 1, 1.0)
    kinds = Pattern(6, (900.0, 500.0, 150.0), ((1.5, 1.0, 1.5), (1.0, 1.2, 1.0), (1.5, 1.0, 3.0)))
    noise = np.random.default_rng(1).normal(0, 1, (side // 16 + 2, side // 16 + 2)).astype(np.float32)
    land = np.kron(noise, np.ones((16, 16), np.float32))[: side + 3, : side + 3].copy()
    habitat = [
        asked.Rule(1, 1.0, (asked.Condition(asked.ELEVATION, -3, None, 1), asked.Condition(asked.SLOPE, None, 88, 8)))
    ]
    like = Sort(0.8, 1.4, "middle", 0.9, 1.1, tint=0.4, sink_max=0.1)
    count = 0

    def ours() -> None:
        nonlocal count
        spacing._LAID.clear()
        share = asked.mixed(land, 1.0, habitat, [], 2)[1]
        found = scatter(kinds, [like] * 3, [share] * 3, grid.window, grid, grid.window)
        count = sum(len(one) for one in found if one is not None)

    ours()
    rng = np.random.default_rng(2)
    return row(
        f"{count:,} plants of three kinds made, apart, with a habitat", f"drawing {DRAWS} random numbers for each",
        "3 s for a million", ours, lambda: rng.random((count, DRAWS)), max(3, plan.runs // 5),
    )  # fmt: skip


def wooded(studio: Studio, side: int, per_ha: float = 245.0) -> OpenWorld:
    """A world that is sown all over."""
    world = studio.world(studio.create(WorldSpec(name="Wood", width_m=side, depth_m=side, spacing_m=1)))
    land = world.first_land

    def full(as_it_was: object, part: Window) -> Make:
        return lambda was: np.full_like(was, WHOLE)

    put = Put(land, land.bounds, full, growth_layer("mix"))
    world.sweep(lambda: draw(world, [put], None, lambda: Ended("Sown", "{}", {})))
    world.edit(patch(MIXES, "mix", density_per_ha=per_ha))
    return world


def _changed(plan: Plan) -> Iterator[Row]:
    """The picture of what is in view after a mix was changed, on a land with many plants."""
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder))
        try:
            world = wooded(studio, 1_024 if plan.large < 2_000 else 2_048)
            land = world.first_land
            key = "mix"
            found = plants_of(world, land, key, world.row(MIXES, key), land.bounds)
            count = sum(len(one) for one in found if one is not None)
            view = Window(100, 100, 100 + 600, 100 + 900)
            densities = iter(np.linspace(200, 300, 10_000))

            def ours() -> None:
                world.edit(patch(MIXES, key, density_per_ha=float(next(densities))))
                plan_pixels(world, land, 0, view, Show())

            def without() -> None:
                plan_pixels(world, land, 0, view, Show(growth=False))

            yield row(
                f"a mix changed on {count:,} plants, and 900 x 600 pixels drawn", "the same picture without growth",
                "0.5 s", ours, without, max(3, plan.runs // 5),
            )  # fmt: skip
        finally:
            studio.close()


CHOSEN = 5_000


def _chosen(plan: Plan) -> Row:
    """Plants chosen by a box and moved by a metre, as one revision that is kept, beside a file of as many bytes."""
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder))
        try:
            world = wooded(studio, 1_024)
            land = world.first_land
            side = 100.0 * (CHOSEN / 245.0) ** 0.5
            size = 0

            def ours() -> None:
                nonlocal size
                ids = [
                    one["id"] for one in listed(world, land, (200, 200, 200 + side, 200 + side), 0, CHOSEN)["plants"]
                ]
                change_plants(world, ChangePlants(ids=ids, change=PlantChange(dx_m=1.0)))
                size = sum(len(row.packed) for _, row in world.each(TOUCHED))

            path = Path(folder) / "bytes"

            def kept() -> None:
                with path.open("wb") as out:
                    out.write(b"0" * max(size, 1))
                    out.flush()
                    os.fsync(out.fileno())

            ours()
            words = f"{CHOSEN:,} plants chosen by a box, moved and kept: {size / CHOSEN:.1f} bytes each"
            return row(words, "as many bytes written and flushed", "no aim", ours, kept, max(3, plan.runs // 5))
        finally:
            studio.close()
