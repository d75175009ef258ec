"""Worlds that begin on other ground, boundaries in the open world, dressing, and imports that are killed."""

from __future__ import annotations

import signal
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from fernfield.core.cover.shares import SOLID
from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.landforms import LANDFORMS
from fernfield.core.light.relief import slope_degrees
from fernfield.work.ground.commands import MakeLand, PressFile
from fernfield.work.ground.making import warnings
from fernfield.work.ground.rows import Landscape, Recipe, sheets_of
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.sites.rows import THINGS, Start
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec, costs, ground_of, sketch
from fernfield.work.worlds.bounding import PutBoundary
from fernfield.work.worlds.dressing import Dress, dress, proposals
from tests.conftest import everything, ground
from tests.worlds.test_tracts import ended, rolling


def begun(studio: Studio, **fields: Any) -> OpenWorld:
    spec = WorldSpec(**{"name": "B", "width_m": 300, "depth_m": 200, "spacing_m": 1, **fields})
    return studio.world(studio.create(spec))


def test_each_beginning_is_what_it_says(studio: Studio) -> None:
    assert (ground(begun(studio, elevation_m=7)) == 7).all()
    # An island is made by starting the land 500 m under the sea (common practice).
    floor = begun(studio, sea_level_m=20, begin={"ground": "sea_floor"})
    assert (ground(floor) == -480).all()
    rim = begun(studio, elevation_m=7, begin={"ground": "rim", "width_m": 40, "steep_deg": 50})
    land = ground(rim)
    assert (land[40:-40, 40:-40] == 7).all()
    assert land[0].min() > 7 + 24 * np.tan(np.radians(50)) - 1e-3
    heights, metres = sketch(WorldSpec(name="B", width_m=300, depth_m=200, spacing_m=1, elevation_m=7,
                                       begin={"ground": "rim", "width_m": 40, "steep_deg": 50}))  # fmt: skip
    assert heights.shape == (201, 301)
    assert metres == 1
    assert np.array_equal(heights, land), "the picture is the land"
    seed = begun(studio, begin={"ground": "seed", "recipe": {"landscapes": [{"name": "downs"}], "seed": 3}})
    spec = WorldSpec(name="B", width_m=300, depth_m=200, spacing_m=1,
                     begin={"ground": "seed", "recipe": {"landscapes": [{"name": "downs"}], "seed": 3}})  # fmt: skip
    ended(studio.start_seed(seed.id, spec.begin.recipe))  # type: ignore[union-attr]
    assert np.abs(ground(seed) - sketch(spec)[0]).max() < 1e-3
    assert [key for key, _ in sheets_of(seed)] == ["land"]


def test_bad_beginnings_are_refused_and_leave_nothing(studio: Studio) -> None:
    for begin, words in (
        ({"ground": "rim", "width_m": 120}, "width_m must be 3 m"),
        ({"ground": "rim", "width_m": 1}, "three posts"),
    ):
        with pytest.raises(InvalidInput, match=words):
            begun(studio, begin=begin)
    for begin in ({"ground": "moon"}, {"ground": "rim", "steep_deg": 20}, {"ground": "sea_floor", "depth_m": 0},
                  {"ground": "seed", "recipe": {"landscapes": [{"name": "downs"}], "plot": "p"}}):  # fmt: skip
        with pytest.raises(ValidationError):
            begun(studio, begin=begin)
    assert list(studio.worlds()) == []
    assert ground_of(WorldSpec(name="P", width_m=9, depth_m=9, spacing_m=1)) is None


def test_what_a_world_costs_is_counted_from_its_posts() -> None:
    found = costs(WorldSpec(name="C", width_m=4096, depth_m=2048, spacing_m=2).grid)
    assert (found["rows"], found["cols"]) == (1025, 2049)
    assert found["memory_bytes"] == 1025 * 2049 * 4
    assert found["cross_s"] == pytest.approx(4096 / 3)
    assert found["smallest_m"] == 4
    assert found["powers_of_two"]
    assert not costs(WorldSpec(name="C", width_m=300, depth_m=2048, spacing_m=1).grid)["powers_of_two"]


