"""Boundaries that hold, proved by flooding and by walking; and leaks that are found."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import ndimage

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Grid, bilinear
from fernfield.core.ground.boundary import Boundary, bounded, inner_of
from fernfield.core.travel.enclosure import enclosed
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from tests.core.real_land import jacksboro

GRID = Grid(181, 241, 1.0)


def with_boundary(land: FloatArray, boundary: Boundary, grid: Grid = GRID) -> FloatArray:
    rows, cols = np.indices(land.shape)
    inner_rows, inner_cols = inner_of(grid, boundary, rows, cols)
    away = np.hypot(rows - inner_rows, cols - inner_cols) * grid.spacing
    foot = land[inner_rows, inner_cols]
    shaped = bounded(foot, cols * grid.spacing, (grid.rows - 1 - rows) * grid.spacing, away, boundary)
    return np.where(away > 0, shaped, land).astype(np.float32)


def steepest(heights: FloatArray, spacing: float = 1.0) -> FloatArray:
    rise = np.gradient(heights.astype(float), spacing)
    return np.degrees(np.arctan(np.hypot(*rise)))


@pytest.mark.parametrize("steep", [50.0, 60.0, 72.0])
def test_a_rim_is_as_wide_and_as_steep_as_was_asked_for(steep: float) -> None:
    land = np.full((GRID.rows, GRID.cols), 5, np.float32)
    boundary = Boundary("rim", 30, steep)
    heights = with_boundary(land, boundary)
    inside = (slice(30, -30), slice(30, -30))
    assert (heights[inside] == 5).all()
    # On the face of each side and in the corners, to the slope's own central differences.
    face = steepest(heights)
    for row, col in ((20, 120), (160, 120), (90, 22), (90, 219), (22, 22), (159, 217)):
        assert face[row, col] == pytest.approx(steep, abs=2.0), (row, col)
    assert heights[0].min() >= 5 + boundary.height_m
    assert boundary.height_m == pytest.approx(18 * math.tan(math.radians(steep)))
    # Level land outside the face: the crest is no second wall.
    assert heights.max() < 5 + 1.3 * boundary.height_m


def rough(seed: int) -> FloatArray:
    rng = np.random.default_rng(seed)
    return (ndimage.gaussian_filter(rng.normal(0, 160, (GRID.rows, GRID.cols)), 9) + 12).astype(np.float32)


@pytest.mark.parametrize("seed", range(4))
def test_a_rim_holds_on_any_land_and_a_gap_in_it_is_found(seed: int) -> None:
    heights = with_boundary(rough(seed), Boundary("rim", 30, 55))
    foot = [(31, c) for c in range(31, 210)] + [(148, c) for c in range(31, 210)]
    foot += [(r, 31) for r in range(31, 149)] + [(r, 208) for r in range(31, 149)]
    found = enclosed(heights, 1.0, -99.0, foot)
    assert found.holds
    assert 0.2 < found.reached < 0.9
    leaky = heights.copy()
    # A ramp that somebody could walk, cut through the south side.
    leaky[150:, 100:108] = leaky[149, 103] + np.arange(31, dtype=np.float32)[:, None] * 0.5
    broken = enclosed(leaky, 1.0, -99.0, foot)
    assert not broken.holds
    assert broken.row == 179
    assert 99 <= broken.col <= 108


@pytest.mark.parametrize(("steep", "holds"), [(35.0, False), (44.0, False), (47.0, True), (70.0, True)])
def test_the_walkers_limit_decides(steep: float, holds: bool) -> None:
    heights = with_boundary(np.full((GRID.rows, GRID.cols), 5, np.float32), Boundary("rim", 30, steep))
    assert enclosed(heights, 1.0, -99.0, [(90, 120)]).holds is holds


def test_an_edge_under_the_sea_holds_by_its_water() -> None:
    land = rough(7)
    sunk = with_boundary(land, Boundary("sunk", 40, 40, depth_m=6, sea_m=0))
    assert (sunk[0] <= -5.99).all()
    assert (sunk[:, -1] <= -5.99).all()
    assert enclosed(sunk, 1.0, 0.0, [(90, 120)]).holds
    assert not enclosed(sunk, 1.0, -20.0, [(90, 120)]).holds, "without the sea anybody walks out"
    # Water to the knee stops nobody.
    shallow = with_boundary(land, Boundary("sunk", 40, 40, depth_m=0.6, sea_m=0))
    assert not enclosed(shallow, 1.0, 0.0, [(90, 120)]).holds


def test_flooding_agrees_with_an_independent_fill() -> None:
    """Of posts under water all round, SciPy's labelling of dry land decides the same: real land, flooded to a level."""
    land = jacksboro()
    for sea in (400.0, 500.0, 620.0, 800.0):
        start = np.unravel_index(land.argmax(), land.shape)
        # Gentle everywhere (90 m posts): only water stops anybody.
        found = enclosed(land / 20, 90.0, sea / 20, [(int(start[0]), int(start[1]))])
        wet = land / 20 <= sea / 20 - 1.2
        closed = ~(wet[:-1, :-1] & wet[1:, :-1] & wet[:-1, 1:] & wet[1:, 1:])
        labels, _ = ndimage.label(closed, np.ones((3, 3)))
        mine = labels == labels[min(start[0], 342), min(start[1], 401)]
        edge = mine[0].any() or mine[-1].any() or mine[:, 0].any() or mine[:, -1].any()
        assert found.holds is not edge
        assert found.reached == pytest.approx(mine.mean(), abs=1e-9)


