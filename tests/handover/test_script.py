"""The logbook as a script: done once more it gives the same bytes."""

from __future__ import annotations

import json
import random
from pathlib import Path
from typing import Any

import numpy as np
from fastapi.testclient import TestClient
from typer.testing import CliRunner

from fernfield.cli import app
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

SPEC = {"name": "W", "width_m": 300, "depth_m": 200, "spacing_m": 1, "elevation_m": 5}


WRONG: tuple[dict[str, Any], ...] = (
    {},
    {"do": "stroke"},
    {"do": "stroke", "tool": "raise", "path": [1]},
    {"do": "put", "row": 3},
    {"do": "put", "collection": "lines", "key": "l", "row": {"name": "L", "points": [[1], "a"]}},
)
"""Commands that are none."""


def made(client: TestClient) -> tuple[str, str]:
    world = client.post("/api/worlds", json=SPEC).json()
    return f"/api/worlds/{world['id']}", f"/api/tracts/{world['tracts'][0]['id']}"


def worked(client: TestClient, base: str, tract: str, seed: int) -> None:
    """Strokes, rows and what is undone, by chance."""
    chance = random.Random(seed)
    for number in range(30):
        x, y = chance.uniform(20, 240), chance.uniform(20, 160)
        stroke = {"radius_m": 20, "softness": 0.5, "strength": 30, "path": [[x, y, 0], [x + 20, y, 0.5]]}
        tools: tuple[dict[str, Any], ...] = (
            {"tool": "raise"}, {"tool": "roughen"}, {"tool": "veil", "cover": "path", "share": 0.5},
            {"tool": "sow", "mix": "mix"}, {"tool": "smooth"},
        )  # fmt: skip
        match chance.randrange(8):
            case 0:
                client.post(f"{base}/undo")
            case 1:
                client.post(f"{base}/redo")
            case 2:
                piece = {"sort": "piece", "name": f"C{number}", "kit": "cairn", "x": x, "y": y}
                client.post(f"{base}/things", json={**piece, "tract": tract.rpartition("/")[2]})
            case _:
                assert client.post(f"{tract}/strokes", json={**stroke, **chance.choice(tools)}).status_code == 200


def state(client: TestClient, base: str, tract: str) -> tuple[dict[str, bytes], Any]:
    """All that is kept of a world: its layers, and its rows without the ids of its own."""
    layers = client.get(f"{tract}/layers").json()["layers"]
    rows = json.dumps(client.get(f"{base}/rows").json()["rows"], sort_keys=True)
    return (
        {one: client.get(f"{tract}/layers/{one}.npy").content for one in layers},
        rows.replace(tract.rpartition("/")[2], "T"),
    )


def test_done_once_more_on_the_same_beginning_it_gives_the_same_bytes(client: TestClient) -> None:
    for seed in (1, 2):
        base, tract = made(client)
        worked(client, base, tract, seed)
        script = client.get(f"{base}/logbook.jsonl").content
        again, other = made(client)
        told = client.post(f"{again}/replay", content=script).json()
        assert (told["left_out"], told["done"]) == ([], len(script.splitlines()))
        one, two = state(client, base, tract), state(client, again, other)
        # What was undone may have left a layer of nothing.
        for layer in set(one[0]) ^ set(two[0]):
            body = one[0].get(layer) or two[0][layer]
            assert set(body[128:]) == {0}, layer
        assert {k: v for k, v in one[0].items() if k in two[0]} == {k: v for k, v in two[0].items() if k in one[0]}
        assert one[1] == two[1]
        every = client.get(f"{base}/logbook.jsonl?undone=true").content.splitlines()
        assert len(every) == client.get(base).json()["revision"]
        assert client.get(f"{base}/logbook.jsonl?from=3&to=4&undone=true").content.splitlines() == every[2:4]


def test_moved_aside_and_what_does_not_fit_is_told(client: TestClient, tmp_path: Path) -> None:
    base, tract = made(client)
    stroke = {"tool": "raise", "radius_m": 10, "softness": 0, "strength": 50, "path": [[50, 60, 0], [60, 60, 1]]}
    client.post(f"{tract}/strokes", json=stroke)
    client.post(f"{base}/things", json={"sort": "piece", "name": "Cairn", "kit": "cairn", "x": 50, "y": 60})
    client.post(f"{base}/tracts", json={"name": "More", "width_m": 20, "depth_m": 20, "spacing_m": 1})
    script = client.get(f"{base}/logbook.jsonl").content
    again, other = made(client)
    told = client.post(f"{again}/replay?east_m=100&north_m=-20", content=script).json()
    assert (told["done"], [one["number"] for one in told["left_out"]]) == (2, [3])
    assert "add_tract" in told["left_out"][0]["why"]

    def heights(tract: str) -> Any:
        return np.frombuffer(client.get(f"{tract}/heights").content, "<f4").reshape(201, 301)

    assert np.array_equal(heights(other)[20:, 100:], heights(tract)[:-20, :-100])
    (thing,) = client.get(f"{again}/things").json()
    assert (thing["x"], thing["y"]) == (150, 40)
    off = client.post(f"{again}/replay?east_m=5000", content=script).json()
    assert off["done"] < 3
    assert all(one["why"] for one in off["left_out"])
    for command in WRONG:
        line = json.dumps({"number": 1, "words": "Wrong", "tract": None, "command": command}).encode()
        wrong = client.post(f"{again}/replay?east_m=1", content=line)
        assert (wrong.status_code, len(wrong.json()["left_out"])) == (200, 1), wrong.text
    for body, words in ((b"no json\n", "line 1"), (b'{"number": 1}\n', "line 1"), (b"\n" + script[:40], "line 2")):
        answer = client.post(f"{again}/replay", content=body)
        assert (answer.status_code, words in answer.text) == (422, True), answer.text
    assert client.post(f"{again}/replay?tract=nothing", content=script).status_code == 404
    (tmp_path / "script.jsonl").write_bytes(script)
    studio = Studio(tmp_path / "own")
    world = studio.create(WorldSpec(name="W", width_m=300, depth_m=200, spacing_m=1))
    studio.close()
    ran = CliRunner().invoke(app, ["replay", world, str(tmp_path / "script.jsonl"), "--data", str(tmp_path / "own")])
    assert (ran.exit_code, "2 done, 1 left out: r2" in ran.output) == (1, True), ran.output