@pytest.mark.parametrize("kind", ["rim", "sunk"])
def test_a_boundary_holds_on_rolling_land_and_is_undone(studio: Studio, world: OpenWorld, kind: str) -> None:
    tract = world.first_tract.row.id
    rolling(world, tract, 3, 8)
    world.edit(put(THINGS, "s", Start(name="S", x=150, y=150)))
    state, was = everything(world), ground(world)
    job = ended(studio.start_bound(tract, PutBoundary(kind=kind, width_m=50, steep_deg=55)))  # type: ignore[arg-type]
    assert job.state == "done", job.message
    assert job.result is not None
    assert job.result["holds"] is True
    assert 0 < job.result["walked"] < 1
    after = ground(world)
    assert np.array_equal(after[50:-50, 50:-50], was[50:-50, 50:-50])
    slope = slope_degrees(after, 1.0)
    assert np.median(slope[150, 25:48]) == pytest.approx(55, abs=2) or kind == "sunk"
    if kind == "sunk":
        assert after[0].max() <= -5.99
    world.undo()
    assert everything(world) == state
    leaky = ended(studio.start_bound(tract, PutBoundary(kind="rim", width_m=50, steep_deg=20)))
    assert leaky.result is not None
    assert leaky.result["holds"] is False
    x, y = leaky.result["x"], leaky.result["y"]
    assert min(x, y, 300 - x, 300 - y) <= 1
    with pytest.raises(InvalidInput, match="half the tract"):
        studio.start_bound(tract, PutBoundary(width_m=200))


def made(studio: Studio, world: OpenWorld, recipe: Recipe) -> Job:
    job = ended(studio.start_making(world.first_tract.row.id, MakeLand(key="land", name="Land", recipe=recipe)))
    assert job.state == "done", job.message
    return job


def test_covers_and_growth_are_proposed_and_laid_only_when_taken(studio: Studio, world: OpenWorld) -> None:
    recipe = Recipe(
        landscapes=(Landscape(name="fen", patch_m=90), Landscape(name="crags", patch_m=90)),
        blend_m=20, seed=4, box=(50, 50, 250, 250), feather_m=0,
    )  # fmt: skip
    job = made(studio, world, recipe)
    tract = world.first_tract
    assert tract.cache.blank("growth:mix", tract.grid.window), "nothing is laid yet"
    wanted = proposals(world, recipe)
    assert [(p.landscape, p.cover) for p in wanted] == [("fen", "earth"), ("crags", "grass")]
    assert job.result is not None
    assert job.result["suits"][0] == "Fen: Earth, growth at 30 %"
    dress(world, tract, Dress(sheet="land"))
    earth = tract.cache.read("cover:earth", tract.grid.window).astype(float) / SOLID
    growth = tract.cache.read("growth:mix", tract.grid.window).astype(float) / SOLID
    assert earth[:, :49].max() == 0
    assert earth[60:240, 60:240].max() == 1
    assert 0.1 < earth[50:250, 50:250].mean() < 0.95
    assert growth.max() == pytest.approx(0.3, abs=0.01)
    assert growth[(slope_degrees(tract.cache.read(HEIGHT, tract.grid.window), 1.0) > 40)].max() == 0
    # Where it is fen through and through the growth is the fen's, on dry level ground.
    fen = earth > 0.999
    assert set(np.round(np.unique(growth[fen & (growth > 0.2999)]), 2)) == {0.3}
    world.undo()
    assert tract.cache.read("growth:mix", tract.grid.window).max() == 0
    dress(world, tract, Dress(sheet="land", covers=False))
    assert tract.cache.read("cover:earth", tract.grid.window).max() == 0
    with pytest.raises(Conflict, match="nothing was taken"):
        dress(world, tract, Dress(sheet="land", covers=False, growth=False))
    with pytest.raises(NotFound):
        dress(world, tract, Dress(sheet="none"))


