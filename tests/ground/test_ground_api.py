"""The ground over the API: every tool by its name, areas, sheets, rows, pictures, sections, the logbook."""

from __future__ import annotations

import io
import json
import math
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.ground.tools import GROUND_TOOLS
from tests.waits import done

SPEC = {"name": "W", "width_m": 256, "depth_m": 256, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
STROKE = {"tool": "raise", "radius_m": 20, "softness": 0.5, "strength": 10, "path": [[100, 100, 0], [140, 120, 1]]}


@pytest.fixture
def made(client: TestClient) -> dict[str, Any]:
    return dict(client.post("/api/worlds", json=SPEC).json())


@pytest.fixture
def tract(made: dict[str, Any]) -> str:
    return f"/api/tracts/{made['tracts'][0]['id']}"


@pytest.fixture
def base(made: dict[str, Any]) -> str:
    return f"/api/worlds/{made['id']}"


def land(client: TestClient, tract: str, **query: Any) -> np.ndarray:
    answer = client.get(f"{tract}/heights", params=query)
    shape = [int(n) for n in answer.headers["x-shape"].split(",")]
    return np.frombuffer(answer.content, "<f4").reshape(shape)


def test_every_tool_is_listed_with_its_settings_and_taken_by_its_name(client: TestClient, tract: str) -> None:
    listed = client.get("/api/tools").json()
    assert [t["name"] for t in listed["tools"] if t["stage"] == "ground"] == list(GROUND_TOOLS)
    schema = client.get("/openapi.json").json()["components"]["schemas"]["Stroke"]["properties"]
    client.post(f"{tract}/strokes", json={**STROKE, "tool": "roughen", "radius_m": 120, "strength": 60})
    for tool in (t for t in listed["tools"] if t["stage"] == "ground" and t["layer"] == "height"):
        own = {s["name"]: s["first"] for s in tool["settings"] if s["first"] is not None}
        assert set(own) <= set(schema)
        body = {**STROKE, "tool": tool["name"], "strength": 300 if tool["unit"] == "%/s" else 10, **own}
        if tool["whole_path"]:
            body = {"tool": tool["name"], "path": STROKE["path"], **own}
        answer = client.post(f"{tract}/strokes", json=body)
        assert answer.status_code == 200, answer.text
        assert answer.json()["cut_m3"] + answer.json()["fill_m3"] > 0, tool["name"]


def test_flatten_by_fill_gives_volumes_that_match_the_heights(client: TestClient, tract: str) -> None:
    client.post(f"{tract}/strokes", json=STROKE)
    before = land(client, tract).astype(float)
    answer = client.post(
        f"{tract}/strokes", json={**STROKE, "tool": "flatten", "target_m": 13, "by": "fill", "strength": 60}
    ).json()
    rise = land(client, tract) - before
    assert rise.min() == 0
    assert answer["fill_m3"] == pytest.approx(rise.sum(), rel=1e-6)
    assert answer["cut_m3"] == 0


def test_weathering_is_a_job_that_can_be_cancelled(client: TestClient, tract: str, base: str) -> None:
    client.post(f"{tract}/strokes", json={**STROKE, "strength": 60, "softness": 0.0})
    before = land(client, tract)
    answer = client.post(f"{tract}/weather", json={"kind": "frost", "repose_deg": 34, "passes": 20000})
    assert answer.status_code == 202
    client.delete(f"/api/jobs/{answer.json()['job']}")
    done(client, answer, "cancelled")
    assert np.array_equal(land(client, tract), before)
    answer = client.post(f"{tract}/weather", json={"kind": "rain", "drops_per_m2": 1, "seed": 4})
    found = done(client, answer)
    assert found["state"] == "done"
    assert found["result"]["cut_m3"] > 0
    assert not np.array_equal(land(client, tract), before)
    assert client.get(f"{base}/revisions").json()[0]["words"].startswith("Weathered the whole tract by rain")
    bad = client.post(f"{tract}/weather", json={"kind": "snow"})
    assert bad.status_code == 422
    assert "rain, frost" in bad.json()["detail"]


def test_sheets_over_the_api(client: TestClient, tract: str, base: str) -> None:
    assert client.put(f"{base}/sheets/ridge", json={"name": "Ridge"}).status_code == 200
    client.post(f"{tract}/strokes", json={**STROKE, "sheet": "ridge"})
    whole = land(client, tract)
    client.put(f"{base}/sheets/ridge", json={"name": "Ridge", "weight": 0.5})
    assert np.allclose(land(client, tract) - 10, (whole - 10) / 2, atol=1e-5)
    client.put(f"{base}/sheets/ridge", json={"name": "Ridge", "hidden": True})
    assert (land(client, tract) == 10).all()
    refused = client.post(f"{tract}/strokes", json={**STROKE, "sheet": "ridge"})
    assert refused.status_code == 409
    assert "Ridge is hidden" in refused.json()["detail"]
    # What is not said stays as it is.
    client.put(f"{base}/sheets/ridge", json={"name": "Ridge"})
    assert client.get(f"{base}/sheets").json()[0]["hidden"] is True
    client.patch(f"{base}/sheets/ridge", json={"hidden": False, "weight": 1})
    file = client.get(f"{tract}/sheets/ridge.asc")
    assert file.text.startswith("ncols 257\nnrows 257\n")
    other = client.post("/api/worlds", json={**SPEC, "name": "Other", "elevation_m": 50}).json()
    there = f"/api/tracts/{other['tracts'][0]['id']}"
    brought = client.post(
        f"{there}/sheets", files={"file": ("r.asc", file.content)}, data={"key": "ridge", "name": "Ridge"}
    )
    assert brought.status_code == 201, brought.text
    assert np.allclose(land(client, there) - 50, whole - 10, atol=1e-4)
    assert client.post(f"{base}/sheets/ridge/merge", json={}).status_code == 200
    assert np.allclose(land(client, tract), whole, atol=1e-5)
    assert client.get(f"{base}/sheets").json() == []
    assert client.delete(f"{base}/sheets/ridge").status_code == 404


def test_plots_levels_lines_symmetry_and_limits(client: TestClient, tract: str, base: str) -> None:
    square = [[20, 20], [80, 20], [80, 80], [20, 80]]
    client.put(f"{base}/plots/fen", json={"name": "North fen", "points": square})
    client.put(f"{base}/levels/yard", json={"name": "Yard", "elevation_m": 7.5})
    client.put(f"{base}/lines/cut", json={"name": "Cut", "points": [[0, 0], [200, 200]]})
    world = client.get(base).json()
    assert world["plots"][0]["name"] == "North fen"
    assert world["levels"] == [{"key": "yard", "name": "Yard", "elevation_m": 7.5}]
    assert client.get(f"{tract}/spot", params={"x": 50, "y": 50}).json()["plots"] == ["North fen"]
    assert client.get(f"{tract}/spot", params={"x": 150, "y": 50}).json()["plots"] == []
    assert client.get(f"{base}/lines").json()[0]["points"] == [[0, 0], [200, 200]]
    assert client.delete(f"{base}/levels/yard").status_code == 200
    assert client.get(f"{base}/levels").json() == []
    client.post(f"{base}/undo")
    assert client.get(f"{base}/levels").json()[0]["name"] == "Yard"
    for path, body, words in (
        ("plots/fen", {"name": "x", "points": [[0, 0], [1, 1]]}, "at least 3"),
        ("levels/yard", {"name": "x", "elevation_m": 99999}, "at most 12,000"),
        ("symmetry", {"kind": "spiral"}, "off, mirror, turn"),
        ("symmetry", {"kind": "turn", "times": 5}, "at most 4"),
        ("limits", {"lowest_m": 5, "highest_m": 5}, "lowest_m must be below highest_m"),
    ):
        refused = client.put(f"{base}/{path}", json=body)
        assert refused.status_code == 422
        assert words in refused.json()["detail"], refused.text
    # Land that lies past new limits stays, and is brought within them when that is said.
    high = client.get(f"{tract}/spot", params={"x": 50, "y": 50}).json()["elevation_m"]
    client.put(f"{base}/limits", json={"highest_m": high - 4})
    assert client.get(f"{base}/limits/past").json() == {"lowest_m": high, "highest_m": high, "past": True}
    brought = client.post(f"{base}/limits/bring-within").json()
    assert brought["words"].startswith("Brought the ground within")
    assert not client.get(f"{base}/limits/past").json()["past"]
    assert client.get(f"{tract}/spot", params={"x": 50, "y": 50}).json()["elevation_m"] == high - 4
    for _ in range(2):
        client.post(f"{base}/undo")
    assert client.get(f"{tract}/symmetry").status_code == 409
    client.put(f"{base}/symmetry", json={"kind": "mirror", "x": 128, "y": 128})
    assert client.get(f"{tract}/symmetry").json()["symmetric"]
    client.put(f"{base}/symmetry", json={"kind": "off"})
    client.post(f"{tract}/strokes", json={**STROKE, "path": [[60, 60, 0], [60, 60, 1]]})
    client.put(f"{base}/symmetry", json={"kind": "mirror", "x": 128, "y": 128})
    found = client.get(f"{tract}/symmetry").json()
    assert not found["symmetric"]
    assert found["largest_m"] == pytest.approx(10, abs=0.1)
    assert min(math.hypot(found["x"] - x, found["y"] - 60) for x in (60, 196)) < 15
    assert any(f["check"] == "symmetry" for f in client.get(f"{base}/findings").json())


def test_land_is_moved_and_reset(client: TestClient, tract: str, base: str) -> None:
    client.post(f"{tract}/strokes", json=STROKE)
    before = land(client, tract)
    body = {"box": [80, 80, 160, 140], "x": 180, "y": 200, "blend_m": 0, "copy_land": True}
    answer = client.post(f"{tract}/move", json=body)
    assert answer.status_code == 200, answer.text
    assert answer.json()["fill_m3"] > 0
    answer = client.post(f"{tract}/reset", json={"to": "revision", "revision": 1})
    assert np.array_equal(land(client, tract), before)
    for path, body, words in (
        ("move", {"x": 1, "y": 1}, "must be a plot, a box or an outline"),
        ("move", {"box": [9, 9, 3, 3], "x": 1, "y": 1}, "smaller number first"),
        ("move", {"box": [1, 1, 9, 9], "x": 900, "y": 1}, "must come to lie in the tract"),
        ("reset", {"to": "moon"}, "base, revision, elevation"),
    ):
        refused = client.post(f"{tract}/{path}", json=body)
        assert refused.status_code == 422
        assert words in refused.json()["detail"], refused.text


def png(image: np.ndarray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(image).save(out, "PNG")
    return out.getvalue()


def test_a_picture_of_ones_own_shapes_the_brush_and_is_pressed_in(client: TestClient, tract: str, base: str) -> None:
    image = np.zeros((40, 60), np.uint16)
    image[10:30, 15:45] = 65_535
    sent = client.post(f"{base}/pictures", files={"file": ("a.png", png(image))}, data={"name": "Block"})
    assert sent.status_code == 201, sent.text
    key = sent.json()["key"]
    listed = client.get(f"{base}/pictures").json()
    assert [p["key"] for p in listed if p["ours"]] == ["hummock", "stipple", "ridge", "furrows", "cracks", "crater"]
    assert listed[-1] == {"key": key, "name": "Block", "ours": False, "rows": 40, "cols": 60}
    shown = np.asarray(Image.open(io.BytesIO(client.get(f"{base}/pictures/{key}.png").content)))
    assert np.array_equal(shown, (image // 257).astype(np.uint8))
    answer = client.post(
        f"{tract}/strokes",
        json={"tool": "imprint", "image": key, "size_m": 120, "height_m": 9, "edge": 0, "path": [[128, 128, 0]]},
    )
    assert answer.status_code == 200, answer.text
    # White is 60 m wide and 40 m deep: 9 m high over 2,400 m².
    assert answer.json()["fill_m3"] == pytest.approx(9 * 60 * 40, rel=0.06)
    assert client.post(f"{tract}/strokes", json={**STROKE, "tip": key}).status_code == 200


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (b"", "must be a PNG"),
        (b"\xff\xd8\xff\xe0 a photograph", "must be a PNG"),
        (png(np.zeros((9, 9, 3), np.uint8)), "greyscale of 8 or 16 bits, not 8-bit colour"),
        (png(np.zeros((1, 9), np.uint8)), "2 to 2048 pixels a side, not 9 wide and 1 high"),
        (png(np.zeros((2100, 9), np.uint8)), "2 to 2048 pixels a side"),
        (png(np.zeros((90, 90), np.uint8))[:60], "damaged or cut short"),
    ],
)
def test_a_picture_of_a_wrong_kind_or_size_is_refused_by_name(
    client: TestClient, base: str, body: bytes, words: str
) -> None:
    answer = client.post(f"{base}/pictures", files={"file": ("a.png", body)}, data={"name": "Bad"})
    assert answer.status_code == 422
    assert words in answer.json()["detail"]
    assert all(p["ours"] for p in client.get(f"{base}/pictures").json())


def test_the_section_along_a_line_measures_between_two_marks(client: TestClient, tract: str) -> None:
    client.post(f"{tract}/strokes", json={"tool": "grade", "path": [[40, 40, 0], [200, 160, 1]], "from_m": 10,
                                          "to_m": 30, "width_m": 12})  # fmt: skip
    points = json.dumps([[40, 40], [200, 160]])
    found = client.get(f"{tract}/line", params={"points": points, "a": 20, "b": 180}).json()
    assert found["length_m"] == pytest.approx(200)
    assert found["between"]["slope_percent"] == pytest.approx(10, abs=0.05)
    assert found["between"]["rise_m"] == pytest.approx(16, abs=0.05)
    assert found["between"]["ground_length_m"] == pytest.approx(math.hypot(160, 16), abs=0.05)
    assert found["before"] is not None
    assert max(found["before"]) == 10
    for params, words in (
        ({"points": "[[1,1]]"}, "2 to 200 points, not 1"),
        ({"points": "nothing"}, "[[x, y], …]"),
        ({"points": "[[1,1],[1,1]]"}, "above 0"),
        ({"points": "[[1,1],[900,1]]"}, "must lie in the land"),
        ({"points": points, "a": 3}, "go together"),
    ):
        refused = client.get(f"{tract}/line", params=params)
        assert refused.status_code == 422
        assert words in refused.json()["detail"]


def test_overlays_change_the_picture_and_say_what_they_mean(client: TestClient, tract: str) -> None:
    client.post(f"{tract}/strokes", json={**STROKE, "strength": 30})

    def picture(**query: Any) -> np.ndarray:
        answer = client.get(f"{tract}/plan.png", params={"width": 256, "contour_m": 0, **query})
        assert answer.status_code == 200, answer.text
        return np.asarray(Image.open(io.BytesIO(answer.content))).astype(int)

    plain = picture()
    keep = json.dumps({"from_m": 15})
    for overlays, extra in (("tint", {}), ("slopes", {}), ("kept", {"keep_to": keep}), ("tint,slopes", {})):
        assert np.abs(picture(overlays=overlays, **extra) - plain).max() > 30, overlays
    assert np.array_equal(picture(overlays="kept"), plain)
    # A plot that somebody deleted just now spoils no picture.
    assert np.array_equal(picture(overlays="kept", keep_to='{"plots": ["gone"]}'), plain)
    # Hatched where the ground is below 15 m, and not above.
    kept = np.abs(picture(overlays="kept", keep_to=keep) - plain).max(axis=2)
    top = 256 - 110
    assert kept[top - 4 : top + 4, 116:124].max() < 3
    assert kept[30:60, 30:60].max() > 60
    legend = client.get(f"{tract}/legend").json()
    assert len(legend["slopes"]) == 5
    assert legend["tint"][0]["elevation_m"] <= 10
    assert legend["tint"][-1]["elevation_m"] >= 40
    refused = client.get(f"{tract}/plan.png", params={"overlays": "glow"})
    assert refused.status_code == 422
    every = "tint, slopes, spikes, kept, share, rule, density, sward, catchment, streams, tide, wading"
    assert f"{every}, sun_hours, sky_share, lux, minutes, cut_off, not 'glow'" in refused.json()["detail"]
    wrong = client.get(f"{tract}/plan.png", params={"contour_m": "-1"}).json()["detail"]
    assert wrong == "Contour must be at least 0, not '-1'; Contour must be one of auto, not '-1'"
    for bad, words in (('{"from_deg": 99}', "Slopes from must be at most 90"), ("{bad", "cannot be read as JSON")):
        refused = client.get(f"{tract}/plan.png", params={"keep_to": bad})
        assert refused.status_code == 422
        assert refused.json()["errors"][0]["field"] == "keep_to"
        assert words in refused.json()["detail"]


def test_contour_figures_stand_on_index_contours(client: TestClient, tract: str) -> None:
    client.post(f"{tract}/strokes", json={**STROKE, "radius_m": 120, "softness": 1.0, "strength": 40})
    query = {"level": -1, "row0": 0, "col0": 0, "row1": 513, "col1": 513, "contour_m": 1}
    found = client.get(f"{tract}/contour-labels", params=query).json()
    assert len(found) >= 4
    for label in found:
        z = client.get(f"{tract}/spot", params={"x": label["x"], "y": label["y"]}).json()["elevation_m"]
        assert float(label["words"]) % 5 == 0
        assert z == pytest.approx(float(label["words"]), abs=0.6)
        assert -90 <= label["turn_deg"] <= 90


def test_the_past_is_looked_at_and_named(client: TestClient, tract: str, base: str) -> None:
    client.post(f"{tract}/strokes", json=STROKE)
    first = land(client, tract)
    client.post(f"{tract}/strokes", json={**STROKE, "tool": "lower", "radius_m": 60})
    assert np.array_equal(land(client, tract, at=1), first)
    assert (land(client, tract, at=0) == 10).all()
    assert client.get(f"{tract}/spot", params={"x": 120, "y": 110, "at": 0}).json()["elevation_m"] == 10
    then = client.get(f"{tract}/plan.png", params={"width": 64, "at": 1}).content
    assert then != client.get(f"{tract}/plan.png", params={"width": 64}).content
    assert client.get(f"{tract}/heights", params={"at": 9}).status_code == 404
    named = client.put(f"{base}/revisions/1/keepsake", json={"name": "The hump"})
    assert named.json() == {"number": 1, "keepsake": "The hump"}
    assert client.get(f"{base}/revisions").json()[1]["keepsake"] == "The hump"
    assert client.put(f"{base}/revisions/7/keepsake", json={"name": "x"}).status_code == 404
    book = client.get(f"{base}/logbook").json()
    assert book["oldest"] == 1
    assert 0 < book["bytes"] < book["most_bytes"]
    where = Image.open(io.BytesIO(client.get(f"{base}/revisions/1/where.png?width=128").content))
    assert where.size == (128, 128)
    assert client.get(f"{base}/revisions/8/where.png").status_code == 404


def test_a_hole_with_nothing_over_it_is_a_finding(client: TestClient, tract: str, base: str) -> None:
    client.post(
        f"{tract}/strokes", json={**STROKE, "tool": "open", "radius_m": 4, "softness": 0, "strength": 900,
                                  "path": [[60, 60, 0], [60, 60, 1]]}
    )  # fmt: skip
    found = [f for f in client.get(f"{base}/findings").json() if f["check"] == "bare opening"]
    assert len(found) == 1
    assert "An opening of 45 m² at 60, 60" in found[0]["words"]
    assert (round(found[0]["x"]), round(found[0]["y"])) == (60, 60)
    client.post(f"{base}/things", json={"sort": "piece", "kit": "pump_house", "name": "P", "x": 60, "y": 60})
    assert not [f for f in client.get(f"{base}/findings").json() if f["check"] == "bare opening"]
    done(client, client.post(f"{base}/handover"))
    import zipfile

    package = zipfile.ZipFile(io.BytesIO(client.get(f"{base}/handover.zip").content))
    manifest = json.loads(package.read("manifest.json"))
    mask = np.asarray(Image.open(io.BytesIO(package.read(manifest["tracts"][0]["openings"]["file"]))))
    assert mask[256 - 60, 60] == 255
    assert (mask > 0).sum() == 45
