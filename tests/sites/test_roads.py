"""Roads on the land: as gentle and as wide as they say, level where they meet, and the land back when they go."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Window
from fernfield.core.travel.walker import Intent
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.sites.road_ways import FindWay, find_ways
from fernfield.work.sites.roads import ROADS, Road, beds_in, build_anew, figures_of, roads_found
from fernfield.work.sites.rows import THINGS, Piece, Wall
from fernfield.work.sites.scatters import Scatter, scattered
from fernfield.work.sites.standing import stood_in
from fernfield.work.trial.walks import Walk
from fernfield.work.water.rows import WATER
from tests.conftest import draw, ground
from tests.kernel.test_overviews import agree


@pytest.fixture
def hills(world: OpenWorld) -> OpenWorld:
    for at, (x, y) in enumerate(((90, 150), (200, 120), (140, 220))):
        draw(world, path=[(x, y, 0), (x + 10, y, 2)], radius_m=50, strength=8 + 2 * at, softness=1.0)
    return world


def road(*points: tuple[float, float], **also: Any) -> Road:
    return Road.model_validate({"name": "Cart way", "points": points, "steepest_percent": 8, **also})


def by_metres(world: OpenWorld, key: str) -> np.ndarray:
    """The land along a road's middle, every metre, as it is now."""
    land = world.first_land
    ((_, _, bed),) = [one for one in beds_in(world, land, land.grid.window) if one[0] == key]
    x = [land.grid.x_of(float(c)) for c in bed.col]
    y = [land.grid.y_of(float(r)) for r in bed.row]
    far = np.concatenate([[0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))])
    every = np.arange(0, far[-1])
    return np.asarray(land.elevations(np.interp(every, far, x).tolist(), np.interp(every, far, y).tolist()))


def test_it_is_as_gentle_as_it_says_and_the_land_comes_back_to_the_bit(hills: OpenWorld) -> None:
    world, before = hills, ground(hills)
    ways = {
        "a": road((20, 150), (150, 140), (280, 160)),
        "b": road((120, 20), (130, 150), (150, 280), width_m=6),
        "c": road((60, 60), (100, 150), (60, 250), (147, 255), widths=(2, 3, 6, 4), fall_percent=0),
    }
    grown = before
    for key, row in ways.items():
        world.edit(put(ROADS, key, row))
        assert np.abs(np.diff(by_metres(world, key))).max() <= 0.08 + 1e-3, key
        assert not (ground(world) == grown).all()
        grown = ground(world)
    told = figures_of(world, "a")
    assert told["steepest_percent"] <= 8.05
    assert 260 < told["length_m"] < 270
    assert min(told["cut_m3"], told["fill_m3"], told["climb_m"]) > 0
    # Where two cross they are level: what is laid later meets what was there.
    for key, other in itertools.combinations(ways, 2):
        assert np.abs(np.diff(by_metres(world, key))).max() <= 0.08 + 1e-3, (key, other)
    for order in (("a", "b", "c"), ("b", "c", "a")):
        for key in order:
            world.edit(remove(ROADS, key))
        assert (ground(world) == before).all(), order
        for _ in order:
            world.undo()
        assert (ground(world) == grown).all()


def test_a_moved_point_leads_it_anew_and_pads_and_roads_go_in_one_edit(hills: OpenWorld) -> None:
    world, before = hills, ground(hills)
    world.edit(put(ROADS, "a", road((20, 40), (150, 45), (280, 40))))
    first = ground(world)
    world.edit(put(ROADS, "a", road((20, 40), (150, 60), (280, 40))))
    assert not (ground(world) == first).all()
    # A name changes nothing of the ground, nor do heights that somebody says.
    now, kept = ground(world), world.row(ROADS, "a").heights
    for said in ({"name": "Other"}, {"heights": (1.0, 2.0)}):
        world.edit(patch(ROADS, "a", **said))
        assert (ground(world) == now).all()
        assert world.row(ROADS, "a").heights == kept
    from fernfield.work.kernel.commands import Together

    world.edit(
        Together(edits=[put(THINGS, "barn", Piece(kit="stone_barn", name="B", x=200, y=110)), remove(ROADS, "a")])
    )
    changed = np.abs(ground(world) - before)
    assert changed[300 - 110 - 3 : 300 - 110 + 3, 197:203].max() > 0
    assert changed[230:280].max() == 0


