"""Streams: where they run and end, what they cut and give back, joins and branches; also by the API."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Choice, Conflict, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import evenly
from fernfield.core.water.channel import FREEBOARD_M
from fernfield.work.ground.commands import RemoveSheet
from fernfield.work.ground.rows import SHEETS
from fernfield.work.ground.sheet_edits import empty_sheet
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.relations import StillNamed
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import spot
from fernfield.work.strokes import StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.water.draining import flood_of, flood_told
from fernfield.work.water.flowing import surface, wading, water_at
from fernfield.work.water.hollows import FillHollow, PutPool, fill_hollow, hollow_around, put_pool
from fernfield.work.water.laying import laid, streams_of
from fernfield.work.water.room import ROOM as WATER_ROOM
from fernfield.work.water.rows import OWN_LIQUIDS, POOLS, STREAMS, OwnLiquid, Stream, liquid_of
from fernfield.work.water.running import way_down
from fernfield.work.water.streams import PatchStream, PutStream, drop_stream, look_at, put_stream
from fernfield.work.water.ways import Ways
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw, everything, found_in
from tests.water.test_pools import DIG_PIT

SIDE = 256
Made = Callable[..., OpenWorld]


@pytest.fixture
def made(studio: Studio) -> Made:
    """Makes a world of 256 m from its heights, by row (0 north) and column."""

    def make(heights: Callable[[FloatArray, FloatArray], FloatArray], sea: float = -50.0) -> OpenWorld:
        row, col = np.mgrid[0 : SIDE + 1, 0 : SIDE + 1].astype(np.float32)
        ground = np.asarray(heights(row, col), np.float32)
        spec = WorldSpec(name="Becks", width_m=SIDE, depth_m=SIDE, spacing_m=1, sea_level_m=sea)
        return studio.world(studio.create(spec, heights=lambda window: ground[window.inside(spec.grid.window)]))

    return make


def valley(row: FloatArray, col: FloatArray) -> FloatArray:
    """A valley down the middle, falling to the south by 5 %, its sides by 20 %."""
    return 20 - 0.05 * row + 0.2 * np.abs(col - 128)


def beck(**said: Any) -> PutStream:
    return PutStream.model_validate({"name": "Beck", "points": [[128, 236]], **said})


def ground(world: OpenWorld) -> FloatArray:
    with world.lock:
        return np.asarray(world.first_land.read("height", world.first_land.bounds))


def water(world: OpenWorld) -> FloatArray:
    """The surface of water at every post, NaN where it is dry."""
    with world.lock:
        level = surface(world, world.first_land, world.first_land.bounds)
    return np.where(level > ground(world), level, np.nan)


def course(world: OpenWorld, key: str) -> np.ndarray:
    """x, y, surface, width, depth, bank."""
    return np.array(world.row(STREAMS, key).course)


def around(values: FloatArray) -> FloatArray:
    """The lowest of each post and the eight around it; past the edge nothing is."""
    wide = np.pad(values, 1, constant_values=np.inf)
    size = SIDE + 1
    return np.asarray(np.min([wide[r : r + size, c : c + size] for r in range(3) for c in range(3)], axis=0))


def holds_water(world: OpenWorld) -> None:
    """Every stream never rises, and all its water stands beside ground or water that is as high."""
    level, land = water(world), ground(world)
    for _, stream, _ in streams_of(world, world.first_land):
        assert (np.diff(np.array(stream.course)[:, 2]) <= 1e-9).all()
    wet = np.isfinite(level)
    beside = around(np.where(wet, np.inf, land))
    # Beside water that falls the ground is as low as the water a post further on.
    lowest = around(np.where(wet, level, np.inf))
    hangs = np.where(wet, np.minimum(level, lowest), -np.inf) - beside
    # Where it runs off the land there is nothing beside it.
    assert hangs[2:-2, 2:-2].max() <= 0.05


def test_a_stream_finds_its_way_down_and_gives_its_land_back(made: Made) -> None:
    world = made(valley)
    before, rows = ground(world), everything(world)
    outcome, told = put_stream(world, "beck", beck(width_m=4, depth_m=0.8))
    assert (told["ends"], outcome.revision) == ("edge", 1)
    assert told["length_m"] == pytest.approx(236, abs=2)
    assert told["fall_m"] == pytest.approx(0.05 * 236, abs=0.3)
    now, level = ground(world), water(world)
    assert (now <= before).all()
    assert (before - now).sum(dtype=np.float64) == pytest.approx(told["cut_m3"], rel=1e-4)
    # In the middle of its way: as wide and as deep as was said, just under the ground beside it.
    line = np.isfinite(level[128])
    assert 3 <= line.sum() <= 5
    assert (level[128] - now[128])[128] == pytest.approx(0.8, abs=0.02)
    assert level[128][128] == pytest.approx(before[128][128] - FREEBOARD_M, abs=0.06)
    holds_water(world)
    assert [sheet.name for _, sheet in world.each(SHEETS)] == ["Streams"]
    drop_stream(world, "beck")
    assert np.array_equal(ground(world), before)
    world.undo()
    assert np.array_equal(ground(world), now)
    world.undo()
    assert everything(world) == rows


def test_its_way_is_the_way_down(made: Made) -> None:
    """A stream from a spring lies where a drop of water runs."""
    world = made(lambda row, col: valley(row, col) + 0.1 * np.sin(row / 9) * np.cos(col / 7))
    way = np.array(way_down(world, world.first_land, 60, 200)["line"])
    _, told = put_stream(world, "beck", beck(points=[[60, 200]], in_hollow="cut"))
    xy = np.array(told["course"])[:, :2]
    row, col = evenly(way[:, 1], way[:, 0])
    assert max(np.hypot(row - y, col - x).min() for x, y in xy) < 3
    holds_water(world)


def test_streams_join_their_flows_add_up_and_their_surfaces_meet(made: Made) -> None:
    world = made(valley)
    put_stream(world, "beck", beck(width_m=4))
    first = ground(world)
    _, told = put_stream(world, "rill", beck(name="Rill", points=[[60, 160], [100, 130]], width_m=3))
    assert (told["ends"], told["joins"]) == ("stream", "beck")
    rows = world.row(STREAMS, "beck"), world.row(STREAMS, "rill")
    own, other = (np.array(row.course) for row in rows)
    # 4 m and 3 m make 5 m: the squares of widths add up (USGS Professional Paper 252).
    assert own[0, 3] == pytest.approx(4, abs=0.01)
    assert own[-1, 3] == pytest.approx(5, abs=0.05)
    y = other[-1, 1]
    meets = np.interp(-y, -own[:, 1], own[:, 2])
    assert abs(other[-1, 0] - 128) < 1
    assert other[-1, 2] == pytest.approx(meets, abs=0.05)
    holds_water(world)
    # Without the rill the beck is as it was, to the bit; without the beck the rill runs on to the edge.
    drop_stream(world, "rill")
    assert np.array_equal(ground(world), first)
    world.undo()
    drop_stream(world, "beck")
    alone = world.row(STREAMS, "rill")
    assert (alone.ends, alone.joins) == ("edge", None)
    assert np.array(alone.course)[-1, 1] == pytest.approx(0, abs=1)
    holds_water(world)


def test_a_stream_that_is_moved_leaves_nothing_behind(made: Made) -> None:
    """However it came to lie where it does, the land is the same."""
    world = made(valley)
    put_stream(world, "beck", beck(points=[[60, 200], [90, 150]]))
    put_stream(world, "beck", PatchStream(points=((200, 200), (180, 120)), width_m=5))
    moved, rows = ground(world), world.row(STREAMS, "beck")
    world.undo()
    drop_stream(world, "beck")
    put_stream(world, "beck", beck(points=[[200, 200], [180, 120]], width_m=5))
    assert np.array_equal(ground(world), moved)
    assert world.row(STREAMS, "beck") == rows


def test_it_meets_the_level_of_a_pool_and_of_the_sea(made: Made) -> None:
    world = made(lambda row, col: np.where(np.hypot(row - 150, col - 128) < 20, valley(row, col) - 4, valley(row, col)))
    put_pool(world, "tarn", PutPool(name="Tarn", x=128, y=106, depth_m=2))
    _, told = put_stream(world, "beck", beck())
    assert told["ends"] == "pool"
    assert told["course"][-1][2] == pytest.approx(world.row(POOLS, "tarn").level_m, abs=0.001)
    holds_water(world)
    sea = made(lambda row, col: valley(row, col), sea=12.0)
    _, told = put_stream(sea, "beck", beck())
    assert (told["ends"], told["course"][-1][2]) == ("sea", 12)
    holds_water(sea)


def hollow(row: FloatArray, col: FloatArray) -> FloatArray:
    """The valley with a hollow 3 m deep across its way."""
    return valley(row, col) - 3 * np.clip(1.3 - np.hypot(row - 120, col - 128) / 25, 0, 1)


def test_in_a_hollow_it_asks_and_a_pool_or_a_cut_is_made(made: Made) -> None:
    world = made(hollow)
    start = everything(world)
    with pytest.raises(Choice, match="say in_hollow, one of pool, cut") as asked:
        put_stream(world, "beck", beck())
    assert everything(world) == start
    choices: Any = asked.value.more["choices"]
    _, told = put_stream(world, "beck", beck(in_hollow="pool"))
    ((key, pool),) = world.each(POOLS)
    assert (told["ends"], key, pool.level_m) == ("pool", "beck-pool", choices["pool"]["level_m"])
    level = water(world)
    standing = np.isclose(level, pool.level_m, atol=1e-4)
    assert standing.sum() == pytest.approx(choices["pool"]["area_m2"], rel=0.05)
    holds_water(world)
    assert [f.words for f in found_in(world) if f.check in ("water", "streams")] == []
    world.undo()
    assert everything(world) == start
    _, told = put_stream(world, "beck", beck(in_hollow="cut"))
    assert (told["ends"], told["cut_m3"]) == ("edge", pytest.approx(choices["cut"]["cut_m3"]))
    holds_water(world)


def test_above_its_brim_a_pool_can_have_its_outlet_dug(made: Made) -> None:
    """It stands to the brim, and what is more runs away in a bed; nothing of the pool runs down there."""
    world = made(hollow)
    start = everything(world)
    with pytest.raises(Choice, match="above its brim") as asked:
        put_pool(world, "tarn", PutPool(name="Tarn", x=128, y=136, depth_m=9))
    choices: Any = asked.value.more["choices"]
    assert set(choices) == {"flood", "raise_rim", "dig_outlet"}
    put_pool(world, "tarn", PutPool(name="Tarn", x=128, y=136, depth_m=9, above_brim="dig_outlet"))
    pool, outlet = world.row(POOLS, "tarn"), world.row(STREAMS, "tarn-outlet")
    assert pool.level_m == choices["dig_outlet"]["level_m"]
    assert (outlet.name, outlet.ends) == ("Outlet of Tarn", "edge")
    assert outlet.cut_m3 == choices["dig_outlet"]["cut_m3"] > 0
    level = water(world)
    assert level[120][128] == np.float32(pool.level_m)
    # South of the brim only the outlet is wet, and lower.
    assert np.nanmax(level[170:]) < pool.level_m - 0.5
    assert np.isfinite(level[200]).sum() <= 4
    holds_water(world)
    assert [f.words for f in found_in(world) if f.check in ("water", "streams")] == []
    # Laid anew it lies where it did.
    put_stream(world, "tarn-outlet", PatchStream())
    assert world.row(STREAMS, "tarn-outlet") == outlet
    world.undo()
    assert everything(world) == start


def test_a_hollow_is_filled_and_drained(made: Made) -> None:
    world = made(hollow)
    found = hollow_around(world, world.first_land, 128, 136)
    before = ground(world)
    fill_hollow(world, world.first_land, FillHollow(x=128, y=136))
    rise = ground(world) - before
    assert (rise > 0).sum() == len(found.posts)
    assert (before + rise)[rise > 0].min() == np.float32(found.brim.level)
    with pytest.raises(NotFound):
        fill_hollow(world, world.first_land, FillHollow(x=128, y=136))
    world.undo()
    x, y = world.first_land.grid.x_of(found.floor[1] + found.window.col0), world.first_land.grid.y_of(
        found.floor[0] + found.window.row0)  # fmt: skip
    put_stream(world, "drain", beck(name="Drain", points=[[x, y]], in_hollow="cut"))
    with pytest.raises(NotFound):
        hollow_around(world, world.first_land, 128, 156)


def test_a_branch_leaves_and_joins_again(made: Made) -> None:
    """An island: what the branch takes the stream has less of, until it comes back."""
    world = made(lambda row, col: 20 - 0.05 * row + 0 * col)
    put_stream(world, "beck", beck(points=[[128, 236], [128, 0]], width_m=5))
    _, told = put_stream(
        world, "arm", beck(name="Arm", points=[[128, 180], [160, 150], [160, 110], [128, 80]], width_m=3)
    )
    assert (told["leaves"], told["joins"], told["ends"]) == ("beck", "beck", "stream")
    own = np.array(world.row(STREAMS, "beck").course)
    widths = [float(np.interp(-y, -own[:, 1], own[:, 3])) for y in (220, 130, 20)]
    assert widths == pytest.approx([5, 4, 5], abs=0.1)
    holds_water(world)


def test_a_ford_is_waded_and_a_fall_falls(made: Made) -> None:
    world = made(lambda row, col: valley(row, col) + np.where(row < 100, 6, 0))
    _, told = put_stream(world, "beck", beck(width_m=6, depth_m=1.6, fords=[[128, 60]]))
    assert [fall["height_m"] for fall in told["falls"]] == [pytest.approx(6, abs=0.5)]
    assert told["falls"][0]["y"] == pytest.approx(SIDE - 100, abs=4)
    level, land = water(world), ground(world)
    depth = np.nan_to_num(level - land)
    assert depth[SIDE - 60].max() == pytest.approx(0.3, abs=0.03)
    assert depth[SIDE - 90].max() == pytest.approx(1.6, abs=0.05)
    holds_water(world)


def test_without_carving_the_land_stays(made: Made) -> None:
    world = made(lambda row, col: valley(row, col) - 0.6 * (np.abs(col - 128) < 3))
    before = ground(world)
    _, told = put_stream(world, "beck", beck(carve=False, depth_m=0.4, width_m=5))
    assert told["cut_m3"] == 0
    assert np.array_equal(ground(world), before)
    assert (water(world) - ground(world))[100][128] == pytest.approx(0.4, abs=0.03)


def test_what_cannot_run_is_said(made: Made) -> None:
    world = made(valley)
    with pytest.raises(InvalidInput, match="the spring of Beck must lie on the land"):
        put_stream(world, "beck", beck(points=[[300, 20]]))
    with pytest.raises(Conflict, match="no way to run: water runs off the land right at its spring"):
        put_stream(world, "beck", beck(points=[[128, 0]]))
    with pytest.raises(NotFound):
        put_stream(world, "beck", PatchStream(width_m=3))
    with pytest.raises(InvalidInput, match="a ford of Beck must lie on it, not 72 m beside it"):
        put_stream(world, "beck", beck(fords=[[200, 100]]))
    with pytest.raises(NotFound):
        drop_stream(world, "beck")
    put_stream(world, "beck", beck())
    with pytest.raises(Conflict, match="in the bed of Beck all along"):
        put_stream(world, "rill", beck(name="Rill", points=[[128, 200], [128, 100]]))
    put_pool(world, "lake", PutPool(name="Lake", x=128, y=100, level_m=40, above_brim="flood"))
    with pytest.raises(Conflict, match="under water all along"):
        put_stream(world, "rill", beck(name="Rill", points=[[60, 200], [60, 150]]))


def test_a_look_changes_nothing_and_tells_what_comes_of_it(made: Made) -> None:
    world = made(valley)
    start = everything(world)
    seen = look_at(world, "beck", beck(width_m=4))
    assert (everything(world), world.revision) == (start, 0)
    _, told = put_stream(world, "beck", beck(width_m=4))
    assert seen == told


def test_two_streams_whichever_was_first(made: Made) -> None:
    """Drawn in either order, two that do not touch cut the same land, where their banks overlap too."""
    both = []
    for order in (("a", "b"), ("b", "a")):
        world = made(lambda row, col: 20 - 0.05 * row + 0 * col)
        for key in order:
            x = 120 if key == "a" else 130
            put_stream(world, key, beck(name=key, points=[[x, 236], [x, 0]], width_m=3))
        both.append(ground(world))
        holds_water(world)
    assert np.array_equal(*both)


def test_others_work_on_while_a_stream_is_planned_and_it_runs_on_their_ground(
    made: Made, monkeypatch: pytest.MonkeyPatch
) -> None:
    world = made(valley)
    trace, rounds = Ways.trace, []

    def disturbed(ways: Ways) -> set[str]:
        found = trace(ways)
        rounds.append(world.revision)
        if len(rounds) == 1:
            # Somebody dams the valley before the stream is kept; the world is not held meanwhile.
            other = threading.Thread(
                target=lambda: draw(world, "raise", path=[(128, 90, 0), (128, 90, 2)], radius_m=20, strength=3)
            )
            other.start()
            other.join(30)
            assert not other.is_alive()
        return found

    monkeypatch.setattr(Ways, "trace", disturbed)
    put_stream(world, "beck", beck(width_m=4, points=[[128, 236], [128, 0]]))
    assert rounds == [0, 1]
    holds_water(world)
    assert [f.words for f in found_in(world) if f.check == "streams"] == []
    monkeypatch.undo()
    was = world.row(STREAMS, "beck")
    put_stream(world, "beck", PatchStream())
    assert world.row(STREAMS, "beck") == was


def test_a_stream_behind_a_stroke_is_refused_soon_and_set_when_that_has_ended(
    made: Made, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever waits for the answer does not wait as long as others may draw."""
    world = made(valley)
    monkeypatch.setattr("fernfield.work.kernel.writing.sweep.SOON_S", 0.05)
    run = world.begin_stroke(world.first_tract.row.id, StrokeStart(tool="raise", radius_m=20, softness=0, strength=1))
    world.extend_stroke(run, [Sample(128, 128 + 4 * t, t / 10) for t in range(6)])
    command = PutStream(name="Beck", points=((128, 250),))
    with pytest.raises(Conflict, match="try again when it has ended"):
        put_stream(world, "beck", command)
    world.abandon_stroke(run)
    assert put_stream(world, "beck", command)[1]["ends"] == "edge"


