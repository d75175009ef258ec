"""Where water stands: a sea that must reach, pools in their hollows, what happens above a brim; also by the API."""

from __future__ import annotations

import itertools
import json

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Choice, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.travel.walker import Intent
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.ruling import COVER_RULES, Rule
from fernfield.work.cover.shares import cover_shares
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.sections import line_section, section
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import spot
from fernfield.work.strokes import StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.trial.walks import Walk
from fernfield.work.water.draining import drainage_of, hollows_of
from fernfield.work.water.flowing import SWUM, WADED, WaterHere, surface, wading, water_at
from fernfield.work.water.hollows import PutPool, hollow_around, put_pool, told
from fernfield.work.water.rows import DRY_M, POOLS, WATER, Pool, tide_level
from fernfield.work.water.running import way_down
from fernfield.work.water.standing import NO_TIDE, between_tides, pool_extent, tides
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw, found_in

DIG_PIT = {
    "tool": "flatten", "radius_m": 20, "softness": 0, "strength": 9, "target_m": 7,
    "path": [[64, 64, 0], [64, 64, 30]],
}  # fmt: skip
"""A stroke that digs a pit to 7 m around (64, 64)."""
HALF = {"name": "Half", "points": [[0, 0], [64, 0], [64, 128], [0, 128]]}


@pytest.fixture
def pitted(world: OpenWorld) -> OpenWorld:
    """The handbook case: level ground at 10 m (300 m square), a hollow cut to 7 m in its middle."""
    draw(world, "flatten", path=[(150, 150, 0), (150, 150, 30)], radius_m=30, softness=0, strength=9, target_m=7.0)
    heights = world.first_land.read("height", world.first_land.bounds)
    assert (heights.min(), heights.max()) == (7, 10)
    return world


def wet(world: OpenWorld) -> FloatArray:
    """The depth of the water at every post."""
    land = world.first_land
    with world.lock:
        return np.maximum(surface(world, land, land.bounds) - land.read("height", land.bounds), 0)


def pool(level: float, **said: object) -> PutPool:
    return PutPool.model_validate({"name": "Tarn", "x": 150, "y": 150, "level_m": level, **said})


def test_the_handbook_case(pitted: OpenWorld) -> None:
    """At 7 m no water; at 8 and 9 a pool inside of the hollow; the brim at 10; at 11 all of the land floods."""
    land = pitted.first_land
    hollow = told(pitted, land, hollow_around(pitted, land, 150, 150))
    assert (hollow["floor_m"], hollow["brim_m"], hollow["greatest_depth_m"]) == (7, 10, 3)
    inside = int((land.read("height", land.bounds) < 10).sum())
    assert (hollow["area_m2"], hollow["parents"], hollow["inside"]) == (inside, [], [])
    assert hollow["runs_to"] == []
    with pytest.raises(InvalidInput, match=r"above the floor at 7\.00 m, not 7"):
        put_pool(pitted, "tarn", pool(7))
    assert wet(pitted).max() == 0
    for level in (8, 9, 10):
        put_pool(pitted, "tarn", pool(level))
        depth = wet(pitted)
        assert depth.max() == pytest.approx(level - 7)
        assert 0 < (depth > 0).sum() <= inside
        assert depth[0].max() == depth[:, 0].max() == 0
    with pytest.raises(Choice, match="above its brim") as asked:
        put_pool(pitted, "tarn", pool(11))
    choices = asked.value.more["choices"]
    assert isinstance(choices, dict)
    assert choices["flood"] == {"area_m2": 301 * 301, "runs_off": True}
    # A rim of two posts and 1.3 m around a hollow that is 60 m across.
    assert 2 * 1.3 * np.pi * 60 * 0.9 < choices["raise_rim"]["fill_m3"] < 2 * 1.3 * np.pi * 66 * 1.3
    at = pitted.revision
    put_pool(pitted, "tarn", pool(11, above_brim="flood"))
    assert (pitted.revision, bool((wet(pitted) > 0.99).all())) == (at + 1, True)
    assert [f.words for f in found_in(pitted) if f.check == "water"] == []
    pitted.undo()
    before = land.read("height", land.bounds)
    put_pool(pitted, "tarn", pool(11, above_brim="raise_rim"))
    raised = land.read("height", land.bounds) - before
    assert raised.sum() == pytest.approx(choices["raise_rim"]["fill_m3"], rel=1e-3)
    depth = wet(pitted)
    assert depth.max() == pytest.approx(4)
    assert depth[0].max() == 0
    assert [f.words for f in found_in(pitted) if f.check == "water"] == []
    pitted.undo()
    assert np.array_equal(land.read("height", land.bounds), before)
    assert wet(pitted).max() == pytest.approx(3)