def test_every_landform_says_what_suits_it() -> None:
    for form in LANDFORMS.values():
        assert form.suits.covers
        assert 0 < form.suits.growth <= 1


def test_a_rectangle_is_a_region_and_too_small_a_one_is_warned_of(studio: Studio, world: OpenWorld) -> None:
    recipe = Recipe(landscapes=(Landscape(name="moor"), Landscape(name="fen")), box=(100, 120, 180, 200), feather_m=10)
    found = warnings(world, world.first_tract, recipe)
    assert "the region is 80 by 80 m" in found[0]
    made(studio, world, recipe)
    away = ground(world) != 10
    assert not away[:100].any()
    assert not away[:, :100].any()
    assert not away[181:].any()
    assert away[130:150, 120:160].any()
    with pytest.raises(ValidationError, match="a plot, a box or an outline"):
        Recipe(landscapes=(Landscape(name="moor"),), box=(0, 0, 9, 9), plot="p")


def test_a_finer_file_is_averaged_when_it_is_pressed_into_a_plot(
    studio: Studio, world: OpenWorld, tmp_path: Path
) -> None:
    tract = world.first_tract.row.id
    world.edit(put(PLOTS, "p", Plot(name="P", points=((50, 50), (150, 50), (150, 150), (50, 150)))))
    rng = np.random.default_rng(2)
    path = studio.data / "incoming" / "n"
    np.save(path.open("wb"), (40 + rng.normal(0, 5, (1001, 1001))).astype(np.float32))
    from fernfield.work.worlds.intake import Placing, Reading

    file = studio.waiting.add(path, "n.npy")
    job = studio.start_press(tract, file, Reading(), Placing(spacing_m=1), PressFile(plot="p", feather_m=0, lift_m=-10))
    assert ended(job).state == "done", job.message
    pressed = ground(world)[150:251, 50:151]
    assert pressed.mean() == pytest.approx(30, abs=0.1)
    # Means of 10 x 10 samples: a tenth of the noise, not all of it.
    assert pressed[5:-5, 5:-5].std() < 1.0
    assert (ground(world)[:, :49] == 10).all()
    world.undo()
    assert (ground(world) == 10).all()
    assert not list((studio.data / "incoming").iterdir())


KILLED = """
import sys
from pathlib import Path
import numpy as np
from fernfield.work.intake import Placing, Reading
from fernfield.work.studio import Studio
studio = Studio(Path(sys.argv[1]))
path = studio.data / "incoming" / "land"
np.save(path.open("wb"), np.random.default_rng(0).normal(0, 9, (3001, 3001)).astype("f4"))
job = studio.start_import(studio.waiting.add(path, "land.npy"), "Half", Reading(), Placing(spacing_m=1))
seen = 0.0
while not job.ended:
    if job.progress > seen + 0.05:
        seen = job.progress
        print(f"{seen:.2f}", flush=True)
print("ended", job.state, job.message, flush=True)
"""


@pytest.mark.parametrize("at", [0.1, 0.62, 0.8])
def test_an_import_that_is_killed_leaves_nothing(tmp_path: Path, at: float) -> None:
    with subprocess.Popen([sys.executable, "-c", KILLED, str(tmp_path)], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        for line in process.stdout:
            assert not line.startswith("ended"), line
            if float(line) >= at:
                process.send_signal(signal.SIGKILL)
                break
    studio = Studio(tmp_path)
    assert list(studio.worlds()) == []
    assert studio.bin() == []
    assert not list((tmp_path / "incoming").iterdir())
    with studio.store.reading() as c:
        assert c.exec_driver_sql("SELECT count(*) FROM tiles").scalar() == 0
        assert c.exec_driver_sql("SELECT count(*) FROM worlds").scalar() == 0
    studio.close()
