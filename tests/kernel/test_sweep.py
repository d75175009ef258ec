"""Edits of many tiles: worked out beside the world, taken in at once, or not at all."""

from __future__ import annotations

import signal
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import text

import fernfield.work.ground.moving
import fernfield.work.kernel.writing.ledger
import fernfield.work.kernel.writing.sweep
from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Cancelled, Conflict
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import MergeSheet, MoveLand, PutSheet, Reset, Weather
from fernfield.work.ground.moving import move_land
from fernfield.work.ground.rows import SHEETS, Sheet
from fernfield.work.ground.sheet_edits import merge, put_sheet
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.kernel.writing.sweep import Sweep, Unit
from fernfield.work.seen.sections import section
from fernfield.work.strokes import StrokeStart
from fernfield.work.studio import Studio
from tests.conftest import draw, ended, everything, ground
from tests.kernel.test_overviews import DEEP, PLAIN, WIDE, agree, stroke


@pytest.fixture(params=["beside the world", "while others wait"])
def way(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> str:
    """Both ways for the same edits: any is long when none is short."""
    if request.param == "beside the world":
        beside(monkeypatch)
    return str(request.param)


def beside(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(fernfield.work.kernel.writing.sweep, "AT_ONCE", 0)
    monkeypatch.setattr(fernfield.work.kernel.writing.ledger, "MOST_TURNED", 0)


@pytest.fixture
def land(studio: Studio) -> OpenWorld:
    """Fifteen tiles, with hills."""
    world = studio.world(studio.create(PLAIN))
    for x in (200, 600, 1000):
        world.stroke(world.first_tract.row.id, stroke("raise", (x, 100), (x - 80, 520), radius_m=90.0))
    return world


def staged_left(world: OpenWorld) -> int:
    with world.store.reading() as c:
        return int(c.execute(text("SELECT count(*) FROM staged")).scalar() or 0)


def flat(world: OpenWorld, elevation: float = 33.3, **fields: object) -> Reset:
    return Reset(to="elevation", elevation_m=elevation, **fields)  # type: ignore[arg-type]


def test_the_same_edits_either_way_are_the_same_world(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    worlds = []
    for how in ("at once", "beside"):
        if how == "beside":
            beside(monkeypatch)
        world = studio.world(studio.create(PLAIN))
        tract = world.first_tract
        world.stroke(tract.row.id, stroke("raise", (300, 300), (800, 200), radius_m=120.0))
        reset(world, tract, flat(world, box=(100, 100, 700, 500), feather_m=40), None)
        put_sheet(world, PutSheet(key="s", sheet=Sheet(name="S")))
        reset(world, tract, flat(world, 50.0, box=(400, 20, 1000, 400), sheet="s"), None)
        put_sheet(world, PutSheet(key="s", sheet=Sheet(name="S", weight=0.4)))
        merge(world, MergeSheet(key="s", into=None))
        move_land(world, tract, MoveLand(box=(200, 150, 520, 450), x=850, y=330, turn_deg=30, covers=True, blend_m=20))
        world.undo()
        world.undo()
        world.undo()
        world.redo()
        agree(world)
        assert staged_left(world) == 0
        worlds.append((ground(world).tobytes(), [row.words for row in world.store.revisions(world.id)]))
    assert worlds[0] == worlds[1]


def test_land_that_changes_while_it_is_carried_is_carried_as_it_became(
    land: OpenWorld, way: str, studio: Studio, monkeypatch: pytest.MonkeyPatch
) -> None:
    tract = land.first_tract
    move, late = MoveLand(box=(500, 150, 700, 400), x=900, y=300, turn_deg=90), stroke("raise", (600, 300), (620, 310))
    land.stroke(tract.row.id, late)
    move_land(land, tract, move)
    wanted = ground(land)
    land.undo()
    land.undo()
    closed, times = fernfield.work.ground.moving._Trip.closed, []

    def closed_and_drawn_on(trip: object) -> object:
        found = closed(trip)  # type: ignore[arg-type]
        if not times:
            land.stroke(tract.row.id, late)
        times.append(1)
        return found

    monkeypatch.setattr(fernfield.work.ground.moving._Trip, "closed", closed_and_drawn_on)
    outcome = move_land(land, tract, move)
    assert len(times) == 2, "it began anew"
    assert ground(land).tobytes() == wanted.tobytes()
    assert outcome.revision == land.revision
    agree(land)
    # Whoever goes on working there wins: nothing is moved.
    monkeypatch.setattr(
        fernfield.work.ground.moving._Trip,
        "closed",
        lambda trip: (found := closed(trip), land.stroke(tract.row.id, late)) and found,
    )
    with pytest.raises(Conflict, match="again and again"):
        move_land(land, tract, move)
    assert staged_left(land) == 0


def test_a_long_edit_is_undone_and_made_again_to_the_last_bit(land: OpenWorld, way: str) -> None:
    before = ground(land)
    outcome = reset(land, land.first_tract, flat(land), None)
    after = ground(land)
    assert (after == np.float32(33.3)).all()
    assert outcome.window == land.first_tract.grid.window
    cut, fill = (np.clip(d, 0, None).sum(dtype=np.float64) for d in (before - after, after - before))
    assert (outcome.cut_m3, outcome.fill_m3) == pytest.approx((cut, fill), rel=1e-3)
    assert "fill" in land.store.revisions(land.id)[0].words
    land.undo()
    assert ground(land).tobytes() == before.tobytes()
    agree(land)
    land.redo()
    assert ground(land).tobytes() == after.tobytes()
    agree(land)
    again = OpenWorld(land.house, land.store, land.id)
    assert ground(again).tobytes() == after.tobytes()
    agree(again)


def test_the_ground_before_a_long_edit_is_its_ghost(land: OpenWorld, way: str) -> None:
    whole = land.first_land
    was = section(land, whole, 300.0, 0.0, WIDE)["ground"]
    reset(land, land.first_tract, flat(land), None)
    seen = section(land, whole, 300.0, 0.0, WIDE)
    assert seen["before"] == was
    run = land.begin_stroke(land.first_tract.row.id, StrokeStart(tool="raise", radius_m=40, softness=0.5, strength=30))
    land.extend_stroke(run, [Sample(500, 300, t / 10) for t in range(8)])
    during = section(land, whole, 300.0, 0.0, WIDE)
    # Under the stroke the ghost is the ground before the stroke, elsewhere still that before the edit.
    assert max(during["before"][200:210]) == pytest.approx(33.3, abs=2)
    land.abandon_stroke(run)


def slowly(world: OpenWorld, elevation: float, meanwhile: Callable[[int], None]) -> Sweep:
    """Level ground, tile by tile; `meanwhile` hears how many tiles were drawn before each."""
    tract = world.first_tract
    count = iter(range(10_000))
    turn = threading.Lock()

    def work(draft: object, unit: Unit) -> None:
        with turn:
            meanwhile(next(count))
            tile = draft.tile(unit[0], (HEIGHT, *unit[1]))  # type: ignore[attr-defined]
            tile[...] = np.maximum(tile, np.float32(elevation))

    units = [(tract.row.id, tile) for tile in tract.grid.window.tiles()]
    return Sweep(units, work, lambda: Ended("Levelled", "{}", {}), world.rests_on(SHEETS.name))


def test_what_others_draw_meanwhile_is_taken_in(land: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    beside(monkeypatch)
    tract = land.first_tract

    def meanwhile(number: int) -> None:
        if number == 9:
            # Over tiles that were worked out, and over some that were not.
            land.stroke(tract.row.id, stroke("raise", (100, 300), (1000, 300), radius_m=30.0, strength=400))
            land.stroke(tract.row.id, stroke("sow", (100, 200), (1000, 200)))
            then.append(ground(land))

    then: list[np.ndarray] = []
    before = ground(land)
    land.sweep(lambda: slowly(land, 20.0, meanwhile))
    assert (then[0] != before).any()
    assert ground(land).tobytes() == np.maximum(then[0], np.float32(20)).tobytes()
    agree(land)
    assert land.store.revisions(land.id)[0].words.startswith("Levelled")
    land.undo()
    assert ground(land).tobytes() == then[0].tobytes()
    agree(land)


def test_the_world_can_be_worked_on_while_a_long_edit_goes_on(land: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    """The lock is free at every step: a stroke of somebody else's, in another thread, begins and ends there."""
    beside(monkeypatch)
    done: list[int] = []

    def other() -> None:
        done.append(draw(land, path=[(50, 50, 0), (60, 60, 0.2)]).revision)

    def meanwhile(number: int) -> None:
        if number in (3, 7):
            thread = threading.Thread(target=other)
            thread.start()
            thread.join(60)
            assert not thread.is_alive()

    land.sweep(lambda: slowly(land, 20.0, meanwhile))
    assert done == [4, 5]
    assert land.revision == 6


def test_rows_that_it_rests_on_make_it_begin_anew(land: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    beside(monkeypatch)
    planned: list[int] = []

    def meanwhile(number: int) -> None:
        if number == 5 and len(planned) == 1:
            put_sheet(land, PutSheet(key="other", sheet=Sheet(name="Other")))

    def begin() -> Sweep:
        planned.append(land.revision)
        return slowly(land, 20.0, meanwhile)

    land.sweep(begin)
    assert planned == [3, 4]
    assert land.revision == 5

    def rename(number: int) -> None:
        if number == 2:
            put_sheet(land, PutSheet(key="other", sheet=Sheet(name=f"r{land.revision}")))

    with pytest.raises(Conflict, match="again and again"):
        land.sweep(lambda: slowly(land, 900.0, rename))
    assert ground(land).max() < 900
    assert staged_left(land) == 0


def test_a_stroke_in_the_way_is_waited_for_and_kept(land: OpenWorld, way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    tract = land.first_tract.row.id
    run = land.begin_stroke(tract, StrokeStart(tool="raise", radius_m=40, softness=0.5, strength=300))
    land.extend_stroke(run, [Sample(500 + 4 * t, 300, t / 10) for t in range(6)])
    timer = threading.Timer(0.5, lambda: land.finish_stroke(run))
    timer.start()
    land.sweep(lambda: slowly(land, 20.0, lambda _n: None))
    timer.join()
    words = [row.words.split(":")[0] for row in land.store.revisions(land.id)[:2]]
    assert words[0] == "Levelled"
    assert words[1].startswith("Raise")
    assert ground(land)[DEEP - 300, 500:520].max() > 60
    agree(land)
    run = land.begin_stroke(tract, StrokeStart(tool="raise", radius_m=40, softness=0.5, strength=300))
    land.extend_stroke(run, [Sample(500 + 4 * t, 300, t / 10) for t in range(6)])
    monkeypatch.setattr(fernfield.work.kernel.writing.sweep, "PATIENCE_S", 0.1)
    with pytest.raises(Conflict, match="stroke is being drawn"):
        land.sweep(lambda: slowly(land, 70.0, lambda _n: None))
    land.abandon_stroke(run)
    assert staged_left(land) == 0
    agree(land)


@pytest.mark.parametrize("when", [0, 6, "afar"])
def test_stopped_at_any_moment_nothing_is_left_of_it(
    land: OpenWorld, when: int | str, monkeypatch: pytest.MonkeyPatch
) -> None:
    beside(monkeypatch)
    before = everything(land)

    def say(done: float) -> None:
        if when == "afar" and done >= 0.8:
            raise Cancelled("stopped")

    def meanwhile(number: int) -> None:
        if number == when:
            raise Cancelled("stopped")

    with pytest.raises(Cancelled):
        land.sweep(lambda: slowly(land, 20.0, meanwhile), say)
    assert land.revision == 3
    assert everything(land) == before
    assert staged_left(land) == 0
    agree(land)


@pytest.mark.parametrize("table", ["staged", "tiles", "overviews", "tile_changes", "revisions"])
def test_a_full_disk_leaves_the_world_as_it_was(
    land: OpenWorld, table: str, studio: Studio, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A trigger stands in for a full disk, at the seventh row of each table that a long edit writes."""
    beside(monkeypatch)
    before = everything(land)
    with sqlite3.connect(studio.data / "fernfield.db") as c:
        c.execute("CREATE TABLE counted (n)")
        most = 0 if table == "revisions" else 7
        full = f"SELECT RAISE(ABORT, 'disk') WHERE (SELECT count(*) FROM counted) > {most};"
        body = f"INSERT INTO counted VALUES (1); {full}"
        c.execute(f"CREATE TRIGGER full BEFORE INSERT ON {table} BEGIN {body} END")
    with pytest.raises(Exception, match="disk"):
        reset(land, land.first_tract, flat(land), None)
    with sqlite3.connect(studio.data / "fernfield.db") as c:
        c.execute("DROP TRIGGER full")
        c.execute("DROP TABLE counted")
    assert land.revision == 3
    assert everything(land) == before
    assert staged_left(land) == 0
    agree(land)
    reset(land, land.first_tract, flat(land), None)
    agree(land)


LONG = """
import sys
from pathlib import Path
import fernfield.work.kernel.writing.sweep, fernfield.work.kernel.writing.ledger
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import Reset
from fernfield.work.studio import Studio
fernfield.work.kernel.writing.sweep.AT_ONCE = fernfield.work.kernel.writing.ledger.MOST_TURNED = 0
studio = Studio(Path(sys.argv[1]))
world = next(studio.worlds())
print("ready", flush=True)
for number in range(1000):
    if number % 3 == 2:
        world.undo()
    else:
        reset(world, world.first_tract, Reset(to="elevation", elevation_m=number), None)
"""


def test_killed_at_random_moments_of_long_edits_the_world_is_as_before_or_as_after(tmp_path: Path) -> None:
    data = tmp_path / "data"
    with closing(Studio(data)) as studio:
        world = studio.world(studio.create(PLAIN))
        world.stroke(world.first_tract.row.id, stroke("raise", (200, 300), (900, 300)))
    revisions = []
    for pause in (0.35, 0.6, 0.9, 1.3, 0.47, 0.75):
        process = subprocess.Popen([sys.executable, "-c", LONG, str(data)], stdout=subprocess.PIPE)
        assert process.stdout is not None
        process.stdout.readline()
        with pytest.raises(subprocess.TimeoutExpired):
            process.wait(pause)
        process.send_signal(signal.SIGKILL)
        process.wait()
        process.stdout.close()
        with closing(Studio(data)) as studio:
            world = next(studio.worlds())
            assert staged_left(world) == 0
            agree(world)
            revisions.append(world.revision)
            words = [row.words for row in world.store.revisions(world.id)]
            level = np.unique(ground(world)[:, ::50])
            # The first revision is the stroke; a reset leaves level ground, its undo what was there.
            assert len(level) == 1 or all("Undid" in w or "Raise" in w for w in words[:1])
    assert revisions == sorted(revisions)
    assert revisions[-1] > 1


def test_a_long_edit_needs_memory_for_some_tiles_not_for_all(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    beside(monkeypatch)
    world = studio.world(studio.create(PLAIN.model_copy(update={"width_m": 2048, "depth_m": 2048})))
    reset(world, world.first_tract, flat(world), None)
    assert len(world.first_tract.cache._tiles) == 0
    reset(world, world.first_tract, flat(world, 12.0), None)
    assert len(world.first_tract.cache._tiles) == 0
    world.undo()
    assert len(world.first_tract.cache._tiles) == 0
    assert (ground(world) == np.float32(33.3)).all()


def test_a_job_says_how_far_a_long_edit_is(studio: Studio, land: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    beside(monkeypatch)
    job = ended(
        studio.start_weather(
            land.first_tract.row.id, Weather(kind="frost", passes=4, repose_deg=3, box=(20, 20, 900, 500))
        )
    )
    assert job.state == "done"
    assert job.result is not None
    assert job.result["revision"] == 4
    agree(land)
