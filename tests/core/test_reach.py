"""Shortest ways against SciPy's Dijkstra on the same graph, floods by hand, and the published functions of walking."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components, dijkstra

from fernfield.core.errors import GridError
from fernfield.core.travel.passable import DIRECTIONS, HALO, WHOLE_PACE, passable
from fernfield.core.travel.reach import FLAT_PART, NOWHERE, REACHED, TRAP, classes, naismith, reach_from, tobler
from fernfield.core.travel.walkers import WALKERS

SPACING, SPEED = 1.5, 3.0


def graph(leave: np.ndarray, heights: np.ndarray, by: str, clock: str) -> csr_array:
    """The same steps as a sparse matrix, made plainly."""
    _, rows, cols = leave.shape
    out: dict[tuple[int, int], float] = {}
    for d, (dr, dc) in enumerate(DIRECTIONS):
        run = SPACING * math.hypot(dr, dc)
        for r, c in zip(*np.nonzero(leave[d]), strict=True):
            if not (0 <= r + dr < rows and 0 <= c + dc < cols):
                continue
            rise = float(heights[r + dr, c + dc]) - float(heights[r, c])
            if by == "length":
                cost = run
            elif by == "climb":
                cost = FLAT_PART * run + max(rise, 0.0)
            else:
                cost = run / (SPEED * leave[d, r, c] / WHOLE_PACE)
                rise = min(max(rise, -run), run)
                if clock == "tobler":
                    cost *= tobler(0) / tobler(rise / run)
                elif clock == "naismith":
                    cost *= naismith(run, rise) / naismith(run, 0)
            out[int(r * cols + c), int((r + dr) * cols + c + dc)] = cost
    at = np.array(list(out)).reshape(-1, 2)
    return csr_array((list(out.values()), (at[:, 0], at[:, 1])), shape=(rows * cols, rows * cols))


LANDS = st.tuples(st.integers(0, 2**31), st.integers(3, 24), st.integers(3, 24), st.sampled_from((0.3, 3.0, 12.0)))


def land(seed: int, rows: int, cols: int, rough: float) -> tuple[np.ndarray, np.ndarray]:
    rng = np.random.default_rng(seed)
    wide = rng.normal(0, rough, (rows + 2 * HALO, cols + 2 * HALO)).cumsum(axis=1).astype(np.float32) / 3
    water = np.where(rng.random(wide.shape) < 0.2, wide + rng.uniform(0, 2, wide.shape), -1e6).astype(np.float32)
    paces = rng.uniform(0.05, 1, (rows, cols)).astype(np.float32)
    leave = passable(wide, SPACING, WALKERS["person"], water=water, paces=paces)
    leave[:, rng.random((rows, cols)) < 0.1] = 0
    return leave, wide[HALO:-HALO, HALO:-HALO]


@settings(deadline=None, max_examples=60)
@given(LANDS, st.sampled_from((("time", "walker"), ("time", "tobler"), ("time", "naismith"), ("length", "walker"),
                               ("climb", "walker"))), st.integers(1, 3))  # fmt: skip
def test_costs_are_those_of_scipy(made: tuple[int, int, int, float], how: tuple[str, str], count: int) -> None:
    leave, heights = land(*made)
    rng = np.random.default_rng(made[0])
    sources = [(int(rng.integers(made[1])), int(rng.integers(made[2]))) for _ in range(count)]
    by, clock = how
    found = reach_from(leave, sources, SPACING, SPEED, heights=heights, by=by, clock=clock)  # type: ignore[arg-type]
    edges = graph(leave, heights, by, clock)
    wanted = dijkstra(edges, indices=[r * made[2] + c for r, c in sources], min_only=True).reshape(made[1:3])
    assert np.array_equal(np.isinf(found.cost), np.isinf(wanted))
    there = np.isfinite(wanted)
    assert found.cost[there] == pytest.approx(wanted[there], rel=1e-6, abs=1e-9)
    # The way that it came costs what it says, step by step.
    far = np.argwhere(there)[-1]
    way = found.way(*map(int, far))
    steps = [edges[a[0] * made[2] + a[1], b[0] * made[2] + b[1]] for a, b in pairwise(way)]
    assert all(steps)
    assert sum(steps) == pytest.approx(found.cost[tuple(far)], rel=1e-6, abs=1e-9)


@settings(deadline=None, max_examples=30)
@given(LANDS)
def test_classes_are_what_floods_say(made: tuple[int, int, int, float]) -> None:
    leave, heights = land(*made)
    source = made[1] // 2, made[2] // 2
    found = classes(leave, [source])
    edges = graph(leave, heights, "length", "walker")
    there = np.isfinite(dijkstra(edges, indices=source[0] * made[2] + source[1])).reshape(found.shape)
    assert np.array_equal(found >= REACHED, there)
    # Who is in the same strong component as the beginning can come back to it.
    _, label = connected_components(edges, connection="strong")
    mine = (label == label[source[0] * made[2] + source[1]]).reshape(found.shape)
    assert np.array_equal(found == TRAP, there & ~mine)
    assert np.array_equal(found == NOWHERE, (leave == 0).all(axis=0) & ~there)


def test_the_published_functions_and_what_is_refused() -> None:
    # W. Tobler 1993, NCGIA 93-1: 6 km/h down 5 %, 5.04 km/h on the level, and as slow 10 % down.
    assert tobler(-0.05) == 6
    assert tobler(0) == pytest.approx(5.036742, abs=1e-6)
    assert tobler(-0.10) == pytest.approx(tobler(0))
    # W. W. Naismith 1892: an hour for every three miles (5 km), and for every 2,000 feet (600 m) up.
    assert naismith(5000, 0) == 3600
    assert naismith(5000, 600) == 7200
    # E. Langmuir 1984: ten minutes less for every 300 m down between 5° and 12°, ten more on steeper ground.
    assert naismith(2000, -300) == pytest.approx(1440 - 600)
    assert naismith(1000, -300) == pytest.approx(720 + 600)
    assert naismith(5000, -300) == 3600
    free = np.full((8, 4, 5), WHOLE_PACE, np.uint8)
    assert reach_from(free, [(0, 0)], 1.0, 2.0).cost[0, 4] == 2.0
    assert math.isinf(reach_from(free, [(0, 0)], 1.0, 2.0, most=1.0).cost[0, 4])
    assert reach_from(free, [(0, 0)], 1.0, 2.0).way(2, 2) == [(0, 0), (1, 1), (2, 2)]
    for sources, heights in (([(4, 0)], None), ([(0, 0)], np.zeros((3, 3), np.float32))):
        with pytest.raises(GridError):
            reach_from(free, sources, 1.0, 2.0, heights=heights, by="climb")
