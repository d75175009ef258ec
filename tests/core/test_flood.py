"""Rain that fills hollows: what falls stands or runs off, to the last drop; by hand and on random land."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core.grid import FloatArray
from fernfield.core.water.drainage import drain
from fernfield.core.water.flood import flooded
from tests.core.real_land import jacksboro

LANDS = st.tuples(st.integers(3, 20), st.integers(3, 20)).flatmap(
    lambda shape: arrays(np.float32, shape, elements=st.integers(0, 9).map(float))
)


@settings(max_examples=40, deadline=None)
@given(LANDS, st.floats(0.001, 3))
def test_what_falls_stands_or_runs_off(heights: FloatArray, rain: float) -> None:
    found = flooded(heights, drain(heights), np.full(heights.shape, rain * 4), 4.0)
    assert found.depth.sum(dtype=np.float64) * 4 + found.off == pytest.approx(rain * 4 * heights.size, rel=1e-5)
    assert (found.depth >= 0).all()
    assert (found.depth <= drain(heights).filled - heights + 1e-4).all()


@settings(max_examples=20, deadline=None)
@given(LANDS)
def test_rain_without_end_fills_every_hollow_to_its_brim(heights: FloatArray) -> None:
    drainage = drain(heights)
    found = flooded(heights, drainage, np.full(heights.shape, 1e6), 1.0)
    assert np.array_equal(found.depth, drainage.filled - heights)


def test_a_hollow_by_hand() -> None:
    """A pit of 3 x 3 posts, 2 m deep, in level ground of 7 x 7: 1 m of water on its floor, then over the brim."""
    heights = np.full((7, 7), 5, np.float32)
    heights[2:5, 2:5] = 3
    water = np.zeros((7, 7))
    water[3, 3] = 9.0
    found = flooded(heights, drain(heights), water, 1.0)
    assert found.depth[2:5, 2:5].tolist() == [[1.0] * 3] * 3
    assert found.off == 0
    water[3, 3] = 20.0
    found = flooded(heights, drain(heights), water, 1.0)
    assert found.depth[2:5, 2:5].tolist() == [[2.0] * 3] * 3
    assert found.off == pytest.approx(2.0)


def test_one_hollow_runs_over_into_the_next() -> None:
    """Two pits in a row on a trough that falls to the east: the upper one fills first, then the lower one."""
    heights = np.full((3, 9), 20, np.float32)
    heights[1] = [10, 6, 9, 4, 4, 8, 7, 6, 5]
    water = np.zeros((3, 9))
    water[1, 1] = 5.0
    found = flooded(heights, drain(heights), water, 1.0)
    # Three metres in the first, the other two in the second, over two posts.
    assert found.depth[1].tolist() == [0, 3, 0, 1, 1, 0, 0, 0, 0]
    water[1, 1] = 3 + 8 + 2.5
    found = flooded(heights, drain(heights), water, 1.0)
    assert found.depth[1].tolist() == [0, 3, 0, 4, 4, 0, 0, 0, 0]
    assert (found.off, found.passed[1, 6]) == (pytest.approx(2.5), pytest.approx(2.5))


def test_on_a_real_land() -> None:
    """The Jacksboro grid, rain of 50 mm: all of it is accounted for, and no water stands above a brim."""
    heights = jacksboro()
    drainage = drain(heights)
    found = flooded(heights, drainage, np.full(heights.shape, 0.05 * 900), 900.0)
    assert found.depth.sum(dtype=np.float64) * 900 + found.off == pytest.approx(0.05 * 900 * heights.size, rel=1e-5)
    assert found.depth.max() <= (drainage.filled - heights).max()
    assert found.off > 0