def test_water_is_told_of_at_a_spot_and_findings_say_when_the_ground_has_moved(made: Made) -> None:
    world = made(valley)
    put_stream(world, "beck", beck(width_m=4, points=[[128, 236], [128, 0]]))
    found = water_at(world, world.first_land, 128, 128)
    assert found is not None
    assert (found.name, found.collection, found.key) == ("Beck", "streams", "beck")
    assert water_at(world, world.first_land, 128 + 30, 128) is None
    assert [f.words for f in found_in(world) if f.check in ("water", "streams")] == []
    draw(world, "raise", path=[(128, 128, 0), (128, 128, 2)], radius_m=12, softness=0, strength=3)
    dammed = [f for f in found_in(world) if f.check in ("water", "streams")]
    assert [f.words.split(" for ")[0] for f in dammed] == ["Beck runs dry"]
    assert dammed[0].mend is not None
    assert dammed[0].mend.path.endswith("/streams/beck/relay")
    put_stream(world, "beck", PatchStream())
    assert [f.words for f in found_in(world) if f.check in ("water", "streams")] == []
    holds_water(world)
    draw(world, "lower", path=[(128 + 8, 60, 0), (128 + 8, 60, 2)], radius_m=7, softness=0, strength=3)
    hangs = [f for f in found_in(world) if f.check in ("water", "streams")]
    assert [f.words.split(" at ")[0] for f in hangs] == ["Beck hangs over lower ground beside it"]


