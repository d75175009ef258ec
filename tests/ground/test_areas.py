"""Whole areas: reset, carried elsewhere, weathered as a job that can be stopped."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from typing import Any

import numpy as np
import pytest

from fernfield.core.errors import Cancelled, InvalidInput, NotFound
from fernfield.core.ground.frost import steepest
from fernfield.work.ground.commands import MoveLand, Reset, Weather
from fernfield.work.ground.moving import move_land
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.sites.rows import THINGS, Piece, Start, things_of
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw, ended, everything, ground
from tests.waits import until_true


def hilly(world: OpenWorld) -> np.ndarray:
    draw(world, "roughen", radius_m=260, softness=0.2, strength=60, path=[(150, 150, 0), (150, 150, 1)], height_m=60.0,
         feature_m=50.0)  # fmt: skip
    return ground(world)


def plot(world: OpenWorld, *points: tuple[float, float]) -> None:
    world.edit(put(PLOTS, "p", Plot(name="North fen", points=points)))


def test_an_area_goes_back_to_a_revision_to_the_base_and_to_an_elevation(studio: Studio, world: OpenWorld) -> None:
    first = hilly(world)
    draw(world, "raise", path=[(80, 80, 0), (220, 220, 1)], radius_m=60)
    second = ground(world)
    tract = world.first_tract.row.id
    plot(world, (60, 60), (200, 80), (120, 210))
    outcome = studio.reset(tract, Reset(to="revision", revision=1, plot="p"))
    inside = np.s_[300 - 150 : 300 - 90, 110:150]
    assert np.array_equal(ground(world)[inside], first[inside])
    assert np.array_equal(ground(world)[:, 215:], second[:, 215:])
    assert outcome.cut_m3 > 0
    assert "Reset the plot North fen to r1" in world.store.revisions(world.id)[0].words
    studio.reset(tract, Reset(to="base", box=(20, 20, 100, 100)))
    assert (ground(world)[200:281, 20:101] == 10).all()
    studio.reset(tract, Reset(to="elevation", elevation_m=-3.0))
    assert (ground(world) == -3).all()
    for _ in range(3):
        world.undo()
    assert np.array_equal(ground(world), second)


def test_a_feathered_reset_blends_into_the_land(studio: Studio, world: OpenWorld) -> None:
    studio.reset(
        world.first_tract.row.id, Reset(to="elevation", elevation_m=20, box=(100, 100, 200, 200), feather_m=20)
    )
    line = ground(world)[150]
    assert line[150] == 20
    assert line[99] == line[201] == 10
    assert line[110] == pytest.approx(15, abs=0.2)
    assert (np.diff(line[100:121]) >= 0).all()


def test_resets_that_cannot_be_are_refused(studio: Studio, world: OpenWorld) -> None:
    with pytest.raises(ValueError, match="a reset to revision needs revision"):
        Reset(to="revision")
    with pytest.raises(ValueError, match="a reset to base takes no elevation_m"):
        Reset(to="base", elevation_m=3)
    with pytest.raises(ValueError, match="a plot or a box, not both"):
        Reset(to="base", plot="p", box=(0, 0, 1, 1))
    tract = world.first_tract.row.id
    with pytest.raises(NotFound, match="no revision r9"):
        studio.reset(tract, Reset(to="revision", revision=9))
    with pytest.raises(InvalidInput, match="must reach into the tract"):
        studio.reset(tract, Reset(to="base", box=(-50, -50, -10, -10)))
    with pytest.raises(NotFound, match="'p' among the plots"):
        studio.reset(tract, Reset(to="base", plot="p"))
    assert world.revision == 0


# Moving


def test_land_is_copied_exactly_by_whole_posts(world: OpenWorld) -> None:
    before = hilly(world)
    command = MoveLand(box=(20, 20, 80, 60), x=230, y=240, blend_m=0, copy_land=True)
    move_land(world, world.first_tract, command)
    after = ground(world)
    # The middle 50, 40 comes to 230, 240: 180 east and 200 north.
    assert np.array_equal(after[300 - 260 : 300 - 219, 200:261], before[300 - 60 : 300 - 19, 20:81])
    assert np.array_equal(after[300 - 60 : 300 - 19, 20:81], before[300 - 60 : 300 - 19, 20:81])
    world.undo()
    assert np.array_equal(ground(world), before)


def test_moved_land_is_turned_mirrored_lifted_and_leaves_a_closed_place(world: OpenWorld) -> None:
    draw(world, "raise", path=[(60, 60, 0), (60, 60, 1)], radius_m=15, softness=0.0, strength=12)
    draw(world, "raise", path=[(75, 75, 0), (75, 75, 1)], radius_m=6, softness=0.0, strength=5)
    command = MoveLand(box=(35, 35, 95, 95), x=200, y=200, turn_deg=90, mirror=True, lift_m=1.5, blend_m=8)
    move_land(world, world.first_tract, command)
    land = ground(world)
    # From the middle (65, 65) the hump lay 5 west and south, the small one 10 east and north of it.
    # Mirrored: 5 east, 5 south; 10 west, 10 north. Turned a quarter clockwise: (5 W, 5 S), (10 E, 10 N).
    assert land[300 - 195, 195] == pytest.approx(23.5, abs=0.01)
    assert land[300 - 210, 210] == pytest.approx(16.5, abs=0.2)
    assert np.abs(land[300 - 70 : 300 - 50, 50:70] - 10).max() < 0.5


def test_growth_covers_and_pieces_come_along_when_asked(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", path=[(60, 60, 0), (60, 60, 1)], radius_m=20, strength=900, softness=0.0)
    draw(world, "paint", cover="earth", path=[(60, 60, 0), (60, 60, 1)], radius_m=20, strength=900, softness=0.0)
    world.edit(put(THINGS, "a", Start(name="Yard", x=70, y=60, turn_deg=20)))
    world.edit(put(THINGS, "b", Piece(kit="beacon", name="Far", x=150, y=150)))
    state = everything(world)
    box = (30, 30, 90, 90)
    move_land(world, world.first_tract, MoveLand(box=box, x=200, y=200, turn_deg=90))
    assert everything(world)["growth:mix"] == state["growth:mix"]
    move_land(
        world, world.first_tract, MoveLand(box=box, x=200, y=200, turn_deg=90, growth=True, covers=True, pieces=True)
    )
    cache, window = world.first_tract.cache, world.first_tract.grid.window
    for layer in ("growth:mix", "cover:earth"):
        mask = cache.read(layer, window)
        assert mask[300 - 200, 200] > 60_000
        assert mask[300 - 60, 60] == 0
    moved = dict(things_of(world))["a"]
    # 10 m east of the middle, turned a quarter clockwise: 10 m south.
    assert (round(moved.x, 6), round(moved.y, 6), moved.turn_deg) == (200, 190, 110)
    assert dict(things_of(world))["b"].x == 150
    # Level ground moved by itself changed nothing and made no revision: only the second one is taken back.
    world.undo()
    assert everything(world) == state
    move_land(world, world.first_tract, MoveLand(box=box, x=200, y=200, pieces=True, copy_land=True))
    assert sorted(thing.name for _, thing in things_of(world)) == ["Far", "Yard", "Yard copy"]


def test_land_goes_to_another_tract_at_its_own_spacing(studio: Studio) -> None:
    spec = WorldSpec(name="Two", width_m=200, depth_m=200, spacing_m=1, elevation_m=10)
    world = studio.world(studio.create(spec))
    ta = world.first_tract.row.id
    tb, _ = studio.add_tract(world.id, TractSpec(name="B", x=200, width_m=200, depth_m=200, spacing_m=2, elevation_m=0))
    draw(world, "raise", path=[(60, 60, 0), (60, 60, 1)], radius_m=20)
    state = {i: t.cache.read("height", t.grid.window).copy() for i, t in world.tracts.items()}
    command = MoveLand(box=(30, 30, 90, 90), x=100, y=100, tract=tb, blend_m=0, copy_land=True)
    move_land(world, world.tract(ta), command)
    there = world.tract(tb).cache.read("height", world.tract(tb).grid.window)
    assert there[50, 50] == pytest.approx(20, abs=0.01)
    assert there[50, 36] == pytest.approx(10, abs=0.01)
    assert there[50, 20] == 0
    world.undo()
    # Pieces come along, and stand in the other tract then.
    world.edit(put(THINGS, "hut", Piece(kit="beacon", name="Beacon", x=50, y=70)))
    move_land(world, world.tract(ta), command.model_copy(update={"pieces": True, "copy_land": False}))
    assert [(t.x, t.y) for _, t in things_of(world, tb)] == [(90, 110)]
    assert things_of(world, ta) == []
    world.undo()
    for i, t in world.tracts.items():
        assert np.array_equal(t.cache.read("height", t.grid.window), state[i])


# Weather as a job


def test_frost_over_a_tract_comes_to_rest_and_keeps_material(studio: Studio, world: OpenWorld) -> None:
    before = hilly(world)
    assert steepest(before, 1.0) > 50
    job = ended(studio.start_weather(world.first_tract.row.id, Weather(kind="frost", repose_deg=34, passes=3000)))
    assert job.state == "done", job.message
    after = ground(world)
    assert steepest(after, 1.0) < 34.5
    assert after.sum(dtype=float) == pytest.approx(before.sum(dtype=float), rel=1e-3)
    assert job.result is not None
    assert job.result["cut_m3"] == pytest.approx(job.result["fill_m3"], rel=1e-2)
    world.undo()
    assert np.array_equal(ground(world), before)


@pytest.mark.parametrize("kind", ["frost", "rain"])
def test_weather_on_a_plot_stays_in_it(studio: Studio, world: OpenWorld, kind: Any) -> None:
    before = hilly(world)
    plot(world, (60, 60), (200, 80), (120, 210))
    command = Weather(kind=kind, repose_deg=10, passes=60, drops_per_m2=2, plot="p", feather_m=10)
    job = ended(studio.start_weather(world.first_tract.row.id, command))
    assert job.state == "done", job.message
    moved = ground(world) != before
    assert moved.sum() > 500
    assert not moved[:, 201:].any()
    assert not moved[:, :60].any()
    after = ground(world)
    assert abs((after.astype(float) - before).sum()) < 2e-3 * np.abs(after.astype(float) - before).sum() + 0.5


def test_a_cancelled_or_failing_job_leaves_the_ground_as_it_was(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    hilly(world)
    state = everything(world)
    tract = world.first_tract.row.id
    long = (Weather(kind="frost", passes=20_000), Weather(kind="rain", drops_per_m2=100))
    for command in long:
        job = studio.start_weather(tract, command)
        until_true(lambda job=job: job.progress >= 0.04)  # type: ignore[misc]
        asked = time.monotonic()
        studio.jobs.cancel(job.id)
        assert ended(job).state == "cancelled"
        # Within a second on a quiet machine.
        assert time.monotonic() - asked < 10
        assert everything(world) == state
    # At any point: also between the parts of the writing.
    steps = 0
    for stop_at in range(1, 60):
        count = 0

        def step(self: Job, progress: float, message: str, stop_at: int = stop_at) -> None:
            nonlocal count
            count += 1
            if count >= stop_at:
                raise Cancelled("the job was cancelled")

        with monkeypatch.context() as patch:
            patch.setattr(Job, "step", step)
            job = ended(studio.start_weather(tract, Weather(kind="frost", passes=4)))
        assert job.state in ("cancelled", "done")
        if job.state == "done":
            steps = stop_at
            world.undo()
        assert everything(world) == state
    assert steps >= 6
    # Writing that fails takes everything back.
    with monkeypatch.context() as patch:
        patch.setattr(world.store, "write", lambda revision: (_ for _ in ()).throw(OSError("disk full")))
        job = ended(studio.start_weather(tract, Weather(kind="frost", passes=4)))
    assert job.state == "failed"
    assert everything(world) == state


def test_what_others_draw_while_a_job_runs_is_kept(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = hilly(world)
    drawn: list[int] = []
    real = Job.step

    def step(self: Job, progress: float, message: str) -> None:
        # Somebody draws in the middle of it: the job has read the ground and is at work.
        if message.startswith("Frost: pass 5") and not drawn:
            drawn.append(draw(world, "raise", path=[(60, 60, 0), (60, 60, 1)], radius_m=10, strength=40).revision)
        real(self, progress, message)

    monkeypatch.setattr(Job, "step", step)
    job = studio.start_weather(world.first_tract.row.id, Weather(kind="frost", repose_deg=30, passes=400))
    assert ended(job).state == "done"
    assert drawn[0] < world.revision
    assert ground(world)[300 - 60, 60] > before[300 - 60, 60] + 15


KILLED = """
import sys
from pathlib import Path
from fernfield.work.ground.commands import Weather
from fernfield.work.studio import Studio
studio = Studio(Path(sys.argv[1]))
world = next(iter(studio.worlds()))
job = studio.start_weather(world.first_tract.row.id, Weather(kind="frost", repose_deg=20, passes=int(sys.argv[2])))
print("ready", flush=True)
while not job.ended:
    job.wait(job.version, 1.0)
