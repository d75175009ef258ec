"""Grades, and volumes against worked earthworks."""

import math

import numpy as np
import pytest

from fernfield.core.brush.pressing import Laying
from fernfield.core.earthworks import cut_and_fill
from fernfield.core.ground.grade import axis, grade_area, lay_grade, length_of
from fernfield.core.ground.tools import GROUND_TOOLS

FIRST = GROUND_TOOLS["grade"].first


def graded(heights: np.ndarray, path: list[tuple[float, float]], spacing: float = 1.0, **own: object) -> np.ndarray:
    """`path` in (row, col) posts; the ground at its ends is read from the posts."""
    out = heights.copy()
    line = np.array(path, np.float32)
    ends = [float(heights[round(r), round(c)]) for r, c in (path[0], path[-1])]
    lay_grade(Laying(out, line, spacing, {**FIRST, **own}, ends[0], ends[1]))
    return out


def hills(seed: int = 3, shape: tuple[int, int] = (160, 200)) -> np.ndarray:
    rows, cols = np.mgrid[0 : shape[0], 0 : shape[1]]
    rng = np.random.default_rng(seed)
    return (12 * np.sin(rows / 17) * np.cos(cols / 23) + 30 + rng.normal(0, 0.3, shape)).astype(np.float32)


@pytest.mark.parametrize("spacing", [1.0, 2.5])
def test_a_grade_of_eight_percent_measures_eight_percent(spacing: float) -> None:
    land = hills()
    path = [(120.0, 20.0), (40.0, 170.0)]
    away = math.hypot(80, 150) * spacing
    out = graded(land, path, spacing, from_m=20.0, to_m=20.0 + 0.08 * away, width_m=12.0)
    along = np.linspace(0.02, 0.98, 60)
    places = [(120 - 80 * t, 20 + 150 * t) for t in along]
    # Between posts the level is read from the four around.
    z = []
    for row, col in places:
        r, c = int(row), int(col)
        fr, fc = row - r, col - c
        top = out[r, c] * (1 - fc) + out[r, c + 1] * fc
        z.append(top * (1 - fr) + (out[r + 1, c] * (1 - fc) + out[r + 1, c + 1] * fc) * fr)
    percent = np.diff(z) / (np.diff(along) * away) * 100
    assert np.abs(percent - 8).max() < 0.1


def test_shoulders_meet_the_land_at_their_angle() -> None:
    level = np.full((101, 101), 20, np.float32)
    out = graded(level, [(50, 5), (50, 95)], from_m=12.0, to_m=12.0, width_m=10.0, shoulder_deg=45.0)
    across = out[:, 50]
    # 5 m of way to each side, then up at 45° until the land is met 8 m further out.
    assert np.allclose(across[45:56], 12)
    assert np.allclose(across[56:64], 12 + np.arange(1, 9), atol=1e-4)
    assert (across[64:] == 20).all()
    bank = graded(level, [(50, 5), (50, 95)], from_m=26.0, to_m=26.0, width_m=10.0, shoulder_deg=45.0)
    assert np.allclose(bank[56:62, 50], 26 - np.arange(1, 7), atol=1e-4)


def test_shoulders_end_at_their_reach_and_a_bank_takes_up_the_rest() -> None:
    """On a face of 45° a cutting at 34° never meets the land: it must not eat the mountain."""
    rows, _ = np.mgrid[0:301, 0:201]
    face = (rows * 1.0).astype(np.float32)
    out = graded(face, [(150, 20), (150, 180)], width_m=8.0)
    across, was = out[:, 100].astype(float), face[:, 100].astype(float)
    steps = np.diff(across)
    # The way, then 24 m (three widths) of shoulder, then the bank, uphill from the middle.
    assert np.allclose(across[146:155], 150, atol=1e-4)
    assert np.allclose(steps[155:177], math.tan(math.radians(34)), atol=1e-4)
    bank = steps[180:]
    met = int(np.argmax(np.isclose(across[180:], was[180:], atol=1e-4)))
    assert np.allclose(bank[: met - 1], math.tan(math.radians(75)), atol=1e-3)
    # It meets the face where both lines say: d = 4 + 24 + b with d = 24 tan 34° + b tan 75°.
    b = (28 - 24 * math.tan(math.radians(34))) / (math.tan(math.radians(75)) - 1)
    assert 150 + 28 + b == pytest.approx(180 + met, abs=1.1)
    # Beyond that nothing changes, and what is counted is the whole work: twice the section, by length.
    assert np.array_equal(out[200:], face[200:])
    cut, fill = cut_and_fill(face, out, 1.0)
    assert cut == pytest.approx(fill, rel=0.01)
    section = float((was - across).clip(min=0).sum())
    assert section * 160 < cut < section * 160 * 1.35


def test_a_reach_of_nothing_is_a_bank_from_the_edge_of_the_way() -> None:
    level = np.full((101, 101), 20, np.float32)
    out = graded(level, [(50, 5), (50, 95)], from_m=12.0, to_m=12.0, width_m=10.0, reach_m=0.0, bank_deg=63.4349)
    # tan 63.4349° is 2: eight metres of bank in four.
    assert np.allclose(out[56:60, 50], [14, 16, 18, 20], atol=1e-3)


def test_by_cut_and_by_fill() -> None:
    land = hills()
    path = [(80.0, 20.0), (80.0, 180.0)]
    cut, fill = (graded(land, path, from_m=30.0, to_m=30.0, by=by) for by in ("cut", "fill"))
    assert (cut <= land).all()
    assert (fill >= land).all()
    assert (cut < land).sum() > 500
    assert (fill > land).sum() > 500
    both = graded(land, path, from_m=30.0, to_m=30.0)
    assert np.array_equal(both, np.where(cut < land, cut, fill))


