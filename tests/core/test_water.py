"""Filling, brims and drainage against scikit-image, plain references and handbook cases; hollows by rising water."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from skimage.morphology import reconstruction

from fernfield.core.errors import GridError
from fernfield.core.grid import FloatArray
from fernfield.core.water.drainage import DC, DR, OUT, Drainage, catchments, drain, hollows, strahler
from fernfield.core.water.heap import as_bits, as_heights
from fernfield.core.water.hollow import Risen, curve_of, level_for, nested, rise
from tests.core.real_land import jacksboro

EDGES = (True, True, True, True)


def by_skimage(heights: FloatArray) -> FloatArray:
    """Hollows filled from the edge: a reconstruction by erosion (Vincent 1993), as scikit-image does it."""
    seed = np.full_like(heights, heights.max())
    seed[0], seed[-1], seed[:, 0], seed[:, -1] = heights[0], heights[-1], heights[:, 0], heights[:, -1]
    return np.asarray(reconstruction(seed, heights, method="erosion", footprint=np.ones((3, 3))), np.float32)


# Few heights: level ground, and posts that are the same.
LANDS = st.tuples(st.integers(2, 24), st.integers(2, 24)).flatmap(
    lambda shape: arrays(np.float32, shape, elements=st.integers(-6, 6).map(float))
)


@settings(max_examples=60, deadline=None)
@given(LANDS)
def test_what_is_filled_is_what_scikit_image_fills(heights: FloatArray) -> None:
    assert np.array_equal(drain(heights).filled, by_skimage(heights))


def test_a_real_land_is_filled_as_scikit_image_fills_it() -> None:
    land = jacksboro()
    assert np.array_equal(drain(land).filled, by_skimage(land))


@settings(max_examples=60, deadline=None)
@given(LANDS)
def test_all_water_comes_to_the_edge_by_the_steepest_way(heights: FloatArray) -> None:
    found = drain(heights)
    rows, cols = heights.shape
    assert sorted(found.order.tolist()) == list(range(heights.size))
    turn = np.empty(heights.size, int)
    turn[found.order] = np.arange(heights.size)
    for at in range(heights.size):
        r, c = divmod(at, cols)
        k = int(found.to[r, c])
        if k == OUT:
            assert r in (0, rows - 1) or c in (0, cols - 1)
            continue
        p, q = r + DR[k], c + DC[k]
        assert turn[p * cols + q] < turn[at]
        assert found.filled[p, q] <= found.filled[r, c]
        falls = [
            (found.filled[r, c] - found.filled[r + dr, c + dc]) / (math.sqrt(2) if dr and dc else 1)
            for dr, dc in zip(DR, DC, strict=True) if 0 <= r + dr < rows and 0 <= c + dc < cols
        ]  # fmt: skip
        if max(falls) > 0:
            own = (found.filled[r, c] - found.filled[p, q]) / (math.sqrt(2) if k % 2 else 1)
            assert own == pytest.approx(max(falls), rel=1e-6)


def plainly(found: Drainage) -> np.ndarray:
    """Catchments by walking down from every post."""
    area = np.zeros(found.to.shape, int)
    for r in range(area.shape[0]):
        for c in range(area.shape[1]):
            p, q = r, c
            area[p, q] += 1
            while found.to[p, q] != OUT:
                p, q = p + DR[found.to[p, q]], q + DC[found.to[p, q]]
                area[p, q] += 1
    return area


@settings(max_examples=40, deadline=None)
@given(LANDS)
def test_catchments_are_those_of_a_walk_from_every_post(heights: FloatArray) -> None:
    found = drain(heights)
    area = catchments(found)
    assert np.array_equal(area, plainly(found))
    # Nothing is lost: what leaves the land is all of it.
    assert area[found.to == OUT].sum() == heights.size


def test_orders_of_a_tree_of_streams() -> None:
    """By hand (Strahler 1957): two of order 1 make 2; 2 and 1 stay 2; two of order 2 make 3."""
    land = np.full((7, 9), 50, np.float32)
    # Four springs in the north; each pair meets in row 2, both in row 4; out in the south.
    courses = [[(0, 1), (1, 1), (2, 2)], [(0, 3), (1, 3), (2, 2)], [(0, 5), (1, 5), (2, 6)], [(0, 7), (1, 7), (2, 6)],
               [(2, 2), (3, 3), (4, 4)], [(2, 6), (3, 5), (4, 4)], [(4, 4), (5, 4), (6, 4)]]  # fmt: skip
    for course in courses:
        for r, c in course:
            land[r, c] = 20 - 2 * r
    land[0] += 30
    land[0, [1, 3, 5, 7]] = 20
    land[5, 5] = 18
    found = drain(land)
    order = strahler(found, catchments(found), 2)
    assert [order[2, 2], order[2, 6], order[4, 4], order[6, 4]] == [2, 2, 3, 3]
    assert order[1, 1] == order[1, 7] == 1
    assert (strahler(found, catchments(found), 10_000) == 0).all()


def test_land_that_is_missing_is_an_outlet() -> None:
    land = np.full((9, 9), 5, np.float32)
    land[4, 4] = 1
    assert drain(land).filled[4, 4] == 5
    void = np.zeros((9, 9), bool)
    void[3, 4] = True
    found = drain(land, void)
    assert found.filled[4, 4] == 1
    assert len(found.order) == 80
    with pytest.raises(GridError):
        drain(land[:1])


def pit() -> FloatArray:
    """The handbook case: level ground at 10 m, a hollow cut to 7 m."""
    land = np.full((41, 51), 10, np.float32)
    land[15:25, 20:32] = 8
    land[18:22, 24:28] = 7
    return land


def risen(land: FloatArray, row: int, col: int) -> Risen:
    return rise(land, row, col, EDGES, land.size)


def test_the_handbook_case() -> None:
    """At 7 no water, at 8 and 9 a pool inside of the hollow, the brim at 10."""
    land = pit()
    found = risen(land, 20, 26)
    brim = found.brims[0]
    assert (brim.level, brim.beyond) == (10, None)
    posts = found.posts[: brim.count]
    inside = posts[land[posts[:, 0], posts[:, 1]] < 10]
    assert len(inside) == 120
    curve = curve_of(land[inside[:, 0], inside[:, 1]], 10, 4.0, 4)
    assert curve.levels.tolist() == [7, 8, 9, 10]
    assert curve.areas.tolist() == [0, 16 * 4, 120 * 4, 120 * 4]
    assert curve.volumes.tolist() == [0, 16 * 4, (2 * 16 + 104) * 4, (3 * 16 + 2 * 104) * 4]
    assert level_for(land[inside[:, 0], inside[:, 1]], 10, 4.0, 16 * 4) == pytest.approx(8)
    assert level_for(land[inside[:, 0], inside[:, 1]], 10, 4.0, 1e9) == 10


def test_a_hollow_in_a_hollow_and_what_lies_around() -> None:
    """Two basins with a saddle of 4 m between them, in one whose brim is at 9 m, in the land at 12 m."""
    x = np.tile(np.arange(101.0), (61, 1))
    land = np.full((61, 101), 12, np.float32)
    land[20:41, 20:81] = np.minimum(12, np.where(np.abs(x - 50) < 3, 4, 2 + np.abs(np.abs(x - 50) - 16) / 10))[
        20:41, 20:81
    ]
    land[30, 35], land[30, 65] = 0, 1
    land[30, 81:] = 9
    found = risen(land, 30, 35)
    assert [brim.level for brim in found.brims] == [4, 9]
    assert found.brims[1].spill == (30, 81) or found.brims[1].beyond is None
    assert land[found.brims[0].beyond] < 4
    inside = nested(land, found.posts[: found.brims[1].count], 9, 1.0, 20)
    assert sorted((one.floor, one.brim) for one in inside) == [(0, 4), (1, 4)]


@settings(max_examples=50, deadline=None)
@given(LANDS.filter(lambda land: min(land.shape) > 2), st.data())
def test_brims_are_those_of_the_filled_land(heights: FloatArray, data: st.DataObject) -> None:
    """The last brim that rising water meets is where the whole land is filled to."""
    row = data.draw(st.integers(1, heights.shape[0] - 2))
    col = data.draw(st.integers(1, heights.shape[1] - 2))
    filled = by_skimage(heights)
    found = risen(heights, row, col)
    top = max([float(heights[row, col]), *(brim.level for brim in found.brims)])
    assert top == filled[row, col]
    assert all(a.level < b.level for a, b in itertools.pairwise(found.brims))


def test_water_that_is_cut_off_says_so() -> None:
    land = pit()
    cut = land[10:30, 15:40].copy()
    assert rise(cut, 10, 11, (False,) * 4, cut.size).end == 1
    assert rise(land, 20, 26, EDGES, 50).end == 2


@pytest.mark.parametrize("shape", ["cone", "cap"])
def test_volume_by_level_is_the_analytic_one(shape: str) -> None:
    """A cone whose radius is 3 times its depth: π r² d / 3; a cap of a sphere of radius R: π h² (3R - h) / 3."""
    spacing = 0.5
    x, y = np.meshgrid(np.arange(-70, 70.01, spacing), np.arange(-70, 70.01, spacing))
    away = np.hypot(x, y)
    radius = 100.0
    if shape == "cone":
        land = np.minimum(away / 3, 20).astype(np.float32)
    else:
        land = np.minimum(radius - np.sqrt(np.maximum(radius**2 - away**2, 0)), 20).astype(np.float32)
    row = col = land.shape[0] // 2
    found = risen(land, row, col)
    assert found.brims[0].level == 20
    posts = found.posts[: found.brims[0].count]
    ground = land[posts[:, 0], posts[:, 1]]
    curve = curve_of(ground[ground < 20], 20, spacing**2, 11)
    for level, volume in zip(curve.levels[3:], curve.volumes[3:], strict=True):
        want = (
            math.pi * (3 * level) ** 2 * level / 3 if shape == "cone" else math.pi * level**2 * (3 * radius - level) / 3
        )
        assert volume == pytest.approx(want, rel=0.01)


def test_every_hollow_of_a_land_is_listed() -> None:
    land = pit()
    land[5:8, 5:8] = 9.5
    found = hollows(land, drain(land))
    assert [(one.brim, one.posts, one.deep) for one in found] == [(10, 120, 3), (10, 9, 0.5)]
    assert (found[0].row, found[0].col) in {(r, c) for r in range(18, 22) for c in range(24, 28)}
    assert found[0].depths == 3 * 16 + 2 * 104
    assert len(hollows(land, drain(land), least_deep=1.0)) == 1
    assert len(hollows(land, drain(land), least_posts=50)) == 1


@given(arrays(np.float32, 40, elements=st.floats(-1e6, 1e6, width=32)))
def test_heights_as_whole_numbers_keep_their_order(values: FloatArray) -> None:
    bits = as_bits(values)
    assert np.array_equal(as_heights(bits), values)
    assert np.array_equal(np.argsort(bits, kind="stable"), np.argsort(values, kind="stable"))