print("ended", flush=True)
"""


def test_a_process_killed_while_it_weathers_leaves_the_ground_as_it_was_or_wholly_weathered(
    studio: Studio, world: OpenWorld
) -> None:
    before = hilly(world)
    revision = world.revision
    studio.close()
    whole: np.ndarray | None = None
    # Long enough to be in the middle of it, and short enough to be near its writing; at last to its end.
    for passes, pause in ((20_000, 0.3), (20_000, 0.8), (40, 0.02), (40, 0.05), (40, 0.1), (40, 60.0)):
        command = [sys.executable, "-c", KILLED, str(studio.data), str(passes)]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout is not None
            assert process.stdout.readline() == "ready\n"
            if pause < 10:
                time.sleep(pause)
            else:
                assert process.stdout.readline() == "ended\n"
            process.send_signal(signal.SIGKILL)
        again = Studio(studio.data)
        other = next(iter(again.worlds()))
        now = ground(other)
        if other.revision == revision:
            assert np.array_equal(now, before)
        else:
            # Written whole: every run of 40 passes comes to the same land.
            assert passes == 40
            assert steepest(now, 1.0) < steepest(before, 1.0)
            assert whole is None or np.array_equal(now, whole)
            whole = now
            other.undo()
            assert np.array_equal(ground(other), before)
            revision = other.revision
        again.close()
    assert whole is not None
