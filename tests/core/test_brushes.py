"""Brushes against plain NumPy twins, and against what they promise."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter

from fernfield.core.brush.brush import HIGHEST_M, Brush, Touch, weight_at, weight_window
from fernfield.core.brush.mask import add_in_place, press_mask
from fernfield.core.brush.shapes import Outline, shaped_weights
from fernfield.core.errors import InvalidInput
from fernfield.core.ground.flatten import flatten_in_place
from fernfield.core.ground.raise_lower import lower_in_place, raise_in_place
from fernfield.core.ground.smooth import detail_posts, halo_posts, smooth_in_place
from fernfield.core.ground.tools import GROUND_TOOLS

TOUCH = Touch(row=20.3, col=31.7, radius=14.5, softness=0.6, amount=0.8)


def weight_twin(shape: tuple[int, int], touch: Touch) -> np.ndarray:
    """The brush's weight in plain NumPy, float64."""
    rows, cols = np.mgrid[0 : shape[0], 0 : shape[1]].astype(float)
    away = np.hypot(rows - touch.row, cols - touch.col)
    t = np.clip((touch.radius - away) / (touch.radius * max(touch.softness, 1e-4)), 0, 1)
    return t * t * (3 - 2 * t)


def test_full_strength_reaches_to_where_softness_begins() -> None:
    brush = Brush(40, 0.7)
    assert weight_at(0, brush) == weight_at(11.9, brush) == 1
    assert weight_at(40, brush) == 0
    assert weight_at(26, brush) == pytest.approx(0.5)


@pytest.mark.parametrize("softness", [0.0, 0.3, 1.0])
def test_weights_agree_with_the_twin(softness: float) -> None:
    touch = Touch(20.3, 31.7, 14.5, softness, 0)
    assert np.allclose(weight_window((45, 60), touch), weight_twin((45, 60), touch), atol=2e-4)


def test_raise_and_lower_agree_with_the_twin_and_undo_each_other() -> None:
    rng = np.random.default_rng(1)
    before = rng.normal(10, 3, (45, 60)).astype(np.float32)
    heights = before.copy()
    raise_in_place(heights, TOUCH)
    assert np.allclose(heights, before + 0.8 * weight_twin(before.shape, TOUCH), atol=1e-4)
    lower_in_place(heights, TOUCH)
    assert np.allclose(heights, before, atol=1e-5)


def test_a_dab_split_over_two_arrays_is_the_same_dab() -> None:
    whole = np.zeros((45, 60), np.float32)
    raise_in_place(whole, TOUCH)
    parts = np.zeros((45, 60), np.float32)
    raise_in_place(parts[:, :30], TOUCH)
    raise_in_place(parts[:, 30:], Touch(20.3, 31.7 - 30, 14.5, 0.6, 0.8))
    assert np.allclose(whole, parts, atol=1e-6)
    assert whole.max() == pytest.approx(0.8)


def test_raise_never_goes_past_the_greatest_elevation() -> None:
    heights = np.full((9, 9), HIGHEST_M - 1, np.float32)
    raise_in_place(heights, Touch(4, 4, 3, 0.5, 1e6))
    assert heights.max() == HIGHEST_M


def test_flatten_moves_towards_the_target_and_stops_on_it() -> None:
    heights = np.linspace(0, 20, 45 * 60).reshape(45, 60).astype(np.float32)
    before = heights.copy()
    flatten_in_place(heights, TOUCH, 10.0)
    step = 0.8 * weight_twin(before.shape, TOUCH)
    assert np.allclose(heights, before + np.clip(10 - before, -step, step), atol=2e-4)
    for _ in range(40):
        flatten_in_place(heights, TOUCH, 10.0)
    inside = weight_twin(before.shape, TOUCH) > 0.5
    assert (heights[inside] == 10.0).all()


@pytest.mark.parametrize(("radius", "tolerance"), [(16, 1e-3), (30, 0.03)])
def test_smooth_agrees_with_scipys_gaussian(radius: float, tolerance: float) -> None:
    """Large brushes blur every other post: to a few hundredths of noise of 2 m."""
    rng = np.random.default_rng(2)
    before = rng.normal(0, 2, (130, 150)).astype(np.float32)
    touch = Touch(64, 75, radius, 0.5, 0.7)
    heights = before.copy()
    smooth_in_place(heights, touch)
    sigma = detail_posts(radius)
    soft = gaussian_filter(before.astype(float), sigma, mode="nearest", radius=halo_posts(radius))
    expected = before + (soft - before) * 0.7 * weight_twin(before.shape, touch)
    assert np.abs(heights - expected).max() < 3 * tolerance
    assert np.abs(heights - expected).mean() < tolerance
    assert heights.std() < before.std()