def test_what_a_moved_point_leaves_is_what_is_built_from_nothing(hills: OpenWorld) -> None:
    world, points = hills, [(float(x), 150 + 20 * float(np.sin(x / 40))) for x in range(20, 290, 30)]
    world.edit(put(ROADS, "cross", road((100, 60), (110, 150), (120, 260))))
    now: dict[str, float] = {"steepest_percent": 15}
    world.edit(put(ROADS, "a", road(*points, **now)))
    for at, said in (
        (0, {}),
        (4, {}),
        (8, {}),
        (5, {"width_m": 7}),
        (5, {"shoulder_m": 1}),
        (2, {"steepest_percent": 20}),
    ):
        points[at] = points[at][0], points[at][1] + 6
        now |= said
        world.edit(patch(ROADS, "a", points=points, **said))
        moved = ground(world)
        world.edit(remove(ROADS, "a"))
        world.edit(put(ROADS, "a", road(*points, **now)))
        assert (ground(world) == moved).all(), at
        agree(world)


CASES = (
    (road((20, 40), (380, 40)), "leaves the land at"),
    (road((20, 40), (100, 100), (100, 40), (20, 100)), "crosses itself"),
    (road((90, 60), (90, 150), steepest_percent=0.5), r"Cart way cannot be so gentle: .* Lead it further around"),
)


@pytest.mark.parametrize(("row", "words"), CASES)
def test_what_cannot_be_built_says_where_and_changes_nothing(hills: OpenWorld, row: Road, words: str) -> None:
    at, before = hills.revision, ground(hills)
    with pytest.raises(InvalidInput, match=words):
        hills.edit(put(ROADS, "a", row))
    assert (hills.revision, hills.rows["roads"]) == (at, {})
    assert (ground(hills) == before).all()
    for said in ({"points": [[5, 5], [5, 5]]}, {"points": [[5, 5], [9, 5]], "widths": [3]}):
        with pytest.raises(ValidationError, match=r"two points that are not in one place|widths must be one for each"):
            Road.model_validate({"name": "R", **said})


def test_ways_are_found_by_what_they_cost_and_others_beside_them(hills: OpenWorld) -> None:
    world = hills
    land = world.country(world.first_tract.row.id)

    def found(**said: Any) -> list[Any]:
        first = {"from": (20, 150), "to": (280, 150), "steepest_percent": 6}
        return find_ways(world, land, FindWay.model_validate({**first, **said}))

    ways = found()
    assert len(ways) == 3
    assert all(way["steepest_percent"] <= 6 for way in ways)
    assert [way["cost"] for way in ways] == sorted(way["cost"] for way in ways)
    for one in ways:
        assert one["points"][0] == one["line"][0] == [20, 150]
        assert one["points"][-1] == one["line"][-1] == [280, 150]
        assert len(one["line"]) <= len(one["points"])
        # A road along it can be built as gentle as it was asked for.
        world.edit(put(ROADS, "way", road(*map(tuple, one["line"]), steepest_percent=6)))
        assert np.abs(np.diff(by_metres(world, "way"))).max() <= 0.06 + 1e-3
        world.undo()
    # Straight on where steepness is no matter; around a plot where no road may lie; around what stands.
    (straight,) = found(steepest_percent=100, costs={"slope": 0}, others=0)
    assert straight["length_m"] == pytest.approx(260)
    world.edit(put(PLOTS, "grave", Plot(name="Grave", points=((140, 100), (160, 100), (160, 200), (140, 200)))))
    (around,) = found(steepest_percent=100, costs={"slope": 0, "plots": {"grave": None}}, others=0)
    assert around["length_m"] > 290
    for said, words in (
        ({"to": (20, 150)}, "to must be another place than from"),
        ({"to": (400, 150)}, "to must lie on the land, not at 400, 150"),
        ({"from": (150, 150), "costs": {"plots": {"grave": None}}}, "from must lie where a road may"),
        ({"to": (204, 121), "steepest_percent": 0.5}, "no way between them that is nowhere steeper than 0.5 %"),
    ):
        with pytest.raises((InvalidInput, Conflict), match=words):
            found(**said)