def test_a_pool_by_its_depth_and_by_its_share(pitted: OpenWorld) -> None:
    put_pool(pitted, "tarn", PutPool(name="T", x=150, y=150, depth_m=2))
    assert pitted.row(POOLS, "tarn").level_m == pytest.approx(9)
    put_pool(pitted, "tarn", PutPool(name="T", x=150, y=150, share_of_brim=0.5))
    assert pitted.row(POOLS, "tarn").level_m == pytest.approx(8.5)
    with pytest.raises(InvalidInput, match="say one of"):
        put_pool(pitted, "tarn", PutPool(name="T", x=150, y=150, share_of_brim=0.5, level_m=9))
    with pytest.raises(InvalidInput, match="say one of"):
        put_pool(pitted, "tarn", PutPool(name="T", x=150, y=150))
    with pytest.raises(NotFound, match="no hollow around the spot"):
        hollow_around(pitted, pitted.first_land, 20, 20)
    with pytest.raises(InvalidInput, match="there is no brim"):
        put_pool(pitted, "other", PutPool(name="O", x=20, y=20, share_of_brim=0.5))
    with pytest.raises(Choice) as asked:
        put_pool(pitted, "other", PutPool(name="O", x=20, y=20, depth_m=1))
    assert list(asked.value.more["choices"]) == ["flood"]  # type: ignore[call-overload]


def test_a_pool_follows_the_ground_and_says_when_it_spills(pitted: OpenWorld) -> None:
    put_pool(pitted, "tarn", pool(9))
    before = int((wet(pitted) > 0).sum())
    # Dug wider: the pool is wider at once.
    draw(pitted, "flatten", path=[(190, 150, 0), (190, 150, 30)], radius_m=20, softness=0, strength=9, target_m=8.0)
    assert (wet(pitted) > 0).sum() > before + 200
    assert [f.words for f in found_in(pitted) if f.check == "water"] == []
    # A trench to the edge: it runs off.
    draw(pitted, "flatten", path=[(200, 150, 0), (299, 150, 20)], radius_m=8, softness=0, strength=60, target_m=8.0)
    assert ["spills" in f.words for f in found_in(pitted) if f.check == "water"] == [True]
    pitted.undo()
    draw(pitted, "flatten", path=[(150, 150, 0), (150, 150, 30)], radius_m=70, softness=0, strength=9, target_m=12.0)
    assert ["has no depth" in f.words for f in found_in(pitted) if f.check == "water"] == [True]
    assert wet(pitted).max() == 0


def test_water_over_an_opening_is_found(pitted: OpenWorld) -> None:
    draw(pitted, "open", path=[(140, 150, 0), (140, 150, 1)], radius_m=4, softness=0.0, strength=500)
    draw(pitted, "open", path=[(40, 40, 0), (40, 40, 1)], radius_m=4, softness=0.0, strength=500)
    assert not [f for f in found_in(pitted) if f.check == "water"]
    put_pool(pitted, "tarn", pool(9))
    (found,) = [f for f in found_in(pitted) if f.check == "water"]
    assert found.words.startswith("Water stands 2.00 m deep over an opening, on ")
    assert np.hypot((found.x or 0) - 140, (found.y or 0) - 150) <= 4
    draw(pitted, "close", path=[(140, 150, 0), (140, 150, 1)], radius_m=9, softness=0.0, strength=500)
    assert not [f for f in found_in(pitted) if f.check == "water"]


def test_a_pool_is_kept_to_a_plot(pitted: OpenWorld) -> None:
    plot = Plot(name="Half", points=((100, 100), (150, 100), (150, 200), (100, 200)))
    pitted.edit(put(PLOTS, "half", plot))
    put_pool(pitted, "tarn", pool(9, x=140, plot="half"))
    depth = wet(pitted)
    assert depth[:, 152:].max() == 0
    assert depth[150, 130:149].min() == pytest.approx(2)
    with pytest.raises(NotFound):
        put_pool(pitted, "other", pool(9, plot="gone"))


