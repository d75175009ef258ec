"""The API by land: the world's metres, whichever tract a place lies in."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from tests.conftest import live
from tests.waits import done
from tests.web.test_live import Page

SIDE = 64


@pytest.fixture
def pair(client: TestClient) -> dict[str, Any]:
    """Two tracts of 64 m, joined west to east at x = 164; they begin at (100, -20)."""
    spec = {"name": "Pair", "width_m": SIDE, "depth_m": SIDE, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
    world = client.post("/api/worlds", json=spec).json()
    west = world["tracts"][0]["id"]
    client.patch(f"/api/tracts/{west}", json={"x": 100, "y": -20})
    beside = {"name": "East", "x": 164, "y": -20, "width_m": SIDE, "depth_m": SIDE, "spacing_m": 1, "elevation_m": 10}
    client.post(f"/api/worlds/{world['id']}/tracts", json=beside)
    tracts = client.get(f"/api/worlds/{world['id']}").json()["tracts"]
    east = tracts[1]["id"]
    joined = client.post(f"/api/worlds/{world['id']}/joins", json={"first": west, "second": east, "blend_m": 0})
    assert joined.status_code < 300, joined.text
    return {"world": world["id"], "west": west, "east": east}


def test_a_land_is_asked_in_the_worlds_metres_from_either_tract(client: TestClient, pair: dict[str, Any]) -> None:
    stroke = {"tool": "raise", "radius_m": 12, "softness": 0.5, "strength": 8, "path": [[160, 10, 0], [168, 10, 1]]}
    assert client.post(f"/api/lands/{pair['west']}/strokes", json=stroke).status_code == 200
    for tract in (pair["west"], pair["east"]):
        spot = client.get(f"/api/lands/{tract}/spot?x=164&y=10").json()
        assert (spot["x"], spot["y"]) == (164, 10)
        assert spot["elevation_m"] > 16
    own = client.get(f"/api/tracts/{pair['east']}/spot?x=0&y=30").json()
    assert own["elevation_m"] == spot["elevation_m"]
    # Both sides of the edge are there, in one array of 65 by 129 posts.
    answer = client.get(f"/api/lands/{pair['east']}/heights")
    heights = np.frombuffer(answer.content, "<f4").reshape(65, 129)
    assert answer.headers["x-shape"] == "65,129"
    assert heights[34, 64] == pytest.approx(spot["elevation_m"])
    section = client.get(f"/api/lands/{pair['west']}/section?y=10").json()
    assert (section["x0"], len(section["ground"])) == (100, 129)
    line = client.get(f"/api/lands/{pair['west']}/line", params={"points": "[[110, 10], [220, 12]]"})
    assert line.json()["length_m"] == pytest.approx(110.018, abs=0.01)
    refused = client.get(f"/api/lands/{pair['west']}/line", params={"points": "[[10, 10], [220, 12]]"})
    assert (refused.status_code, "100 to 228, -20 to 44" in refused.json()["detail"]) == (422, True)
    assert client.get(f"/api/lands/{pair['west']}/plan.png?width=129").status_code == 200
    assert client.get(f"/api/lands/{pair['west']}/plan.png?width=64&x0=0").status_code == 422


def test_a_stroke_that_begins_in_the_other_tract_is_drawn_there(client: TestClient, pair: dict[str, Any]) -> None:
    stroke = {"tool": "raise", "radius_m": 6, "softness": 0, "strength": 5, "path": [[200, 10, 0], [200, 10, 1]]}
    client.post(f"/api/lands/{pair['west']}/strokes", json=stroke)
    assert client.get(f"/api/tracts/{pair['east']}/spot?x=36&y=30").json()["elevation_m"] == pytest.approx(15, abs=1e-3)


def test_a_piece_is_placed_and_moved_across_by_its_place_in_the_world(client: TestClient, pair: dict[str, Any]) -> None:
    things = f"/api/worlds/{pair['world']}/things"
    body = {"sort": "piece", "kit": "beacon", "x": 110, "y": 0, "tract": pair["east"]}
    key = client.post(f"{things}?in=world", json=body).json()["key"]

    def found() -> tuple[str, float, float]:
        row = next(row for row in client.get(things).json() if row["key"] == key)
        return row["tract"], row["x"], row["y"]

    assert found() == (pair["west"], 10, 20)
    assert client.patch(f"{things}/{key}?in=world", json={"x": 184.5}).status_code == 200
    assert found() == (pair["east"], 20.5, 20)
    client.patch(f"{things}/{key}?in=world", json={"name": "Light"})
    assert found() == (pair["east"], 20.5, 20)
    # On the shared edge it stays where it was; outside of all land it is refused, and nothing is changed.
    client.patch(f"{things}/{key}?in=world", json={"x": 164, "y": 0})
    assert found() == (pair["east"], 0, 20)
    refused = client.patch(f"{things}/{key}?in=world", json={"x": 90})
    assert refused.status_code == 422
    assert found() == (pair["east"], 0, 20)
    # Said in the tract's own metres, as ever.
    client.patch(f"{things}/{key}", json={"x": 3, "y": 4})
    assert found() == (pair["east"], 3, 4)
    assert client.patch(f"{things}/{key}?in=here", json={"x": 3}).status_code == 422


def test_plots_and_lines_go_to_the_tract_of_their_middle(client: TestClient, pair: dict[str, Any]) -> None:
    plots = f"/api/worlds/{pair['world']}/plots"
    points = [[150, 0], [220, 0], [220, 20]]
    key = client.post(f"{plots}?in=world", json={"name": "Yard", "points": points}).json()["key"]
    row = client.get(plots).json()[0]
    assert (row["tract"], row["points"][0]) == (pair["east"], [-14, 20])
    client.patch(f"{plots}/{key}?in=world", json={"points": [[101, 0], [120, 0], [120, 20]]})
    row = client.get(plots).json()[0]
    assert (row["tract"], row["points"][0]) == (pair["west"], [1, 20])


def test_an_area_over_both_tracts_is_one_revision(client: TestClient, pair: dict[str, Any]) -> None:
    before = client.get(f"/api/worlds/{pair['world']}").json()["revision"]
    body = {"to": "elevation", "elevation_m": 30, "box": [150, 0, 180, 12]}
    done = client.post(f"/api/lands/{pair['west']}/reset", json=body)
    assert done.status_code == 200
    assert done.json()["revision"] == before + 1
    heights = np.frombuffer(client.get(f"/api/lands/{pair['west']}/heights").content, "<f4").reshape(65, 129)
    assert (heights == 30).sum() == 13 * 31
    client.post(f"/api/worlds/{pair['world']}/undo")
    heights = np.frombuffer(client.get(f"/api/lands/{pair['west']}/heights").content, "<f4").reshape(65, 129)
    assert (heights == 10).all()
    move = {"box": [110, 0, 120, 10], "x": 200, "y": 10, "copy_land": True, "lift_m": 7, "blend_m": 0}
    corners = client.post(f"/api/lands/{pair['west']}/move/outline", json=move).json()["corners"]
    assert sorted(corners) == [[195, 5], [195, 15], [205, 5], [205, 15]]
    client.post(f"/api/lands/{pair['west']}/move", json=move)
    assert client.get(f"/api/lands/{pair['west']}/spot?x=200&y=10").json()["elevation_m"] == 17


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("weather", {"kind": "frost", "passes": 40, "repose_deg": 20, "box": [140, -10, 190, 30], "feather_m": 0}),
        ("weather", {"kind": "rain", "drops_per_m2": 2, "seed": 3, "box": [140, -10, 190, 30], "feather_m": 0}),
        ("generate", {"landscapes": [{"name": "moor", "patch_m": 60}], "box": [140, -10, 190, 30], "seed": 4}),
    ],
)
def test_weather_and_a_recipe_run_across_a_join(
    client: TestClient, pair: dict[str, Any], path: str, body: dict[str, Any]
) -> None:
    stroke = {"tool": "raise", "radius_m": 18, "softness": 0.3, "strength": 25, "path": [[160, 10, 0], [168, 10, 1]]}
    client.post(f"/api/lands/{pair['west']}/strokes", json=stroke)
    before = np.frombuffer(client.get(f"/api/lands/{pair['west']}/heights").content, "<f4").reshape(65, 129)
    number = client.get(f"/api/worlds/{pair['world']}").json()["revision"]
    done(client, client.post(f"/api/lands/{pair['west']}/{path}", json=body))
    assert client.get(f"/api/worlds/{pair['world']}").json()["revision"] == number + 1
    after = np.frombuffer(client.get(f"/api/lands/{pair['west']}/heights").content, "<f4").reshape(65, 129)
    moved = np.abs(after - before) > 0.01
    assert moved[:, 40:64].any()
    assert moved[:, 65:90].any()
    assert not moved[:, :40].any()
    assert not moved[:, 91:].any()
    # The shared edge is one line in both tracts, and no step stands there that is not elsewhere.
    own = {
        name: np.frombuffer(client.get(f"/api/tracts/{pair[name]}/heights").content, "<f4").reshape(65, 65)
        for name in ("west", "east")
    }
    assert (own["west"][:, -1] == own["east"][:, 0]).all()
    steps = np.abs(np.diff(after[20:50, 45:85], axis=1)).max(axis=0)
    assert steps[18:21].max() <= steps.max()
    client.post(f"/api/worlds/{pair['world']}/undo")
    undone = np.frombuffer(client.get(f"/api/lands/{pair['west']}/heights").content, "<f4").reshape(65, 129)
    assert (undone == before).all()


def test_parting_moving_and_undoing_either_leave_every_edit_in_place(client: TestClient, pair: dict[str, Any]) -> None:
    stroke = {"tool": "raise", "radius_m": 12, "softness": 0.5, "strength": 8, "path": [[160, 10, 0], [168, 10, 1]]}
    client.post(f"/api/lands/{pair['west']}/strokes", json=stroke)

    def grounds() -> list[bytes]:
        return [client.get(f"/api/tracts/{pair[name]}/heights").content for name in ("west", "east")]

    was = grounds()
    world = f"/api/worlds/{pair['world']}"
    key = client.get(world).json()["joins"][0]["key"]
    assert client.delete(f"{world}/joins/{key}").status_code < 300
    assert grounds() == was
    assert client.patch(f"/api/tracts/{pair['east']}", json={"x": 400}).status_code == 200
    assert grounds() == was
    assert len(client.get(f"/api/lands/{pair['west']}/heights").content) == 65 * 365 * 4
    client.post(f"{world}/undo")
    client.post(f"{world}/undo")
    assert grounds() == was
    assert client.get(f"/api/lands/{pair['east']}/spot?x=164&y=10").json()["elevation_m"] > 16


def test_the_past_lies_where_its_tracts_lie_today(client: TestClient, pair: dict[str, Any]) -> None:
    """A tract that is added to the north and west moves the first post of what is seen, also of what was."""
    stroke = {"tool": "raise", "radius_m": 12, "softness": 0.5, "strength": 8, "path": [[130, 10, 0], [140, 10, 1]]}
    number = client.post(f"/api/lands/{pair['west']}/strokes", json=stroke).json()["revision"]
    before = client.get(f"/api/lands/{pair['west']}/plan/0/0/0.webp").content
    spec = {"name": "North", "x": 36, "y": 44, "width_m": SIDE, "depth_m": SIDE, "spacing_m": 1, "elevation_m": 10}
    client.post(f"/api/worlds/{pair['world']}/tracts", json=spec)
    client.post(f"/api/lands/{pair['west']}/strokes", json={**stroke, "path": [[60, 80, 0]]})
    heights = client.get(f"/api/lands/{pair['west']}/heights?at={number}")
    assert heights.headers["x-shape"] == "129,193"
    was = np.frombuffer(heights.content, "<f4").reshape(129, 193)
    # The stroke stands where it is in the world, and the tract that was not there yet is nothing.
    assert was[108 - 10, 135 - 36] > 14
    now = Image.open(io.BytesIO(client.get(f"/api/lands/{pair['west']}/plan/0/0/0.webp?at={number}").content))
    seen = np.asarray(now.convert("RGBA"))
    assert (seen[20, 20, 3], seen[100, 100, 3]) == (0, 255)
    # But for the grain, which is the lattice's.
    then = np.asarray(Image.open(io.BytesIO(before)).convert("RGB")).astype(int)
    assert np.abs(seen[64 + 20 : 64 + 50, 64 + 10 : 64 + 50, :3].astype(int) - then[20:50, 10:50]).max() <= 18
    assert client.get(f"/api/lands/{pair['west']}/heights?at=9999").status_code in (404, 409, 422)


def test_one_socket_hears_of_all_that_is_seen_and_a_walker_crosses(client: TestClient, pair: dict[str, Any]) -> None:
    with client.websocket_connect(f"{live(pair['world'])}?land={pair['west']}") as socket:
        page = Page(socket)
        # Somebody else draws in the other tract: this page hears where, in the land's posts.
        stroke = {"tool": "raise", "radius_m": 5, "softness": 0, "strength": 5}
        client.post(f"/api/tracts/{pair['east']}/strokes", json={**stroke, "path": [[40, 30, 0]]})
        window = page.hear("stale")["window"]
        assert window[1] <= 64 + 35
        assert 64 + 45 < window[3] <= 129
        # A stroke of its own is in the world's metres, wherever it begins.
        page.say(**{"is": "begin"}, tract=pair["east"], stroke=stroke)
        page.say(**{"is": "move"}, samples=[[190, 30, 0], [190, 30, 1]])
        page.say(**{"is": "end"})
        assert page.hear("ended")["window"] == [9, 85, 20, 96]
        assert client.get(f"/api/tracts/{pair['east']}/spot?x=26&y=50").json()["elevation_m"] == pytest.approx(
            15, abs=1e-3
        )
        page.say(**{"is": "spot"}, x=164, y=0, x0=0, x1=1000, section=True)
        found = page.hear("spot")
        assert (found["spot"]["x"], len(found["section"]["ground"])) == (164, 129)
        page.say(**{"is": "walk"}, x=150, y=-10, facing=90)
        page.say(**{"is": "wish"}, ahead=1, aside=0, facing=90, run=True)
        for _ in range(300):
            now = page.hear("walker")
            if now["x"] > 180:
                break
        assert (now["blocked"], now["y"]) == ("", -10)
        assert now["x"] > 180
