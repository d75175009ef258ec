"""Light on the posts, beside filters of the same posts; a bake that is mended beside a whole one."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy import ndimage

from fernfield.bench import Plan, Row, row
from fernfield.bench.core import land
from fernfield.core.light.lamps import Source, lamp_lux
from fernfield.core.light.sky_share import DIRECTIONS, reach_posts, sky_share
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job
from fernfield.work.light.falling import SUN_STEPS, lit_posts, sun_hours
from fernfield.work.light.rows import LIGHT, MOODS, Light, Mood
from fernfield.work.seen.baking import BAKE, bakes, blocks_of
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

LAMPS = 64


def rows(plan: Plan) -> Iterator[Row]:
    few = max(3, plan.runs // 8)
    around = reach_posts(1.0)
    heights = np.pad(land(plan.large), around, mode="edge")
    made = row(
        f"share of sky on {plan.large}², {DIRECTIONS} directions", f"{DIRECTIONS} SciPy maximum filters of 3 × 3", "1",
        lambda: sky_share(heights, 1.0, around),
        lambda: [ndimage.maximum_filter(heights, 3) for _ in range(DIRECTIONS)], few,
    )  # fmt: skip
    yield replace(made, work=f"{made.work}: {plan.large**2 / made.ours / 1e6:.1f} million posts a second")
    yield _lamps(few)
    yield from _world(few)


def _lamps(runs: int) -> Row:
    """What 64 lamps give a tile, with ground that stops them, beside one."""
    rng = np.random.default_rng(3)
    ground = land(256 + 2 * 61)
    hung = [
        Source(
            float(x), float(y), float(ground[int(y) + 61, int(x) + 61]) + 4, (900.0, 800.0, 600.0), 30.0, shadows=True
        )
        for x, y in rng.uniform(0, 255, (LAMPS, 2))
    ]
    return row(f"{LAMPS} lamps of 30 m with shadows on 256²", "one of them", f"{LAMPS}",
               lambda: lamp_lux(ground, 1.0, -61, 255 + 61, 61, hung),
               lambda: lamp_lux(ground, 1.0, -61, 255 + 61, 61, hung[:1]), runs, inner=3)  # fmt: skip


def _world(runs: int) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder))
        world = studio.world(
            studio.create(WorldSpec(name="Light", width_m=1024, depth_m=1024, spacing_m=1), heights=None)
        )
        tract, seen = world.first_tract, world.first_land
        world.edit(put(LIGHT, "sun", Light(latitude_deg=52, longitude_deg=0, time="2026-03-20T12:00Z")))  # type: ignore[arg-type]
        world.edit(put(MOODS, "day", Mood(name="Day", sun_height_deg=35)))
        yield row(f"hours of sun on 1,025², {SUN_STEPS} moments", "one shadow of it", f"{SUN_STEPS // 2}",
                  lambda: sun_hours(world, seen, seen.bounds, 1),
                  lambda: lit_posts(world, seen, seen.bounds, 1, 200, 20), runs)  # fmt: skip

        def whole() -> None:
            for path in Path(folder).glob("bakes/*/*/*/*.npz"):
                path.unlink()
            BAKE.run(Job("bake", BAKE), world, ("day",), studio.data)

        turn = [0]

        def mended() -> None:
            turn[0] += 1
            at = 100.0 + 3 * turn[0]
            path = [(at, 100.0, 0.0), (at, 110.0, 1.0)]
            world.stroke(tract.row.id, Stroke(tool="raise", radius_m=12, softness=1, strength=3, path=path))  # type: ignore[arg-type]
            BAKE.run(Job("bake", BAKE), world, ("day",), studio.data)

        blocks = len(list(blocks_of(seen)))
        yield row(f"a bake of 1,025² ({blocks} blocks) mended after one stroke", "all of it", "what it touched", mended,
                  whole, runs)  # fmt: skip
        yield row(
            "asking what of it is stale", "baking all of it", "0.1", lambda: bakes(world, studio.data), whole, runs
        )
        studio.close()