def test_a_stream_can_always_be_deleted_whatever_becomes_of_those_that_joined_it(made: Made) -> None:
    """One that joined it has no way of its own any more: it stays where it lies, and a finding says so."""
    world = made(valley)
    put_stream(world, "beck", beck(width_m=6, points=[[128, 236], [128, 0]]))
    put_stream(world, "rill", beck(name="Rill", points=[[116, 128], [128, 124]], width_m=2))
    assert world.row(STREAMS, "rill").joins == "beck"
    put_pool(world, "lake", PutPool(name="Lake", x=128, y=120, level_m=40, above_brim="flood"))
    drop_stream(world, "beck")
    assert world.row(STREAMS, "rill").ends == "hollow"
    assert any("Rill ends on dry ground" in f.words for f in found_in(world))
    drop_stream(world, "rill")
    assert not list(world.each(STREAMS))


def test_its_sheet_can_go_and_comes_again(made: Made) -> None:
    world = made(valley)
    put_stream(world, "beck", beck())
    now = ground(world)
    with pytest.raises(Conflict, match="locked"):
        empty_sheet(world, RemoveSheet(key="streams"))
    put_stream(world, "beck", PatchStream())
    assert np.array_equal(ground(world), now)


def test_across_a_join_as_on_one_tract(studio: Studio) -> None:
    """A stream over two joined tracts, of level ground with a trough, lies and cuts as on one, byte for byte."""

    def world_of(name: str, width: int) -> OpenWorld:
        spec = WorldSpec(name=name, width_m=width, depth_m=128, spacing_m=1, elevation_m=10, sea_level_m=-50)
        return studio.world(studio.create(spec))

    whole, parts = world_of("One", 256), world_of("Two", 128)
    first = parts.first_tract.row.id
    second = studio.add_tract(parts.id, TractSpec(name="E", x=128, y=0, width_m=128, depth_m=128, spacing_m=1,
                                                  elevation_m=10))[0]  # fmt: skip
    join(parts, JoinTracts(first=first, second=second, blend_m=0))
    found = []
    for world in (whole, parts):
        draw(world, "lower", path=[(60, 70, 0), (200, 60, 8)], radius_m=14, softness=1, strength=0.4)
        _, told = put_stream(world, "leat", beck(points=[[20, 100], [120, 70], [160, 40], [256, 30]], width_m=4))
        land = world.first_land
        with world.lock:
            found.append((land.read("height", land.bounds), surface(world, land, land.bounds), told["course"]))
    assert np.array_equal(found[0][0], found[1][0])
    assert np.array_equal(found[0][1], found[1][1])
    assert found[0][2] == found[1][2]
    # Seen from the other tract it is the same water.
    east = parts.land_from(second)
    with parts.lock:
        assert np.array_equal(surface(parts, east, east.bounds), found[1][1])
    drop_stream(parts, "leat")
    drop_stream(whole, "leat")
    with parts.lock:
        assert np.array_equal(parts.first_land.read("height", parts.first_land.bounds), whole.first_land.read(
            "height", whole.first_land.bounds))  # fmt: skip


