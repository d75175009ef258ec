"""Many things at once: what keeps, what goes along, what is refused."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.distance import pdist
from scipy.spatial.transform import Rotation

from fernfield.core.sites import arranging, patterns
from fernfield.core.sites.shipped import KIT
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.arranging import Arrange, arrange
from fernfield.work.sites.rows import THINGS, Piece
from tests.conftest import draw

MILLIMETRES = st.integers(-2_000_000, 2_000_000)
SPOTS = st.lists(st.tuples(MILLIMETRES, MILLIMETRES, st.integers(0, 359_999)), min_size=2, max_size=12)


@settings(max_examples=150, deadline=None)
@given(SPOTS, st.tuples(MILLIMETRES, MILLIMETRES), st.integers(-360_000, 360_000), st.integers(0, 359))
def test_turned_and_mirrored_there_and_back_is_the_same_to_the_byte(
    said: list[tuple[int, int, int]], middle: tuple[int, int], by: int, along: int
) -> None:
    spots, about = np.array(said) / 1000.0, (middle[0] / 1000.0, middle[1] / 1000.0)
    turned = arranging.turned(spots, about, by / 1000)
    assert pdist(turned[:, :2]) == pytest.approx(pdist(spots[:, :2]), abs=1e-3)
    # By SciPy: clockwise seen from above is the other way about the axis that points up.
    own = Rotation.from_euler("z", -by / 1000, degrees=True).apply(np.c_[spots[:, :2] - about, np.zeros(len(spots))])
    assert np.abs(turned[:, :2] - about - own[:, :2]).max() < 5e-6
    assert arranging.turned(turned, about, -by / 1000).tobytes() == spots.tobytes()
    mirrored = arranging.mirrored(spots, about, along)
    assert pdist(mirrored[:, :2]) == pytest.approx(pdist(spots[:, :2]), abs=1e-3)
    assert arranging.mirrored(mirrored, about, along).tobytes() == spots.tobytes()


def test_lined_up_spread_and_facing() -> None:
    spots = np.array([(0.0, 0, 10), (3, 1, 20), (4, 0.5, 30), (10, 0, 40)])
    assert arranging.lined_up(spots, "north", (10, 0))[:, 1].tolist() == [0, 0, 0, 0]
    even = arranging.evenly(spots)
    assert even[:, 0] == pytest.approx([0, 10 / 3, 20 / 3, 10], abs=1e-6)
    assert (even[:, 2] == spots[:, 2]).all()
    assert arranging.towards(spots[:1], (5, 5))[0, 2] == 45


def test_patterns_stand_where_geometry_says() -> None:
    line = patterns.along([(0, 0), (30, 0), (30, 10)], 10, aside=2)
    assert line.tolist() == [[0, -2, 90], [10, -2, 90], [20, -2, 90], [32, 0, 0], [32, 10, 0]]
    assert len(patterns.along([(0, 0), (10, 0), (10, 10), (0, 10)], 5, closed=True)) == 8
    ring = patterns.ring(5, 5, 10, 4)
    assert ring == pytest.approx(np.array([(5, 15, 90), (15, 5, 180), (5, -5, 270), (-5, 5, 0)]), abs=1e-9)
    assert patterns.arc(0, 0, 1, 3, 0, 90)[-1] == pytest.approx((1, 0, 180), abs=1e-9)
    grid = patterns.grid(0, 0, (2, 2), (4, 6), 90)
    assert sorted(map(tuple, grid[:, :2].round(9).tolist())) == [(-3, -2), (-3, 2), (3, -2), (3, 2)]
    with pytest.raises(ValueError, match="two points"):
        patterns.along([(1, 1), (1, 1)], 2)


def place(world: OpenWorld, key: str, kit: str, x: float, y: float, **also: Any) -> None:
    world.edit(put(THINGS, key, Piece(kit=kit, name=key, x=x, y=y, **also)))


@pytest.fixture
def yard(world: OpenWorld) -> OpenWorld:
    for key, x, y in (("a", 50, 50), ("b", 60, 50), ("c", 60, 70)):
        place(world, key, "block", x, y)
    place(world, "lamp", "lamp_post", 51, 51, on="a")
    return world


def where(world: OpenWorld, *keys: str) -> list[tuple[float, float, float]]:
    found = [world.row(THINGS, key) for key in keys]
    return [(one.x, one.y, one.turn_deg) for one in found]


def test_what_stands_on_another_goes_along_and_comes_back(yard: OpenWorld) -> None:
    before = {key: row.model_dump_json() for key, row in yard.each(THINGS)}
    arrange(yard, ["a", "b", "c"], Arrange(turn_by_deg=90, about=(50, 50)))
    assert where(yard, "a", "b", "c", "lamp") == [(50, 50, 90), (50, 40, 90), (70, 40, 90), (51, 49, 90)]
    (told,) = [one for one in yard.told(THINGS) if one["key"] == "lamp"]
    # A block of 3 m on ground at 10 m: what sinks into the ground does not sink into that.
    assert (told["z"], told["top_m"]) == (pytest.approx(13), pytest.approx(3))
    arrange(yard, ["a", "b", "c"], Arrange(turn_by_deg=-90, about=(50, 50)))
    assert {key: row.model_dump_json() for key, row in yard.each(THINGS)} == before


def test_about_each_the_last_and_their_middle(yard: OpenWorld) -> None:
    for about, expected in (("each", (50, 50)), ("last", (40, 80)), ("middle", (45, 65))):
        arrange(yard, ["a", "b", "c"], Arrange(turn_by_deg=90, about=about))
        assert where(yard, "a")[0][:2] == expected, about
        yard.undo()


def test_copies_with_a_step_are_placed_once_more_each(yard: OpenWorld) -> None:
    made = arrange(yard, ["a", "lamp"], Arrange(copied=True, copies=3, dx_m=20))
    assert len(made["ids"]) == 6
    assert sorted(x for x, _, _ in where(yard, *made["ids"])) == [70, 71, 90, 91, 110, 111]
    # A copy of what stood on another stands on the copy of that.
    on = [yard.row(THINGS, key).on for key in made["ids"]]
    assert on[1::2] == made["ids"][::2]
    yard.undo()
    assert len(yard.each(THINGS)) == 4


def test_exchanged_for_another_of_the_kit_they_keep_their_place(yard: OpenWorld) -> None:
    place(yard, "chest", "tool_cache", 90, 90, turn_deg=30, look="painted", data={"uses": 5})
    arrange(yard, ["chest"], Arrange(kit="peat_stack"))
    chest = yard.row(THINGS, "chest")
    assert (chest.x, chest.turn_deg, chest.kit, chest.look, chest.data) == (90, 30, "peat_stack", None, {})


def test_over_a_join_and_on_moved_ground_all_stand_as_they_should(yard: OpenWorld) -> None:
    place(yard, "wall", "field_wall", 240, 50, turn_deg=90)
    arrange(yard, ["wall", "c"], Arrange(raise_by_m=2))
    draw(yard)
    land = yard.first_tract
    for told in yard.told(THINGS):
        if told["key"] in ("b", "c"):
            assert told["z"] == pytest.approx(land.elevation(told["x"], told["y"]) + told["over_m"], abs=1e-3)
        if told["key"] == "wall":
            deep = KIT["field_wall"].size[1] / 2
            four = [land.elevation(*at) for at in ((240, 44), (240, 56), (240 - deep, 50), (240 + deep, 50))]
            assert told["z"] == pytest.approx(np.mean(four) + 2 - 0.15, abs=1e-3)
    arrange(yard, ["wall", "c"], Arrange(drop=True))
    assert {yard.row(THINGS, key).over_m for key in ("wall", "c")} == {0}


def test_locked_ones_stay_and_are_named(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}"
    for key in ("a", "b"):
        client.put(f"{at}/things/{key}", json={"sort": "piece", "kit": "cairn", "name": key.upper(), "x": 50, "y": 50})
    client.put(f"{at}/groups/outer", json={"name": "Outer", "locked": True})
    client.put(f"{at}/groups/inner", json={"name": "Inner", "within": "outer"})

    def change(ids: list[str], **said: Any) -> Any:
        return client.patch(f"{at}/things", json={"ids": ids, "change": said})

    assert change(["b"], group="inner").status_code == 200
    for said, status, words in (
        ({"dx_m": 5}, 409, "B is locked"), ({"hidden": True}, 200, ""), ({"x": 60}, 409, "locked"),
        ({"dx_m": "far"}, 422, "number"),
        ({"size_from": 2}, 422, "go together"), ({"kit": "hurdle"}, 409, "locked"), ({"grow": 2}, 422, "not asked for"),
    ):  # fmt: skip
        answer = change(["a", "b"], **said)
        assert answer.status_code == status, answer.text
        assert words in answer.text
    assert change(["a"], dx_m=500).status_code == 422
    assert change(["a"], look="golden").json()["errors"][0]["field"] == "look"
    assert change(["a", "nobody"], dx_m=1).status_code == 404
    assert [one["x"] for one in client.get(f"{at}/things").json()] == [50, 50]
    # A group that would be part of itself is none.
    assert client.patch(f"{at}/groups/outer", json={"within": "inner"}).status_code == 422
    # Whichever way one comes to it, what is locked stays; unlocked in the same edit, it goes along.
    for how, path, body in (
        ("DELETE", "/things", {"ids": ["a", "b"]}), ("DELETE", "/things/b", None), ("PATCH", "/things/b", {"x": 9}),
        ("POST", "/things/join", {"ids": ["a", "b"], "name": "Both"}), ("PUT", "/things/b", {"size": 2}),
    ):  # fmt: skip
        refused = client.request(how, f"{at}{path}", json=body)
        assert (refused.status_code, "B is locked" in refused.text) == (409, True), (how, path, refused.text)
    client.patch(f"{at}/groups/outer", json={"locked": False})
    assert client.patch(f"{at}/things/b", json={"locked": True}).status_code == 200
    assert client.patch(f"{at}/things/b", json={"locked": False, "x": 9}).status_code == 200
    assert client.request("DELETE", f"{at}/things", json={"ids": ["a", "b"]}).status_code == 200
    assert client.get(f"{at}/things").json() == []
