"""What was asked before: files are kept for good, pictures and findings are known again as long as they are true."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.core.checks.finding import Finding
from fernfield.work.house import HOUSE
from fernfield.work.kernel.rooms import Check
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from tests.conftest import draw, live
from tests.waits import until_true
from tests.web.test_live import Page

STROKE = {
    "tool": "raise",
    "radius_m": 9,
    "softness": 0.5,
    "strength": 5,
    "path": [[40, 30, 0], [45, 30, 0.5], [50, 30, 1]],
}


@pytest.fixture
def made(client: TestClient) -> dict[str, Any]:
    return dict(client.post("/api/worlds", json={"name": "A", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json())


def test_files_are_kept_for_good_under_names_with_their_hash(client: TestClient, made: dict[str, Any]) -> None:
    page = client.get(f"/worlds/{made['id']}").text
    (script,) = re.findall(r'<script type="module" src="([^"]+)"', page)
    found = client.get(script)
    assert found.headers["cache-control"] == "public, max-age=31536000, immutable"
    plain = client.get("/static/js/seen/world.js")
    assert (plain.text, plain.headers["cache-control"]) == (found.text, "no-cache")
    # A script that another one names is found under the same hash.
    below = script.partition("/static/")[0]
    assert f'"/static/": "{below}/static/", "/rooms/": "{below}/rooms/"' in page
    assert client.get(f"{below}/rooms/water/panel.js").status_code == 200
    assert client.get(f"{below}/rooms/water/panel.html").status_code == 404


def test_a_tile_is_drawn_again_only_when_it_may_look_otherwise(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    url = f"/api/lands/{tract}/plan/0/0/0.webp"
    first = client.get(url)
    mark = first.headers["etag"]
    assert client.get(url, headers={"if-none-match": mark}).status_code == 304
    assert client.get(url).content == first.content
    assert client.get(f"{url}?water=false").headers["etag"] != mark
    with client.websocket_connect(live(made["id"])) as socket:
        # While somebody draws, no picture is known again.
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=tract, stroke={k: v for k, v in STROKE.items() if k != "path"})
        page.say(**{"is": "move"}, samples=STROKE["path"])
        page.say(**{"is": "spot"}, x=40, y=30)
        page.hear("spot")
        assert "etag" not in client.get(url, headers={"if-none-match": mark}).headers
        page.say(**{"is": "abandon"})
        until_true(lambda: not client.app.state.studio.world(made["id"]).holds)  # type: ignore[attr-defined]
    assert client.post(f"/api/tracts/{tract}/strokes", json=STROKE).status_code == 200
    again = client.get(url, headers={"if-none-match": mark})
    assert (again.status_code, again.headers["etag"] != mark) == (200, True)
    assert again.content != first.content


def test_what_was_found_is_known_until_something_changes(studio: Studio, world: OpenWorld) -> None:
    asked: list[int] = []

    def find(world: OpenWorld) -> list[Finding]:
        asked.append(world.revision)
        return []

    studio.house = replace(HOUSE, rooms=(*HOUSE.rooms[1:], replace(HOUSE.rooms[0], checks=(Check("own", find),))))
    for _ in range(2):
        studio.check(world.id)
    draw(world)
    studio.check(world.id)
    assert asked == [0, 1]


def test_a_page_hears_how_far_the_compiling_is(client: TestClient, made: dict[str, Any]) -> None:
    client.app.state.compiling = (3, 9)  # type: ignore[attr-defined]
    with client.websocket_connect(live(made["id"])) as socket:
        while (said := socket.receive_json())["is"] != "compiling":
            pass
        assert (said["done"], said["of"]) == (3, 9)