class Ground:
    """Heights as the walker asks for them."""

    def __init__(self, heights: FloatArray) -> None:
        self._heights = heights

    def height(self, x: float, y: float) -> float:
        return bilinear(self._heights, GRID.row_of(y), GRID.col_of(x))

    def water(self, x: float, y: float) -> float:
        return 0.0

    def obstacles(self, x: float, y: float, reach: float) -> list[Obstacle]:
        return []

    def holds(self, x: float, y: float) -> bool:
        return GRID.holds(x, y)


def test_nobody_walks_out_in_any_direction_or_aslant() -> None:
    """The walker itself, straight at the rim and along it at a slant: the proof must not be about another creature."""
    ground = Ground(with_boundary(np.full((GRID.rows, GRID.cols), 5, np.float32), Boundary("rim", 30, 55)))
    furthest = 0.0
    for facing in (*range(0, 360, 30), 80, 84, 87, 93, 96, 100, 262, 264, 267, 273, 276):
        walker = Walker(120, 90, 5.0)
        for _ in range(60 * 40):
            walker = tick(walker, Intent(ahead=1, facing=facing, run=True), ground)
        gone = max(30 - walker.x, walker.x - 210, 30 - walker.y, walker.y - 150, 0)
        furthest = max(furthest, gone)
        assert walker.z < 8.5, (facing, walker)
    assert furthest < 4


def test_boundaries_that_cannot_be_are_refused() -> None:
    for make, words in (
        (lambda: Boundary("fence", 30, 55), "rim or sunk, not 'fence'"),
        (lambda: Boundary("rim", 0, 55), "above 0 m, not 0"),
        (lambda: Boundary("rim", 30, 89), "1 to 85°, not 89"),
        (lambda: Boundary("rim", 2, 55).fits(GRID), "3 m \\(three posts\\) to 89 m"),
        (lambda: Boundary("rim", 95, 55).fits(GRID), "not 95"),
    ):
        with pytest.raises(InvalidInput, match=words):
            make()


@pytest.mark.parametrize("spacing", [0.5, 1.0, 4.0])
def test_a_strip_is_three_posts_at_least_and_leaves_land_inside(spacing: float) -> None:
    grid = Grid(61, 101, spacing)
    least, most = 3 * spacing, 29 * spacing
    for width in (least, most):
        Boundary("rim", width, 50.0).fits(grid)
    for width in (least - 0.01 * spacing, most + 0.01 * spacing):
        with pytest.raises(InvalidInput, match=f"{least:g} m \\(three posts\\) to {most:g} m"):
            Boundary("rim", width, 50.0).fits(grid)
