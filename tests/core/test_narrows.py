"""The narrowest place against SciPy's flows, and on a wall with a gap."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import breadth_first_order, maximum_flow

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray
from fernfield.core.travel.narrows import narrowest
from fernfield.core.travel.passable import DIRECTIONS


def edges(leave: ByteArray) -> list[tuple[int, int]]:
    _, rows, cols = leave.shape
    return [
        (r * cols + c, (r + dr) * cols + c + dc)
        for d, (dr, dc) in enumerate(DIRECTIONS)
        for r, c in np.argwhere(leave[d]).tolist()
        if 0 <= r + dr < rows and 0 <= c + dc < cols
    ]


@settings(max_examples=60, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(4, 14), st.integers(4, 14), st.floats(0.3, 1), st.floats(0, 0.4))
def test_it_is_scipys_maximum_flow_and_parts_both_ends(
    seed: int, rows: int, cols: int, open_: float, gone: float
) -> None:
    """`scipy.sparse.csgraph.maximum_flow` on the graph in which each post is an edge of capacity 1."""
    rng = np.random.default_rng(seed)
    leave = (rng.random((8, rows, cols)) < open_).astype(np.uint8) * 200
    leave[:, rng.random((rows, cols)) < gone] = 0
    begins, ends = np.zeros((2, rows, cols), bool)
    begins[:2, :2], ends[-1, -1] = True, True
    try:
        cut = narrowest(leave, begins, ends)
    except GridError:
        return
    count = rows * cols
    free = (begins | ends).ravel()
    arcs = [(2 * v, 2 * v + 1, count if free[v] else 1) for v in range(count)]
    arcs += [(2 * a + 1, 2 * b, count) for a, b in edges(leave)]
    arcs += [(2 * count, 2 * v + 1, count) for v in np.flatnonzero(begins)]
    i, j, w = np.array([*arcs, (2 * (count - 1), 2 * count + 1, count)], np.int32).T
    flow = maximum_flow(csr_matrix((w, (i, j)), shape=(2 * count + 2,) * 2), 2 * count, 2 * count + 1)
    assert len(cut) == flow.flow_value
    # And with those posts closed nobody gets through.
    closed = leave.copy()
    closed[:, cut[:, 0], cut[:, 1]] = 0
    a, b = np.array(edges(closed) or [(0, 0)]).T
    shut = np.zeros(count, bool)
    shut[cut[:, 0] * cols + cut[:, 1]] = True
    graph = csr_matrix((~shut[b], (a, b)), shape=(count, count))
    graph.eliminate_zeros()
    for source in np.flatnonzero(begins):
        assert count - 1 not in breadth_first_order(graph, source)[0]


def test_a_wall_with_two_gaps() -> None:
    leave = np.full((8, 40, 60), 255, np.uint8)
    begins, ends = np.zeros((2, 40, 60), bool)
    begins[18:22, 3:7] = ends[18:22, 50:54] = True
    leave[:, :, 30] = 0
    leave[:, 10:13, 30] = leave[:, 25, 30] = 255
    assert narrowest(leave, begins, ends).tolist() == [[10, 30], [11, 30], [12, 30], [25, 30]]
    leave[:, :, 30] = 0
    assert len(narrowest(leave, begins, ends)) == 0
    with pytest.raises(GridError, match="touch"):
        narrowest(leave, begins, np.roll(begins, 1, axis=1) & ~begins)
    with pytest.raises(GridError, match="shape"):
        narrowest(leave, begins, ends[1:])
