"""Parts: switched off and on again to the byte, locked, handed over as a file, taken from another world and again."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.work.kernel.posts.layers import HEIGHT
from tests.conftest import draw, ended, everything

PLOT = {"name": "Yard", "points": [(60, 60), (140, 60), (140, 140), (60, 140)], "part": "yard"}
TEAM = {"number": 1, "colour": "#2c6647", "mark": "square"}
ENTERS = {"sort": "enters", "where": {"plot": "yard"}}
ROWS: dict[str, dict[str, Any]] = {
    "parts/yard": {"name": "The yard"},
    "plots/yard": PLOT,
    "groups/all": {"name": "All of it", "part": "yard"},
    "things/barn": {"sort": "piece", "kit": "stone_barn", "name": "Barn", "x": 100, "y": 100, "group": "all",
                    "part": "yard"},
    "things/begin": {"sort": "start", "name": "Begin", "x": 90, "y": 70, "part": "yard"},
    "roads/way": {"name": "Way", "points": [(20, 50), (150, 50)], "part": "yard"},
    "cues/bell": {"name": "Bell", "when": [ENTERS], "then": [{"sort": "tell", "text": "Who?"}], "part": "yard"},
}  # fmt: skip


HILL: dict[str, bytes] = {}


def asked(client: TestClient, method: str, path: str, status: int = 200, **said: Any) -> Any:
    answer = client.request(method, path, **said)
    assert answer.status_code == status, answer.text
    return answer.json()


def made(client: TestClient, name: str, **said: Any) -> str:
    spec = {"name": name, "width_m": 256, "depth_m": 256, "spacing_m": 1, **said}
    return str(asked(client, "POST", "/api/worlds", 201, json=spec)["id"])


@pytest.fixture
def yard(client: TestClient) -> str:
    world = made(client, "Yard")
    draw(client.app.state.studio.world(world), path=[(100, 80, 0), (120, 60, 2)], radius_m=60)  # type: ignore[attr-defined]
    HILL[world] = whole(client, world)[HEIGHT]
    for path, row in ROWS.items():
        asked(client, "PUT", f"/api/worlds/{world}/{path}", json=row)
    return world


def whole(client: TestClient, world: str) -> dict[str, bytes]:
    return everything(client.app.state.studio.world(world))  # type: ignore[attr-defined]


def part_of(client: TestClient, world: str, **said: Any) -> Any:
    return asked(client, "PATCH", f"/api/worlds/{world}/parts/yard", json=said)


def test_what_is_switched_off_is_nowhere_and_comes_back_as_it_was(client: TestClient, yard: str) -> None:
    base = f"/api/worlds/{yard}"
    before = whole(client, yard)
    part_of(client, yard, on=False)
    for collection in ("plots", "groups", "things", "roads", "cues"):
        assert asked(client, "GET", f"{base}/{collection}") == []
    # The ground is as it was before anything stood on it.
    assert before[HEIGHT] != whole(client, yard)[HEIGHT] == HILL[yard]
    assert asked(client, "GET", f"{base}/parts")[0]["shelved"] == 6
    assert "switch it on" in asked(client, "DELETE", f"{base}/parts/yard", 409)["detail"]
    part_of(client, yard, on=True)
    assert whole(client, yard) == before
    asked(client, "POST", f"{base}/undo")
    asked(client, "POST", f"{base}/undo")
    assert whole(client, yard) == before
    # What others name cannot go out of the world under them.
    asked(client, "PUT", f"{base}/things/cart", json={**ROWS["things/barn"], "kit": "hand_cart", "name": "Cart",
                                                      "x": 60, "part": None})  # fmt: skip
    told = asked(client, "PATCH", f"{base}/parts/yard", 409, json={"on": False})["detail"]
    assert "the piece Cart names the group All of it" in told
    for said, word in (({"on": False, "name": "Z"}, "switched on"), ({"name": "Z", "shelf": []}, "")):
        asked(client, "PUT", f"{base}/parts/new", 422 if word else 200, json=said)


def test_what_is_locked_stays(client: TestClient, yard: str) -> None:
    base = f"/api/worlds/{yard}"
    part_of(client, yard, locked=True)
    before = whole(client, yard)
    for method, path, said in (
        ("PATCH", "plots/yard", {"json": {"name": "Mine"}}),
        ("DELETE", "cues/bell", {}),
        ("PATCH", "things", {"json": {"ids": ["barn"], "change": {"dx_m": 1}}}),
        ("PUT", "notes/n", {"json": {"text": "In it", "x": 1, "y": 1, "part": "yard"}}),
        ("PATCH", "parts/yard", {"json": {"on": False}}),
    ):
        assert "locked" in asked(client, method, f"{base}/{path}", 409, **said)["detail"]
    assert "unlock it" in asked(client, "DELETE", f"{base}/parts/yard", 409)["detail"]
    assert whole(client, yard) == before
    part_of(client, yard, locked=False, on=False)


def done(client: TestClient, path: str, **said: Any) -> Any:
    job = asked(client, "POST", path, 202, json=said)["job"]
    return ended(client.app.state.studio.jobs.get(job)).result  # type: ignore[attr-defined]


def test_what_lies_aside_goes_along_with_its_land(client: TestClient, yard: str) -> None:
    base = f"/api/worlds/{yard}"
    asked(client, "DELETE", f"{base}/roads/way")
    part_of(client, yard, on=False)
    # A copy of the world has it in a tract of its own.
    copy = done(client, f"{base}/copy", name="Copy")["world"]
    part_of(client, copy, on=True)
    assert {one["name"] for one in asked(client, "GET", f"/api/worlds/{copy}/things")} == {"Barn", "Begin"}
    # What was cropped meanwhile has other metres; where its land has gone it waits.
    tract = asked(client, "GET", base)["tracts"][0]["id"]
    done(client, f"/api/tracts/{tract}/crop", x0=50, y0=40, x1=200, y1=200)
    part_of(client, yard, on=True)
    things = {one["key"]: (one["x"], one["y"]) for one in asked(client, "GET", f"{base}/things")}
    assert things == {"barn": (50, 60), "begin": (40, 30)}
    part_of(client, yard, on=False)
    tract = asked(client, "GET", base)["tracts"][0]["id"]
    done(client, f"/api/tracts/{tract}/crop", x0=100, y0=100, x1=150, y1=150)
    told = asked(client, "PATCH", f"{base}/parts/yard", 409, json={"on": True})["detail"]
    assert "would lie outside of the land" in told


def test_what_does_not_fit_here_stays_behind(client: TestClient, yard: str) -> None:
    """What an edit would refuse is refused of a part too, and what names it does without."""
    asked(client, "PUT", f"/api/worlds/{yard}/teams/reds", json={**TEAM, "name": "Reds", "part": "yard"})
    other = made(client, "Other")
    asked(client, "PUT", f"/api/worlds/{other}/teams/blues", json={**TEAM, "name": "Blues"})
    start = {"sort": "start", "name": "Mine", "x": 9, "y": 9, "default": True}
    asked(client, "PUT", f"/api/worlds/{other}/things/mine", json=start)
    document = asked(client, "GET", f"/api/worlds/{yard}/parts/yard/file")
    (plot,) = (one for one in document["rows"] if one["collection"] == "plots")
    plot["row"]["points"] = [[60, 60], [140, 140], [140, 60], [60, 140]]
    body = client.build_request("POST", "/", json=document).content
    told = asked(client, "POST", f"/api/worlds/{other}/part-file", files={"file": ("p.json", body)})
    assert [one.partition(":")[0] for one in told["left_out"]] == ["the plot Yard", "the team Reds", "the cue Bell"]
    things = asked(client, "GET", f"/api/worlds/{other}/things")
    assert sum(one["default"] for one in things) == 1


def test_a_part_is_taken_looked_at_first_and_not_doubled(client: TestClient, yard: str) -> None:
    asked(client, "PUT", f"/api/worlds/{yard}/plots/far", json={**PLOT, "part": None})
    far = {**ROWS["cues/bell"], "when": [{"sort": "enters", "where": {"plot": "far"}}]}
    asked(client, "PUT", f"/api/worlds/{yard}/cues/far", json=far)
    asked(client, "PUT", f"/api/worlds/{yard}/things/out", json={**ROWS["things/barn"], "name": "Out", "x": 230})
    other = made(client, "Other", width_m=200, depth_m=200)
    # Another row has the key of one that comes.
    asked(client, "PUT", f"/api/worlds/{other}/groups/all", json={"name": "Mine"})
    path = f"/api/worlds/{other}/parts/yard/take"
    wanted = {"from_world": yard, "part": "yard"}
    before = whole(client, other)
    looked = asked(client, "POST", path, json={**wanted, "look": True})
    assert whole(client, other) == before
    assert looked["revision"] is None
    assert looked["missing"] == ["the plot far"]
    assert [one.partition(":")[0] for one in looked["left_out"]] == ["the thing Out", "the cue Bell"]
    taken = asked(client, "POST", path, json=wanted)
    assert taken == {**looked, "revision": taken["revision"]}
    assert len(taken["new"]) == 6
    (barn,) = (one for one in asked(client, "GET", f"/api/worlds/{other}/things") if one["kit"])
    assert (barn["group"], barn["part"]) == ("all-yard", "yard")
    assert asked(client, "GET", f"/api/worlds/{other}/groups")[0]["name"] == "Mine"
    # Again: what is the same stays, what differs is changed, nothing is doubled.
    again = asked(client, "POST", path, json=wanted)
    assert (again["new"], again["changed"], again["same"], again["revision"]) == ([], [], 6, None)
    asked(client, "PATCH", f"/api/worlds/{yard}/things", json={"ids": ["barn"], "change": {"dx_m": 5}})
    asked(client, "DELETE", f"/api/worlds/{yard}/roads/way")
    third = asked(client, "POST", path, json=wanted)
    assert (third["changed"], third["gone"]) == (["the piece Barn"], ["the road Way"])
    # In its own world it is a copy, whose rows are related among themselves.
    copy = asked(client, "POST", f"/api/worlds/{yard}/parts/two/take", json={**wanted, "x": 10, "y": 20})
    assert (len(copy["new"]), copy["left_out"]) == (7, [])
    rows = {one["key"]: one for one in asked(client, "GET", f"/api/worlds/{yard}/things")}
    assert rows["barn-two"]["group"] == "all-two"
    assert (rows["barn-two"]["x"], rows["barn-two"]["y"]) == (rows["barn"]["x"] + 10, rows["barn"]["y"] + 20)
    (bell,) = (one for one in asked(client, "GET", f"/api/worlds/{yard}/cues") if one["key"] == "bell-two")
    assert bell["when"][0]["where"]["plot"] == "yard-two"


def test_a_part_as_a_file(client: TestClient, yard: str) -> None:
    answer = client.get(f"/api/worlds/{yard}/parts/yard/file")
    other = made(client, "Other")
    path = f"/api/worlds/{other}/part-file"
    taken = asked(client, "POST", path, files={"file": ("p.json", answer.content)})
    assert (len(taken["new"]), taken["left_out"], taken["missing"]) == (6, [], [])
    # What is handed on again is what came, but for the places of its rows among all, which nobody said.
    back = client.get(f"/api/worlds/{other}/parts/yard/file")
    order = [sorted(one.json()["rows"], key=lambda row: row["key"]) for one in (answer, back)]
    assert order[0] == order[1]
    document = answer.json()
    row = document["rows"][0]
    for broken, status, words in (
        (b"\x00", 422, "no part"), (b"[]", 422, "no part"),
        ({**document, "rows": [{**row, "collection": "worlds"}]}, 422, "holds no worlds"),
        ({**document, "format": "x"}, 422, "Format"),
        ({**document, "rows": [{**row, "row": {"name": 3}}]}, 200, "Name"),
        ({**document, "rows": [{**row, "version": 999}]}, 200, "newer"),
    ):  # fmt: skip
        body = broken if isinstance(broken, bytes) else client.build_request("POST", "/", json=broken).content
        told = asked(client, "POST", path, status, files={"file": ("p.json", body)}, params={"look": True})
        assert words in (told["detail"] if status == 422 else " ".join(told["left_out"]))