def test_the_sea_stays_out_of_where_it_does_not_reach(pitted: OpenWorld) -> None:
    pitted.edit(patch(WATER, "sea", sea_level_m=9.0))
    assert wet(pitted).max() == 0
    assert water_at(pitted, pitted.first_land, 150, 150) is None
    pitted.edit(patch(WATER, "sea", inland=True))
    assert wet(pitted).max() == pytest.approx(2)
    pitted.edit(patch(WATER, "sea", inland=False))
    # A trench to the edge lets it in, and undo shuts it out.
    draw(pitted, "flatten", path=[(150, 150, 0), (299, 150, 20)], radius_m=8, softness=0, strength=60, target_m=8.0)
    assert wet(pitted).max() == pytest.approx(2)
    found = water_at(pitted, pitted.first_land, 150, 150)
    assert found is not None
    assert (found.name, found.liquid, found.collection, found.key) == ("Sea", "water", "water", "sea")
    pitted.undo()
    assert wet(pitted).max() == 0
    pitted.edit(patch(WATER, "sea", sea_level_m=11.0))
    assert wet(pitted).min() == pytest.approx(1)


def test_the_sea_follows_a_channel_while_it_is_dug(pitted: OpenWorld) -> None:
    """From the sea inland; a pit that is dug without it stays dry, and so does all when the stroke is taken back."""
    pitted.edit(patch(WATER, "sea", sea_level_m=9.0))
    draw(pitted, "flatten", path=[(299, 150, 0), (299, 150, 20)], radius_m=8, softness=0, strength=60, target_m=8.0)
    tract = pitted.first_tract.row.id
    start = StrokeStart(tool="flatten", radius_m=8, softness=0, strength=60, target_m=8)
    far, dug = (150, 240), (150, 265)
    assert wet(pitted)[dug] == 0
    run = pitted.begin_stroke(tract, start)
    pitted.extend_stroke(run, [Sample(292, 150, 0), Sample(277, 150, 2), Sample(262, 150, 4), Sample(261, 150, 4.1)])
    assert wet(pitted)[dug] == pytest.approx(1)
    assert wet(pitted)[far] == 0
    pitted.extend_stroke(run, [Sample(238, 150, 8), Sample(237, 150, 8.1)])
    assert wet(pitted)[far] == pytest.approx(1)
    pitted.finish_stroke(run)
    assert wet(pitted)[far] == pytest.approx(1)
    pitted.undo()
    assert wet(pitted)[dug] == 0
    run = pitted.begin_stroke(tract, start)
    pitted.extend_stroke(run, [Sample(240, 60, 0), Sample(240, 60, 3), Sample(240, 60, 3.1)])
    assert pitted.first_land.elevation(240, 60) == pytest.approx(8)
    assert wet(pitted)[240, 240] == 0
    pitted.finish_stroke(run)


def test_the_ground_between_the_tides(pitted: OpenWorld) -> None:
    with pytest.raises(ValueError, match="go together"):
        pitted.edit(patch(WATER, "sea", tide_low_m=1.0))
    with pytest.raises(ValueError, match="must not be above"):
        pitted.edit(patch(WATER, "sea", tide_low_m=3.0, tide_high_m=1.0))
    land = pitted.first_land
    assert between_tides(pitted, land, land.bounds).max() == 0
    pitted.edit(patch(WATER, "sea", sea_level_m=9.5, tide_low_m=8.0, tide_high_m=10.5))
    tidal = between_tides(pitted, land, land.bounds) > 0
    heights = land.read("height", land.bounds)
    assert np.array_equal(tidal, (heights >= 8) & (heights < 10.5))
    # High tide reaches nothing where the edge stands above it.
    pitted.edit(patch(WATER, "sea", tide_high_m=9.9))
    assert between_tides(pitted, land, land.bounds).max() == 0


def tidal_trench(world: OpenWorld) -> None:
    """A trench from the pit to the edge lets the sea in, which goes from 8 to 9 m."""
    draw(world, "flatten", path=[(150, 150, 0), (299, 150, 20)], radius_m=8, softness=0, strength=60, target_m=7.0)
    world.edit(patch(WATER, "sea", sea_level_m=8.5, tide_low_m=8.0, tide_high_m=9.0))


