"""Plants that are the same from the same seed, and that stand on the ground."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError
from scipy import stats
from scipy.spatial import cKDTree

from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.grid import Grid, Window, bilinear_many
from fernfield.core.growth.figures import standing_words
from fernfield.core.growth.scatter import Plants, Sort, scatter
from fernfield.core.growth.spacing import Pattern
from fernfield.work.growth.areas import GrowArea, grow_area
from fernfield.work.growth.listing import figures_of, listed, square_of
from fernfield.work.growth.removing import remove_kind, remove_mix
from fernfield.work.growth.rows import KINDS, MIXES, Kind, Mix
from fernfield.work.growth.sowing import growth_layer, spare_layer
from fernfield.work.growth.standing import StandingPlants, standing_plants
from fernfield.work.kernel.commands import patch, remove
from fernfield.work.kernel.world import OpenWorld
from tests.conftest import draw, everything, ground

GRID = Grid(301, 301, 1.0)
FULL = np.ones((301, 301), np.float32)
TREES = Pattern(5, (200.0,), ((2.0,),))


def plants_in(
    part: Window, share: np.ndarray = FULL, like: Sort = Sort(), pattern: Pattern = TREES
) -> set[tuple[float, ...]]:
    wide = GRID.clip(part.pad(1))
    (found,) = scatter(pattern, [like], [share[wide.inside(GRID.window)]], wide, GRID, part)
    if found is None:
        return set()
    return set(zip(found.x.tolist(), found.y.tolist(), found.height.tolist(), found.turn.tolist(), strict=True))


def every(world: OpenWorld) -> list[StandingPlants]:
    return standing_plants(world, world.first_land, world.first_tract.grid.window)


def count(world: OpenWorld, kind: str | None = None) -> int:
    return sum(len(p.plants) for p in every(world) if kind in (None, p.part.kind))


def change(world: OpenWorld, kind: str, **fields: object) -> None:
    mix = world.row(MIXES, "mix")
    parts = [{**part.model_dump(mode="json"), **(fields if part.kind == kind else {})} for part in mix.kinds]
    world.edit(patch(MIXES, "mix", kinds=parts))


@given(st.integers(1, 300), st.integers(1, 300))
@settings(max_examples=25, deadline=None)
def test_parts_side_by_side_lose_and_double_nothing(row: int, col: int) -> None:
    parts = [
        plants_in(Window(r0, c0, r1, c1)) for r0, r1 in ((0, row), (row, 301)) for c0, c1 in ((0, col), (col, 301))
    ]
    assert sum(map(len, parts)) == len(set().union(*parts))
    assert set().union(*parts) == plants_in(GRID.window)


def test_thinning_takes_plants_away_and_leaves_the_others_where_they_are() -> None:
    some, all_of_them = plants_in(GRID.window, FULL / 3), plants_in(GRID.window)
    assert some < all_of_them
    assert len(some) == pytest.approx(len(all_of_them) / 3, rel=0.04)
    assert not plants_in(GRID.window, FULL * 0)
    assert not all_of_them & plants_in(GRID.window, pattern=Pattern(6, (200.0,), ((2.0,),)))


def many(like: Sort, per_ha: float = 600.0) -> Plants:
    (found,) = scatter(Pattern(3, (per_ha,), ((0.5,),)), [like], [FULL], GRID.window, GRID, GRID.window)
    assert found is not None
    return found


@pytest.mark.parametrize("spread", ["even", "middle", "small"])
def test_sizes_turns_and_tints_are_spread_as_they_should_be(spread: str) -> None:
    """Kolmogorov and Smirnov's test against the distributions of SciPy, on a fixed seed."""
    found = many(Sort(2, 5, spread, 0.8, 1.2, 90, 30, 10, 0.5, 0.1, 0.3))  # type: ignore[arg-type]
    shape = {"even": stats.uniform(2, 3), "middle": stats.triang(0.5, 2, 3), "small": stats.triang(0, 2, 3)}[spread]
    for values, expected in (
        (found.height, shape), (found.width / found.height, stats.uniform(0.8, 0.4)),
        (found.turn, stats.uniform(60, 60)),
        (found.tilt, stats.uniform(0, 10)), (found.tilt_to, stats.uniform(0, 360)), (found.tint, stats.uniform(0, 0.5)),
        (found.sink / found.height, stats.uniform(0.1, 0.2)),
    ):  # fmt: skip
        assert stats.kstest(values.astype(np.float64), expected.cdf).pvalue > 0.005
    # Each is a draw of its own.
    table = np.corrcoef([found.height, found.width / found.height, found.turn, found.tint, found.sink / found.height])
    assert np.abs(table - np.eye(5)).max() < 0.06


