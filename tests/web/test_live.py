"""The socket: live strokes, pages that see each other's work, facts, walks, and bad messages."""

import json
import struct
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.web.page import live as page_live
from fernfield.web.page.telling import cause_of
from fernfield.work.house import HOUSE
from tests.conftest import live
from tests.waits import until_true

WORLD = {"name": "Live", "width_m": 300, "depth_m": 300, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
VIEW = {"is": "view", "level": 0, "row0": 0, "col0": 0, "row1": 301, "col1": 301, "heights": True}
STROKE = {"tool": "raise", "radius_m": 20, "softness": 0.5, "strength": 10}


@pytest.fixture
def made(client: TestClient) -> dict[str, Any]:
    return dict(client.post("/api/worlds", json=WORLD).json())


class Page:
    """One socket, with what it heard."""

    def __init__(self, socket: Any) -> None:
        self._socket = socket

    def say(self, **message: Any) -> None:
        self._socket.send_text(json.dumps(message))

    def hear(self, *wanted: str) -> dict[str, Any]:
        """The next message of one of these sorts."""
        for _ in range(400):
            message = self._socket.receive()
            if message.get("text") is not None:
                found = json.loads(message["text"])
            else:
                data = message["bytes"]
                (length,) = struct.unpack_from("<I", data)
                found = {**json.loads(data[4 : 4 + length]), "body": data[4 + length :]}
            if found["is"] in ("patch", "stale"):
                self.say(**{"is": "drawn"})
            if found["is"] in wanted:
                return dict(found)
        raise AssertionError(f"none of {wanted} came")

    def stroke(self, tract: str, **change: Any) -> dict[str, Any]:
        self.say(**{"is": "begin"}, tract=tract, stroke={**STROKE, **change})
        for t in range(10):
            self.say(**{"is": "move"}, samples=[[100 + 5 * t, 100, t / 20]])
        self.say(**{"is": "end"})
        return self.hear("ended")


def test_a_live_stroke_is_drawn_in_patches_and_acknowledged(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        assert page.hear("hello")["revision"] == 0
        page.say(**VIEW)
        page.say(**{"is": "begin"}, tract=tract, stroke=STROKE)
        page.say(**{"is": "move"}, samples=[[100, 100, 0], [110, 100, 0.2], [120, 100, 0.4]])
        patch = page.hear("patch")
        row0, col0, row1, col1 = patch["pixels"]
        assert len(patch["body"]) == (row1 - row0) * (col1 - col0) * 4
        heights = page.hear("heights")
        r0, c0, r1, c1 = heights["window"]
        values = np.frombuffer(heights["body"], "<f4").reshape(r1 - r0, c1 - c0)
        assert values.max() > 10.5
        page.say(**{"is": "end"})
        ended = page.hear("ended")
        assert ended["revision"] == 1
        assert ended["fill_m3"] > 500
    spot = client.get(f"/api/tracts/{tract}/spot?x=110&y=100").json()
    assert spot["elevation_m"] > 12


def test_two_pages_on_one_world_both_show_every_change(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as a, client.websocket_connect(live(made["id"])) as b:
        first, second = Page(a), Page(b)
        for page in (first, second):
            page.say(**VIEW)
            page.say(**{"is": "spot"}, x=1, y=1)
            page.hear("spot")
        first.stroke(tract)
        assert second.hear("patch")["layers"] == ["height"]
        assert second.hear("revised")["number"] == 1
        second.stroke(tract, tool="sow", mix="mix", strength=200)
        first.hear("patch")
        assert first.hear("revised")["number"] >= 1
        client.post(f"/api/worlds/{made['id']}/undo")
        client.patch(f"/api/worlds/{made['id']}", json={"sea_level_m": 11})
        for page in (first, second):
            while (heard := page.hear("revised"))["number"] < 4:
                pass
            (changed,) = heard["rows"]
            assert (changed["collection"], changed["key"], changed["row"]["sea_level_m"]) == ("water", "sea", 11)
        client.delete(f"/api/worlds/{made['id']}")
        assert first.hear("gone")
        assert second.hear("gone")


@pytest.mark.parametrize(
    ("changed", "cause"),
    [({"light"}, "shade"), ({"light", "covers"}, "look"), ({"water"}, "look"), ({"notes"}, ""), ({"plots"}, "look")],
)
def test_a_turn_of_the_sun_is_told_as_light_alone(changed: set[str], cause: str) -> None:
    """Whoever draws plants, tufts and water fetches nothing for it; rules ask for a plot here."""
    assert cause_of(HOUSE, changed, {"plots"}) == cause


def test_a_page_that_goes_in_the_middle_of_a_stroke_keeps_it(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=tract, stroke=STROKE)
        page.say(**{"is": "move"}, samples=[[100, 100, 0], [100, 100, 0.5], [100, 100, 1]])
        page.say(**{"is": "spot"}, x=100, y=100)
        page.hear("spot")
    until_true(lambda: client.get(f"/api/worlds/{made['id']}").json()["revision"] == 1)
    assert client.get(f"/api/tracts/{tract}/spot?x=100&y=100").json()["elevation_m"] == pytest.approx(20, abs=0.1)


def test_an_abandoned_stroke_is_taken_back(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=tract, stroke=STROKE)
        page.say(**{"is": "move"}, samples=[[100, 100, 0], [100, 100, 0.5], [100, 100, 1]])
        page.say(**{"is": "abandon"})
        page.say(**{"is": "spot"}, x=100, y=100)
        assert page.hear("spot")["spot"]["elevation_m"] == 10


def test_the_spot_and_the_section_with_its_ghost(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.stroke(tract)
        page.say(**{"is": "spot"}, x=120, y=100, x0=0, x1=300)
        heard = page.hear("spot")
        assert heard["spot"]["elevation_m"] > 11
        section = heard["section"]
        assert max(section["ground"]) > 11
        assert set(section["before"]) == {10.0}
        page.say(**{"is": "spot"}, x=-50, y=100)
        assert page.hear("spot")["spot"] is None


def test_a_walk_goes_from_the_default_start(client: TestClient, made: dict[str, Any]) -> None:
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "walk"})
        assert "no default start" in page.hear("no-walk")["message"]
        client.post(
            f"/api/worlds/{made['id']}/things",
            json={"sort": "start", "name": "S", "x": 150, "y": 50, "turn_deg": 90, "over_m": 2},
        )
        page.say(**{"is": "walk"})
        first = page.hear("walker")
        assert (first["x"], first["y"], first["facing"]) == (150, 50, 90)
        assert first["z"] > 11
        page.say(**{"is": "wish"}, ahead=1, aside=0, facing=0, run=True)
        for _ in range(300):
            now = page.hear("walker")
            if now["y"] > 54:
                break
        assert 54 < now["y"] < 57
        assert (now["x"], now["speed"]) == pytest.approx((150, 8))
        while (now := page.hear("walker"))["z"] > 10:
            pass
        # The sea rises while they walk: the water stops them.
        client.patch(f"/api/worlds/{made['id']}", json={"sea_level_m": 10.6})
        for _ in range(60):
            now = page.hear("walker")
        assert now["water"] == pytest.approx(0.6)
        assert now["speed"] == pytest.approx(8 * (1 - 0.7 * 0.5), abs=0.1)
        page.say(**{"is": "stand"})
        page.say(**{"is": "walk"}, x=10, y=10)
        while (now := page.hear("walker"))["x"] != 10:
            pass
        page.say(**{"is": "walk"}, x=-10, y=10)
        assert "inside the tract" in page.hear("no-walk")["message"]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{", "JSON"),
        ("[]", ""),
        ('{"is": "dance"}', "dance"),
        ('{"is": "move", "samples": [[0, 0]]}', "a point is x, y"),
        ('{"is": "move", "samples": [[1e99, 0, 0]]}', "Sample 1 must be at most"),
        ('{"is": "begin", "tract": "t0", "stroke": {"tool": "raise"}}', "Stroke, radius is needed"),
        ('{"is": "wish", "ahead": 5, "aside": 0, "facing": 0}', "Ahead must be"),
        ('{"is": "view", "level": 99, "row0": 0, "col0": 0, "row1": 1, "col1": 1}', "Level must be"),
        ('{"is": "view", "level": 0, "row0": 0, "col0": 0, "row1": 1, "col1": 1, "overlays": ["glow"]}', "not 'glow'"),
    ],
)
def test_a_bad_message_is_answered_and_the_line_stays_up(
    client: TestClient, made: dict[str, Any], text: str, words: str
) -> None:
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        socket.send_text(text)
        assert words in page.hear("error")["message"]
        page.say(**{"is": "spot"}, x=1, y=1)
        assert page.hear("spot")["spot"]["elevation_m"] == 10


def test_time_that_runs_backwards_ends_the_stroke_and_keeps_what_was_drawn(
    client: TestClient, made: dict[str, Any]
) -> None:
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=made["tracts"][0]["id"], stroke=STROKE)
        page.say(**{"is": "move"}, samples=[[100, 100, 0], [100, 100, 1]])
        page.say(**{"is": "move"}, samples=[[100, 100, 0.5]])
        heard = page.hear("ended")
        assert heard["revision"] == 1
        assert "backwards" in page.hear("error")["message"]