def test_covers_know_how_high_they_lie_between_the_tides(pitted: OpenWorld) -> None:
    land = pitted.first_land
    assert tides(pitted, land, land.bounds).min() == NO_TIDE
    tidal_trench(pitted)
    draw(pitted, "flatten", path=[(220, 165, 0), (220, 165, 30)], radius_m=12, softness=0, strength=9, target_m=8.6)
    heights = land.read("height", land.bounds)
    part = tides(pitted, land, land.bounds)
    assert np.allclose(part, (heights - 8) * 100)
    assert np.array_equal(tides(pitted, land, Window(140, 130, 160, 290), 2), part[140:160:2, 130:290:2])
    # A dry hollow that is as low has no tide, though it lies under high water.
    draw(pitted, "flatten", path=[(60, 60, 0), (60, 60, 30)], radius_m=20, softness=0, strength=9, target_m=8.5)
    assert tides(pitted, land, land.bounds)[240, 60] == NO_TIDE
    # Nor has one whose floor lies a little above high water; on a shelf beside the sea it goes on.
    draw(pitted, "flatten", path=[(60, 140, 0), (60, 140, 30)], radius_m=20, softness=0, strength=9, target_m=9.2)
    draw(pitted, "flatten", path=[(270, 165, 0), (270, 165, 30)], radius_m=12, softness=0, strength=9, target_m=9.2)
    higher = tides(pitted, land, land.bounds)
    assert higher[160, 60] == NO_TIDE
    assert higher[130, 270] == pytest.approx(120)
    rule = Rule.model_validate({"cover": "rock", "conditions": [{"what": "tide", "from": 0, "to": 100}]})
    pitted.edit(patch(COVER_RULES, COVER_RULES.only or "", rules=[rule.model_dump(mode="json", exclude_unset=True)]))
    with pitted.lock:
        share = cover_shares(pitted, land, land.bounds)[[key for key, _ in covers_of(pitted)].index("rock")]
    between = (heights > 8) & (heights < 9)
    assert between.sum() > 100
    assert share[between].min() == 1
    assert share[heights == 7].max() == share[240, 60] == 0


def test_a_walk_and_a_picture_are_of_the_tide_that_is_asked_for(pitted: OpenWorld) -> None:
    tidal_trench(pitted)
    land = pitted.first_land
    walks = {m: Walk(pitted, land, 290, 150, sea_m=tide_level(pitted, m)) for m in (None, "low", "high")}
    assert [walks[m].water(290, 150) for m in (None, "low", "high")] == pytest.approx([1.5, 1.0, 2.0])
    window = Window(0, 0, 301, 301)
    level, low, high = (plan_pixels(pitted, land, 0, window, Show(tide=tide)) for tide in (None, "low", "high"))
    assert not np.array_equal(level, low)
    assert not np.array_equal(low, high)
    # The line of facts and the section tell what is shown.
    facts = [spot(pitted, land, 290, 150, tide)["water_depth_m"] for tide in (None, "low", "high")]
    assert facts == pytest.approx([1.5, 1.0, 2.0])
    for tide, level_m in ((None, 8.5), ("low", 8.0), ("high", 9.0)):
        across = section(pitted, land, 150, 270, 299, tide=tide)
        along = line_section(pitted, land, [(290, 100), (290, 200)], tide=tide)
        assert across["sea_level_m"] == along["sea_level_m"] == max(filter(None, across["water"])) == level_m
        assert max(filter(None, along["water"])) == level_m
    deep = {m: wading(pitted, land, window, sea_m=tide_level(pitted, m)) for m in ("low", "high")}
    assert (deep["low"][150, 290], deep["high"][150, 290]) == (WADED, SWUM)
    # What never gets wet looks the same.
    assert np.array_equal(low[20:60, 20:60], high[20:60, 20:60])
    pitted.edit(patch(WATER, "sea", tide_low_m=None, tide_high_m=None))
    assert tide_level(pitted, "high") is None
    assert np.array_equal(level, plan_pixels(pitted, land, 0, window, Show(tide="high")))


