"""A stroke depends on the movement, not on how often the pointer was reported."""

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fernfield.core.brush.brush import Touch
from fernfield.core.brush.pace import STEP_S, TAP_S, Dab, Pace, Sample, dab_gap, dab_step, dabs_of
from fernfield.core.errors import InvalidInput
from fernfield.core.ground.flatten import flatten_in_place
from fernfield.core.ground.raise_lower import raise_in_place
from fernfield.core.ground.smooth import smooth_in_place

RADIUS = 12.0


def hand(seconds: float) -> tuple[float, float]:
    """A loop drawn in two seconds, 40 m across."""
    turn = math.pi * seconds
    return 60 + 40 * math.sin(turn), 60 + 25 * math.sin(2 * turn + 0.5)


def reported(rate: float) -> list[Sample]:
    count = round(2 * rate)
    return [Sample(*hand(i / rate), i / rate) for i in range(count + 1)]


def land(rate: float, tool: str) -> np.ndarray:
    rng = np.random.default_rng(3)
    heights = rng.normal(0, 1, (121, 121)).astype(np.float32) if tool == "smooth" else np.zeros((121, 121), np.float32)
    for dab in dabs_of(reported(rate), dab_gap(RADIUS), dab_step(RADIUS)):
        touch = Touch(120 - dab.y, dab.x, RADIUS, 0.6, 6 * dab.seconds)
        if tool == "raise":
            raise_in_place(heights, touch)
        elif tool == "flatten":
            flatten_in_place(heights, touch, 2.0)
        else:
            smooth_in_place(heights, Touch(touch.row, touch.col, RADIUS, 0.6, 1 - math.exp(-3 * dab.seconds)))
    return heights


@pytest.mark.parametrize("tool", ["raise", "flatten", "smooth"])
def test_15_60_and_240_reports_a_second_give_the_same_ground(tool: str) -> None:
    """Within 1 % of the greatest change."""
    untouched = land(60, tool) * 0 if tool != "smooth" else np.random.default_rng(3).normal(0, 1, (121, 121))
    best = land(240, tool)
    greatest = np.abs(best - untouched).max()
    for rate in (15, 60):
        assert np.abs(land(rate, tool) - best).max() < 0.01 * greatest


def test_a_small_brush_walks_in_finer_steps_and_does_the_same() -> None:
    fine, plain = (dabs_of(reported(60), dab_gap(200), dab_step(posts)) for posts in (64, 65))
    assert len(fine) == pytest.approx(2 * len(plain), abs=2)
    assert sum(d.seconds for d in fine) == pytest.approx(sum(d.seconds for d in plain))
    grounds = []
    for dabs in (fine, plain):
        heights = np.zeros((121, 121), np.float32)
        for dab in dabs:
            raise_in_place(heights, Touch(120 - dab.y, dab.x, RADIUS, 0.6, 6 * dab.seconds))
        grounds.append(heights)
    assert np.abs(grounds[0] - grounds[1]).max() < 0.01 * grounds[0].max()


def test_batches_do_not_matter() -> None:
    samples = reported(60)
    whole = dabs_of(samples, 2.0)
    pace = Pace(2.0)
    parts: list[Dab] = []
    for i in range(0, len(samples), 7):
        parts += pace.add(samples[i : i + 7])
    parts += pace.finish()
    assert parts == whole


@given(st.lists(st.floats(0.001, 0.2), min_size=2, max_size=40), st.floats(0.5, 50))
@settings(max_examples=60, deadline=None)
def test_no_time_is_lost_and_no_gap_is_left(steps: list[float], gap: float) -> None:
    times = np.cumsum([0.0, *steps])
    samples = [Sample(30 * math.sin(3 * t), 40 * t, float(t)) for t in times]
    dabs = dabs_of(samples, gap)
    assert sum(d.seconds for d in dabs) == pytest.approx(max(times[-1], TAP_S))
    assert all(0 < d.seconds <= STEP_S + 1e-9 for d in dabs)
    gaps = [math.hypot(b.x - a.x, b.y - a.y) for a, b in itertools.pairwise(dabs)]
    assert max(gaps, default=0) < 2.6 * gap + 1e-6


def test_a_tap_counts_a_tenth_of_a_second() -> None:
    dabs = dabs_of([Sample(5, 6, 100.0)], 1.0)
    assert sum(d.seconds for d in dabs) == pytest.approx(TAP_S)
    assert all((d.x, d.y) == pytest.approx((5, 6)) for d in dabs)


def test_a_still_hand_goes_on_working() -> None:
    dabs = dabs_of([Sample(5, 6, 0), Sample(5, 6, 2.0)], 1.0)
    assert sum(d.seconds for d in dabs) == pytest.approx(2)


def test_time_that_runs_backwards_is_refused() -> None:
    with pytest.raises(InvalidInput, match="backwards: 1"):
        dabs_of([Sample(0, 0, 2), Sample(0, 0, 1)], 1)


def test_nothing_gives_nothing() -> None:
    assert dabs_of([], 1.0) == []
