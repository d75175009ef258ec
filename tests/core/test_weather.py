"""Frost and rain: rest at the angle of repose, nothing lost, channels where water gathers."""

import numpy as np
import pytest

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.pressing import Pressing
from fernfield.core.grid import FloatArray
from fernfield.core.ground.frost import frost, slump_in_place, steepest
from fernfield.core.ground.rain import Rain, disc, rain_in_place
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.noise import Octaves, fractal, plain_spots
from tests.core.real_land import jacksboro


def frost_twin(heights: FloatArray, drop: float, share: float) -> np.ndarray:
    """One pass in plain NumPy, float64: what each post gives and gets, pair by pair."""
    h = heights.astype(float)
    moved = np.zeros_like(h)
    for dr, dc, far in ((0, 1, 1), (1, 0, 1), (1, 1, 2**0.5), (1, -1, 2**0.5)):
        a = (slice(0, h.shape[0] - dr), slice(max(0, -dc), h.shape[1] - max(0, dc)))
        b = (slice(dr, None), slice(max(0, dc), h.shape[1] + min(0, dc)))
        fall = h[a] - h[b]
        over = np.maximum(fall - drop * far, 0) + np.minimum(fall + drop * far, 0)
        moved[a] -= share * over
        moved[b] += share * over
    return h + moved


def walled(seed: int = 2, side: int = 160) -> FloatArray:
    """Hills inside a closed rim: nothing can leave."""
    land = fractal((side, side), plain_spots(0, 0, 1), Octaves(48, 5, 0.5, seed), 1.0) * 20 + 30
    land[:3] = land[-3:] = land[:, :3] = land[:, -3:] = 80
    return land


def test_a_pass_of_frost_agrees_with_the_twin() -> None:
    land = walled()
    one = frost(land, 1.0, 30, 1)
    assert np.allclose(one, frost_twin(land, np.tan(np.radians(30)), 0.125), atol=1e-4)


@pytest.mark.parametrize("spacing", [1.0, 5.0])
def test_after_frost_no_slope_is_above_the_angle_of_repose(spacing: float) -> None:
    rows, cols = np.mgrid[0:61, 0:61]
    tower = np.where(np.hypot(rows - 30, cols - 30) < 9, 18 * spacing, 0).astype(np.float32)
    assert steepest(tower, spacing) > 80
    rested = frost(tower, spacing, 34, 2500)
    assert steepest(rested, spacing) < 34.5
    # A cone: it came down evenly on all sides.
    assert np.allclose(rested, rested.T, atol=0.05 * spacing)
    assert rested.sum(dtype=float) == pytest.approx(tower.sum(dtype=float), rel=1e-4)


@pytest.mark.parametrize("weighted", [False, True])
def test_coarser_passes_bring_a_high_face_to_rest_in_hundreds_of_passes_instead_of_thousands(weighted: bool) -> None:
    rows, cols = np.mgrid[0:200, 0:203]
    tower = np.where(np.hypot(rows - 90, cols - 110) < 25, 40, 0).astype(np.float32)
    weights = np.zeros((0, 0), np.float32)
    if weighted:
        weights = np.zeros(tower.shape, np.float32)
        weights[4:196, 4:199] = 1
    land = tower.copy()
    for _ in range(4):
        before = land.copy()
        slump_in_place(land, 1.0, 34, 75, weights)
        # Nothing is lost, and nothing moves where it may not.
        assert land.sum(dtype=float) == pytest.approx(before.sum(dtype=float), rel=1e-5)
        if weighted:
            assert np.array_equal(land[weights == 0], tower[weights == 0])
        land = frost(land, 1.0, 34, 75, weights=weights if weighted else None)
    assert steepest(land, 1.0) < 34.5
    assert steepest(frost(tower, 1.0, 34, 600), 1.0) > 36
    assert land.sum(dtype=float) == pytest.approx(tower.sum(dtype=float), rel=1e-4)
    gentle = fractal((80, 80), plain_spots(0, 0, 1), Octaves(40, 2, 0.5, 1), 1.0) * 4
    same = gentle.copy()
    slump_in_place(same, 1.0, 34, 20)
    assert np.array_equal(same, gentle)


def test_frost_keeps_material_and_leaves_gentle_land_alone() -> None:
    land = walled()
    after = frost(land, 1.0, 34, 300)
    assert after.sum(dtype=float) == pytest.approx(land.sum(dtype=float), rel=1e-3)
    assert not np.allclose(after, land)
    gentle = fractal((80, 80), plain_spots(0, 0, 1), Octaves(40, 2, 0.5, 1), 1.0) * 4
    assert steepest(gentle, 1.0) < 34
    assert np.array_equal(frost(gentle, 1.0, 34, 50), gentle)