@pytest.mark.parametrize("radius", [8, 16, 30])
def test_smooth_leaves_a_slope_alone(radius: float) -> None:
    rows, cols = np.mgrid[0:141, 0:141]
    plane = (0.3 * rows - 0.1 * cols).astype(np.float32)
    heights = plane.copy()
    smooth_in_place(heights, Touch(70, 70, radius, 0.5, 1.0))
    assert np.allclose(heights, plane, atol=1e-4)


def test_masks_saturate_at_both_ends() -> None:
    mask = np.zeros((30, 30), np.uint16)
    for _ in range(5):
        add_in_place(mask, Touch(15, 15, 8, 0.5, 0.4))
    assert mask.max() == 65_535
    assert mask[0, 0] == 0
    for _ in range(9):
        add_in_place(mask, Touch(15, 15, 8, 0.0, -0.4))
    assert mask.max() == 0


def test_strengths_are_physical() -> None:
    assert GROUND_TOOLS["raise"].amount(6, 0.5) == 3
    # 100 % a second leaves 1/e after a second, however it is cut into dabs.
    once = GROUND_TOOLS["smooth"].amount(100, 1)
    tenth = GROUND_TOOLS["smooth"].amount(100, 0.1)
    assert once == pytest.approx(1 - (1 - tenth) ** 10)
    assert once == pytest.approx(1 - 1 / math.e)


def test_every_tool_says_what_it_is() -> None:
    assert len({tool.key for tool in GROUND_TOOLS.values()}) == len(GROUND_TOOLS)
    for name, tool in GROUND_TOOLS.items():
        assert tool.name == name
        assert tool.opposite in GROUND_TOOLS
        assert tool.words.endswith(".")
        assert (tool.lay is None) == (tool.unit in ("m/s", "%/s") or tool.layer != "height")
        for setting in tool.settings:
            if setting.first is not None:
                setting.check(setting.first)
        if tool.layer != "height":
            continue
        heights = np.zeros((40, 40), np.float32)
        heights[20, 20] = 5
        before = heights.copy()
        tool.apply(heights, Touch(20, 20, 6, 0.5, 0.5), 2.0)
        assert np.isfinite(heights).all()
        assert (heights[:10] == 0).all(), f"{name} reached past its radius"
        assert (tool.lay is not None) == np.array_equal(heights, before)


def test_a_brush_that_cannot_be_is_refused() -> None:
    with pytest.raises(InvalidInput, match=r"above 0 m, not 0"):
        Brush(0, 0.5)
    with pytest.raises(InvalidInput, match=r"0 to 1, not 1\.5"):
        Brush(3, 1.5)


@pytest.mark.parametrize(("radius", "posts"), [(4, 1.0), (8, 1.0), (16, 2.0), (24, 3.0), (32, 4.0), (90, 4.0)])
def test_the_blur_is_an_eighth_of_the_brush_one_to_four_posts(radius: float, posts: float) -> None:
    assert detail_posts(radius) == posts
    # Where a size of detail is asked for, half of that, whatever the brush.
    assert detail_posts(radius, 6.0, 1.5) == 2.0


@given(st.floats(-1, 1), st.floats(3, 20), st.floats(0, 1))
@settings(max_examples=40, deadline=None)
def test_a_mask_takes_the_same_from_any_form_as_from_the_quick_one(amount: float, radius: float, soft: float) -> None:
    rng = np.random.default_rng(3)
    before = rng.integers(0, 65_536, (50, 60)).astype(np.uint16)
    touch = Touch(24.25, 30.5, radius, soft, amount)
    quick, any_form = before.copy(), before.copy()
    add_in_place(quick, touch)
    press_mask(any_form, shaped_weights(before.shape, touch, Outline()), amount)
    assert np.abs(quick.astype(int) - any_form.astype(int)).max() <= 1
    # The post lies 0.56 posts off the middle: within the core it takes all of the amount.
    if radius * (1 - soft) > 0.6:
        middle = np.clip(int(before[24, 30]) + amount * 65_535, 0, 65_535)
        assert int(any_form[24, 30]) == pytest.approx(middle, abs=2)


@pytest.mark.parametrize("radius", [0.05, 0.9, 1.0, 4_000.0])
def test_a_brush_may_be_small(radius: float) -> None:
    assert weight_at(0.0, Brush(radius, 0.5)) == 1
    assert weight_at(radius, Brush(radius, 0.5)) == 0
