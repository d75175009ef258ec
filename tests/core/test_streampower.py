"""Streams against uplift: the analytic profiles of the steady state, and land that drains."""

from __future__ import annotations

import numpy as np
import pytest

from fernfield.core.errors import InvalidInput
from fernfield.core.water.drainage import OUT, Drainage, catchments, drain
from fernfield.core.water.streampower import Power, carved, cut


@pytest.mark.parametrize("concavity", [0.35, 0.5, 0.6])
def test_the_steady_state_of_one_stream_is_hacks_form(concavity: float) -> None:
    """A plane strip drained by one stream: A grows with the way x from the divide, so S = (U / K) (w x)^-m, and the
    height over the outlet is (U / K) w^-m (X^(1-m) - x^(1-m)) / (1 - m) (Hack 1957; Whipple and Tucker 1999)."""
    posts, spacing = 4_000, 10.0
    power = Power(3e-4, 4e-6, concavity)
    to = np.full((2, posts), 6, np.uint8)
    to[:, 0] = OUT
    order = np.argsort(np.tile(np.arange(posts), 2), kind="stable").astype(np.int32)
    found = Drainage(np.zeros((2, posts), np.float32), to, order)
    area = catchments(found)
    assert area[0, 0] == posts
    land = np.zeros((2, posts), np.float32)
    for _ in range(60):
        land = cut(land, found, area, spacing, power, 1e7)
    m = concavity
    way = (posts - np.arange(posts)) * spacing
    want = power.uplift / power.erodes * spacing**-m * ((posts * spacing) ** (1 - m) - way ** (1 - m)) / (1 - m)
    inner = slice(50, posts - 50)
    assert land[0][inner] == pytest.approx(want[inner], rel=0.02)


def test_a_land_that_rises_comes_to_rest_with_the_concavity_that_was_asked_for() -> None:
    """Where nothing changes any more each post falls as S = (U / K) A^-m says, and log S over log A has that slope."""
    rng = np.random.default_rng(2)
    power = Power(2e-4, 5e-6, 0.45)
    land = carved(rng.uniform(0, 1, (120, 150)).astype(np.float32), 20.0, power, 2e7, 120)
    found = drain(land)
    area = catchments(found)
    rows, cols = np.nonzero((found.to != OUT) & (area > 20))
    from fernfield.core.water.drainage import DC, DR

    k = found.to[rows, cols]
    long = 20.0 * np.where(k % 2, np.sqrt(2), 1)
    slope = (land[rows, cols].astype(float) - land[rows + DR[k], cols + DC[k]]) / long
    want = power.uplift / power.erodes * (area[rows, cols] * 400.0) ** -0.45
    assert np.median(slope / want) == pytest.approx(1, abs=0.02)
    fit = np.polyfit(np.log(area[rows, cols] * 400.0), np.log(np.maximum(slope, 1e-6)), 1)
    assert fit[0] == pytest.approx(-0.45, abs=0.03)
    # Every post drains to the edge.
    assert np.abs(found.filled - land).max() < 1e-3


def test_hollows_are_cut_through_and_outlets_stay() -> None:
    rng = np.random.default_rng(5)
    land = (rng.normal(0, 4, (80, 80)) + 30).astype(np.float32)
    before = drain(land)
    assert (before.filled > land).sum() > 1000
    found = carved(land, 10.0, Power(1e-4, 2e-5, 0.45), 1e6, 30)
    after = drain(found)
    assert (after.filled - found > 0.01).sum() == 0
    still = after.to == OUT
    assert (np.abs(found[still] - before.filled[still]) < 1e-4).all()


def test_what_cannot_be_is_refused_and_a_stop_is_heard() -> None:
    with pytest.raises(InvalidInput, match="concavity 0 to 1"):
        Power(concavity=1.5)

    def stop(done: float) -> None:
        if done > 0.2:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        carved(np.zeros((20, 20), np.float32), 1.0, Power(), 1e5, 10, stop)
    assert Power(2e-4, 5e-6, 0.5).slope(1e4) == pytest.approx(0.4)