def test_kinds_have_their_proportions(world: OpenWorld) -> None:
    """Chi-squared, on a fixed seed: 220 trees to 25 boulders."""
    draw(world, "sow", mix="mix", strength=900, path=[(0, 60, 0), (300, 60, 1)], radius_m=60, softness=0)
    trees, boulders = count(world, "tree"), count(world, "boulder")
    assert trees + boulders > 500
    assert stats.chisquare([trees, boulders], np.array([220, 25]) / 245 * (trees + boulders)).pvalue > 0.005


def test_plants_keep_apart_over_tiles_and_whatever_the_density_is(world: OpenWorld) -> None:
    change(world, "tree", apart_m=3.5)
    draw(world, "sow", mix="mix", strength=900, path=[(0, 60, 0), (300, 60, 1)], radius_m=60, softness=0)
    trees = next(p for p in every(world) if p.part.kind == "tree").plants
    points = np.stack([trees.x, trees.y], axis=1)
    assert cKDTree(points).query(points, k=2)[0][:, 1].min() >= 3.5 - 1e-4


def test_plants_stand_on_the_ground_after_it_has_moved(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=300, path=[(100, 100, 0), (140, 100, 1)])
    before = every(world)
    assert sum(len(p.plants) for p in before) > 20
    draw(world, "raise", path=[(90, 100, 0), (140, 104, 1)], radius_m=30, strength=12)
    heights, grid = ground(world), world.first_tract.grid
    for old, new in zip(before, every(world), strict=True):
        assert (old.plants.x == new.plants.x).all()
        p = new.plants
        rows, cols = grid.row_of(p.y), grid.col_of(p.x)
        # The foot is on the ground, less what it sinks; within a centimetre.
        assert np.abs(new.z + p.sink - bilinear_many(heights, rows, cols)).max() < 0.01
        if new.kind.leans == 0:
            assert np.abs(new.lean_east).max() < math.sin(math.radians(0.1))
            continue
        east = (bilinear_many(heights, rows, cols + 1) - bilinear_many(heights, rows, cols - 1)) / 2
        north = (bilinear_many(heights, rows - 1, cols) - bilinear_many(heights, rows + 1, cols)) / 2
        length = np.sqrt(1 + east**2 + north**2)
        assert np.abs(new.lean_east + east / length).max() < 0.04
        assert np.abs(new.lean_north + north / length).max() < 0.04


def test_what_is_sown_follows_the_mix_and_comes_back_with_it(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)
    first = {(float(x), float(y)) for p in every(world) for x, y in zip(p.plants.x, p.plants.y, strict=True)}
    for density in (490, 0, 245):
        world.edit(patch(MIXES, "mix", density_per_ha=density))
        if density == 490:
            assert count(world) == pytest.approx(2 * len(first), rel=0.1)
        elif density == 0:
            assert count(world) == 0
            assert "nothing of this mix stands" in figures_of(world, "mix")["words"]
    assert {(float(x), float(y)) for p in every(world) for x, y in zip(p.plants.x, p.plants.y, strict=True)} == first
    draw(world, "thin", mix="mix", strength=1000, path=[(0, 100, 0), (300, 100, 2)], radius_m=80, softness=0)
    assert count(world) == 0


