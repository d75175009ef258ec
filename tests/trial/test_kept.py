"""Walkers of a world's own, walks that are kept and walked again, and two who walk at once."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.core.travel.walker import Intent
from fernfield.work.trial.kept import keep_walk
from fernfield.work.trial.walks import Walk
from tests.conftest import live
from tests.web.test_live import Page

NORTH = {"seconds": 4, "ahead": 1}


@pytest.fixture
def base(client: TestClient) -> str:
    spec = {"name": "W", "width_m": 80, "depth_m": 60, "spacing_m": 1, "elevation_m": 5}
    made = client.post("/api/worlds", json=spec)
    return f"/api/worlds/{made.json()['id']}"


def test_walkers_of_a_worlds_own_walk_reach_and_go(client: TestClient, base: str) -> None:
    keys = [one["key"] for one in client.get(f"{base}/walkers").json()]
    assert keys[:6] == ["person", "child", "carrier", "cart", "rider", "swimmer"]
    strider = {"name": "Strider", "walk_ms": 6, "run_ms": 12}
    assert client.put(f"{base}/walkers/strider", json=strider).status_code == 200
    told = client.get(f"{base}/walkers").json()[-1]
    assert (told["key"], told["shipped"], told["walk_ms"], told["drop_m"]) == ("strider", False, 6, None)
    assert "ships with" in client.put(f"{base}/walkers/person", json=strider).text
    assert "eyes" in client.put(f"{base}/walkers/b", json={**strider, "eye_m": 3}).text

    def goes(walker: str) -> float:
        body = {"walker": walker, "x": 40, "y": 10, "wishes": [NORTH]}
        answer = client.post(f"{base}/walks", json=body)
        return float(answer.json()["track"][-1][2]) if answer.status_code == 200 else -1.0

    # "walker" is what the first was called before.
    assert [goes(one) for one in ("strider", "person", "walker", "ghost")] == pytest.approx([34, 22, 22, -1])
    tract = client.get(base).json()["tracts"][0]["id"]
    way = {"walker": "strider", "from": [10, 10], "to": [70, 10]}
    assert client.post(f"/api/lands/{tract}/ways", json=way).json()["seconds"] == pytest.approx(10)
    client.patch(f"{base}/walkers/strider", json={"walk_ms": 3})
    assert client.post(f"/api/lands/{tract}/ways", json=way).json()["seconds"] == pytest.approx(20)
    client.delete(f"{base}/walkers/strider")
    assert client.post(f"/api/lands/{tract}/ways", json=way).status_code == 404
    boat = client.post(f"{base}/walks", json={"walker": "boat", "x": 40, "y": 10, "wishes": [NORTH]})
    assert (boat.status_code, "begins on water" in boat.json()["detail"]) == (409, True)


def test_a_kept_walk_is_walked_again_in_the_world_as_it_is(client: TestClient, base: str) -> None:
    wishes = [NORTH, {"seconds": 2, "ahead": 1, "facing": 90, "run": True}, {"seconds": 1, "jump": True}]
    said = {"x": 40, "y": 10, "wishes": wishes, "keep": "To the corner"}
    made = client.post(f"{base}/walks", json=said).json()
    (row,) = client.get(f"{base}/walks").json()
    assert (row["name"], row["seconds"], row["length_m"]) == ("To the corner", 7, pytest.approx(12 + 16, abs=0.3))
    at = f"{base}/walks/{made['key']}"
    assert client.get(f"{at}/track").json()["track"] == made["track"]
    same = client.post(f"{at}/again").json()
    assert (same["apart_s"], same["apart_m"], same["track"]) == (None, 0, made["track"])
    assert client.post(f"{base}/things", json={"sort": "piece", "kit": "cairn", "x": 40.2, "y": 18}).status_code == 201
    other = client.post(f"{at}/again").json()
    assert 1 < other["apart_s"] < 4
    assert (other["blocked"][0][1], other["before"]) == ("Cairn 1", made["track"])
    client.delete(at)
    assert client.post(f"{at}/again").status_code == 404


def test_two_who_walk_see_each_other_and_one_keeps_the_walk(client: TestClient, base: str) -> None:
    world = base.rpartition("/")[2]
    with client.websocket_connect(live(world)) as one, client.websocket_connect(live(world)) as two:
        first, second = Page(one), Page(two)
        first.say(**{"is": "keep-walk"}, name="None yet")
        assert "no walk" in first.hear("error")["message"]
        first.say(**{"is": "walk"}, x=10, y=10)
        second.say(**{"is": "walk"}, x=30, y=10, walker="child")

        def until(page: Page, what: Any) -> dict[str, Any]:
            for _ in range(600):
                if what(now := page.hear("walker")):
                    return now
            raise AssertionError(now)

        seen = until(first, lambda now: now["others"])["others"][0]
        assert (seen["x"], seen["y"]) == (30, 10)
        # However short the key was pressed.
        for jump in (True, False):
            second.say(**{"is": "wish"}, ahead=0, aside=0, facing=0, jump=jump)
        assert until(second, lambda now: now["air"])["who"] == "A child"
        until(second, lambda now: not now["air"])
        second.say(**{"is": "stand"})
        until(first, lambda now: not now["others"])
        second.say(**{"is": "keep-walk"}, name="A hop")
        key = second.hear("walk-kept")["key"]
    (row,) = client.get(f"{base}/walks").json()
    assert (row["key"], row["walker"]) == (key, "child")
    assert max(z for *_, z in client.get(f"{base}/walks/{key}/track").json()["track"]) > 5.1
    assert client.post(f"{base}/walks/{key}/again").json()["apart_s"] is None


def test_a_walk_at_high_tide_is_walked_again_at_high_tide(client: TestClient, base: str) -> None:
    world = client.app.state.studio.world(base.rpartition("/")[2])  # type: ignore[attr-defined]
    walk = Walk(world, world.first_land, 40, 10, sea_m=5.6)
    walk.advance(Intent(ahead=1), 120)
    key = keep_walk(world, walk, "person", "High water")
    told = client.post(f"{base}/walks/{key}/again").json()
    # Six tenths of a metre of water: 1.95 m/s.
    assert (told["apart_s"], told["track"][-1][2]) == (None, pytest.approx(13.9, abs=0.05))