def test_spot_section_and_walker_know_what_stands_there(pitted: OpenWorld) -> None:
    land = pitted.first_land
    put_pool(pitted, "tarn", pool(8.5))
    found = spot(pitted, land, 150, 150)
    assert found["water_depth_m"] == pytest.approx(1.5)
    assert found["water"] == {
        "surface_m": 8.5, "name": "Tarn", "liquid": "water", "collection": "pools", "key": "tarn",
    }  # fmt: skip
    assert found["walk"] == "too deep"
    assert spot(pitted, land, 20, 20)["water"] is None
    line = line_section(pitted, land, [(20, 150), (280, 150)])
    levels = {z for z in line["water"] if z is not None}
    assert (levels, line["water"][0]) == ({8.5}, None)
    walk = Walk(pitted, land, 100, 150, 90)
    for _ in range(60 * 12):
        walk.advance(Intent(ahead=1, facing=90))
    assert walk.walker.x < 135
    assert "water" in walk.walker.blocked_by
    # Ice bears.
    pitted.edit(patch(POOLS, "tarn", liquid="ice", level_m=9.9))
    walk.forget()
    walk = Walk(pitted, land, 100, 150, 90)
    for _ in range(60 * 14):
        walk.advance(Intent(ahead=1, facing=90))
    assert walk.walker.x > 138
    assert walk.walker.z == pytest.approx(9.9, abs=0.01)


def test_windows_and_steps_see_the_same_water(pitted: OpenWorld) -> None:
    land = pitted.first_land
    pitted.edit(patch(WATER, "sea", sea_level_m=7.5))
    draw(pitted, "lower", path=[(5, 5, 0), (40, 60, 6)], radius_m=30, softness=0.3, strength=8)
    put_pool(pitted, "tarn", pool(9))
    with pitted.lock:
        whole = surface(pitted, land, land.bounds)
        for row, col, rows, cols in ((0, 0, 50, 60), (100, 90, 70, 81), (33, 201, 100, 99), (200, 0, 101, 301)):
            window = land.clip(land.bounds.__class__(row, col, row + rows, col + cols))
            own = whole[window.row0 : window.row1, window.col0 : window.col1]
            assert np.array_equal(surface(pitted, land, window), own)
            assert np.array_equal(surface(pitted, land, window, 3), own[::3, ::3])
    assert (whole > DRY_M).any()


def test_the_way_down_ends_where_water_does(pitted: OpenWorld) -> None:
    land = pitted.first_land
    found = way_down(pitted, land, 125, 150)
    assert found["ends"] == "hollow"
    put_pool(pitted, "tarn", pool(9))
    assert way_down(pitted, land, 122, 150)["ends"] in ("pool", "edge")
    draw(pitted, "raise", path=[(60, 240, 0), (60, 240, 2)], radius_m=50, softness=1, strength=8)
    found = way_down(pitted, land, 62, 243)
    line = np.array(found["line"])
    assert found["ends"] == "edge"
    assert np.hypot(*(line[0] - (62, 243))) < 1
    heights = [land.elevation(x, y) for x, y in line]
    assert all(a >= b - 1e-6 for a, b in itertools.pairwise(heights))


def test_drainage_and_hollows_of_a_land(pitted: OpenWorld) -> None:
    land = pitted.first_land
    found = hollows_of(pitted, land, 100, 0.5)
    assert [(one["brim_m"], one["floor_m"]) for one in found] == [(10, 7)]
    assert hollows_of(pitted, land, 1e6, 0.5) == []
    area = drainage_of(pitted, land, "catchment_m2", land.bounds)
    direction = drainage_of(pitted, land, "direction", land.bounds)
    # Every square metre leaves somewhere.
    assert area[direction == 8].sum() == 301 * 301
    wide = drainage_of(pitted, land, "order", land.bounds, 4)
    assert wide.shape == (76, 76)
    assert np.isfinite(drainage_of(pitted, land, "wetness", land.bounds)).all()


