"""Ways over posts against a general graph library, and the shade of the land against the sun's course by hand."""

from __future__ import annotations

import itertools
import math

import numpy as np
import pytest
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from fernfield.core.light.shade import reach_posts, shade, sun_course
from fernfield.core.travel.ways import FREE, NEVER, TAKEN, ways_from


def plainly(posts: np.ndarray, row: int, col: int) -> np.ndarray:
    """The least number of taken posts on the way to each, by SciPy's Dijkstra; -1 where there is no way."""
    rows, cols = posts.shape
    edges, weights = [], []
    for r in range(rows):
        for c in range(cols):
            for dr in (-1, 0, 1):
                for dc in (-1, 0, 1):
                    r1, c1 = r + dr, c + dc
                    if (dr or dc) and 0 <= r1 < rows and 0 <= c1 < cols and posts[r1, c1] != NEVER:
                        edges.append((r * cols + c, r1 * cols + c1))
                        # A graph of SciPy's has no edges of length 0.
                        weights.append(1.0 if posts[r1, c1] == TAKEN else 1e-6)
    start, end = np.array(edges).T
    graph = csr_matrix((weights, (start, end)), shape=(posts.size, posts.size))
    found = dijkstra(graph, indices=row * cols + col).reshape(posts.shape)
    return np.where(np.isfinite(found), np.floor(found + 1e-4), -1).astype(int)


@pytest.mark.parametrize("seed", range(6))
def test_the_fewest_that_stand_in_the_way_are_found(seed: int) -> None:
    rng = np.random.default_rng(seed)
    posts = rng.choice([FREE, TAKEN, NEVER], (17, 23), p=[0.45, 0.3, 0.25]).astype(np.uint8)
    posts[8, 11] = FREE
    ways = ways_from(posts, 8, 11)
    assert np.array_equal(ways.least, plainly(posts, 8, 11))
    for at in np.argwhere(ways.least >= 0):
        way = ways.to(*at)
        assert (way[0], way[-1]) == (tuple(at), (8, 11))
        assert sum(posts[post] == TAKEN for post in way) == ways.least[tuple(at)]
        assert all(max(abs(a[0] - b[0]), abs(a[1] - b[1])) == 1 for a, b in itertools.pairwise(way))
    closed = np.argwhere(ways.least < 0)
    assert len(closed)
    assert ways.to(*closed[0]) == []


def test_the_sun_stands_where_an_equinox_has_it() -> None:
    """By hand at 45° north: at noon 45° high in the south; four hours from it sin h = cos 45° cos 60° = 0.3536."""
    suns = sun_course()
    assert np.allclose(np.linalg.norm(suns, axis=1), 1)
    assert np.allclose(suns[3], (0, -math.sqrt(0.5), math.sqrt(0.5)))
    assert suns[0, 2] == pytest.approx(0.35355, abs=1e-5)
    assert suns[0, 0] > 0 > suns[-1, 0]


def test_shade_of_a_slope_is_that_of_its_normal() -> None:
    """Level ground has none; a slope of 30° to the south gets more than it; one to the north what the cosines say."""
    around = reach_posts(2.0)
    side = 9 + 2 * around
    north = np.repeat(np.arange(side, 0, -1, dtype=np.float32)[:, None], side, axis=1) * 2 * math.tan(math.radians(30))
    assert (shade(np.zeros_like(north), 2.0, around) == 0).all()
    # Higher in the north: it looks to the south.
    assert (shade(north, 2.0, around) == 0).all()
    normal = np.array((0.0, math.sin(math.radians(30)), math.cos(math.radians(30))))
    suns = sun_course()
    want = 1 - np.maximum(suns @ normal, 0).sum() / suns[:, 2].sum()
    found = shade(-north, 2.0, around)
    assert np.allclose(found, want, atol=1e-3)
    assert 0.4 < want < 0.8


def test_a_wall_throws_shade_to_the_north_and_not_to_the_south() -> None:
    around = reach_posts(1.0)
    heights = np.zeros((61 + 2 * around, 61 + 2 * around), np.float32)
    heights[around + 30 : around + 34] = 20
    found = shade(heights, 1.0, around)
    # On an equinox the shadow of a wall from east to west ends in a line all day, tan 45° times its height north of it.
    assert (found[13:30] == 1).all()
    assert (found[:8] == 0).all()
    assert (found[34:] == 0).all()