def test_the_end_of_a_stroke_is_answered_even_when_it_could_not_begin(client: TestClient, made: dict[str, Any]) -> None:
    """The page lets an undo wait for that answer."""
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=made["tracts"][0]["id"], stroke={**STROKE, "tool": "paint", "cover": "snow"})
        assert "cover must be one of" in page.hear("error")["message"]
        page.say(**{"is": "move"}, samples=[[100, 100, 0]])
        page.say(**{"is": "end"})
        heard = page.hear("ended")
        assert (heard["revision"], heard["fill_m3"]) == (0, 0)


def test_a_world_that_is_not_there_closes_the_line(client: TestClient) -> None:
    with client.websocket_connect(live("none")) as socket:
        message = socket.receive()
    assert message["code"] == 4404


def test_a_walker_stops_at_an_opening(client: TestClient, made: dict[str, Any]) -> None:
    from fernfield.core.travel.walker import Intent
    from fernfield.work.trial.walks import Walk

    world = client.app.state.studio.world(made["id"])  # type: ignore[attr-defined]
    tract = made["tracts"][0]["id"]
    stroke = {"tool": "open", "radius_m": 5, "softness": 0, "strength": 900, "path": [[60, 80, 0], [60, 80, 1]]}
    assert client.post(f"/api/tracts/{tract}/strokes", json=stroke).status_code == 200
    walk = Walk(world, world.first_land, 60, 60, 0.0)
    walk.advance(Intent(ahead=1, facing=0), 60 * 9)
    assert walk.walker.y < 75.5
    assert "an opening" in str(walk.state()["blocked"])