@pytest.mark.parametrize(("clump", "words"), [(0.0, "evenly apart"), (0.9, "in clumps, apart within them")])
def test_the_table_of_a_mix_says_what_the_map_shows(world: OpenWorld, clump: float, words: str) -> None:
    change(world, "tree", clump=clump, apart_m=2.5)
    draw(world, "sow", mix="mix", strength=1000, path=[(0, 300, 0), (300, 0, 1)], radius_m=450, softness=0)
    table = figures_of(world, "mix")["kinds"]
    assert table[0]["stands"] == words
    shown = next(p.plants for p in every(world) if p.part.kind == "tree")
    mix = world.row(MIXES, "mix")
    assert standing_words(shown.x, shown.y, 300, 300, square_of(mix.kinds[0])) == words
    assert sum(one["reached_per_ha"] for one in table) == pytest.approx(mix.density_per_ha, rel=0.01)


def test_a_habitat_of_a_mix_holds_for_all_its_kinds(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=1000, path=[(0, 300, 0), (300, 0, 1)], radius_m=450, softness=0)
    first = count(world)
    for limits, left in (({"to": 9}, 0), ({"from": 9}, first), ({}, first)):
        world.edit(patch(MIXES, "mix", conditions=[{"what": "elevation", **limits}] if limits else []))
        assert count(world) == left
    with pytest.raises(ValidationError, match="contradicts itself"):
        world.edit(patch(MIXES, "mix", conditions=[{"what": "slope", "to": 5}, {"what": "slope", "from": 30}]))


def test_sowing_ends_at_its_target_and_works_on_the_ticked_kinds_alone(world: OpenWorld) -> None:
    wide = {"mix": "mix", "path": [(0, 60, 0), (300, 60, 2)], "radius_m": 60, "softness": 0, "strength": 900}
    area = 300 * 120 / 10_000
    draw(world, "sow", **wide, kinds=["boulder"])
    assert count(world, "tree") == 0
    boulders = count(world, "boulder")
    assert boulders == pytest.approx(25 * area, rel=0.2)
    draw(world, "sow", **wide, kinds=["tree"], target_per_ha=98)
    assert count(world, "boulder") == boulders
    assert count(world, "tree") == pytest.approx(0.4 * 220 * area, rel=0.07)
    # Never above it, however often one passes.
    trees = count(world, "tree")
    draw(world, "sow", **wide, kinds=["tree"], target_per_ha=98)
    assert count(world, "tree") == trees
    draw(world, "clear", **wide, kinds=["boulder"])
    assert (count(world, "tree"), count(world, "boulder")) == (trees, 0)
    before = everything(world)
    draw(world, "thin", **{**wide, "strength": 20}, kinds=["tree"])
    assert 0 < count(world, "tree") < trees
    world.undo()
    assert everything(world) == before


@given(
    st.lists(st.tuples(st.sampled_from(["sow", "thin", "clear"]), st.integers(0, 3), st.integers(20, 245)), max_size=5)
)
@settings(max_examples=12, deadline=None)
def test_kinds_that_are_not_ticked_stay_as_they_are(made: list[tuple[str, int, int]]) -> None:
    """On the masks themselves, dab by dab, against shares that are kept apart for each kind."""
    from fernfield.core.brush.pressing import MaskPressing
    from fernfield.core.growth.tools import GROWTH_TOOLS, WHOLE

    rng = np.random.default_rng(len(made))
    masks = np.zeros((4, 6, 7), np.uint16)
    shares = np.zeros((3, 6, 7))
    for tool, kind, target in made:
        ticked = tuple(k == kind or kind == 3 for k in range(3))
        weights = rng.random((6, 7)).astype(np.float32)
        values = {"ticked": ticked, "target_share": target / 245}
        press = GROWTH_TOOLS[tool].press_masks
        assert press is not None
        press(MaskPressing(masks, False, weights, 0.4, values, 1.0, masks.copy()))
        for k, on in enumerate(ticked):
            if not on:
                continue
            if tool == "sow":
                shares[k] = np.maximum(shares[k], np.minimum(shares[k] + 0.4 * weights, target / 245))
            elif tool == "thin" and kind == 3:
                # All of them: the mix as a whole is thinned, and its kinds keep their proportions.
                full = masks[0] / WHOLE
                shares = full * (1 - masks[1:] / WHOLE)
            elif tool == "thin":
                shares[k] = np.maximum(shares[k] - 0.4 * weights, 0)
            else:
                shares[k][weights > 0.5] = 0
        assert np.abs(masks[0] / WHOLE * (1 - masks[1:] / WHOLE) - shares).max() < 3 / WHOLE


