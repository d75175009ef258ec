"""Covers in areas: filled, swapped without flecks, one revision each, and back to the byte by undo."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import fernfield.work.cover.areas
import fernfield.work.kernel.writing.sweep
from fernfield.core.cover.areas import filled, swapped
from fernfield.core.cover.shares import SOLID, shares_as_bytes
from fernfield.work.cover.areas import FillCover, SwapCover, fill_cover, swap_cover
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw
from tests.cover.test_veil import NEAR, SHAPE, shares_of

MASKS = arrays(np.uint16, (3, *SHAPE), elements=st.integers(0, SOLID))
WEIGHTS = arrays(np.float32, SHAPE, elements=st.sampled_from([0.0, 0.25, 0.5, 1.0]))


@given(MASKS, WEIGHTS, st.integers(0, 3), st.integers(0, 3), st.sampled_from([0.0, 0.05, 0.5]))
@settings(max_examples=150, deadline=None)
def test_a_swap_takes_over_the_share_and_nothing_else(
    masks: np.ndarray, weights: np.ndarray, at: int, to: int, least: float
) -> None:
    """Against its definition in plain NumPy."""
    if at == to:
        return
    before, after = shares_of(masks), shares_of(swapped(masks, at, to, weights, least))
    taken = before[at] * weights
    taken = np.where((weights > 0) & (before[at] - taken < least), before[at], taken)
    assert after[at] == pytest.approx(before[at] - taken, abs=NEAR)
    assert after[to] == pytest.approx(before[to] + taken, abs=NEAR)
    for k in {0, 1, 2, 3} - {at, to}:
        assert after[k] == pytest.approx(before[k], abs=NEAR)
    assert (shares_as_bytes(after.astype(np.float32)).astype(int).sum(axis=0) == 255).all()
    # Where it is whole nothing is left, to the byte.
    assert (after[at][weights == 1] < 1e-6).all()
    assert np.array_equal(after[:, weights == 0], before[:, weights == 0])


@given(MASKS, st.integers(0, 3), st.floats(0, 1))
@settings(max_examples=60, deadline=None)
def test_filling_is_a_veil_over_the_area(masks: np.ndarray, at: int, share: float) -> None:
    weights = np.zeros(SHAPE, np.float32)
    weights[1:3] = 1
    after = shares_of(filled(masks, at, weights, share))
    stuck = (at == 0) & (shares_of(masks)[0] >= 1 - NEAR)
    assert (np.abs(after[at] - share)[(weights == 1) & ~stuck] <= NEAR).all()


SPEC = {"name": "Small", "width_m": 300, "depth_m": 200, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}


@pytest.fixture
def tract(client: TestClient) -> str:
    made = client.post("/api/worlds", json=SPEC).json()
    return str(made["tracts"][0]["id"])


def planes(client: TestClient, tract: str) -> dict[str, np.ndarray]:
    box = {"row0": 0, "col0": 0, "row1": 201, "col1": 301}
    answer = client.get(f"/api/tracts/{tract}/cover-shares", params=box)
    shape = [int(n) for n in answer.headers["x-shape"].split(",")]
    keys = answer.headers["x-covers"].split(",")
    return dict(zip(keys, np.frombuffer(answer.content, np.uint8).reshape(shape), strict=True))


def did(client: TestClient, tract: str, what: str, **said: Any) -> dict[str, Any]:
    answer = client.post(f"/api/tracts/{tract}/covers/{what}", json=said)
    assert answer.status_code == 200, answer.text
    return dict(answer.json())


def test_an_area_is_filled_and_a_swap_leaves_no_flecks(client: TestClient, tract: str) -> None:
    began = planes(client, tract)
    filled_in = did(client, tract, "fill", cover="earth", box=[50, 50, 150, 120])
    # 101 by 71 posts lie in the box and on its edge.
    assert filled_in["posts"] == 101 * 71
    assert (planes(client, tract)["earth"] == 255).sum() == 101 * 71
    veil = {"tool": "veil", "cover": "path", "share": 0.3, "radius_m": 25, "softness": 1, "strength": 100}
    client.post(f"/api/tracts/{tract}/strokes", json={**veil, "path": [[60, 80, 0], [160, 90, 1]]})
    was = planes(client, tract)
    assert 0 < was["path"].max() < 90
    swap = did(client, tract, "swap", **{"from": "path", "to": "earth"}, box=[0, 0, 300, 200])
    now = planes(client, tract)
    assert swap["left"] == 0
    assert now["path"].max() == 0
    assert swap["posts"] >= (was["path"] > 0).sum()
    assert np.abs(now["earth"].astype(int) - was["earth"] - was["path"]).max() <= 1
    assert swap["revision"] == filled_in["revision"] + 2
    # With a soft edge something stays where the edge is, and is told; nothing under the least share.
    client.post(f"/api/worlds/{world_of(client)}/undo")
    soft = did(client, tract, "swap", **{"from": "path", "to": "earth"}, box=[80, 60, 120, 110], feather_m=12)
    now = planes(client, tract)
    inside = np.zeros_like(now["path"], bool)
    inside[200 - 110 : 201 - 60, 80:121] = True
    assert np.array_equal(now["path"][~inside], was["path"][~inside])
    assert soft["left"] == (now["path"][inside] > 0).sum()
    assert now["path"][inside][now["path"][inside] > 0].min() >= round(0.05 * 255) - 1
    for _ in range(3):
        client.post(f"/api/worlds/{world_of(client)}/undo")
    assert all(np.array_equal(plane, began[key]) for key, plane in planes(client, tract).items())


def world_of(client: TestClient) -> str:
    return str(client.get("/api/worlds").json()[0]["id"])


def test_by_the_land_in_the_world_s_metres_and_in_a_plot(client: TestClient, tract: str) -> None:
    world = world_of(client)
    points = [[20, 20], [60, 20], [60, 50]]
    plot = client.post(f"/api/worlds/{world}/plots", json={"name": "Yard", "points": points}).json()["key"]
    done = client.post(f"/api/lands/{tract}/covers/fill", json={"cover": "path", "share": 0.5, "plot": plot})
    assert done.status_code == 200, done.text
    share = planes(client, tract)["path"]
    # Half of 40 by 30 m, at a post a square metre.
    assert (share >= 127).sum() == pytest.approx(600, rel=0.08)
    assert share.max() == 128


@pytest.mark.parametrize(
    ("what", "said", "status", "words"),
    [
        ("fill", {"cover": "tar"}, 404, "cover must be one of grass"),
        ("swap", {"from": "tar", "to": "path"}, 404, "from must be one of grass"),
        ("swap", {"from": "path", "to": "path"}, 422, "two covers, not both 'path'"),
        ("swap", {"to": "path"}, 422, "from"),
        ("fill", {"cover": "path", "share": 28}, 422, "less than or equal to 1"),
        ("fill", {"cover": "path", "box": [0, 0, 5, 5], "plot": "yard"}, 422, "an area is a plot or a box"),
        ("fill", {"cover": "path", "box": [900, 900, 950, 950]}, 422, "must reach into the tract"),
        ("fill", {"cover": "path", "plot": "none"}, 404, "none"),
        ("fill", {"cover": "path", "colour": "red"}, 422, "colour"),
    ],
)
def test_what_cannot_be_is_refused_and_changes_nothing(
    client: TestClient, tract: str, what: str, said: dict[str, Any], status: int, words: str
) -> None:
    answer = client.post(f"/api/tracts/{tract}/covers/{what}", json=said)
    assert answer.status_code == status, answer.text
    assert words in answer.text
    assert client.get(f"/api/worlds/{world_of(client)}").json()["revision"] == 0


def test_covers_that_are_not_there_take_no_room(world: OpenWorld) -> None:
    tract, land = world.first_tract, world.first_land
    fill_cover(world, tract, FillCover(cover="earth", box=(20, 20, 60, 60)))
    assert not land.blank("cover:earth", land.grid.window)
    assert land.blank("cover:path", land.grid.window)


def test_what_a_cover_covers_is_an_area_too(client: TestClient, tract: str) -> None:
    did(client, tract, "fill", cover="earth", box=[50, 50, 150, 120])
    did(client, tract, "fill", cover="path", covered_by="earth", share=0.5)
    now = planes(client, tract)
    assert (now["path"] > 0).sum() == (now["earth"] > 0).sum() == 101 * 71
    assert now["path"].max() == pytest.approx(128, abs=1)


@pytest.mark.parametrize("way", ["under the lock", "beside the world"])
def test_what_others_paint_meanwhile_is_swapped_too(studio: Studio, way: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Over tiles that were worked out already and over some that were not; and both ways come to the same."""
    if way == "beside the world":
        monkeypatch.setattr(fernfield.work.kernel.writing.sweep, "AT_ONCE", 0)
    spec = WorldSpec(name="Wide", width_m=1200, depth_m=700, spacing_m=1, elevation_m=10, sea_level_m=0)
    world = studio.world(studio.create(spec))
    tract, land = world.first_tract, world.first_land
    draw(world, "paint", cover="path", path=[(100, 200, 0), (1100, 500, 4)], strength=90)
    calls, turn = [], threading.Lock()

    def slowly(masks: np.ndarray, *more: Any) -> np.ndarray:
        with turn:
            calls.append(1)
            if len(calls) == 6 and way == "beside the world":
                draw(world, "paint", cover="path", path=[(50, 350, 0), (1150, 350, 4)], strength=90)
        return swapped(masks, *more)

    monkeypatch.setattr(fernfield.work.cover.areas, "swapped", slowly)
    found = swap_cover(world, tract, SwapCover(from_="path", to="earth"))
    assert found.left == 0
    assert len(calls) > 6
    path, earth = (land.read(layer, land.grid.window) for layer in ("cover:path", "cover:earth"))
    assert path.max() == 0
    assert (earth[:, 600] > 0).sum() > 10
    changed = land.read("cover:earth", land.grid.window) > 0
    assert found.posts == changed.sum()