def test_a_pool_across_a_join_is_one(studio: Studio) -> None:
    """Two tracts that are joined, a hollow on their edge: the pool goes on, and is the same from either side."""
    spec = WorldSpec(name="W", width_m=128, depth_m=128, spacing_m=1, elevation_m=10)
    world = studio.world(studio.create(spec))
    first = world.first_tract.row.id
    beside = TractSpec(name="E", x=128, y=0, width_m=128, depth_m=128, spacing_m=1, elevation_m=10)
    second = studio.add_tract(world.id, beside)[0]
    join(world, JoinTracts(first=first, second=second, blend_m=0))
    draw(world, "flatten", path=[(128, 64, 0), (128, 64, 30)], radius_m=30, softness=0, strength=9, target_m=7.0)
    west, east = world.land_from(first), world.land_from(second)
    found = told(world, west, hollow_around(world, west, 126, 64))
    other = told(world, east, hollow_around(world, east, 4, 64))
    assert (found["area_m2"], found["volume_m3"]) == (other["area_m2"], other["volume_m3"])
    assert found["brim_m"] == other["brim_m"] == 10
    put_pool(world, "tarn", pool(9, tract=first, x=126, y=64))
    there = WaterHere(9, "Tarn", "water", "pools", "tarn")
    assert water_at(world, west, 150, 64) == water_at(world, east, 22, 64) == there
    with world.lock:
        whole = surface(world, west, west.bounds)
        again = surface(world, east, east.bounds)
    assert np.array_equal(whole, again)
    assert way_down(world, east, 4, 64)["ends"] == "pool"


def test_a_world_of_before_keeps_its_sea(studio: Studio) -> None:
    parsed = WATER.parse("sea", '{"sea_level_m": 3}')
    assert (parsed.inland, parsed.sea_level_m, parsed.tide_low_m) == (True, 3, None)
    again = WATER.parse("sea", WATER.dump(parsed))
    assert again == parsed
    assert not WATER.parse("sea", '{"_v": 2, "sea_level_m": 3}').inland
    assert studio.create(WorldSpec(name="W", width_m=64, depth_m=64, spacing_m=1))


def test_a_pool_costs_what_it_is_not_what_the_land_is(pitted: OpenWorld) -> None:
    """What is looked at of the land is a window around the pool, and nothing while the ground there stays."""
    land = pitted.first_land
    put_pool(pitted, "tarn", pool(9))
    first = pool_extent(pitted, land, "tarn", pitted.row(POOLS, "tarn"))
    assert first.window.rows <= 2 * 96 + 1
    draw(pitted, "raise", path=[(280, 10, 0), (290, 12, 1)], radius_m=8, strength=3)
    assert pool_extent(pitted, land, "tarn", pitted.row(POOLS, "tarn")) is not None
    pitted.edit(remove(POOLS, "tarn"))
    assert wet(pitted).max() == 0


