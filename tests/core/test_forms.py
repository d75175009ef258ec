"""Brushes of other forms, tips, what a stroke keeps to, and settings of tools."""

import math

import numpy as np
import pytest
from shapely import Point, Polygon

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.keep import Limits, inside, within
from fernfield.core.brush.pressing import Pressing
from fernfield.core.brush.shapes import BAR_PART, Outline, shaped_weights
from fernfield.core.brush.tips import TIPS, tip
from fernfield.core.errors import InvalidInput
from fernfield.core.ground.flatten import flatten_in_place, press_flat
from fernfield.core.ground.raise_lower import press_down, press_up, raise_in_place
from fernfield.core.ground.smooth import press_smooth, slopes, smooth_in_place
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.core.settings import Setting

TOUCH = Touch(row=30.2, col=29.6, radius=20.0, softness=0.4, amount=1.0)


@pytest.mark.parametrize("turn", [0.0, 30.0, 90.0, 215.0])
@pytest.mark.parametrize(("shape", "wide"), [("square", 1.0), ("bar", BAR_PART)])
def test_squares_and_bars_hold_the_posts_that_geometry_says(shape: str, wide: float, turn: float) -> None:
    """Against shapely: a post within the turned rectangle has weight, one outside has none."""
    weights = shaped_weights((61, 61), TOUCH, Outline(shape, turn))
    angle = math.radians(turn)
    corners = []
    for across, back in ((-wide, -1), (wide, -1), (wide, 1), (-wide, 1)):
        right = (across * math.cos(angle) - back * math.sin(angle)) * TOUCH.radius
        down = (across * math.sin(angle) + back * math.cos(angle)) * TOUCH.radius
        corners.append((TOUCH.col + right, TOUCH.row + down))
    body = Polygon(corners)
    for row in range(0, 61, 3):
        for col in range(0, 61, 3):
            edge = body.exterior.distance(Point(col, row))
            if edge > 0.1:
                assert (weights[row, col] > 0) == body.contains(Point(col, row)), (row, col)
    assert weights.max() == pytest.approx(1)


def test_a_plain_outline_is_the_round_brush() -> None:
    assert np.array_equal(shaped_weights((61, 61), TOUCH, Outline()), weight_window((61, 61), TOUCH))
    with pytest.raises(InvalidInput, match="round, square, bar, not 'star'"):
        Outline("star")


def test_a_tip_shapes_the_brush_and_turns_with_it() -> None:
    # White only in its top half, towards where the brush points.
    image = np.zeros((32, 32), np.float32)
    image[:14] = 1
    north = shaped_weights((61, 61), TOUCH, Outline("round", 0, image))
    east = shaped_weights((61, 61), TOUCH, Outline("round", 90, image))
    assert north[20, 30] > 0.5
    assert north[40, 30] == 0
    assert east[30, 40] > 0.5
    assert east[30, 20] == 0
    lopsided = np.tile(np.linspace(0, 1, 32, dtype=np.float32), (32, 1))
    plain = shaped_weights((61, 61), Touch(30, 30, 20, 0.4, 1), Outline("square", 0, lopsided))
    mirrored = shaped_weights((61, 61), Touch(30, 30, 20, 0.4, 1), Outline("square", 0, lopsided, flipped=True))
    assert np.allclose(plain, mirrored[:, ::-1], atol=1e-5)
    assert not np.allclose(plain, mirrored, atol=0.1)


def test_our_own_tips_are_grey_images_that_fade_to_the_rim() -> None:
    assert len(TIPS) == 6
    seen = set()
    for key in TIPS:
        image = tip(key)
        assert image.min() >= 0
        assert 0.5 < image.max() <= 1
        rim = np.concatenate([image[0], image[-1], image[:, 0], image[:, -1]])
        assert rim.max() < 1e-6
        seen.add(image.tobytes())
    assert len(seen) == 6


def rough(seed: int = 1) -> np.ndarray:
    return np.random.default_rng(seed).normal(10, 3, (61, 61)).astype(np.float32)


def press(name: str, heights: np.ndarray, weights: np.ndarray, amount: float, **own: object) -> np.ndarray:
    tool = GROUND_TOOLS[name]
    out = heights.copy()
    assert tool.press is not None
    tool.press(Pressing(out, weights, amount, 1.0, {**tool.first, **own}, 10.0, radius=20))
    return out


def test_any_form_does_what_the_quick_round_brush_does() -> None:
    """The two ways of each tool are one tool."""
    weights = weight_window((61, 61), TOUCH)
    for name in ("raise", "lower", "flatten", "smooth"):
        tool = GROUND_TOOLS[name]
        quick = rough()
        assert tool.quick is not None
        tool.quick(quick, Touch(30.2, 29.6, 20, 0.4, 0.4), 10.0, tool.first, 1.0)
        assert np.allclose(press(name, rough(), weights, 0.4), quick, atol=2e-4), name


@pytest.mark.parametrize("quick", [True, False])
def test_flatten_by_fill_never_lowers_and_by_cut_never_raises(quick: bool) -> None:
    weights = weight_window((61, 61), TOUCH)
    for by, sign in (("fill", 1), ("cut", -1)):
        before = rough()
        after = before.copy()
        if quick:
            flatten_in_place(after, TOUCH, 10.0, by)
        else:
            press_flat(Pressing(after, weights, 1.0, 1.0, {"by": by}, 10.0))
        moved = (after - before) * sign
        assert moved.min() == 0
        assert moved.max() > 0.5
        # Not past the target either.
        assert ((after - 10) * sign)[moved > 0].max() <= 0


