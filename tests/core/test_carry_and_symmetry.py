"""Land carried elsewhere, gaps closed, imprints, sheets, and symmetry."""

import math

import cv2
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from shapely import Point
from shapely.affinity import rotate

from fernfield.core.brush.pressing import Laying
from fernfield.core.brush.symmetry import asymmetry, mirrored, turned
from fernfield.core.brush.tips import tip
from fernfield.core.grid import Grid
from fernfield.core.ground.carry import Carriage, mend, seen
from fernfield.core.ground.imprint import imprint_area, lay_imprint
from fernfield.core.ground.sheets import base_of, compose, under_of
from fernfield.core.ground.tools import GROUND_TOOLS


def land(shape: tuple[int, int] = (40, 50)) -> np.ndarray:
    return np.random.default_rng(6).normal(0, 5, shape).astype(np.float32)


def test_a_move_by_whole_posts_is_exact_and_nothing_stands_outside() -> None:
    source = land()
    out = seen(source, (30, 30), Carriage(row=10, col=8, from_row=20, from_col=30))
    assert np.array_equal(out[:, :27], source[10:40, 22:49])
    assert np.isnan(seen(source, (30, 60), Carriage(0, 0, 0, 0))[:, 50:]).all()


@pytest.mark.parametrize("quarter", [1, 2, 3])
def test_quarter_turns_agree_with_numpy(quarter: int) -> None:
    source = land((41, 41))
    out = seen(source, (41, 41), Carriage(20, 20, 20, 20, turn=90.0 * quarter))
    # rot90 turns against the clock.
    assert np.array_equal(out, np.rot90(source, -quarter))
    mirror = seen(source, (41, 41), Carriage(20, 20, 20, 20, mirrored=True))
    assert np.array_equal(mirror, source[:, ::-1])


def test_a_turned_patch_agrees_with_opencv_on_smooth_land() -> None:
    rows, cols = np.mgrid[0:121, 0:121]
    source = (np.sin(rows / 11) * 6 + np.cos(cols / 9) * 4).astype(np.float32)
    out = seen(source, (121, 121), Carriage(60, 60, 60, 60, turn=33.0))
    theirs = cv2.warpAffine(source, cv2.getRotationMatrix2D((60, 60), -33, 1), (121, 121), flags=cv2.INTER_CUBIC)
    inner = slice(40, 81), slice(40, 81)
    assert np.abs(out[inner] - theirs[inner]).max() < 0.05


def test_a_gap_is_closed_smoothly_and_the_rest_is_untouched() -> None:
    rows, cols = np.mgrid[0:90, 0:90]
    plane = (0.4 * rows - 0.2 * cols + 7).astype(np.float32)
    gap = (np.hypot(rows - 45, cols - 40) < 22).astype(np.float32)
    holed = np.where(gap > 0, 500, plane).astype(np.float32)
    out = mend(holed, gap)
    assert np.array_equal(out[gap == 0], plane[gap == 0])
    # A plane closes to nearly a plane, and never leaves the range of its rim.
    assert np.abs(out - plane)[gap > 0].mean() < 1.2
    rim = (gap == 0) & (cv2.dilate(gap, np.ones((3, 3), np.uint8)) > 0)
    assert out[gap > 0].max() <= plane[rim].max() + 0.5
    assert out[gap > 0].min() >= plane[rim].min() - 0.5
    assert np.array_equal(mend(plane, np.zeros_like(plane)), plane)


FIRST = GROUND_TOOLS["imprint"].first


def pressed(heights: np.ndarray, row: float, col: float, **own: object) -> np.ndarray:
    out = heights.copy()
    values = {**FIRST, "image": tip("hummock"), "turn_deg": 0.0, **own}
    lay_imprint(
        Laying(out, np.array([(row, col)], np.float32), 1.0, values, 0.0, float(heights[round(row), round(col)]))
    )
    return out


def test_an_imprint_adds_its_height_in_the_middle_and_nothing_outside_its_square() -> None:
    level = np.full((120, 120), 5, np.float32)
    out = pressed(level, 60, 50, size_m=40.0, height_m=10.0)
    assert out.max() == pytest.approx(5 + 10 * tip("hummock").max(), abs=0.3)
    changed = np.argwhere(out != 5)
    assert changed.min(axis=0)[0] >= 40
    assert changed.max(axis=0)[0] <= 80
    assert changed.min(axis=0)[1] >= 30
    assert changed.max(axis=0)[1] <= 70
    area = imprint_area(np.array([(60, 50)], np.float32), {**FIRST, "image": tip("hummock"), "size_m": 40.0}, 1, 0, 9)
    assert area.row0 <= 40
    assert area.row1 > 80


