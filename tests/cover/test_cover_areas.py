"""Covers in areas: filled, swapped without flecks, one revision each, and back to the byte by undo."""

from __future__ import annotations

import threading
from importlib import import_module
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

import fernfield.work.cover.areas
import fernfield.work.kernel.writing.sweep
from fernfield.core.cover.areas import filled, sharpened, softened, swapped
from fernfield.core.cover.shares import SOLID, shares_as_bytes
from fernfield.work.cover.areas import (
    FillCover,
    GiveBackCovers,
    SharpenCovers,
    SoftenCovers,
    SwapCover,
    fill_cover,
    give_back_covers,
    sharpen_covers,
    soften_covers,
    swap_cover,
)
from fernfield.work.cover.rows import COVERS, covers_of
from fernfield.work.kernel.commands import patch
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, everything
from tests.cover.test_veil import NEAR, SHAPE, shares_of
from tests.waits import done

MASKS = arrays(np.uint16, (3, *SHAPE), elements=st.integers(0, SOLID))
WEIGHTS = arrays(np.float32, SHAPE, elements=st.sampled_from([0.0, 0.25, 0.5, 1.0]))


def under_base(masks: np.ndarray) -> np.ndarray:
    """With the base's own mask under them, where nothing is."""
    return np.concatenate([np.zeros_like(masks[:1]), masks])


@given(MASKS, WEIGHTS, st.integers(0, 3), st.integers(0, 3), st.sampled_from([0.0, 0.05, 0.5]))
@settings(max_examples=150, deadline=None)
def test_a_swap_takes_over_the_share_and_nothing_else(
    masks: np.ndarray, weights: np.ndarray, at: int, to: int, least: float
) -> None:
    """Against its definition in plain NumPy."""
    if at == to:
        return
    before, after = shares_of(masks), shares_of(swapped(under_base(masks), at, to, weights, least)[1:])
    taken = before[at] * weights
    taken = np.where((weights > 0) & (before[at] - taken < least), before[at], taken)
    assert after[at] == pytest.approx(before[at] - taken, abs=NEAR)
    assert after[to] == pytest.approx(before[to] + taken, abs=NEAR)
    for k in {0, 1, 2, 3} - {at, to}:
        assert after[k] == pytest.approx(before[k], abs=NEAR)
    assert (shares_as_bytes(after.astype(np.float32)).astype(int).sum(axis=0) == 255).all()
    # Where it is whole nothing is left that 16 bits can tell from nothing.
    assert (after[at][weights == 1] < 1.5 / SOLID).all()
    assert np.array_equal(after[:, weights == 0], before[:, weights == 0])


@given(MASKS, st.integers(0, 3), st.floats(0, 1))
@settings(max_examples=60, deadline=None)
def test_filling_is_a_veil_over_the_area(masks: np.ndarray, at: int, share: float) -> None:
    weights = np.zeros(SHAPE, np.float32)
    weights[1:3] = 1
    after = shares_of(filled(under_base(masks), at, weights, share)[1:])
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
        ("fill", {"cover": "path", "share": 28}, 422, "at most 1"),
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


@given(MASKS, st.floats(1, 8))
@settings(max_examples=80, deadline=None)
def test_sharpening_raises_shares_to_a_power(masks: np.ndarray, times: float) -> None:
    """Against its definition in plain NumPy; a border of logistic form becomes so many times narrower, exactly."""
    before = shares_of(masks)
    after = shares_of(sharpened(under_base(masks), np.ones(SHAPE, np.float32), times)[1:])
    wanted = before**times / (before**times).sum(axis=0)
    assert np.abs(after - wanted).max() <= 4 * NEAR
    x = np.linspace(-6, 6, 60)[None]
    logistic = np.rint(SOLID / (1 + np.exp(-x))).astype(np.uint16)[None]
    sharp = sharpened(under_base(logistic), np.ones((1, 60), np.float32), times)[1]
    assert sharp / SOLID == pytest.approx(1 / (1 + np.exp(-times * x)), abs=1e-3)