def level_world(client: TestClient, side: int) -> Any:
    """Level ground at 10 m, the sea at 0."""
    spec = {"name": "A", "width_m": side, "depth_m": side, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    return client.post("/api/worlds", json=spec).json()


def test_by_the_api(client: TestClient) -> None:
    made = level_world(client, 256)
    tract = made["tracts"][0]["id"]
    streams = f"/api/worlds/{made['id']}/streams"
    # Level ground: water that is led over it by hand runs off at the edge.
    body = {"name": "Leat", "points": [[40, 200], [40, 100], [0, 100]], "width_m": 4, "depth_m": 1}
    seen = client.post(f"{streams}/leat/look", json=body).json()
    told = client.put(f"{streams}/leat", json=body).json()
    assert told["revision"] == 1
    assert told["cut_m3"] == seen["cut_m3"] > 0
    assert told["ends"] == "edge"
    spot = client.get(f"/api/tracts/{tract}/spot?x=40&y=150").json()
    assert spot["water"]["name"] == "Leat"
    assert spot["water_depth_m"] == pytest.approx(1, abs=0.02)
    assert [one["key"] for one in client.get(streams).json()] == ["leat"]
    told = client.patch(f"{streams}/leat", json={"depth_m": 0.5}).json()
    assert told["depth_m"] == 0.5
    found = client.put(f"{streams}/leat", json={**body, "width_m": 0.1})
    assert found.status_code == 422
    assert "width_m" in found.text
    assert client.patch(f"{streams}/none", json={}).status_code == 404
    assert client.delete(f"{streams}/leat").json()["revision"] == 3
    assert client.get(streams).json() == []


def test_a_flood_by_the_api(client: TestClient) -> None:
    """Rain on level ground with a pit: what falls into the pit stands, the rest runs off; a spring fills it alone."""
    made = level_world(client, 128)
    tract = made["tracts"][0]["id"]
    client.post(f"/api/tracts/{tract}/strokes", json=DIG_PIT)
    query = {"row0": 0, "col0": 0, "row1": 129, "col1": 129}
    answer = client.get(f"/api/tracts/{tract}/flood", params={**query, "rain_mm": 100})
    told = json.loads(answer.headers["x-flood"])
    deep = np.frombuffer(answer.content, "<f4").reshape(129, 129)
    assert told["stands_m3"] + told["runs_off_m3"] == pytest.approx(0.1 * 129 * 129, rel=1e-4)
    assert deep.sum(dtype=np.float64) == pytest.approx(told["stands_m3"], rel=1e-4)
    assert deep[64, 64] > 0.1
    spring = client.get(f"/api/tracts/{tract}/flood", params={**query, "x": 64, "y": 64, "volume_m3": 100})
    assert json.loads(spring.headers["x-flood"])["stands_m3"] == pytest.approx(100, abs=0.01)
    coarse = client.get(f"/api/tracts/{tract}/flood", params={**query, "rain_mm": 100, "step": 4})
    assert coarse.headers["x-shape"] == "33,33"
    assert client.get(f"/api/tracts/{tract}/flood", params={**query, "x": 3}).status_code == 422
    assert client.post(f"/api/tracts/{tract}/hollow/fill", json={"x": 64, "y": 64}).json()["fill_m3"] > 1000
    assert client.post(f"/api/tracts/{tract}/hollow/fill", json={"x": 64, "y": 64}).status_code == 404
    shore = client.get(f"/api/tracts/{tract}/water", params={**query, "sea_level_m": 11})
    assert np.isfinite(np.frombuffer(shore.content, "<f4")).all()
    assert not np.isfinite(np.frombuffer(client.get(f"/api/tracts/{tract}/water", params=query).content, "<f4")).any()


def test_rain_that_comes_to_the_sea_is_gone(made: Made) -> None:
    """Nothing stands higher in the sea or in a full pool; what does not stand in hollows has run off."""
    world = made(hollow, sea=10.0)
    found, flood = flood_of(world, world.first_land, 0.3)
    told = flood_told(found, flood)
    assert told["stands_m3"] + told["runs_off_m3"] == pytest.approx(0.3 * 257 * 257, rel=1e-4)
    assert told["stands_m3"] > 100
    assert flood.depth[ground(world) < 10].max() == 0
    put_pool(world, "tarn", PutPool(name="Tarn", x=128, y=136, share_of_brim=1))
    found, flood = flood_of(world, world.first_land, 0.3)
    assert flood_told(found, flood)["stands_m3"] < 1


def test_a_large_hollow_without_water_is_found_until_something_is_done(made: Made) -> None:
    def found(world: OpenWorld) -> list[str]:
        return [f.words for f in found_in(world) if f.check == "hollows"]

    wide = made(lambda row, col: 30 - 0.05 * row - 6 * np.clip(1.3 - np.hypot(row - 128, col - 128) / 60, 0, 1))
    assert [words.split(" holds")[0] for words in found(wide)] == ["A hollow 3.0 m deep"]
    put_pool(wide, "tarn", PutPool(name="Tarn", x=128, y=128, share_of_brim=0.5))
    assert found(wide) == []
    wide.undo()
    fill_hollow(wide, wide.first_land, FillHollow(x=128, y=128))
    assert found(wide) == []
    assert found(made(hollow)) == []


def test_depths_for_a_walker(made: Made) -> None:
    """A shelving sea: a trace, then waded to 1.2 m, then swum."""
    world = made(lambda row, col: 5 - 0.05 * row + 0 * col, sea=0)
    land = world.first_land
    with world.lock:
        classes = wading(world, land, land.bounds)
        coarse = wading(world, land, land.bounds, 4)
    deep = 0.05 * np.arange(SIDE + 1, dtype=np.float32) - 5
    for least, most, value in ((-9, -0.01, 0), (0.01, 0.04, 0.12), (0.06, 1.19, 0.5), (1.21, 99, 1)):
        assert (classes[(deep > least) & (deep < most)] == np.float32(value)).all()
    assert np.abs(coarse - classes[::4, ::4]).mean() < 0.02


def test_a_liquid_of_the_user_s_own_is_held_waded_and_kept_while_it_is(made: Made) -> None:
    """A tar pit that stops a walker at once; its key and its use are looked after."""
    world = made(hollow)
    world.edit(put(OWN_LIQUIDS, "tar", OwnLiquid(name="Tar", colour="#221c18", clear=0.0, wade_m=0.1, tag="sticks")))
    put_pool(world, "pit", PutPool(name="Pit", x=128, y=136, share_of_brim=0.5, liquid="tar"))
    told = spot(world, world.first_land, 128, 136)
    assert (told["water"]["liquid"], told["walk"]) == ("tar", "too deep")
    picture = plan_pixels(world, world.first_land, 0, Window(115, 123, 125, 133), Show(contour_m=0))
    assert picture[5, 5, :3].max() < 60
    assert WATER_ROOM.manifest is not None
    assert [one["name"] for one in WATER_ROOM.manifest(world)["liquids"]] == ["tar"]
    with pytest.raises(StillNamed, match="The liquid Tar is named by the pool Pit: say on_named=clear or delete"):
        world.edit(remove(OWN_LIQUIDS, "tar"))
    with pytest.raises(Conflict, match="mud is a liquid already"):
        world.edit(put(OWN_LIQUIDS, "mud", OwnLiquid(name="Mud")))
    with pytest.raises(
        NotFound, match="no 'lava' among the liquids of this world; there is water, mud, brine, hot, ice, tar"
    ):
        world.edit(patch(POOLS, "pit", liquid="lava"))
    world.edit(patch(POOLS, "pit", liquid="ice"))
    world.edit(remove(OWN_LIQUIDS, "tar"))
    assert liquid_of(world, "tar").name == "water"


def test_a_row_of_a_stream_is_laid_once(made: Made) -> None:
    world = made(valley)
    put_stream(world, "beck", beck())
    row, land = world.row(STREAMS, "beck"), world.first_land
    assert laid(land, row, (0, 0)) is laid(land, row, (0, 0))
    assert isinstance(row, Stream)