def test_the_modes_of_an_imprint() -> None:
    rows, cols = np.mgrid[0:120, 0:120]
    hilly = (8 * np.sin(rows / 13) + 0 * cols).astype(np.float32)
    own = {"size_m": 60.0, "height_m": 6.0, "edge": 0.0}
    high, low = pressed(hilly, 60, 60, mode="highest", **own), pressed(hilly, 60, 60, mode="lowest", **own)
    there = pressed(hilly, 60, 60, mode="replace", **own)
    assert (high >= hilly).all()
    assert (low <= hilly).all()
    square = (np.abs(rows - 60) < 29) & (np.abs(cols - 60) < 29)
    base = hilly[60, 60]
    assert there[square].min() == pytest.approx(base, abs=0.05)
    assert there[square].max() == pytest.approx(base + 6 * tip("hummock").max(), abs=0.3)
    assert np.allclose(high[square], np.maximum(hilly, there)[square], atol=1e-4)
    assert np.allclose(low[square], np.minimum(hilly, there)[square], atol=1e-4)


def test_an_imprint_turns_clockwise() -> None:
    image = np.zeros((64, 64), np.float32)
    image[:20, 28:36] = 1
    level = np.zeros((120, 120), np.float32)
    east = pressed(level, 60, 60, image=image, size_m=60.0, height_m=5.0, turn_deg=90.0, edge=0.0)
    at = np.argwhere(east > 2).mean(axis=0)
    assert at[1] > 75
    assert at[0] == pytest.approx(60, abs=2)


def test_sheets_add_up_and_the_base_comes_back_to_the_last_bit() -> None:
    base, one, two = land(), land() * 0.1, land() * 3
    ground = compose(base, [(1.0, one), (0.25, two)])
    assert np.allclose(ground, base + one + 0.25 * two, atol=1e-5)
    assert np.array_equal(ground, compose(base, [(0.25, two), (1.0, one)]))
    assert np.array_equal(base_of(ground, under_of(ground, base)), base)
    assert not under_of(base, base).any()
    assert np.array_equal(compose(base, []), base)


@given(st.floats(0, 400), st.floats(0, 400), st.floats(0, 359), st.floats(-50, 450), st.floats(-50, 450))
def test_images_keep_lengths_and_mirrors_undo_themselves(
    a: float, b: float, bearing: float, x: float, y: float
) -> None:
    for image in (*mirrored(a, b, bearing), *turned(a, b, 3), *turned(a, b, 4)):
        px, py = image.place(x, y)
        assert math.hypot(px - a, py - b) == pytest.approx(math.hypot(x - a, y - b), abs=1e-6)
        assert image.back().place(px, py) == pytest.approx((x, y), abs=1e-6)
        assert image.back().bearing(image.bearing(77)) == pytest.approx(77, abs=1e-6)
    mirror = mirrored(a, b, bearing)[0]
    assert mirror.place(*mirror.place(x, y)) == pytest.approx((x, y), abs=1e-6)


def test_turns_agree_with_shapely_and_bearings_follow() -> None:
    for k, image in enumerate(turned(100, 80, 4), 1):
        there = rotate(Point(130, 90), -90 * k, origin=(100, 80))
        assert image.place(130, 90) == pytest.approx((there.x, there.y))
        assert image.bearing(10) == pytest.approx((10 + 90 * k) % 360)
    assert mirrored(100, 0, 0)[0].place(130, 40) == pytest.approx((70, 40))
    assert mirrored(100, 0, 0)[0].bearing(30) == pytest.approx(330)


def test_asymmetry_finds_the_post_that_differs() -> None:
    grid = Grid(101, 101, 2.0)
    half = land((101, 50))
    whole = np.concatenate([half, land((101, 1)), half[:, ::-1]], axis=1)
    mirror = mirrored(100, 0, 0)
    whole[20, 30] += 3
    found = asymmetry(iter([(grid.window, whole, whole)]), grid, mirror)
    assert found.largest == pytest.approx(3, abs=1e-4)
    assert {found.x} <= {60.0, 140.0}
    assert found.y == 160
    assert found.posts == 101 * 101
    assert found.mean == pytest.approx(6 / 101 / 101, rel=1e-3)
    whole[20, 30] -= 3
    assert asymmetry(iter([(grid.window, whole, whole)]), grid, mirror).largest < 1e-4
