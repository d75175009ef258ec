"""Whatever the demo world can show: no picture, figure, panel or page of it is a fault of ours."""

from __future__ import annotations

import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.core.cover.textures import TEXTURES
from fernfield.core.grid import TILE
from fernfield.core.sites.decals import DECALS
from fernfield.web.app import create_app
from fernfield.web.rooms import PANELS
from fernfield.work.house import HOUSE
from fernfield.work.studio import Studio

LEVELS = (0, 2)


@pytest.fixture(scope="module")
def reach(tmp_path_factory: pytest.TempPathFactory, demo_data: Path) -> Iterator[TestClient]:
    data = Path(shutil.copytree(demo_data, tmp_path_factory.mktemp("whole") / "data"))
    with TestClient(create_app(Studio(data)), base_url="http://127.0.0.1:8127", raise_server_exceptions=False) as made:
        yield made


@pytest.fixture(scope="module")
def world(reach: TestClient) -> dict[str, Any]:
    (only,) = reach.get("/api/worlds").json()
    return dict(only)


@pytest.mark.parametrize("level", LEVELS)
def test_every_tile_is_a_picture_with_every_overlay(reach: TestClient, world: dict[str, Any], level: int) -> None:
    tract = world["tracts"][0]
    asks = {
        "overlays": ",".join(HOUSE.overlays), "cover": "sedge", "rule": '{"cover": "sedge"}', "keep_to": '{"to_m": 5}',
    }  # fmt: skip
    rows, cols = (range(-(-tract[side] // (TILE << level))) for side in ("rows", "cols"))
    # At the coarsest level the whole land; nearer, two ways across it, from corner to corner.
    across = [(r, c) for r in rows for c in cols if level == LEVELS[-1] or r == c or r + c == len(cols) - 1]
    for row, col in across:
        answer = reach.get(f"/api/lands/{tract['id']}/plan/{level}/{row}/{col}.webp", params=asks)
        assert answer.status_code == 200, (row, col, answer.text[:300])
        assert answer.content[8:12] == b"WEBP"


NEEDED = {
    "x": 400, "y": 300, "x0": 300, "y0": 300, "x1": 420, "y1": 420, "row0": 0, "col0": 0, "row1": 64, "col1": 64,
    "level": 0, "what": "wetness", "points": "[[10, 10], [500, 400]]", "spacing_m": 2, "latitude_deg": 52,
    "longitude_deg": 5, "time": "2026-06-21T12:00:00Z",
}  # fmt: skip
WINDOW = ("row0", "col0", "row1", "col1")
OTHER_THINGS = {"file", "job", "spec", "package", "since"}
"""What a call names that a world has none of."""
THERE_IS_NONE = {"symmetry": 409, "hollow": 404, "icon.png": 404}
"""What the demo world has none of; the answer says so."""


def test_every_answer_of_every_row_panel_and_page_is_there(reach: TestClient, world: dict[str, Any]) -> None:
    """Each GET of the contract: as it is asked first, and for each row that its path can name."""
    tract, path = world["tracts"][0]["id"], f"/api/worlds/{world['id']}"
    newest = reach.post(f"{path}/levels", json={"name": "Quay", "elevation_m": 3}).json()["revision"]
    asked = [(f"/worlds/{world['id']}{page}", {}) for page in ("", "/setup", "/layout", "/logbook")]
    asked += [(page, {}) for page in ("/", "/help", "/make")]
    asked += [(f"/worlds/{world['id']}/bench/{panel.name}", {"tract": tract}) for panel in PANELS]
    for route, calls in reach.get("/openapi.json").json()["paths"].items():
        parameters = calls.get("get", {}).get("parameters", [])
        needed = [one["name"] for one in parameters if one.get("required") and one["in"] == "query"]
        needed += [one["name"] for one in parameters if one["name"] in WINDOW and one["name"] not in needed]
        named = re.findall(r"\{(\w+)\}", route)
        if "get" not in calls or OTHER_THINGS & {*needed, *named} or route.endswith("handover.zip"):
            continue
        keys: list[Any] = [""]
        if "key" in named and "textures" not in route:
            of = next(word for word in route.split("/")[::-1] if word in HOUSE.collections or word == "pictures")
            keys = [row["key"] for row in reach.get(f"{path}/{of}").json()]
        elif "key" in named:
            keys = [*TEXTURES]
        elif "picture" in named:
            keys = [*DECALS]
        elif "name" in named:
            keys = reach.get("/api/schemas").json()
        filled = route.format(
            world=world["id"],
            tract=tract,
            number=newest,
            level=0,
            row=0,
            col=0,
            layer="heights",
            key="{key}",
            picture="{key}",
            name="{key}",
        )
        own = {**NEEDED, "what": "lux"} if route.endswith("/light") else NEEDED
        asked += [(filled.format(key=key), {name: own[name] for name in needed}) for key in keys]
    assert len(asked) > 120
    refused = {}
    for at, query in asked:
        answer = reach.get(at, params=query)
        if answer.status_code != 200:
            refused[at.rpartition("/")[2]] = answer.status_code, answer.text[:300]
    assert {at: status for at, (status, _) in refused.items()} == THERE_IS_NONE, refused