def test_nothing_grows_on_a_road_and_it_is_seen(world: OpenWorld) -> None:
    land, window = world.first_land, Window(140, 40, 160, 60)
    assert world.house.given.taken(world, land, window, 1) is None
    light = Show()
    before = plan_pixels(world, land, 0, window, light)
    world.edit(put(ROADS, "a", road((20, 150), (150, 150), width_m=6, fall_percent=0)))
    taken = world.house.given.taken(world, land, window, 1)
    assert taken is not None
    assert taken.sum(axis=1).nonzero()[0].tolist() == list(range(7, 14))
    x = np.array([50.0, 50.0, 50.0])
    assert world.house.given.stands_clear(world, land, x, np.array([150.0, 152.9, 156.0])).tolist() == [
        False,
        False,
        True,
    ]
    # Nor is anything scattered on it.
    row = Scatter.model_validate({"name": "S", "of": [{"kit": "cairn"}], "count": 60, "box": [30, 140, 140, 160]})
    spots = np.array([one["y"] for one in scattered(world, "s", row)[1].things])
    assert len(spots) == 60
    assert np.abs(spots - 150).min() > 2.9
    after = plan_pixels(world, land, 0, window, light)
    changed = np.abs(after.astype(int) - before.astype(int)).sum(axis=-1).sum(axis=1)
    assert changed[10] > 0
    assert changed[2] == 0


def test_findings_of_roads_and_their_mend(hills: OpenWorld) -> None:
    from fernfield.core.checks.sites import roads_troubled
    from fernfield.work.water.rows import WATER, Water

    world = hills

    def words() -> list[str]:
        return [finding.words for finding in roads_troubled(roads_found(world), world.id)]

    world.edit(put(ROADS, "a", road((20, 150), (150, 140), (240, 160))))
    # At the land's end, at a piece and at another road it leads somewhere.
    assert words() == ["Cart way leads nowhere at one end."] * 2
    world.edit(put(THINGS, "cairn", Piece(kit="cairn", name="C", x=14, y=150)))
    world.edit(put(ROADS, "b", road((240, 12), (240, 288), name="Other way")))
    assert words() == []
    draw(world, path=[(150, 150, 0), (160, 150, 2)], radius_m=30, strength=15, softness=0.4)
    (steep,) = words()
    assert steep.startswith("Cart way is ") and steep.endswith("and may be 8 %.")  # noqa: PT018
    build_anew(world, "a")
    assert words() == []
    world.edit(put(WATER, "sea", Water(sea_level_m=10.5)))
    assert any("under water for" in one for one in words())


def test_water_is_bridged_the_ground_under_it_stays_and_one_walks_over_and_under(world: OpenWorld) -> None:
    draw(world, "lower", path=[(150, 0, 0), (150, 300, 4)], radius_m=14, strength=16, softness=0.6)
    world.edit(patch(WATER, "sea", sea_level_m=7.5, inland=True))
    before = ground(world)
    world.edit(put(ROADS, "a", road((40, 150), (260, 150), steepest_percent=15, bridge="bridge_bay")))
    kept = world.row(ROADS, "a")
    (deck,) = [row for _, row in world.each(THINGS) if isinstance(row, Wall)]
    ((first, last),) = kept.spans
    assert 12 < last - first < 60
    changed = np.abs(ground(world) - before)
    assert changed[145:156, 40 + first + 3 : 40 + last - 2].max() == 0
    assert (deck.road, deck.lies) == ("a", "level")
    # It is carried straight from bank to bank, as the road says of itself.
    stood = stood_in(world, world.first_land, (0.0, 0.0, 299.0, 299.0))
    at = {round(one.pose.x - 40): one.pose.z for one in stood if one.entry.name == "bridge_bay"}
    assert all(z == pytest.approx(kept.heights[x], abs=0.02) for x, z in at.items() if first < x < last)
    assert figures_of(world, "a")["steepest_percent"] <= 15.05
    assert [one.wet_m for one in roads_found(world)] == [0]
    walk = Walk(world, world.first_land, 60, 150, 90)
    heights = [walk.advance(Intent(ahead=1, facing=90), 60).z for _ in range(90)]
    assert walk.walker.x > 240, walk.walker
    assert min(heights) > 8
    # It goes with its road, and comes back with it.
    world.edit(remove(ROADS, "a"))
    assert not [row for _, row in world.each(THINGS) if isinstance(row, Wall)]
    assert (ground(world) == before).all()
    world.undo()
    assert [row for _, row in world.each(THINGS) if isinstance(row, Wall)] == [deck]
    world.edit(patch(ROADS, "a", bridge=None))
    assert not [row for _, row in world.each(THINGS) if isinstance(row, Wall)]
    with pytest.raises(InvalidInput, match="level ground"):
        world.edit(patch(ROADS, "a", bridge="stone_barn"))