def test_a_drawn_curve_rises_evenly_along_its_own_length() -> None:
    land = np.full((200, 200), 10, np.float32)
    angles = np.linspace(0, np.pi, 90)
    path = [(150 - 100 * math.sin(a), 100 - 80 * math.cos(a)) for a in angles]
    out = graded(land, path, from_m=10.0, to_m=30.0, width_m=8.0)
    line = axis(np.array(path, np.float32), {**FIRST, "width_m": 8.0}, 1.0)
    away = np.concatenate([[0], np.cumsum(np.hypot(*np.diff(line.astype(float), axis=0).T))])
    for part in (0.1, 0.35, 0.5, 0.8):
        k = int(np.searchsorted(away, part * away[-1]))
        row, col = np.rint(line[k]).astype(int)
        assert out[row, col] == pytest.approx(10 + 20 * away[k] / away[-1], abs=0.2)
    assert length_of(line) == pytest.approx(length_of(np.array(path, np.float32)), rel=0.02)


def test_nothing_outside_the_area_that_a_grade_names_changes() -> None:
    land = hills(5)
    path = np.array([(60, 40), (90, 120)], np.float32)
    values = {**FIRST, "shoulder_deg": 60.0, "from_m": 25.0}
    area = grade_area(path, values, 1.0, float(land.min()), float(land.max()))
    out = graded(land, [(60, 40), (90, 120)], shoulder_deg=60.0, from_m=25.0)
    changed = np.argwhere(out != land)
    assert len(changed) > 500
    assert changed.min(axis=0)[0] >= area.row0
    assert changed.min(axis=0)[1] >= area.col0
    assert changed.max(axis=0)[0] < area.row1
    assert changed.max(axis=0)[1] < area.col1


def test_a_cutting_has_the_volume_that_end_areas_give() -> None:
    """Formation 10 m wide, sides 1 in 1, depth 2 m at one end and 4 m at the other, 100 m apart.

    By the end-area rule V = L (A1 + A2) / 2 = 100 (24 + 56) / 2 = 4,000 m³, by the
    prismoidal rule V = L (A1 + 4 Am + A2) / 6 = 100 (24 + 4 * 39 + 56) / 6 = 3,933 m³,
    with A = (b + s h) h. Both rules stand in any handbook of surveying (for example
    Schofield and Breach, Engineering Surveying, chapter on volumes; rules and worked
    figures from memory). The prismoidal one is exact here.
    """
    spacing = 0.5
    land = np.zeros((161, 441), np.float32)
    # The way goes on beyond both ends, so that only what lies between them counts.
    out = graded(
        land, [(80, 20), (80, 420)], spacing, from_m=-1.0, to_m=-5.0, width_m=10.0, shoulder_deg=45.0, way="ends"
    )
    between = slice(120, 320)
    cut, fill = cut_and_fill(land[:, between], out[:, between], spacing)
    assert fill == 0
    assert cut == pytest.approx(3933.3, rel=0.01)
    assert cut == pytest.approx(4000, rel=0.03)


def test_a_pit_has_the_volume_that_the_grid_method_gives() -> None:
    """Depths at the corners of four squares of 20 m: V = A / 4 (sum h1 + 2 sum h2 + 4 sum h4).

    The grid (spot-height) method of earthworks, from memory; h1, h2, h4 are depths at
    corners that one, two, four squares share.
    """
    depths = np.array([[1.2, 1.5, 1.0], [1.8, 2.4, 1.9], [1.1, 1.6, 1.3]])
    ones = depths[[0, 0, 2, 2], [0, 2, 0, 2]].sum()
    twos = depths[[0, 1, 1, 2], [1, 0, 2, 1]].sum()
    expected = 400 / 4 * (ones + 2 * twos + 4 * depths[1, 1])
    assert expected == pytest.approx(2780.0)
    # The same surface, straight between the corners, on posts 0.5 m apart in the middle of their cells.
    at = (np.arange(80) + 0.5) / 40
    k = np.minimum(at.astype(int), 1)
    f = at - k
    down = depths[k] * (1 - f)[:, None] + depths[k + 1] * f[:, None]
    surface = down[:, k] * (1 - f) + down[:, k + 1] * f
    cut, fill = cut_and_fill(np.zeros((80, 80), np.float32), -surface.astype(np.float32), 0.5)
    assert cut == pytest.approx(expected, rel=1e-5)
    assert fill == 0
    assert cut_and_fill(-surface.astype(np.float32), np.zeros((80, 80), np.float32), 0.5)[1] == pytest.approx(cut)


def test_a_hand_that_rests_on_its_way_changes_nothing_of_it() -> None:
    """The same place twice in the path is a stretch of no length."""
    land = hills()
    plain = graded(land, [(20.0, 20.0), (20.0, 60.0), (60.0, 60.0)])
    rested = graded(land, [(20.0, 20.0), (20.0, 60.0), (20.0, 60.0), (60.0, 60.0), (60.0, 60.0)])
    assert np.isfinite(rested).all()
    assert np.allclose(plain, rested, atol=1e-4)


def test_a_hand_of_ground_counts_in_cut_and_fill() -> None:
    """The grid method: ten posts lifted by 0.2 m and five lowered by 0.1 m, each for a cell of 2 by 2 m."""
    before = np.zeros((6, 6), np.float32)
    after = before.copy()
    after[0, :5], after[1, :5], after[3, :5] = 0.2, 0.2, -0.1
    assert cut_and_fill(before, after, 2.0) == pytest.approx((5 * 0.1 * 4, 10 * 0.2 * 4), rel=1e-5)
