"""Surfaces of triangles seen from above: closed forms, on posts that are not one metre apart."""

import numpy as np
import pytest

from fernfield.core.errors import GridError
from fernfield.core.intake.square import count_of
from fernfield.core.intake.surface import own_spacing, seen_from_above

CORNERS = np.array([[0, 0], [60, 0], [60, 40], [0, 40], [25, 15]], float)
"""A rectangle of 60 by 40 m, and a point inside it."""

AROUND = np.array([[0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]])


def plane(points: np.ndarray) -> np.ndarray:
    return 3 + 0.2 * points[:, 0] - 0.35 * points[:, 1]


@pytest.mark.parametrize("spacing", [0.5, 1.0, 2.5])
@pytest.mark.parametrize("wound", [1, -1])
def test_a_plane_of_triangles_is_that_plane_at_every_post(spacing: float, wound: int) -> None:
    points = np.column_stack([CORNERS, plane(CORNERS)])
    rows, cols = int(40 / spacing) + 1, int(60 / spacing) + 1
    found = seen_from_above(points, AROUND[:, ::wound], rows, cols, spacing)
    y, x = np.meshgrid(40 - np.arange(rows) * spacing, np.arange(cols) * spacing, indexing="ij")
    assert np.allclose(found, 3 + 0.2 * x - 0.35 * y, atol=1e-4)


def test_the_height_inside_one_triangle_is_by_its_corners_shares() -> None:
    """Barycentric coordinates: a third of each corner at the middle, half of two at the middle of an edge."""
    points = np.array([[0, 0, 0], [30, 0, 9], [0, 30, 30]], float)
    found = seen_from_above(points, np.array([[0, 1, 2]]), 7, 7, 5.0)
    assert found[6, 0] == 0
    assert found[6, 6] == 9
    assert found[0, 0] == 30
    assert found[4, 2] == pytest.approx((0 + 9 + 30) / 3, abs=1e-5)
    assert found[6, 3] == pytest.approx(4.5, abs=1e-5)
    assert found[3, 3] == pytest.approx(19.5, abs=1e-5)
    assert np.isnan(found[2, 5])
    assert int(np.isnan(found).sum()) == 21


def test_of_two_surfaces_the_upper_is_seen() -> None:
    low, high = np.column_stack([CORNERS, np.full(5, 1.0)]), np.column_stack([CORNERS * 0.5, np.full(5, 8.0)])
    for pair in ((low, high), (high, low)):
        found = seen_from_above(np.concatenate(pair), np.concatenate([AROUND, AROUND + 5]), 9, 13, 5.0)
        assert found[8, 0] == found[4, 6] == 8
        assert found[0, 12] == found[3, 6] == 1


def test_points_on_a_grid_give_their_own_spacing_others_their_mean() -> None:
    def grid(cols: int, rows: int, east: float, north: float) -> np.ndarray:
        x, y = np.meshgrid(np.arange(cols) * east, np.arange(rows) * north)
        return np.column_stack([x.ravel(), y.ravel(), x.ravel()])

    assert own_spacing(grid(9, 5, 2.5, 2.5)) == pytest.approx(2.5)
    assert own_spacing(grid(9, 5, 2.0, 3.0)) == pytest.approx(3.0)
    assert own_spacing(grid(5, 9, 4.0, 1.5)) == pytest.approx(4.0)
    loose = np.random.default_rng(1).uniform(0, 100, (400, 3))
    assert own_spacing(loose) == pytest.approx(5.0, rel=0.05)
    with pytest.raises(GridError, match="extent"):
        own_spacing(np.array([[1.0, 1, 0], [1, 1, 5]]))


@pytest.mark.parametrize(
    ("count", "spacing", "wanted", "found"), [(101, 1, 1, 101), (101, 1, 2, 51), (101, 0.3, 0.1, 301), (10, 1, 2, 5)]
)
def test_as_many_posts_as_fit(count: int, spacing: float, wanted: float, found: int) -> None:
    assert count_of(count, spacing, wanted) == found
