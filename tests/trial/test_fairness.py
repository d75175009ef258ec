"""Is it fair: regions against SciPy's Dijkstra, scores by hand, and what is tried out."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import dijkstra

from fernfield.core.travel.fairness import compared, first_to_come, scores, worst
from fernfield.core.travel.passable import DIRECTIONS
from fernfield.core.travel.reach import reach_from


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 2**32 - 1), st.integers(2, 5))
def test_who_comes_first_is_scipys_nearest_source(seed: int, count: int) -> None:
    """`scipy.sparse.csgraph.dijkstra` from many sources with `min_only`; ties count for either."""
    rng = np.random.default_rng(seed)
    leave = rng.integers(40, 256, (8, 14, 17)).astype(np.uint8)
    leave[:, rng.random((14, 17)) < 0.25] = 0
    sources = [tuple(one) for one in rng.integers(0, (14, 17), (count, 2)).tolist()]
    took = [reach_from(leave, [one], 2.0, 3.0).cost.astype(np.float32) for one in sources]
    first = first_to_come(took)
    arcs = [
        (r * 17 + c, (r + dr) * 17 + c + dc, 2.0 * math.hypot(dr, dc) / (3.0 * leave[d, r, c] / 255))
        for d, (dr, dc) in enumerate(DIRECTIONS) for r, c in np.argwhere(leave[d]).tolist()
        if 0 <= r + dr < 14 and 0 <= c + dc < 17
    ]  # fmt: skip
    i, j, w = zip(*arcs, strict=True)
    graph = csr_matrix((w, (i, j)), shape=(14 * 17, 14 * 17))
    nodes = [r * 17 + c for r, c in sources]
    least = dijkstra(graph, indices=nodes, min_only=True).reshape(14, 17)
    assert (np.isfinite(least) == (first > 0)).all()
    own = np.choose(np.maximum(first, 1) - 1, took)
    assert np.allclose(own[first > 0], least[first > 0], rtol=1e-5)


def test_scores_by_hand() -> None:
    """Two starts, 60 s and 120 s from the peat: 2/3 and 4/3 of the mean of 90 s; the ground 3 to 1."""
    peat = compared("peat", [60, 120], less_is_better=True)
    assert [one.good for one in peat] == pytest.approx([1.5, 0.75])
    ground = compared("ground", [0.75, 0.25], less_is_better=False)
    assert [one.good for one in ground] == pytest.approx([1.5, 0.5])
    things, weights = {"gather:peat": peat, "ground": ground}, {"gather": 2.0, "ground": 1.0}
    by_hand = [100 * 1.5, 100 * (0.75**2 * 0.5) ** (1 / 3)]
    assert scores(things, weights).tolist() == pytest.approx(by_hand)
    assert worst(things, weights, 0) is None
    named, told = worst(things, weights, 1) or ("", peat[0])
    assert (named, told.value) == ("ground", 0.25)
    lost = compared("peat", [60, math.inf], less_is_better=True)
    assert [one.good for one in lost] == [1, 0.5]


def test_a_world_that_is_alike_is_fair_and_what_is_tried_out_is_told(client: TestClient) -> None:
    spec = {"name": "F", "width_m": 200, "depth_m": 100, "spacing_m": 1, "elevation_m": 5}
    made = client.post("/api/worlds", json=spec).json()
    base, land = f"/api/worlds/{made['id']}", f"/api/lands/{made['tracts'][0]['id']}"
    assert "no start" in client.get(f"{base}/fairness").json()["detail"]
    for key, x, team in (("west", 20, 1), ("east", 180, 2)):
        start = {"sort": "start", "name": key.title(), "x": x, "y": 50, "team": team}
        assert client.put(f"{base}/things/{key}", json=start).status_code == 200
    for key, x in (("a", 50), ("b", 150)):
        row = {"name": key, "of": "peat", "x": x, "y": 50}
        assert client.put(f"{base}/resources/{key}", json=row).status_code == 200
    told = client.get(f"{base}/fairness").json()
    assert [one["key"] for one in told["starts"]] == ["east", "west"]
    assert [one["key"] for one in told["places"]] == ["a", "b", "east", "west"]
    expected = [[130 / 3, 10, 0, 160 / 3], [10, 130 / 3, 160 / 3, 0]]
    assert np.allclose(told["seconds"], expected, atol=0.01)
    # The line half way between belongs to the first of them.
    assert told["first"] == {"east": pytest.approx(101 / 201, abs=1e-3), "west": pytest.approx(100 / 201, abs=1e-3)}
    assert told["scores"] == {"east": pytest.approx(100, abs=1), "west": pytest.approx(100, abs=1)}
    assert told["starts"][0]["within_m2"][2] == 201 * 101
    # One of them further off.
    moved: dict[str, Any] = {"moved": {"resources/a": [110, 50]}}
    other = client.post(f"{base}/fairness", json=moved).json()
    (why,) = [one for one in other["why"] if one["start"] == "west"]
    assert (why["words"], why["x"]) == ("From West it is 0:30 to the nearest peat, 50% longer than the mean.", 110)
    assert other["scores"]["west"] < 90 < 105 < other["scores"]["east"]
    first = client.post(f"{land}/first", json=moved, params={"step": 10})
    posts = np.frombuffer(first.content, np.uint8).reshape(tuple(map(int, first.headers["X-Shape"].split(","))))
    assert (posts.shape, posts[5, 2], posts[5, 18]) == ((11, 21), 2, 1)
    assert client.post(f"{base}/fairness", json={"moved": {"things/west": [-5, 5]}}).status_code == 422
    assert "things/a is no start" in client.post(f"{base}/fairness", json={"moved": {"things/a": [5, 5]}}).text
    assert client.post(f"{base}/fairness", json={"weights": {"luck": 1}}).status_code == 422