def test_an_area_is_sown_to_a_density_and_cleared_of_some_kinds(world: OpenWorld) -> None:
    tract, hectares = world.first_tract, 2.0
    grow_area(world, tract, GrowArea(mix="mix", box=(50, 50, 250, 150), target_per_ha=122.5))
    assert count(world, "tree") == pytest.approx(110 * hectares, rel=0.06)
    boulders, start = count(world, "boulder"), everything(world)
    grow_area(world, tract, GrowArea(mix="mix", box=(50, 50, 250, 150), clear=True, kinds=["tree"]))
    assert (count(world, "tree"), count(world, "boulder")) == (0, boulders)
    world.undo()
    assert everything(world) == start
    # A second time nothing is above it.
    grow_area(world, tract, GrowArea(mix="mix", box=(50, 50, 250, 150), target_per_ha=122.5))
    assert everything(world) == start
    with pytest.raises(InvalidInput, match="goes with sowing"):
        grow_area(world, tract, GrowArea(mix="mix", clear=True, target_per_ha=3))
    with pytest.raises(NotFound, match="oak"):
        grow_area(world, tract, GrowArea(mix="mix", kinds=["oak"]))


def test_a_glade_keeps_ground_free_and_gives_it_back(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)
    first = count(world)
    draw(world, "glade", strength=900, path=[(100, 100, 0), (200, 100, 1)], radius_m=20, softness=0)
    for p in every(world):
        near = (np.abs(p.plants.y - 100) < 19) & (p.plants.x > 100) & (p.plants.x < 200)
        assert not near.any()
    assert 0 < count(world) < first
    draw(world, "close_glade", strength=900, path=[(80, 100, 0), (220, 100, 1)], radius_m=30, softness=0)
    assert count(world) == first


def test_habitats_clumps_edges_and_neighbours_are_kept(world: OpenWorld) -> None:
    draw(world, "raise", path=[(150, 60, 0), (150, 60, 2)], radius_m=50, strength=8)
    draw(world, "sow", mix="mix", strength=900, path=[(0, 60, 0), (300, 60, 1)], radius_m=60, softness=0)
    free = count(world, "tree")
    change(world, "tree", conditions=[{"what": "slope", "to": 8}])
    assert 0 < count(world, "tree") < 0.9 * free
    grid = world.first_tract.grid
    heights = ground(world)
    trees = next(p for p in every(world) if p.part.kind == "tree").plants
    rows, cols = np.rint(grid.row_of(trees.y)).astype(int), np.rint(grid.col_of(trees.x)).astype(int)
    inner = (rows > 0) & (rows < grid.rows - 1) & (cols > 0) & (cols < grid.cols - 1)
    east, north = np.gradient(heights, grid.spacing)
    assert np.degrees(np.arctan(np.hypot(east, north)))[rows[inner], cols[inner]].max() < 10
    # Clumps: as many, nearer together.
    change(world, "tree", conditions=[], apart_m=0, clump=1, clump_m=40)
    assert count(world, "tree") == pytest.approx(free, rel=0.25)
    # Only at the edge of what is sown, and only inside.
    change(world, "tree", clump=0, edge="edge", edge_m=8)
    at_edge = next(p for p in every(world) if p.part.kind == "tree").plants
    assert (np.abs(at_edge.y - 60) > 50).mean() > 0.95
    change(world, "tree", edge="inside", edge_m=8)
    inside = next(p for p in every(world) if p.part.kind == "tree").plants
    assert (np.abs(inside.y - 60) < 53).all()
    # Near another kind, which stands before it in the list.
    change(world, "tree", edge="all")
    change(world, "boulder", near="tree", near_m=2.5)
    found = {p.part.kind: np.stack([p.plants.x, p.plants.y], axis=1) for p in every(world)}
    assert cKDTree(found["tree"]).query(found["boulder"])[0].max() <= 2.5
    with pytest.raises(ValueError, match="must be listed before it"):
        change(world, "tree", near="boulder")


