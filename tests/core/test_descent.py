"""The steepest way down, against a plain search and against planes that fall any way."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core.water.descent import descend

AROUND = [(-1, 0), (-1, 1), (0, 1), (1, 1), (1, 0), (1, -1), (0, -1), (-1, -1)]


def steepest(heights: np.ndarray, row: int, col: int) -> set[tuple[int, int]]:
    """The corners of the steepest of eight triangles around a post, by its definition (Tarboton 1997), and the post to
    which it falls most."""
    z = heights.astype(np.float64)
    fall = [z[row, col] - z[row + i, col + j] for i, j in AROUND]
    slopes = {(k,): fall[k] / math.hypot(*AROUND[k]) for k in range(8)}
    for k in range(0, 8, 2):
        for diagonal in ((k + 1) % 8, (k - 1) % 8):
            along, across = fall[k], fall[diagonal] - fall[k]
            inside = math.hypot(along, across) if 0 < across < along else max(along, fall[diagonal] / math.sqrt(2))
            slopes[k, diagonal] = inside
    most, falls = max(slopes.values()), max(slopes[k,] for k in range(8))
    corners = {k for triangle, slope in slopes.items() if slope > most - 1e-9 for k in triangle}
    corners |= {k for k in range(8) if slopes[k,] > falls - 1e-9}
    return {(row + AROUND[k][0], col + AROUND[k][1]) for k in corners}


@settings(max_examples=60, deadline=None)
@given(arrays(np.float32, (9, 11), elements=st.integers(-5, 5).map(float)), st.integers(1, 7), st.integers(1, 9))
def test_each_post_is_lower_and_it_ends_where_none_is(heights: np.ndarray, row: int, col: int) -> None:
    way, lowest, lean = descend(heights, np.zeros(heights.shape, bool), row, col)
    assert way[0].tolist() == [row, col]
    assert abs(lean) <= 1
    for (r, c), (p, q) in zip(way[:-1].tolist(), way[1:].tolist(), strict=True):
        assert max(abs(p - r), abs(q - c)) == 1
        assert heights[p, q] < heights[r, c]
        assert (p, q) in steepest(heights, r, c)
    r, c = way[-1].tolist()
    inside = 0 < r < 8 and 0 < c < 10
    assert lowest == (inside and heights[r - 1 : r + 2, c - 1 : c + 2].min() == heights[r, c])


@pytest.mark.parametrize("bearing", range(0, 360, 7))
def test_on_a_plane_the_way_is_a_straight_line(bearing: int) -> None:
    """Whichever way it falls: no post of the way is further than two thirds of a post beside the line of its fall. Over
    eight directions alone it would be up to 30 posts beside it here."""
    row, col = np.mgrid[0:161, 0:161].astype(np.float64)
    north, east = math.cos(math.radians(bearing)), math.sin(math.radians(bearing))
    heights = (200 - 0.3 * ((80 - row) * north + (col - 80) * east)).astype(np.float32)
    way, lowest, _ = descend(heights, np.zeros(heights.shape, bool), 80, 80)
    assert not lowest
    up, right = 80 - way[:, 0], way[:, 1] - 80
    assert np.abs(right * north - up * east).max() < 0.67
    assert (np.diff(up * north + right * east) > 0).all()
    # In two parts it is the same way, when how far it lies beside the line is handed on.
    half = len(way) // 2
    wet = np.zeros(heights.shape, bool)
    wet[tuple(way[half])] = True
    first, _, lean = descend(heights, wet, 80, 80)
    rest, _, _ = descend(heights, np.zeros(heights.shape, bool), *way[half].tolist(), lean)
    assert np.array_equal(np.concatenate([first, rest[1:]]), way)


def test_down_a_cone_the_way_runs_straight_away_from_its_top() -> None:
    row, col = np.mgrid[0:201, 0:201].astype(np.float64)
    heights = (100 - 0.5 * np.hypot(row - 100, col - 100)).astype(np.float32)
    for start in ((97, 101), (104, 109), (99, 93)):
        way, _, _ = descend(heights, np.zeros(heights.shape, bool), *start)
        bearing = math.atan2(start[1] - 100, start[0] - 100)
        last = way[-1] - 100
        assert abs(math.remainder(math.atan2(last[1], last[0]) - bearing, math.tau)) < 0.2
