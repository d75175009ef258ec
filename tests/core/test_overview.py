"""Coarser levels: against SciPy's filters of the same posts, and whatever parts they are made in."""

from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import ndimage

from fernfield.core.grid import Window
from fernfield.core.overview import (
    HIGHEST,
    LOWEST,
    MEAN,
    RULES,
    Rule,
    beneath,
    cells_of,
    count_of,
    halved,
    level_for,
    level_of,
    touched,
    whole_level,
)


def posts(rows: int, cols: int) -> NDArray[np.float32]:
    return np.random.default_rng(3).normal(100, 40, (rows, cols)).astype(np.float32)


def test_what_stands_on_every_second_post_is_full_weighting() -> None:
    """The mean of the four cells around a post weighs the posts 1 2 1 each way: full weighting, the usual restriction
    of multigrid methods (Briggs, Henson, McCormick: A Multigrid Tutorial, 2nd ed. 2000, ch. 3), here by SciPy."""
    ground = posts(65, 97)
    cells = cells_of(ground, MEAN)
    around = halved(cells[1:-1, 1:-1], MEAN)  # the cells around posts 2, 4, 6, …
    weights = np.outer([1, 2, 1], [1, 2, 1]) / 16
    expected = ndimage.convolve(ground.astype(float), weights)[2:-1:2, 2:-1:2]
    np.testing.assert_allclose(around, expected[: around.shape[0], : around.shape[1]], atol=1e-4)


@pytest.mark.parametrize("level", [0, 1, 3, 5])
def test_the_mean_of_a_cell_is_that_of_the_ground_between_its_posts(level: int) -> None:
    """Bilinear ground has the volume of its four posts' mean: NumPy's trapezoidal rule over the same posts."""
    ground = posts(65, 65)
    side = 1 << level
    found = level_of(ground, MEAN, level)
    for r, c in ((0, 0), (found.shape[0] - 1, 1 % found.shape[1])):
        part = ground[r * side : (r + 1) * side + 1, c * side : (c + 1) * side + 1].astype(float)
        assert found[r, c] == pytest.approx(np.trapezoid(np.trapezoid(part)) / side**2, abs=1e-3)


@pytest.mark.parametrize(("rule", "filtered"), [(LOWEST, ndimage.minimum_filter), (HIGHEST, ndimage.maximum_filter)])
@pytest.mark.parametrize("level", [1, 4])
def test_nothing_in_a_cell_is_lower_or_higher_than_it_says(rule: Rule, filtered: object, level: int) -> None:
    ground = posts(129, 129)
    side = 1 << level
    wide = filtered(ground, size=side + 1)  # type: ignore[operator]
    assert np.array_equal(
        level_of(ground, rule, level), wide[side // 2 :: side, side // 2 :: side][: 128 // side, : 128 // side]
    )


def test_the_mean_of_a_mask_is_rounded_and_stays_within_it() -> None:
    mask = np.array([[0, 65_535, 1], [65_535, 65_535, 0], [3, 0, 0]], np.uint16)
    assert cells_of(mask, MEAN).tolist() == [[49_151, 32_768], [32_768, 16_384]]
    assert level_of(np.full((9, 9), 65_535, np.uint16), MEAN, 3).tolist() == [[65_535]]


@pytest.mark.parametrize("rule", RULES.values(), ids=RULES)
@pytest.mark.parametrize("shape", [(65, 65), (70, 131), (2, 9)])
def test_a_part_is_as_it_is_in_the_whole(rule: Rule, shape: tuple[int, int]) -> None:
    ground = posts(*shape)
    land = Window(0, 0, *shape)
    for level in (0, 1, 2, 4):
        whole = level_of(ground, rule, level)
        assert Window(0, 0, *whole.shape) == whole_level(*shape, level)
        assert whole.shape == (count_of(shape[0], level), count_of(shape[1], level))
        for part in (Window(0, 0, 1, 1), Window(whole.shape[0] - 1, whole.shape[1] - 1, *whole.shape)):
            under = beneath(part, level).meet(land)
            assert np.array_equal(
                level_of(ground[under.inside(land)], rule, level), whole[part.inside(Window(0, 0, 0, 0))]
            )


def test_a_post_changes_the_cells_that_it_bounds_and_no_others() -> None:
    before = posts(65, 65)
    for row, col in ((0, 0), (16, 16), (17, 31), (64, 64)):
        after = before.copy()
        after[row, col] += 50
        for level in (0, 2, 4):
            moved = np.argwhere(level_of(before, MEAN, level) != level_of(after, MEAN, level))
            part = touched(Window(row, col, row + 1, col + 1), level).meet(whole_level(65, 65, level))
            assert sorted(map(tuple, moved.tolist())) == [
                (r, c) for r in range(part.row0, part.row1) for c in range(part.col0, part.col1)
            ]


def plainly(values: NDArray[Any], rule: Rule, step: int) -> NDArray[Any]:
    """The same rules in plain NumPy."""
    if step == 2:
        values = np.pad(values, ((0, values.shape[0] % 2), (0, values.shape[1] % 2)), mode="edge")
        a, b, c, d = values[::2, ::2], values[::2, 1::2], values[1::2, ::2], values[1::2, 1::2]
    else:
        a, b, c, d = values[:-1, :-1], values[:-1, 1:], values[1:, :-1], values[1:, 1:]
    if rule is LOWEST:
        return np.minimum(np.minimum(a, b), np.minimum(c, d))
    if rule is HIGHEST:
        return np.maximum(np.maximum(a, b), np.maximum(c, d))
    if values.dtype == np.float32:
        return ((a + b) + (c + d)) * np.float32(0.25)
    return ((a.astype(np.uint32) + b + c + d + 2) // 4).astype(values.dtype)


@pytest.mark.parametrize("rule", RULES.values(), ids=RULES)
@pytest.mark.parametrize("dtype", [np.float32, np.uint16])
def test_the_kernels_do_what_plain_numpy_does_to_the_last_bit(rule: Rule, dtype: type) -> None:
    values = (np.random.default_rng(5).random((33, 70)) * 65_535).astype(dtype)
    for part in (values, values[:32, :69], values[:1, :3]):
        assert halved(part, rule).tobytes() == np.ascontiguousarray(plainly(part, rule, 2)).tobytes()
        if part.shape[0] > 1:
            assert cells_of(part, rule).tobytes() == np.ascontiguousarray(plainly(part, rule, 1)).tobytes()


def test_steps_between_the_levels_are_read_from_the_posts() -> None:
    assert [level_for(step, MEAN) for step in (1, 2, 4, 8, 12, 16, 128)] == [None, None, None, 2, None, 3, 6]
    assert [level_for(step, LOWEST) for step in (1, 2, 8, 32, 48, 64)] == [None, 0, 2, 4, None, 5]