def test_nothing_of_a_window_depends_on_what_else_is_asked_for(world: OpenWorld) -> None:
    """Byte for byte, with habitats, clumps, glades and neighbours: by halves as all at once."""
    change(
        world, "boulder", near="tree", near_m=4, clump=0.8, conditions=[{"what": "noise", "from": -0.2, "size_m": 40}]
    )
    world.edit(patch(MIXES, "mix", open=0.3, open_m=40))
    draw(world, "sow", mix="mix", strength=300, path=[(0, 100, 0), (300, 40, 1)], radius_m=70)
    window, land = world.first_tract.grid.window, world.first_land
    whole = dict(_rows(standing_plants(world, land, window)))
    halves: dict[str, set[bytes]] = {}
    for part in (Window(0, 0, 47, 301), Window(47, 0, 301, 130), Window(47, 130, 301, 301)):
        for kind, rows in _rows(standing_plants(world, land, part.meet(window))):
            assert not halves.setdefault(kind, set()) & rows
            halves[kind] |= rows
    assert halves == whole


def _rows(found: list[StandingPlants]) -> list[tuple[str, set[bytes]]]:
    return [
        (p.part.kind, {row.tobytes() for row in np.stack([p.plants.x, p.plants.y, p.plants.height, p.z], axis=1)})
        for p in found
    ]


def test_plants_are_listed_with_names_that_stay(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)
    land = world.first_land
    all_at_once = listed(world, land, (40, 60, 260, 140), 0, 10_000)
    assert len({plant["id"] for plant in all_at_once["plants"]}) == all_at_once["count"] > 50
    pages, cursor = [], 0
    while cursor is not None:
        page = listed(world, land, (40, 60, 260, 140), cursor, 17)
        pages += page["plants"]
        cursor = page["next"]
    assert pages == all_at_once["plants"]
    # A smaller box names the same plants the same.
    known = {plant["id"]: plant for plant in pages}
    for plant in listed(world, land, (100, 80, 150, 120), 0, 10_000)["plants"]:
        assert known[plant["id"]] == plant


def test_a_kind_and_a_mix_go_with_what_is_sown_of_them_and_come_back(world: OpenWorld) -> None:
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)
    draw(world, "clear", mix="mix", strength=300, path=[(50, 100, 0), (90, 100, 1)], kinds=["tree"])
    before = everything(world)
    remove_kind(world, "tree")
    assert [part.kind for part in world.row(MIXES, "mix").kinds] == ["boulder"]
    assert world.first_land.blank(spare_layer("mix", "tree"), world.first_tract.grid.window)
    assert "which left Trees and stones" in world.store.revisions(world.id)[0].words
    world.undo()
    assert everything(world) == before
    remove_mix(world, "mix")
    assert count(world) == 0
    assert world.first_land.blank(growth_layer("mix"), world.first_tract.grid.window)
    world.undo()
    assert everything(world) == before
    with pytest.raises(NotFound):
        remove_mix(world, "gone")
    with pytest.raises(Conflict, match="DELETE"):
        world.edit(remove(KINDS, "tree"))


