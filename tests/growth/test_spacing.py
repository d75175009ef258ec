"""Places that keep their distance: how near, how many, the same whatever part is asked for, and how they lie."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from fernfield.core.errors import InvalidInput
from fernfield.core.growth.figures import clumps_sure, neighbours
from fernfield.core.growth.spacing import Pattern, Places, places, reached


def points(found: Places, sort: int | None = None) -> np.ndarray:
    every = np.stack([found.x, found.y], axis=1)
    return every if sort is None else every[found.sort == sort]


def test_no_two_of_a_hundred_thousand_are_nearer_than_they_may_be() -> None:
    """Within a sort and between sorts, over the borders of blocks too: by a k-d tree."""
    apart = ((3.0, 2.0, 1.2), (2.0, 4.0, 0.0), (1.2, 0.0, 0.8))
    found = places(Pattern(9, (400.0, 150.0, 2000.0), apart), -300, 100, 400, 700)
    assert len(found) > 100_000
    for a in range(3):
        for b in range(a, 3):
            if apart[a][b] == 0:
                continue
            one, other = points(found, a), points(found, b)
            k = 2 if a == b else 1
            nearest = cKDTree(other).query(one, k=k)[0]
            assert (nearest[:, 1] if k == 2 else nearest).min() >= apart[a][b] - 1e-9


@pytest.mark.parametrize("apart", [1.0, 2.0, 4.0])
def test_what_is_full_is_as_full_as_random_discs_can_be(apart: float) -> None:
    """Random sequential addition of discs ends at a covering of 0.5470735 (G. Zhang and S. Torquato 2013,
    doi:10.1103/PhysRevE.88.053312; the figure from memory). Blocks that begin beside empty ones pack a little more."""
    side = 160 * apart
    found = places(Pattern(5, (10_000.0,), ((apart,),)), 0, 0, side, side)
    covered = len(found) * math.pi * apart**2 / 4 / side**2
    assert covered == pytest.approx(0.5470735, rel=0.015)


def test_nothing_more_fits_where_it_is_full() -> None:
    """Maximal: every spot of a fine grid lies nearer than the distance to some place."""
    found = points(places(Pattern(3, (10_000.0,), ((2.5,),)), -10, -10, 110, 110))
    x, y = np.meshgrid(np.arange(0, 100, 0.11), np.arange(0, 100, 0.11))
    away = cKDTree(found).query(np.stack([x.ravel(), y.ravel()], axis=1))[0]
    assert (away < 2.5).mean() > 0.9995


@given(st.integers(-200, 200), st.integers(-200, 200), st.floats(0.3, 0.7), st.integers(0, 2**40))
@settings(max_examples=15, deadline=None)
def test_parts_lose_and_double_nothing_in_whatever_order_they_are_asked_for(
    x: int, y: int, cut: float, seed: int
) -> None:
    kinds = Pattern(seed, (300.0, 800.0), ((3.5, 2.0), (2.0, 1.5)))
    middle_x, middle_y = x + 130 * cut, y + 90 * cut
    boxes = [(middle_x, middle_y, x + 130, y + 90), (x, y, middle_x, middle_y), (x, middle_y, middle_x, y + 90),
             (middle_x, y, x + 130, middle_y)]  # fmt: skip
    parts = [places(kinds, *box) for box in boxes]
    # The same pattern under another seed in between; then all of it at once, from nothing.
    fresh = Pattern(seed, kinds.per_ha, ((3.5, 2.0), (2.0, 1.5)))
    whole = places(fresh, x, y, x + 130, y + 90)
    named = [set(zip(p.x, p.y, p.sort, p.number, map(tuple, p.block), strict=True)) for p in [*parts, whole]]
    assert sum(len(part) for part in named[:4]) == len(named[4])
    assert set().union(*named[:4]) == named[4]


def test_the_density_is_reached_within_two_percent_where_there_is_room() -> None:
    kinds = Pattern(7, (200.0, 60.0), ((3.0, 2.0), (2.0, 4.0)))
    found = places(kinds, 0, 0, 800, 800)
    for sort, per_ha in enumerate(kinds.per_ha):
        stands = (found.sort == sort) & (found.taken_from <= 1)
        assert stands.sum() == pytest.approx(per_ha * 64, rel=0.02)
        # And half of it at half the share.
        half = (found.sort == sort) & (found.taken_from <= 0.5)
        assert half.sum() == pytest.approx(per_ha * 32, rel=0.02)
    assert reached(kinds) == [1.0, 1.0]
    crowded = reached(Pattern(7, (2000.0,), ((4.0,),)))
    # 0.547 of the ground by discs of 2 m are 435 to a hectare.
    assert crowded[0] == pytest.approx(435 / 2000, rel=0.03)


def test_a_density_that_comes_back_gives_the_first_places_again() -> None:
    def stand(per_ha: float) -> set[tuple[float, float]]:
        found = places(Pattern(4, (per_ha,), ((2.0,),)), 0, 0, 300, 300)
        return set(zip(found.x, found.y, strict=True))

    first = stand(200)
    more = stand(250)
    assert stand(200) == first
    # Most of them stay where they were: only near blocks that were filled before can one be in the way now.
    assert len(first & more) > 0.8 * len(first)


def test_chance_clumps_and_evenness_are_told_apart() -> None:
    """Clark and Evans (1954): 1 by chance; a lattice of triangles reaches 2.1491."""
    rng = np.random.default_rng(1)
    chance = rng.random((2, 2000)) * 500
    loose = neighbours(*chance, 500, 500)
    assert loose is not None
    assert loose.index == pytest.approx(1, abs=0.05)
    assert abs(loose.sure) < 2.6
    knots = rng.random((40, 2)) * 480 + 10
    spread = (knots[rng.integers(0, 40, 2000)] + rng.normal(0, 4, (2000, 2))).T
    clumps = neighbours(spread[0], spread[1], 500, 500)
    assert clumps is not None
    assert clumps.words == "in clumps"
    # The index of dispersion: 1 by chance, with a variance of 2 / (squares - 1).
    assert abs(clumps_sure(*chance, 500, 500, 25)) < 2.6
    assert clumps_sure(*spread, 500, 500, 25) > 10
    even = places(Pattern(1, (10_000.0,), ((5.0,),)), 0, 0, 500, 500)
    apart = neighbours(even.x, even.y, 500, 500)
    assert apart is not None
    assert (apart.words, apart.index > 1.3) == ("evenly apart", True)
    j, i = np.mgrid[0:60, 0:60]
    x, y = (i + 0.5 * (j % 2)).ravel() * 8.0, (j * math.sqrt(3) / 2).ravel() * 8.0
    lattice = neighbours(x, y, 480, 480 * math.sqrt(3) / 2)
    assert lattice is not None
    assert lattice.index == pytest.approx(2.1491, rel=0.03)
    assert neighbours(x[:5], y[:5], 10, 10) is None


def test_places_of_a_loose_pattern_lie_as_by_chance() -> None:
    """Without a distance nothing of the blocks is to be seen, and no rows: what is left over of a division by any small
    length is spread evenly (chi-squared)."""
    found = places(Pattern(8, (300.0,), ((0.0,),)), 0, 0, 1200, 1200)
    index = neighbours(found.x, found.y, 1200, 1200)
    assert index is not None
    assert index.index == pytest.approx(1, abs=0.03)
    for length in (8.0, 16.0, 32.0):
        for axis in (found.x, found.y):
            counts = np.histogram(axis % length, 16, (0, length))[0]
            squares = ((counts - counts.mean()) ** 2 / counts.mean()).sum()
            assert squares < 37.7  # 15 degrees of freedom, 0.1 %


@pytest.mark.parametrize(
    ("per_ha", "apart", "word"),
    [((-1.0,), ((1.0,),), "density"), ((2e4,), ((1.0,),), "density"), ((1.0,), ((99.0,),), "dist")],
)
def test_patterns_that_cannot_be_are_refused(
    per_ha: tuple[float, ...], apart: tuple[tuple[float, ...], ...], word: str
) -> None:
    with pytest.raises(InvalidInput, match=word):
        Pattern(1, per_ha, apart)