def test_by_the_api(client: TestClient) -> None:
    made = client.post(
        "/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1, "elevation_m": 10}
    ).json()
    world, tract = made["id"], made["tracts"][0]["id"]
    drawn = client.post(f"/api/tracts/{tract}/strokes", json=DIG_PIT)
    assert drawn.status_code == 200, drawn.text
    hollow = client.get(f"/api/tracts/{tract}/hollow", params={"x": 64, "y": 64}).json()
    assert set(hollow) >= {"floor_m", "floor", "brim_m", "spill", "runs_to", "area_m2", "volume_m3", "greatest_depth_m",
                           "curve", "inside", "parents"}  # fmt: skip
    assert (hollow["floor_m"], hollow["brim_m"]) == (7, 10)
    assert hollow["curve"][-1] == [10, hollow["area_m2"], hollow["volume_m3"]]
    assert client.get(f"/api/tracts/{tract}/hollow", params={"x": 3, "y": 3}).status_code == 404
    assert client.get(f"/api/tracts/{tract}/hollow", params={"x": 300, "y": 3}).status_code == 422
    pools = f"/api/worlds/{world}/pools"
    said = {"name": "Tarn", "tract": tract, "x": 64, "y": 64, "level_m": 9}
    assert client.put(f"{pools}/tarn", json=said).status_code == 200
    refused = client.put(f"{pools}/tarn", json={**said, "level_m": 11})
    assert (refused.status_code, set(refused.json()["choices"])) == (409, {"flood", "raise_rim"})
    assert client.put(f"{pools}/tarn", json={**said, "liquid": "lava"}).status_code == 404
    assert client.get(pools).json()[0]["level_m"] == 9
    spot = client.get(f"/api/tracts/{tract}/spot", params={"x": 64, "y": 64}).json()
    assert (spot["water_depth_m"], spot["water"]["name"]) == (2, "Tarn")
    window = {"row0": 0, "col0": 0, "row1": 129, "col1": 129, "step": 2}
    water = client.get(f"/api/tracts/{tract}/water", params=window)
    found = np.frombuffer(water.content, "<f4").reshape(65, 65)
    assert water.headers["x-shape"] == "65,65"
    assert (np.nanmax(found), np.isnan(found[0, 0])) == (9, True)
    assert client.patch(f"{pools}/tarn", json={"share_of_brim": 0.5}).status_code == 200
    assert client.get(pools).json()[0]["level_m"] == 8.5
    assert client.patch(f"{pools}/tarn", json={"liquid": "mud"}).status_code == 200
    assert client.get(pools).json()[0]["colour"] == "#6b5a42"
    way = client.post(f"/api/tracts/{tract}/way-down", json={"x": 64, "y": 64}).json()
    assert way["ends"] == "pool"
    order = client.get(f"/api/tracts/{tract}/drainage", params={**window, "what": "order"})
    assert order.headers["x-shape"] == "65,65"
    assert client.get(f"/api/tracts/{tract}/drainage", params={**window, "what": "mood"}).status_code == 422
    assert client.get(f"/api/tracts/{tract}/hollows").json()[0]["brim_m"] == 10
    tidal = client.patch(f"/api/worlds/{world}", json={"sea_level_m": 0, "tide_low_m": -1, "tide_high_m": 1})
    assert (tidal.status_code, tidal.json()["tide_low_m"], tidal.json()["tide_high_m"]) == (200, -1, 1)
    assert client.patch(f"/api/worlds/{world}", json={"tide_low_m": 2}).status_code == 422
    still = client.patch(f"/api/worlds/{world}", json={"tide_low_m": None, "tide_high_m": None, "name": None}).json()
    assert (still["tide_low_m"], still["name"]) == (None, "W")
    assert client.put(f"/api/worlds/{world}/plots/half", json=HALF).status_code == 200
    tried = {
        level: client.get(f"/api/tracts/{tract}/flood", params={**window, "x": 64, "y": 64, "level_m": level, **more})
        for level, more in ((6, {}), (8, {}), (9, {"plot": "half"}), (11, {"runs_over": True}))
    }
    told = {level: json.loads(answer.headers["x-flood"]) for level, answer in tried.items()}
    assert [told[level]["deepest_m"] for level in tried] == [0, 1, 2, 4]
    assert told[8]["area_m2"] == pytest.approx(1.0 * told[8]["stands_m3"], rel=0.3)
    assert told[9]["area_m2"] == pytest.approx(hollow["area_m2"] / 2, rel=0.1)
    assert (told[11]["area_m2"], told[11]["runs_off"], told[9]["runs_off"]) == (129 * 129, True, False)
    deep = np.frombuffer(tried[8].content, "<f4").reshape(65, 65)
    assert (deep[0, 0], deep[32, 32]) == (0, 1)
    assert client.get(pools).json()[0]["level_m"] == 8.5
    for wrong, status in (({"level_m": 8}, 422), ({"x": 64, "y": 64, "level_m": 8, "plot": "gone"}, 404),
                          ({"x": 64, "y": 64, "level_m": "high"}, 422),
                          ({"x": 64, "y": 64, "level_m": 8, "rain_mm": 5}, 422), ({"rain_mm": 5, "plot": "half"}, 422),
                          ({"x": 64, "y": 64, "volume_m3": 5, "runs_over": True}, 422)):  # fmt: skip
        assert client.get(f"/api/tracts/{tract}/flood", params={**window, **wrong}).status_code == status
    sea = client.get(f"/api/tracts/{tract}/water", params={**window, "only": "sea", "sea_level_m": 10.5})
    assert np.unique(np.frombuffer(sea.content, "<f4")).tolist() == [10.5]
    for wrong in ({"tide": "spring"}, {"tide": "low", "sea_level_m": 3}, {"only": "lakes"}):
        assert client.get(f"/api/tracts/{tract}/water", params={**window, **wrong}).status_code == 422
    assert client.get(f"/api/tracts/{tract}/spot", params={"x": 64, "y": 64, "tide": "ebb"}).status_code == 422
    assert client.delete(f"{pools}/tarn").status_code == 200
    assert client.get(pools).json() == []
    assert Pool(name="P", x=0, y=0, level_m=3).liquid == "water"
