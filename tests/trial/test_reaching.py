"""Who gets where on a land: over bridges, past walls, into traps; and that a walker who goes there arrives in time."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.errors import Conflict, FernError
from fernfield.core.travel.reach import NOT_REACHED, NOWHERE, REACHED
from fernfield.core.travel.walker import TICK_S, Intent
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.roads import ROADS, Road
from fernfield.work.sites.rows import THINGS
from fernfield.work.trial.reaching import From, SeekWay, reach_posts, reached, way_of
from fernfield.work.trial.walks import Walk
from fernfield.work.water.rows import WATER
from tests.conftest import draw

HERE = {"x": 40.0, "y": 150.0}


@pytest.fixture
def river(world: OpenWorld) -> OpenWorld:
    """A river from south to north, too deep to wade, with land on either side."""
    draw(world, "lower", path=[(150, 0, 0), (150, 300, 4)], radius_m=14, strength=16, softness=0.6)
    world.edit(patch(WATER, "sea", sea_level_m=9.3, inland=True))
    return world


def way(world: OpenWorld, **said: Any) -> Any:
    return way_of(world, world.first_land, SeekWay.model_validate({"from": (40, 150), "to": (260, 150), **said}))


def test_a_bridge_leads_over_what_nobody_wades(river: OpenWorld) -> None:
    land = river.first_land
    found = reach_posts(river, land, From(**HERE), "class", land.grid.window, 1)
    assert (found[150, 100], found[150, 250], found[150, 150]) == (REACHED, NOT_REACHED, NOWHERE)
    with pytest.raises(Conflict, match=r"no way leads there for a person; the nearest place that is reached is 1\d\d"):
        way(river)
    track = Road(name="A", points=((40, 150), (260, 150)), steepest_percent=15, bridge="bridge_bay")
    river.edit(put(ROADS, "a", track))
    told = way(river)
    assert told["length_m"] == pytest.approx(220, abs=6)
    assert told["seconds"] == pytest.approx(told["length_m"] / 3.0, rel=0.02)
    assert sum(one["length_m"] for one in told["stretches"]) == pytest.approx(told["length_m"], abs=0.1)
    assert sum(one["seconds"] for one in told["stretches"]) == pytest.approx(told["seconds"], abs=0.1)
    assert reach_posts(river, land, From(**HERE), "class", land.grid.window, 1)[150, 250] == REACHED
    # What is told of a window is that of the whole.
    whole = reach_posts(river, land, From(**HERE), "seconds", land.grid.window, 1)
    part = reach_posts(river, land, From(**HERE), "seconds", land.around(200, 150, 20), 2)
    assert np.array_equal(part, whole[130:171:2, 180:221:2][: part.shape[0], : part.shape[1]])


def followed(world: OpenWorld, told: Any) -> tuple[float, Walk]:
    """A walker that goes along a way, turning at its corners: how long it takes, at most twice as long as told. [s]"""
    points, seconds = told["points"], 0.0
    walk = Walk(world, world.first_land, *points[0])
    for x, y in points[1:]:
        while math.hypot(x - walk.walker.x, y - walk.walker.y) > 1e-3 and seconds < 2 * told["seconds"] + 5:
            facing = math.degrees(math.atan2(x - walk.walker.x, y - walk.walker.y)) % 360
            far = math.hypot(x - walk.walker.x, y - walk.walker.y) / (3.0 * TICK_S)
            walk.advance(Intent(ahead=min(1.0, far), facing=facing))
            seconds += TICK_S
    return seconds, walk


@pytest.mark.parametrize("seed", range(6))
def test_who_goes_the_way_arrives_in_the_time_told(world: OpenWorld, seed: int) -> None:
    rng = np.random.default_rng(seed)
    for _ in range(5):
        x, y = rng.uniform(60, 240, 2)
        draw(world, path=[(x, y, 0), (x + 20, y, 2)], radius_m=float(rng.uniform(15, 40)), strength=14, softness=1.0)
    world.edit(patch(WATER, "sea", sea_level_m=10.4, inland=True))
    for k in range(12):
        x, y = rng.uniform(20, 280, 2)
        thing = {"sort": "piece", "kit": "stone_barn", "name": f"B{k}", "x": x, "y": y, "turn_deg": rng.uniform(0, 360)}
        world.edit(put(THINGS, f"b{k}", THINGS.checked(thing)))
    arrived = 0
    for _ in range(4):
        a, b = rng.uniform(10, 290, (2, 2)).tolist()
        try:
            told = way(world, **{"from": a, "to": b})
        except FernError:
            continue
        seconds, walk = followed(world, told)
        end = told["points"][-1]
        assert math.hypot(end[0] - walk.walker.x, end[1] - walk.walker.y) < 0.5, (a, b, walk.walker)
        assert seconds == pytest.approx(told["seconds"], rel=0.05, abs=1.0)
        arrived += 1
    assert arrived


def test_it_is_kept_until_something_changes_and_said_over_the_api(client: TestClient) -> None:
    spec = {"name": "T", "width_m": 128, "depth_m": 64, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    made = client.post("/api/worlds", json=spec).json()
    base, land = f"/api/worlds/{made['id']}", f"/api/lands/{made['tracts'][0]['id']}"
    assert "no start" in client.get(f"{land}/reach").json()["detail"]
    for name, x, team in (("a", 10, 1), ("b", 110, 2)):
        start = {"sort": "start", "name": name, "x": x, "y": 30, "team": team}
        assert client.put(f"{base}/things/{name}", json=start).status_code == 200
    seconds = client.get(f"{land}/reach", params={"what": "seconds", "step": 2})
    shape = tuple(map(int, seconds.headers["X-Shape"].split(",")))
    posts = np.frombuffer(seconds.content, "<f4").reshape(shape)
    assert (shape, posts.min(), posts[17, 15]) == ((33, 65), 0, pytest.approx(20 / 3, rel=1e-5))
    assert np.frombuffer(client.get(f"{land}/reach", params={"start": "b", "what": "metres"}).content, "<f4").min() == 0
    world = client.app.state.studio.world(made["id"])  # type: ignore[attr-defined]
    first = reached(world, world.first_land, From())[2]
    assert reached(world, world.first_land, From())[2] is first
    draw(world, path=[(60, 30, 0), (62, 30, 1)], radius_m=5)
    assert reached(world, world.first_land, From())[2] is not first
    told = client.post(f"{land}/ways", json={"from": [10, 30], "to": [110, 30], "by": "length"}).json()
    assert (told["length_m"], len(told["points"])) == (pytest.approx(102, abs=4), len(told["points"]))
    wishes = [{"seconds": 10, "ahead": 1, "facing": 90}, {"seconds": 100, "ahead": 1, "facing": 0, "run": True}]
    gone = client.post(f"{base}/walks", json={"start": "a", "wishes": wishes}).json()
    assert gone["track"][0] == [0, 10, 30, 10]
    assert gone["track"][40][:3] == [10, pytest.approx(40), 30]
    assert [one["by"] for one in gone["blocked"]] == ["the edge of the tract"]
    assert gone["blocked"][0]["t"] == pytest.approx(10 + 34 / 8, abs=0.1)
    long = client.post(f"{base}/walks", json={"start": "a", "wishes": [{"seconds": 1000, "ahead": 1}] * 2})
    assert (long.status_code, "1200 s at most" in long.text) == (422, True)
    for params, status, words in (
        ({"walker": "ghost"}, 404, "ghost"), ({"x": 5}, 422, "x and y"), ({"team": 7}, 404, "team 7"),
        ({"start": "c"}, 404, "'c'"), ({"x": -5, "y": 3}, 422, "beginning"), ({"what": "colour"}, 422, "what"),
    ):  # fmt: skip
        answer = client.get(f"{land}/reach", params=params)
        assert answer.status_code == status, answer.text
        assert words in answer.text


def test_where_it_is_narrowest_and_what_would_close_it(client: TestClient) -> None:
    spec = {"name": "N", "width_m": 160, "depth_m": 100, "spacing_m": 1, "elevation_m": 10}
    made = client.post("/api/worlds", json=spec).json()
    base, land = f"/api/worlds/{made['id']}", f"/api/lands/{made['tracts'][0]['id']}"
    said = {"from": [20, 50], "to": [140, 50]}
    # Nothing is narrow but the ring about one of them, and with a wider one the land itself, from edge to edge.
    for around, open_, width in ((5, True, 38), (20, False, 101)):
        wide = client.post(f"{land}/narrows", json={**said, "around_m": around}).json()
        assert (wide["open"], wide["closed_by"], wide["width_m"]) == (open_, None, pytest.approx(width, abs=3)), wide
    # A wall from end to end, with a gap of 6 m that a person with 0.3 m to either side goes through at five posts.
    for y in (0, 53):
        wall = {"sort": "wall", "kit": "block", "x": 80, "y": y, "points": [(0, 0), (0, 47)]}
        assert client.post(f"{base}/things", json=wall).status_code == 201, wall
    told = client.post(f"{land}/narrows", json=said).json()
    assert (told["open"], len(told["passages"]), told["posts"]) == (False, 1, pytest.approx(6, abs=1))
    assert told["width_m"] == pytest.approx(6, abs=1)
    assert all(abs(x - 80) <= 3 and abs(y - 50) <= 3.5 for x, y in told["line"])
    assert told["closed_by"]["size_m"] >= told["width_m"] - 0.6
    plug = {"sort": "wall", "kit": "block", "x": 80, "y": 46, "points": [(0, 0), (0, 8)]}
    client.post(f"{base}/things", json=plug)
    for change, words in (({}, "no way leads there for a person"), ({"to": [21, 50]}, "nothing lies between")):
        answer = client.post(f"{land}/narrows", json={**said, **change})
        assert (answer.status_code, words in answer.json()["detail"]) == (409, True), answer.text