def test_frost_under_weights_changes_nothing_elsewhere() -> None:
    land = walled()
    weights = weight_window(land.shape, Touch(80, 80, 30, 0.5, 1))
    after = frost(land, 1.0, 20, 60, weights=weights)
    assert np.array_equal(after[weights == 0], land[weights == 0])
    assert not np.allclose(after[weights > 0.5], land[weights > 0.5])
    assert after.sum(dtype=float) == pytest.approx(land.sum(dtype=float), rel=1e-5)


def test_rain_keeps_material_inside_a_closed_rim() -> None:
    land = walled().astype(np.float64)
    after = land.copy()
    rain_in_place(after, 1.0, 60_000, 3, Rain())
    moved = np.abs(after - land).sum()
    assert moved > 1000
    assert abs(after.sum() - land.sum()) < 1e-3 * moved


def test_rain_is_the_same_from_the_same_seed_and_scales_with_the_land() -> None:
    land = walled().astype(np.float64)
    lands = []
    for spacing, seed in ((1.0, 3), (1.0, 3), (1.0, 4), (8.0, 3)):
        out = land * spacing
        rain_in_place(out, spacing, 5000, seed, Rain())
        lands.append(out / spacing)
    assert np.array_equal(lands[0], lands[1])
    assert not np.array_equal(lands[0], lands[2])
    # Eight is a power of two: the figures are the same to the last bit.
    assert np.array_equal(lands[0], lands[3])


def test_rain_carves_channels_on_a_slope_and_lays_fans_at_its_foot() -> None:
    """A slope of 20° with a faint roughness over a plain: cut above, fill below, and drops gather into channels."""
    rows = np.arange(220)[:, None]
    slope = np.maximum(130 - rows, 0) * np.tan(np.radians(20)) + np.zeros((1, 200))
    land = slope + fractal((220, 200), plain_spots(0, 0, 1), Octaves(20, 4, 0.5, 2), 1.0) * 0.6
    after = land.copy()
    rain_in_place(after, 1.0, 120_000, 1, Rain())
    rise = after - land
    assert rise[20:110, 10:-10].mean() < -0.05
    assert rise[128:150, 10:-10].mean() > 0.05
    # Across the slope the cut is uneven: channels are several times as deep as the ground between them.
    across = rise[60:110, 10:-10].mean(axis=0)
    assert np.percentile(across, 5) < 2 * np.percentile(across, 60)


def test_rain_on_real_land_deepens_its_valleys() -> None:
    """matplotlib's sample of the Jacksboro fault (SRTM, 3 arc-seconds): where much land drains to, more is cut."""
    land = jacksboro().astype(np.float64)
    after = land.copy()
    rain_in_place(after, 90.0, 150_000, 2, Rain())
    assert np.isfinite(after).all()
    assert abs(after.sum() - land.sum()) < 1e-3 * np.abs(after - land).sum()
    steep = np.hypot(*np.gradient(land, 90.0))
    change = after - land
    assert change[steep > np.percentile(steep, 80)].mean() < change[steep < np.percentile(steep, 20)].mean()


def test_drops_fall_evenly_over_large_land() -> None:
    """On a level plain with a hump on every post nothing runs: what is carved tells where drops fell."""
    side = 641
    plain = np.zeros((side, side))
    rng = np.random.default_rng(2)
    plain += rng.normal(0, 0.2, plain.shape)
    after = plain.copy()
    rain_in_place(after, 1.0, 60_000, 5, Rain(steps=2))
    moved = np.abs(after - plain)[:640, :640].reshape(10, 64, 10, 64).sum(axis=(1, 3))
    assert moved.min() > 0.75 * moved.mean()
    assert moved.max() < 1.25 * moved.mean()


def test_the_disc_that_ground_is_taken_from_adds_up_to_one() -> None:
    for spread in (0.5, 1.0, 2.0, 3.3):
        offsets, weights = disc(spread)
        assert weights.sum() == pytest.approx(1)
        assert len(offsets) == len(weights)


@pytest.mark.parametrize("kind", ["rain", "frost"])
def test_weather_as_a_brush_stays_under_it_and_keeps_material(kind: str) -> None:
    tool = GROUND_TOOLS["weather"]
    before = walled()
    weights = weight_window(before.shape, Touch(70, 90, 40, 0.5, 1))
    heights = before.copy()
    assert tool.press is not None
    for serial in range(30):
        values = {**tool.first, "kind": kind, "repose_deg": 15.0}
        tool.press(Pressing(heights, weights, tool.amount(100, 1 / 60), 1.0, values, serial=serial, radius=40))
    assert np.array_equal(heights[weights == 0], before[weights == 0])
    moved = np.abs(heights - before).sum(dtype=float)
    assert moved > 5
    assert abs((heights.astype(float) - before).sum()) < 2e-3 * moved + 0.02
