"""The channel of a stream: courses, surfaces that never rise, beds and banks; by hand and on random land."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core import lines
from fernfield.core.grid import Window
from fernfield.core.lines import Nearest
from fernfield.core.water import channel
from fernfield.core.water.channel import Course

LINES = st.lists(st.tuples(st.floats(0, 60), st.floats(0, 60)), min_size=2, max_size=8, unique=True)


def straight(long: int, surface: float = 10.0, half: float = 2.0, depth: float = 0.5, bank: float = 1.0) -> Course:
    """A course down one column, level."""
    same = np.ones(long)
    return Course(np.arange(long, dtype=float), 20 * same, surface * same, half * same, depth * same, bank * same)


@settings(max_examples=40, deadline=None)
@given(LINES, st.floats(0.3, 4))
def test_a_line_is_split_evenly_and_keeps_its_corners_and_length(line: list[tuple[float, float]], step: float) -> None:
    row, col = np.array(line).T
    r, c = lines.evenly(row, col, step)
    gaps = np.hypot(np.diff(r), np.diff(c))
    assert gaps.max() <= step + 1e-6
    assert gaps.sum() == pytest.approx(float(np.hypot(np.diff(row), np.diff(col)).sum()))
    for a, b in line:
        assert np.hypot(r - a, c - b).min() < 1e-6


@settings(max_examples=25, deadline=None)
@given(LINES, st.integers(1, 3), st.integers(0, 40), st.integers(0, 40))
def test_places_are_the_nearest_and_the_same_from_every_window(
    line: list[tuple[float, float]], step: int, row0: int, col0: int
) -> None:
    """Against the distance to each piece of the line, worked out one by one."""
    row, col = lines.evenly(*np.array(line).T)
    reach = np.full(len(row), 7.0)
    whole = lines.nearest((row, col), reach, Window(0, 0, 61, 61))
    rows, cols = np.mgrid[0:61, 0:61].astype(float)
    least = np.full((61, 61), np.inf)
    for i in range(len(row) - 1):
        dr, dc = row[i + 1] - row[i], col[i + 1] - col[i]
        t = np.clip(((rows - row[i]) * dr + (cols - col[i]) * dc) / max(dr * dr + dc * dc, 1e-30), 0, 1)
        least = np.minimum(least, np.hypot(rows - row[i] - t * dr, cols - col[i] - t * dc))
    sure = np.abs(least - 7) > 1e-4
    assert np.array_equal(np.isfinite(whole.away)[sure], (least < 7)[sure])
    there = np.isfinite(whole.away) & sure
    assert np.abs(whole.away[there] - least[there]).max(initial=0) < 1e-4
    part = lines.nearest((row, col), reach, Window(row0, col0, row0 + 20, col0 + 20), step)
    for name in ("away", "at"):
        seen = getattr(whole, name)[row0 : row0 + 20 : step, col0 : col0 + 20 : step]
        assert np.array_equal(getattr(part, name)[: seen.shape[0], : seen.shape[1]], seen)


@settings(max_examples=60, deadline=None)
@given(
    arrays(np.float64, st.integers(1, 80), elements=st.floats(-50, 50)),
    st.integers(0, 12),
    st.one_of(st.none(), st.floats(-60, 60)),
)
def test_a_surface_never_rises_and_lies_under_its_banks(lowest: np.ndarray, smooth: int, end: float | None) -> None:
    surface = channel.surface_of(lowest.copy(), smooth, end)
    assert (np.diff(surface) <= 1e-12).all()
    if end is None:
        assert (surface <= lowest - channel.FREEBOARD_M + 1e-9).all()
    else:
        assert surface.min() >= end


def test_the_bed_and_its_banks_by_hand() -> None:
    """A level stream 4 m wide and 0.5 m deep at 10 m, with banks of 45°."""
    course = straight(41)
    near = lines.nearest((course.row, course.col), np.full(41, 12.0), Window(10, 8, 30, 33))
    ground = channel.target(near, course, 1.0)[5]
    for off, level in ((0, 9.5), (1, 9.5), (2, 10.0), (3, 10 + 1 + 1 / 8), (6, 10 + 4 + 16 / 8)):
        assert ground[12 - off] == ground[12 + off] == pytest.approx(level)
    # A bank of 45° is met at once, one of 2 m in height where x + x² / 8 is 2.
    assert channel.bank_reach(np.array([2.0]), np.array([1.0]))[0] == pytest.approx(4 * (math.sqrt(2) - 1))
    x = channel.bank_reach(np.array([2.0]), np.array([1.0]))[0]
    assert x + x * x / channel.ROUND_M == pytest.approx(2.0)


def test_flows_add_up_where_streams_join() -> None:
    """Widths go with the square root of the flow (Leopold and Maddock 1953): 3 m and 4 m make 5 m."""
    assert channel.joined_width(3, 4) == 5
    assert channel.joined_width(2, 2, 2, 2) == 4


def test_a_ford_is_shallow_with_gentle_banks_and_the_rest_is_as_it_was() -> None:
    course = straight(101, depth=1.2)
    ford = channel.forded(course, [50], 1.0)
    assert ford.depth[50] == pytest.approx(channel.FORD_M)
    assert ford.bank[50] == pytest.approx(math.tan(math.radians(12)))
    assert ford.depth[[0, 40, 60]].tolist() == [1.2] * 3
    shallow = channel.forded(straight(101, depth=0.2), [50], 1.0)
    assert shallow.depth.tolist() == [0.2] * 101


def test_water_falls_where_it_is_steep_and_high_enough() -> None:
    course = straight(40)
    course.surface[:] = np.where(np.arange(40) < 10, 20, np.where(np.arange(40) < 30, 14, 13.8))
    assert channel.falls(course, 1.0) == [(9, 10)]
    gentle = straight(40)
    gentle.surface[:] = 20 - 0.3 * np.arange(40)
    assert channel.falls(gentle, 1.0) == []


def test_a_course_is_thinned_to_within_what_was_said() -> None:
    """A bend of constant turn that falls in two slopes: few spots tell it, and none is off by more than was said."""
    count = 400
    turn = np.linspace(0, 2, count)
    course = Course(
        np.cumsum(np.cos(turn)), np.cumsum(np.sin(turn)), np.interp(np.arange(count), [0, 150, 399], [50, 30, 29]),
        np.full(count, 2.0), np.full(count, 0.6), np.full(count, 0.7),
    )  # fmt: skip
    thin = channel.thinned(course)
    assert len(thin) < count / 10
    spots = [int(np.hypot(course.row - r, course.col - c).argmin()) for r, c in zip(thin.row, thin.col, strict=True)]
    assert (spots[0], spots[-1]) == (0, count - 1)
    assert (np.diff(thin.surface) <= 0).all()
    for name, most in (("row", 0.2), ("col", 0.2), ("surface", 0.02)):
        back = np.interp(np.arange(count), spots, getattr(thin, name))
        assert np.abs(back - getattr(course, name)).max() <= most + 1e-9


def test_the_lowest_ground_beside_is_found_for_both_ends_of_a_piece() -> None:
    course = straight(5)
    heights = np.full((5, 41), 12.0, np.float32)
    heights[2, 22] = 7
    near = lines.nearest((course.row, course.col), np.full(5, 3.0), Window(0, 0, 5, 41))
    lowest = channel.lowest_beside(near, heights, 5)
    assert lowest[2] == 7
    assert lowest[0] == lowest[4] == 12
    assert isinstance(near, Nearest)
