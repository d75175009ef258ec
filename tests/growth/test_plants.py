"""Plants that are the same from the same seed, and that stand on the ground."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fernfield.core.cover.shares import SOLID
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Grid, Window
from fernfield.core.growth.scatter import Habit, kind_seed, scatter
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.spot import spot
from tests.conftest import draw

GRID = Grid(301, 301, 1.0)
FULL = np.full((301, 301), SOLID, np.uint16)
TREES = Habit(200, 1.0, 1.5)


def plants_in(part: Window, mask: np.ndarray = FULL, habit: Habit = TREES, seed: int = 5) -> set[tuple[float, ...]]:
    wide = GRID.clip(part.pad(1))
    found = scatter(mask[wide.inside(GRID.window)], wide, GRID, part, habit, seed)
    return set(zip(found.x.tolist(), found.y.tolist(), found.size.tolist(), found.turn.tolist(), strict=True))


def test_the_density_is_that_of_the_habit() -> None:
    """200 a hectare on 9 ha are 1,800, to a cell's width of edge."""
    assert len(plants_in(GRID.window)) == pytest.approx(1800, rel=0.03)
    half = np.full_like(FULL, SOLID // 2)
    assert len(plants_in(GRID.window, half)) == pytest.approx(900, rel=0.08)


def test_the_same_seed_and_mask_give_the_same_plants_and_another_seed_others() -> None:
    assert plants_in(GRID.window) == plants_in(GRID.window)
    assert not plants_in(GRID.window) & plants_in(GRID.window, seed=6)
    assert kind_seed(5, 0) != kind_seed(5, 1) != kind_seed(6, 0)


@given(st.integers(1, 300), st.integers(1, 300))
@settings(max_examples=25, deadline=None)
def test_parts_side_by_side_lose_and_double_nothing(row: int, col: int) -> None:
    parts = [
        plants_in(Window(r0, c0, r1, c1)) for r0, r1 in ((0, row), (row, 301)) for c0, c1 in ((0, col), (col, 301))
    ]
    assert sum(map(len, parts)) == len(set().union(*parts))
    assert set().union(*parts) == plants_in(GRID.window)


def test_thinning_takes_plants_away_and_leaves_the_others_where_they_are() -> None:
    thin = np.full_like(FULL, SOLID // 3)
    some, all_of_them = plants_in(GRID.window, thin), plants_in(GRID.window)
    assert some < all_of_them
    assert not plants_in(GRID.window, FULL * 0)


def test_sizes_and_turns_keep_to_their_ranges() -> None:
    found = scatter(FULL, GRID.window, GRID, GRID.window, Habit(300, 1, 12), 3)
    assert found.size.min() >= 1
    assert found.size.max() <= 12
    assert found.size.std() == pytest.approx(11 / math.sqrt(12), rel=0.1)  # a uniform spread
    assert len(np.unique(found.turn)) > 0.99 * len(found)
    assert np.histogram(found.turn, 4, (0, 360))[0].min() > 0.2 * len(found)


def test_whether_a_plant_stands_says_nothing_of_its_size_or_turn() -> None:
    """Each is a draw of its own: where a third stands, small and large ones do."""
    thin = np.full_like(FULL, SOLID // 3)
    found = scatter(thin, GRID.window, GRID, GRID.window, Habit(600, 1, 12), 3)
    assert found.size.mean() == pytest.approx(6.5, rel=0.04)
    assert found.size.max() > 11.5
    assert found.turn.mean() == pytest.approx(180, rel=0.06)
    assert abs(np.corrcoef(found.size, found.turn)[0, 1]) < 0.1


def test_plants_keep_apart() -> None:
    """Each has a cell of its own: the nearest neighbour is seldom nearer than a fifth of a cell."""
    from scipy.spatial import cKDTree

    found = scatter(FULL, GRID.window, GRID, GRID.window, TREES, 5)
    points = np.stack([found.x, found.y], axis=1)
    nearest = cKDTree(points).query(points, k=2)[0][:, 1]
    cell = math.sqrt(10_000 / 200)
    assert np.quantile(nearest, 0.05) > 0.2 * cell


@pytest.mark.parametrize(("habit", "word"), [((-1, 1, 2), "density"), ((10, 2, 1), "sizes"), ((1e6, 1, 2), "density")])
def test_habits_that_cannot_be_are_refused(habit: tuple[float, float, float], word: str) -> None:
    with pytest.raises(InvalidInput, match=word):
        Habit(*habit)


def test_plants_stand_on_the_ground_after_it_has_moved(world: OpenWorld) -> None:
    tract = world.first_tract
    draw(world, "sow", mix="mix", strength=300, path=[(100, 100, 0), (140, 100, 1)])
    before = standing_plants(world, world.first_land, tract.grid.window)
    assert sum(len(p.plants) for p in before) > 20
    draw(world, "raise", path=[(90, 100, 0), (140, 104, 1)], radius_m=30, strength=12)
    after = standing_plants(world, world.first_land, tract.grid.window)
    for old, new in zip(before, after, strict=True):
        assert (old.plants.x == new.plants.x).all()
        for x, y, z in zip(new.plants.x, new.plants.y, new.z, strict=True):
            assert z == pytest.approx(spot(world, world.first_land, float(x), float(y))["elevation_m"], abs=1e-3)
        upright = new.kind.habit == "upright"
        assert (np.abs(new.lean_east).max() < 1e-6) == upright


def test_what_is_sown_follows_the_mix(world: OpenWorld) -> None:
    tract = world.first_tract
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)

    def count() -> int:
        return sum(len(p.plants) for p in standing_plants(world, world.first_land, tract.grid.window))

    first = count()
    mix = world.row(MIXES, "mix")
    denser = tuple(k.model_copy(update={"density_per_ha": k.density_per_ha * 2}) for k in mix.kinds)
    world.edit(put(MIXES, "mix", mix.model_copy(update={"kinds": denser})))
    assert count() == pytest.approx(2 * first, rel=0.15)
    draw(world, "thin", mix="mix", strength=1000, path=[(0, 100, 0), (300, 100, 2)], radius_m=80, softness=0)
    assert count() == 0
    world.undo()
    world.undo()
    assert count() == first


def test_a_plant_asks_the_post_nearest_to_it_at_any_spacing() -> None:
    """Half of the land is sown, on posts 2.5 m apart that begin elsewhere in the world."""
    grid = Grid(81, 121, 2.5, west=1000.0, south=-300.0)
    mask = np.zeros((81, 121), np.uint16)
    mask[:, 40:] = SOLID
    mask[60:, :] = 0
    found = scatter(mask, grid.window, grid, grid.window, Habit(900, 1, 2), 4)
    assert len(found) > 500
    # Half a spacing beyond the first post that is sown, no farther.
    assert 1000 + 39.5 * 2.5 - 1e-3 <= found.x.min() < 1000 + 40.5 * 2.5
    assert -300 + 20.5 * 2.5 - 1e-3 <= found.y.min() < -300 + 22.5 * 2.5
    assert found.x.max() <= grid.east
    assert found.y.max() <= grid.north
    # As many as that ground has room for.
    assert len(found) == pytest.approx(80 * 2.5 * 59.5 * 2.5 * 900 / 10_000, rel=0.03)
