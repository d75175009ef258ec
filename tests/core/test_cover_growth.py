"""Shares that add up, a rule that follows, and plants that are the same from the same seed."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core.cover.shares import SOLID, SlopeRule, compose_colours, compose_shares, rule_opacity, shares_as_bytes
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Grid, Window
from fernfield.core.growth.scatter import Habit, kind_seed, scatter
from fernfield.core.water.level import depth

MASKS = arrays(np.uint16, (3, 4, 5), elements=st.integers(0, SOLID))
RULES = arrays(np.float32, (4, 5), elements=st.floats(0, 1, width=32))


@given(MASKS, RULES)
@settings(max_examples=60, deadline=None)
def test_shares_always_add_up_to_one(masks: np.ndarray, rule: np.ndarray) -> None:
    shares = compose_shares(list(masks), [None, rule, None], (4, 5))
    assert (shares >= 0).all()
    assert np.allclose(shares.sum(axis=0), 1, atol=1e-6)
    assert (shares_as_bytes(shares).astype(int).sum(axis=0) == 255).all()


@given(MASKS, RULES)
@settings(max_examples=60, deadline=None)
def test_the_colour_of_the_ground_is_that_of_the_covers_by_their_shares(masks: np.ndarray, rule: np.ndarray) -> None:
    """The kernel against the shares mixed in plain NumPy."""
    colours = [(10, 20, 30), (200, 0, 5), (0, 120, 240), (255, 255, 255)]
    covers = [masks[0], None, masks[2]], [None, rule, rule]
    mixed = np.tensordot(np.array(colours, float).T, compose_shares(*covers, (4, 5)).astype(float), axes=1)
    assert np.allclose(compose_colours(*covers, colours, (4, 5)), mixed, atol=0.01)


def test_covers_that_do_not_go_together_are_refused() -> None:
    with pytest.raises(InvalidInput, match="not 2 and 1"):
        compose_shares([None, None], [None], (1, 1))
    with pytest.raises(InvalidInput, match="colours one longer, not 1, 1 and 1"):
        compose_colours([None], [None], [(1, 2, 3)], (1, 1))


def test_a_cover_hides_what_is_under_it_and_shows_it_again_when_taken_away() -> None:
    half = np.full((1, 1), SOLID // 2 + 1, np.uint16)
    full = np.full((1, 1), SOLID, np.uint16)
    assert compose_shares([half, full], [None, None], (1, 1))[:, 0, 0] == pytest.approx([0, 0, 1], abs=1e-4)
    assert compose_shares([half, None], [None, None], (1, 1))[:, 0, 0] == pytest.approx([0.5, 0.5, 0], abs=1e-4)


def test_an_opacity_of_72_of_255_is_a_veil_of_28_percent() -> None:
    """A fact of the trade, common practice."""
    veil = np.full((1, 1), round(72 / 255 * SOLID), np.uint16)
    assert compose_shares([veil], [None], (1, 1))[1, 0, 0] == pytest.approx(0.28, abs=0.005)


def test_the_slope_rule_grows_in_over_its_blend() -> None:
    slope = np.array([[20.0, 33.0, 36.0, 39.0, 60.0]], np.float32)
    assert rule_opacity(slope, SlopeRule(36, 6))[0] == pytest.approx([0, 0, 0.5, 1, 1])
    assert rule_opacity(slope, SlopeRule(36, 0))[0] == pytest.approx([0, 0, 0.5, 1, 1])
    with pytest.raises(InvalidInput, match="0 to 90 degrees, not 95"):
        SlopeRule(95, 3)


def test_the_hollow_of_7_m_in_ground_at_10_m() -> None:
    """Nothing shows at 7; a pool at 8 and 9; at 11 it floods (common practice)."""
    land = np.full((9, 9), 10, np.float32)
    land[3:6, 3:6] = 7
    wet = {level: (depth(land, level) > 0) for level in (7, 8, 9, 10, 11)}
    assert not wet[7].any()
    assert wet[8].sum() == wet[9].sum() == wet[10].sum() == 9
    assert wet[11].all()


# Growth

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