def test_a_stroke_under_way_tells_its_volumes_and_a_grade_its_slope(
    client: TestClient, made: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    # At each message, not five times a second.
    monkeypatch.setattr(page_live, "TELL_EVERY_S", -1)
    tract = made["tracts"][0]["id"]
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**VIEW)
        page.say(**{"is": "begin"}, tract=tract, stroke=STROKE)
        page.say(**{"is": "move"}, samples=[[100, 100, 0], [110, 100, 0.2], [120, 100, 0.4]])
        told = page.hear("progress")
        assert told["fill_m3"] > 100
        assert told["cut_m3"] == 0
        page.say(**{"is": "end"})
        assert page.hear("ended")["fill_m3"] >= told["fill_m3"]
        slopes = {"cart": 18.0, "person": 45.0, "nobody": 150.0}
        for climbs, rise in slopes.items():
            start = {"tool": "grade", "from_m": 10, "to_m": 10 + rise, "width_m": 6, "way": "ends"}
            page.say(**{"is": "begin"}, tract=tract, stroke=start)
            page.say(**{"is": "move"}, samples=[[50, 200, 0], [150, 200, 0.2]])
            told = page.hear("progress")
            assert told["length_m"] == pytest.approx(100)
            assert told["percent"] == pytest.approx(rise)
            assert told["climbs"] == climbs
            page.say(**{"is": "abandon"})
        page.say(**{"is": "spot"}, x=100, y=200)
        assert page.hear("spot")["spot"]["elevation_m"] == 10


def test_patches_carry_the_overlays_that_the_page_shows(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    bodies = []
    for overlays in ([], ["tint"], ["kept"]):
        with client.websocket_connect(live(made["id"])) as socket:
            page = Page(socket)
            page.say(**VIEW, overlays=overlays, keep_to={"from_m": 11.0}, shown=7)
            page.say(**{"is": "begin"}, tract=tract, stroke=STROKE)
            page.say(**{"is": "move"}, samples=[[100, 100, 0], [110, 100, 0.2], [120, 100, 0.4]])
            patch = page.hear("patch")
            assert patch["shown"] == 7
            bodies.append(patch["body"][:4000])
            page.say(**{"is": "abandon"})
            # Answered in order: the stroke has let go of the ground before the next one wants it.
            page.say(**{"is": "spot"}, x=100, y=100)
            page.hear("spot")
    assert bodies[0] != bodies[1]
    assert bodies[0] != bodies[2]


def test_a_stroke_into_a_sheet_that_is_not_there_is_refused_and_nothing_changes(
    client: TestClient, made: dict[str, Any]
) -> None:
    with client.websocket_connect(live(made["id"])) as socket:
        page = Page(socket)
        page.say(**{"is": "begin"}, tract=made["tracts"][0]["id"], stroke={**STROKE, "sheet": "banks"})
        assert "no sheet 'banks'" in page.hear("error")["message"]
        page.say(**{"is": "end"})
        assert page.hear("ended")["revision"] == 0