def test_what_cannot_be_is_refused_by_name(world: OpenWorld) -> None:
    with pytest.raises(ValueError, match="twice in the mix"):
        Mix.model_validate({"name": "M", "kinds": [{"kind": "a"}, {"kind": "a"}]})
    with pytest.raises(ValueError, match="come in this order"):
        Kind(name="K", form="bush", tall_m=1, crown_m=1, colour="#112233", simpler_m=100, card_m=50)
    with pytest.raises(ValueError, match="contradicts itself"):
        change(world, "tree", conditions=[{"what": "slope", "from": 20}, {"what": "slope", "to": 10}])
    with pytest.raises(NotFound, match="plot"):
        change(world, "tree", conditions=[{"what": "plot", "plot": "nowhere"}])
    with pytest.raises(NotFound, match="kind"):
        world.edit(patch(MIXES, "mix", kinds=[{"kind": "oak"}]))
    with pytest.raises(NotFound, match="kind"):
        draw(world, "sow", mix="mix", kinds=["oak"])
    with pytest.raises(InvalidInput, match="no kind of the mix is ticked"):
        draw(world, "sow", mix="mix", kinds=[])
    with pytest.raises(ValueError, match="kinds goes with sow, thin or clear"):
        draw(world, "raise", kinds=["tree"])


def test_a_mix_from_before_kinds_were_rows_is_brought_up() -> None:
    old = (
        '{"name":"M","seed":7,"kinds":[{"key":"tree","name":"Tree","form":"tree","habit":"upright","density_per_ha":220,'
        '"size_min":1,"size_max":1.5,"crown_m":2.2,"tall_m":7,"blocks_m":0.25,"colour":"#3f6b43"},'
        '{"key":"rock","name":"Rock","form":"boulder","habit":"leaning","density_per_ha":20,"size_min":1,"size_max":2,'
        '"crown_m":1,"tall_m":1,"blocks_m":0.7,"colour":"#888888"}]}'
    )
    mix = MIXES.parse("mix", old)
    assert [part.kind for part in mix.kinds] == ["tree", "rock"]
    assert mix.density_per_ha == 240
    assert [mix.per_ha(part) for part in mix.kinds] == [pytest.approx(220), pytest.approx(20)]
    assert [part.size_max for part in mix.kinds] == [1.5, 2]


def test_a_plant_asks_the_post_nearest_to_it_at_any_spacing() -> None:
    """Half of the land is sown, on posts 2.5 m apart that begin elsewhere in the world."""
    grid = Grid(81, 121, 2.5, west=1000.0, south=-300.0)
    share = np.zeros((81, 121), np.float32)
    share[:, 40:] = 1
    share[60:, :] = 0
    (found,) = scatter(Pattern(4, (900.0,), ((1.0,),)), [Sort(1, 2)], [share], grid.window, grid, grid.window)
    assert found is not None
    assert len(found) > 500
    # Half a spacing beyond the first post that is sown, no farther.
    assert 1000 + 39.5 * 2.5 - 1e-3 <= found.x.min() < 1000 + 40.5 * 2.5
    assert -300 + 20.5 * 2.5 - 1e-3 <= found.y.min() < -300 + 22.5 * 2.5
    assert found.x.max() <= grid.east
    assert found.y.max() <= grid.north
    # As many as that ground has room for.
    assert len(found) == pytest.approx(80 * 2.5 * 59.5 * 2.5 * 900 / 10_000, rel=0.03)


@pytest.mark.parametrize(("low", "high", "word"), [(0, 1, "sizes"), (2, 1, "sizes"), (1, 200, "sizes")])
def test_sizes_that_cannot_be_are_refused(low: float, high: float, word: str) -> None:
    with pytest.raises(InvalidInput, match=word):
        Sort(low, high)
