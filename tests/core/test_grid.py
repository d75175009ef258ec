import pytest

from fernfield.core.errors import GridError
from fernfield.core.grid import Grid, Window, bilinear


def test_256_m_at_1_m_are_257_posts() -> None:
    grid = Grid.from_extent(256, 128, 1)
    assert (grid.rows, grid.cols) == (129, 257)
    assert (grid.width, grid.depth) == (256, 128)


def test_row_0_is_north_and_the_origin_south_west() -> None:
    grid = Grid(5, 9, 2.0)
    assert grid.row_of(grid.depth) == 0
    assert (grid.x_of(0), grid.y_of(4)) == (0, 0)
    assert grid.col_of(6.0) == 3


@pytest.mark.parametrize(
    ("width", "depth", "spacing", "word"),
    [(10.5, 10, 1, "width"), (10, 10, 0, "spacing"), (1e9, 10, 1, "width"), (10, float("nan"), 1, "depth")],
)
def test_an_extent_that_cannot_be_is_named(width: float, depth: float, spacing: float, word: str) -> None:
    with pytest.raises(GridError, match=word):
        Grid.from_extent(width, depth, spacing)


def test_windows_meet_join_and_cut() -> None:
    a, b = Window(0, 0, 4, 4), Window(2, 3, 9, 5)
    assert a.meet(b) == Window(2, 3, 4, 4)
    assert a.join(b) == Window(0, 0, 9, 5)
    assert a.join(Window(7, 7, 7, 9)) == a
    assert a.meet(Window(5, 5, 6, 6)).empty
    assert list(Window(250, 0, 260, 1).tiles()) == [(0, 0), (1, 0)]


def test_bilinear_is_exact_on_a_plane() -> None:
    import numpy as np

    rows, cols = np.mgrid[0:6, 0:7]
    plane = 3.0 * rows - 2.0 * cols + 1
    assert bilinear(plane, 2.25, 3.5) == pytest.approx(3 * 2.25 - 2 * 3.5 + 1)
    assert bilinear(plane, -4, 99) == plane[0, 6]
