"""Roads: the cheapest way beside SciPy's shortest path on the same graph; grades by what they are, post by post."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.core.sites.roads import Bed, built, climb, covered, grades, profile
from fernfield.core.travel.road_ways import road_way


def by_scipy(heights: np.ndarray, costs: np.ndarray, spacing: float, steepest: float, slope: float) -> coo_matrix:
    rows, cols = heights.shape
    number = np.arange(rows * cols).reshape(rows, cols)
    parts = []
    for dr, dc in ((0, 1), (1, 0), (1, 1), (1, -1)):
        a = number[: rows - dr, max(0, -dc) : cols - max(0, dc)].ravel()
        b = a + dr * cols + dc
        run = spacing * math.hypot(dr, dc)
        grade = abs(heights.ravel()[a] - heights.ravel()[b]) / run
        cost = run * (costs.ravel()[a] + costs.ravel()[b]) / 2 * (1 + slope * grade)
        fits = (grade <= steepest) & np.isfinite(cost)
        parts += [(a[fits], b[fits], cost[fits]), (b[fits], a[fits], cost[fits])]
    a, b, cost = (np.concatenate(each) for each in zip(*parts, strict=True))
    return coo_matrix((cost, (a, b)), shape=(rows * cols, rows * cols)).tocsr()


@settings(max_examples=40, deadline=None)
@given(
    seed=st.integers(0, 2**31), rows=st.integers(2, 24), cols=st.integers(2, 24), steepest=st.floats(0.05, 0.6),
    slope=st.sampled_from([0.0, 2.0, 20.0]), walls=st.floats(0, 0.3),
)  # fmt: skip
def test_the_cheapest_way_is_scipys(
    seed: int, rows: int, cols: int, steepest: float, slope: float, walls: float
) -> None:
    rng = np.random.default_rng(seed)
    heights = rng.uniform(0, 1.5, (rows, cols)).astype(np.float32).astype(np.float64)
    costs = rng.uniform(0.2, 5, (rows, cols)).astype(np.float32).astype(np.float64)
    costs[rng.random((rows, cols)) < walls] = np.inf
    start, end = (0, 0), (rows - 1, cols - 1)
    costs[start] = costs[end] = 1.0
    found = road_way(heights, costs, start, end, 2.0, steepest, slope)
    wanted = dijkstra(by_scipy(heights, costs, 2.0, steepest, slope), indices=0)[-1]
    if not math.isfinite(wanted):
        assert (len(found.posts), found.cost) == (0, math.inf)
        return
    assert found.cost == pytest.approx(wanted, rel=1e-9, abs=1e-6)
    assert tuple(found.posts[0]) == start
    assert tuple(found.posts[-1]) == end
    r, c = found.posts.T
    steps = np.maximum(abs(np.diff(r)), abs(np.diff(c)))
    assert (steps == 1).all()
    assert (abs(np.diff(heights[r, c])) <= steepest * 2.0 * np.hypot(np.diff(r), np.diff(c)) + 1e-9).all()


@settings(max_examples=60, deadline=None)
@given(seed=st.integers(0, 2**31), count=st.integers(3, 120), steepest=st.floats(0.02, 0.5), smooth=st.integers(0, 8))
def test_no_profile_is_steeper_than_it_may_be(seed: int, count: int, steepest: float, smooth: int) -> None:
    rng = np.random.default_rng(seed)
    far = np.concatenate([[0.0], np.cumsum(rng.uniform(0.3, 1.0, count - 1))])
    ground = np.cumsum(rng.normal(0, 1, count))
    fixed = {0: float(ground[0]), count - 1: float(ground[0] + rng.uniform(-1, 1) * steepest * far[-1])}
    z = profile(ground, far, steepest, fixed, smooth)
    assert abs(grades(z, far)).max() <= steepest + 1e-9
    assert {at: z[at] for at in fixed} == pytest.approx(fixed)
    # Ground that is gentle enough is left as it is.
    gentle = far * steepest * 0.5
    assert profile(gentle, far, steepest, {0: 0.0}, 0) == pytest.approx(gentle)
    assert climb(gentle) == pytest.approx(gentle[-1])
    with pytest.raises(InvalidInput, match=r"steeper than .* Lead it further around"):
        profile(ground, far, steepest, {0: 0.0, count - 1: 1.1 * steepest * far[-1]})


def test_a_road_is_as_wide_and_falls_as_it_says() -> None:
    """On a slope across it: its middle level, its edges lower by its fall, and the land again beyond its shoulder."""
    window = Window(0, 0, 60, 80)
    ground = np.tile(np.arange(60, dtype=np.float32)[:, None] * 0.4, (1, 80))
    col = np.arange(10, 70.5, 0.5)
    bed = Bed(np.full_like(col, 30.0), col, np.full_like(col, 12.0), np.full_like(col, 4.0), 5.0, 0.03)
    found = built(ground, [bed], window, 1.0)
    middle = found[:, 40]
    assert middle[30] == pytest.approx(12.0)
    assert middle[[29, 31, 28, 32]] == pytest.approx([12.0, 12.0, 11.97, 11.97])
    assert middle[[26, 34]] == pytest.approx([12 - 0.09] * 2)
    assert (middle[22:26] < ground[22:26, 40]).sum() == 0
    assert (middle[:22] == ground[:22, 40]).all()
    assert middle[37] == pytest.approx(11.91 + (ground[37, 40] - 11.91) * 3 / 5)
    assert covered(bed, window, 1.0)[:, 40].nonzero()[0].tolist() == list(range(26, 35))
    # In parts it is the same as in one.
    part = Window(20, 30, 45, 60)
    assert (built(ground[20:45, 30:60], [bed], part, 1.0) == found[20:45, 30:60]).all()