def test_raise_of_any_form_stops_at_the_greatest_elevation() -> None:
    heights = np.full((5, 5), 11_999.5, np.float32)
    press_up(Pressing(heights, np.ones_like(heights), 5.0, 1.0, {}))
    assert (heights == 12_000).all()
    press_down(Pressing(heights, np.ones_like(heights), 1.0, 1.0, {}))
    assert (heights == 11_999).all()


def test_smooth_keeps_edges_above_the_stated_angle() -> None:
    """A cliff of 70° between rough levels: it stays, the roughness goes."""
    rng = np.random.default_rng(4)
    step = np.where(np.arange(81) < 40, 0, 12) + np.zeros((81, 1))
    before = (step + rng.normal(0, 0.08, (81, 81))).astype(np.float32)
    weights = np.ones_like(before)
    kept, all_of_it = before.copy(), before.copy()
    for _ in range(8):
        press_smooth(Pressing(kept, weights, 0.6, 1.0, {"keep_edges_deg": 40.0}), 2.0)
        press_smooth(Pressing(all_of_it, weights, 0.6, 1.0, {"keep_edges_deg": None}), 2.0)
    steep = slopes(before, 1.0) > 40
    assert np.array_equal(kept[steep], before[steep])
    assert kept[:, :30].std() < before[:, :30].std() / 3
    assert slopes(kept, 1.0).max() > 77
    assert slopes(all_of_it, 1.0).max() < 68


def test_smooth_takes_away_the_size_of_detail_that_is_asked_for() -> None:
    cols = np.arange(240)
    fine, broad = np.sin(2 * np.pi * cols / 6), np.sin(2 * np.pi * cols / 60)
    left = []
    for sigma in (2.0, 16.0):
        out = np.tile((fine + broad).astype(np.float32), (240, 1))
        smooth_in_place(out, Touch(120, 120, 118, 0.1, 1.0), sigma)
        spectrum = np.abs(np.fft.rfft(out[120, 60:180]))
        left.append((spectrum[20] / 60, spectrum[2] / 60))
    # A Gaussian leaves exp(-(2 pi sigma / wavelength)² / 2) of a wave: 0.11 and 0.98, then nothing and 0.25.
    assert left[0][0] == pytest.approx(0.11, abs=0.02)
    assert left[0][1] == pytest.approx(0.98, abs=0.03)
    assert left[1][0] < 0.01
    assert left[1][1] == pytest.approx(0.25, abs=0.06)


def test_inside_a_plot_agrees_with_shapely_and_feathers_inwards() -> None:
    corners = [(5.5, 8.2), (50.1, 4.4), (44.0, 30.0), (52.0, 55.5), (12.2, 47.7)]
    plot = np.array([(row, col) for col, row in corners])
    body = Polygon(corners)
    hard = inside([plot], (60, 60), 0, 0, 0)
    soft = inside([plot], (60, 60), 0, 0, 6)
    out = inside([plot], (60, 60), 0, 0, 6, outwards=True)
    for row in range(0, 60, 4):
        for col in range(0, 60, 4):
            holds, edge = body.contains(Point(col, row)), body.exterior.distance(Point(col, row))
            assert bool(hard[row, col]) == holds
            t = min(edge / 6, 1)
            expected = t * t * (3 - 2 * t)
            assert soft[row, col] == pytest.approx(expected if holds else 0, abs=1e-4)
            assert out[row, col] == pytest.approx(0 if holds else expected, abs=1e-4)
    # A part of the same, asked for from its own first post.
    assert np.allclose(inside([plot], (20, 25), 30, 20, 6), soft[30:50, 20:45], atol=1e-5)


def test_limits_by_elevation_slope_and_water() -> None:
    heights = np.tile(np.linspace(-4, 16, 21, dtype=np.float32), (5, 1))
    slope = np.full_like(heights, 10)
    slope[:, 10:] = 30
    assert np.array_equal(within(Limits(low=0, high=8), heights, slope, 0, 0)[0], (heights[0] >= 0) & (heights[0] <= 8))
    assert np.array_equal(within(Limits(gentlest=20), heights, slope, 0, 0)[0], slope[0] > 20)
    assert np.array_equal(within(Limits(steepest=20), heights, slope, 0, 0)[0], slope[0] < 20)
    assert np.array_equal(within(Limits(wet=True, sea=1.5), heights, slope, 0, 0)[0], heights[0] < 1.5)
    both = within(Limits(wet=True, sea=1.5, low=-2), heights, slope, 0, 0)[0]
    assert np.array_equal(both, (heights[0] < 1.5) & (heights[0] >= -2))


def test_a_dab_under_a_tip_is_raise_times_the_tip() -> None:
    heights = np.zeros((61, 61), np.float32)
    weights = shaped_weights((61, 61), TOUCH, Outline("round", 0, tip("ridge")))
    press_up(Pressing(heights, weights, 2.0, 1.0, {}))
    plain = np.zeros_like(heights)
    raise_in_place(plain, Touch(30.2, 29.6, 20, 0.4, 2.0))
    assert (heights <= plain + 1e-5).all()
    assert 0.02 < heights.sum() / plain.sum() < 0.9


def test_a_setting_says_what_is_allowed_and_what_came() -> None:
    width = Setting("width_m", "Width", "m", 1, 50, 8)
    width.check(50)
    with pytest.raises(InvalidInput, match=r"width_m must be 1 to 50 m, not 51"):
        width.check(51)
    with pytest.raises(InvalidInput, match=r"width_m must be 1 to 50 m, not 'wide'"):
        width.check("wide")
    with pytest.raises(InvalidInput, match=r"a whole number 1 to 12, not 2\.5"):
        Setting("octaves", "Octaves", "", 1, 12, 5, whole=True).check(2.5)
    with pytest.raises(InvalidInput, match=r"by must be cut or fill, not 'dig'"):
        Setting("by", "By", choices=("cut", "fill")).check("dig")