@pytest.mark.parametrize(
    ("work", "command"),
    [
        (soften_covers, SoftenCovers(width_m=20)), (sharpen_covers, SharpenCovers(times=4)),
        (give_back_covers, GiveBackCovers()),
    ],
)  # fmt: skip
def test_area_works_are_one_revision_the_same_part_by_part(world: OpenWorld, work: Any, command: Any) -> None:
    """Four tiles meet in the middle: what is worked out tile by tile is what is worked out at once."""
    world.edit(patch(COVERS, "rock", rule=None))
    draw(world, "paint", cover="path", path=[(200, 30, 0), (270, 60, 2)], radius_m=30, strength=80, softness=0.3)
    draw(world, "paint", cover="earth", path=[(240, 20, 0), (250, 90, 2)], radius_m=20, strength=60, softness=0.8)
    layers = [f"cover:{key}" for key, _ in covers_of(world)]
    land, start = world.first_land, everything(world)
    masks = np.stack([land.read(layer, land.grid.window) for layer in layers])
    at = world.revision
    found = work(world, world.first_tract, command)
    assert world.revision == at + 1
    ones = np.ones(masks.shape[1:], np.float32)
    wanted = {
        "soften_covers": lambda: softened(masks, ones, 20, 1.0),
        "sharpen_covers": lambda: sharpened(masks, ones, 4),
        "give_back_covers": lambda: np.zeros_like(masks),
    }[command.do]()
    made = np.stack([land.read(layer, land.grid.window) for layer in layers])
    assert np.array_equal(made, wanted)
    assert found.posts == (made != masks).any(axis=0).sum() > 100
    world.undo()
    assert everything(world) == start


def test_area_works_by_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "A", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url = f"/api/tracts/{made['tracts'][0]['id']}"
    client.put(f"/api/worlds/{made['id']}/cover-rules", json={"rules": [{"cover": "earth", "amount": 1}]})
    client.post(f"{url}/covers/fill", json={"cover": "path", "box": [10, 10, 40, 40]})
    for path, body in (("soften", {"width_m": 6}), ("sharpen", {"times": 3, "box": [0, 0, 50, 50]}), ("give-back", {})):
        answer = client.post(f"{url}/covers/{path}", json=body)
        assert answer.status_code == 200, answer.text
        assert answer.json()["posts"] > 50
    areas = {one["key"]: one["part"] for one in client.get(f"{url}/cover-areas").json()}
    assert areas["earth"] == pytest.approx(1, abs=1e-3)
    assert client.post(f"{url}/covers/soften", json={"width_m": 0}).status_code == 422
    assert client.post(f"{url}/covers/sharpen", json={"times": 0.5}).status_code == 422


def test_a_large_area_is_a_job_that_can_be_cancelled(client: TestClient, monkeypatch: pytest.MonkeyPatch) -> None:
    """With progress; cancelled, it leaves nothing behind; its result is what the answer would have been."""
    monkeypatch.setattr(import_module("fernfield.web.rooms.cover.routes"), "MOST_AT_ONCE", 1_000)
    made = client.post("/api/worlds", json={"name": "J", "width_m": 4096, "depth_m": 1024, "spacing_m": 1}).json()
    url = f"/api/tracts/{made['tracts'][0]['id']}/covers"
    small = client.post(f"{url}/fill", json={"cover": "path", "box": [5, 5, 25, 25]})
    assert (small.status_code, small.json()["posts"]) == (200, 441)
    begun = client.post(f"{url}/fill", json={"cover": "earth"})
    assert begun.status_code == 202
    found = done(client, begun)
    assert found["result"]["posts"] == 4097 * 1025
    gone = done(client, client.post(f"{url}/swap", json={"from": "earth", "to": "tar"}), "failed")
    assert "tar" in gone["message"]
    at = client.get(f"/api/worlds/{made['id']}").json()["revision"]
    reached, go_on = threading.Event(), threading.Event()

    def slowly(masks: np.ndarray, *more: Any) -> np.ndarray:
        reached.set()
        assert go_on.wait(60)
        return swapped(masks, *more)

    monkeypatch.setattr(fernfield.work.cover.areas, "swapped", slowly)
    begun = client.post(f"{url}/swap", json={"from": "earth", "to": "path"})
    assert reached.wait(60)
    client.delete(f"/api/jobs/{begun.json()['job']}")
    go_on.set()
    done(client, begun, "cancelled")
    assert client.get(f"/api/worlds/{made['id']}").json()["revision"] == at
