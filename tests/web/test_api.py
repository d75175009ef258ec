"""The public contract, call by call, and what it says to bad input."""

import io
import json
import struct
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from jsonschema_rs import validator_for
from PIL import Image
from scipy.ndimage import maximum_filter, minimum_filter

import fernfield.demo
from fernfield.formats.asc import asc_lines
from fernfield.web.page.schemas import name_of
from fernfield.work.house import HOUSE
from tests.core.real_land import heights_png, jacksboro
from tests.waits import done

WORLD = {"name": "Api", "width_m": 256, "depth_m": 128, "spacing_m": 1, "elevation_m": 10, "sea_level_m": 0}
STROKE: dict[str, Any] = {
    "tool": "raise",
    "radius_m": 20,
    "softness": 0.5,
    "strength": 10,
    "path": [[100, 60, 0], [130, 60, 1]],
}


@pytest.fixture
def made(client: TestClient) -> dict[str, Any]:
    answer = client.post("/api/worlds", json=WORLD)
    assert answer.status_code == 201
    return dict(answer.json())


def test_the_server_says_that_it_is_well(client: TestClient) -> None:
    assert client.get("/healthz").json() == {"status": "ok"}


def test_a_world_is_made_listed_renamed_and_deleted(client: TestClient, made: dict[str, Any]) -> None:
    assert made["revision"] == 0
    tract = {"id": "", "name": "Main tract", "rows": 129, "cols": 257, "spacing_m": 1}
    assert made["tracts"][0] | {"id": ""} == {**tract, "x": 0, "y": 0, "kind": "open"}
    assert [w["id"] for w in client.get("/api/worlds").json()] == [made["id"]]
    changed = client.patch(f"/api/worlds/{made['id']}", json={"name": "Other", "sea_level_m": 3.5}).json()
    assert (changed["name"], changed["sea_level_m"], changed["revision"]) == ("Other", 3.5, 1)
    (step,) = client.get(f"/api/worlds/{made['id']}/revisions").json()
    assert step["words"] == "Renamed to Other; Sea level 3.5 m"
    # All of it or nothing: the sun cannot stand at 200°, so the name stays too.
    assert client.patch(f"/api/worlds/{made['id']}", json={"name": "No", "sun_height_deg": 200}).status_code == 422
    undone = client.post(f"/api/worlds/{made['id']}/undo").json()
    assert undone["revision"] == 2
    now = client.get(f"/api/worlds/{made['id']}").json()
    assert (now["name"], now["sea_level_m"]) == ("Api", 0)
    assert client.delete(f"/api/worlds/{made['id']}").status_code == 204
    assert client.get(f"/api/worlds/{made['id']}").status_code == 404
    assert client.get("/api/worlds").json() == []


def test_a_stroke_answers_with_its_window_and_volumes(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    done = client.post(f"/api/tracts/{tract}/strokes", json=STROKE).json()
    assert done["revision"] == 1
    assert done["fill_m3"] > 1000
    assert done["cut_m3"] == 0
    row0, col0, row1, col1 = done["window"]
    answer = client.get(f"/api/tracts/{tract}/heights", params={"row0": row0, "col0": col0, "row1": row1, "col1": col1})
    rows, cols = map(int, answer.headers["x-shape"].split(","))
    land = np.frombuffer(answer.content, "<f4").reshape(rows, cols)
    assert (rows, cols) == (row1 - row0, col1 - col0)
    assert float((land.astype(float) - 10).sum()) == pytest.approx(done["fill_m3"], rel=1e-5)
    whole = client.get(f"/api/tracts/{tract}/heights", params={"step": 16})
    assert whole.headers["x-shape"] == "9,17"
    spot = client.get(f"/api/tracts/{tract}/spot", params={"x": 115, "y": 60}).json()
    assert spot["elevation_m"] == pytest.approx(float(land.max()), abs=0.5)
    assert set(spot) >= {"elevation_m", "slope_deg", "aspect_deg", "water_depth_m", "covers"}
    assert sum(spot["covers"].values()) == pytest.approx(1)
    for call, want in (("undo", 10), ("redo", float(land.max()))):
        assert client.post(f"/api/worlds/{made['id']}/{call}").status_code == 200
        now = client.get(f"/api/tracts/{tract}/spot", params={"x": 115, "y": 60}).json()["elevation_m"]
        assert now == pytest.approx(want, abs=0.5)
    book = client.get(f"/api/worlds/{made['id']}/revisions").json()
    assert [(r["number"], r["sort"], r["target"]) for r in book] == [(3, "redo", 1), (2, "undo", 1), (1, "edit", None)]


def test_the_logbook_is_read_page_by_page_and_never_rewritten(client: TestClient, made: dict[str, Any]) -> None:
    tract, base = made["tracts"][0]["id"], f"/api/worlds/{made['id']}"
    for tool in ("raise", "raise", "smooth", "lower"):
        client.post(f"/api/tracts/{tract}/strokes", json={**STROKE, "tool": tool})
    client.post(f"{base}/undo")
    client.post(f"{base}/undo")
    client.patch(base, json={"name": "Later"})
    book = client.get(f"{base}/revisions").json()
    assert [(r["number"], r["sort"]) for r in book] == [
        (7, "edit"), (6, "undo"), (5, "undo"), (4, "edit"), (3, "edit"), (2, "edit"), (1, "edit"),
    ]  # fmt: skip
    assert book[1]["words"].startswith("Undid r3: Smooth")
    times = [r["made_at"] for r in book]
    assert times == sorted(times, reverse=True)
    assert all(datetime.fromisoformat(at).utcoffset() == timedelta(0) for at in times)
    pages = [client.get(f"{base}/revisions", params={"most": 3, "before": n}).json() for n in (8, 5, 2)]
    assert [r["number"] for page in pages for r in page] == [7, 6, 5, 4, 3, 2, 1]
    assert client.post(f"{base}/redo").status_code == 409
    for query in ("most=0", "most=1001", "before=0", "before=x"):
        assert client.get(f"{base}/revisions?{query}").status_code == 422


def test_water_and_the_depth_at_a_spot(client: TestClient, made: dict[str, Any]) -> None:
    client.patch(f"/api/worlds/{made['id']}", json={"sea_level_m": 12.5})
    tract = made["tracts"][0]["id"]
    assert client.get(f"/api/tracts/{tract}/spot?x=5&y=5").json()["water_depth_m"] == 2.5
    levels = client.get(f"/api/tracts/{tract}/levels").json()
    assert sum(levels["counts"]) > 0
    assert levels["bottom_m"] < 10 < 12.5 < levels["top_m"]


def test_the_plan_is_a_png_of_the_width_asked_for(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    picture = Image.open(io.BytesIO(client.get(f"/api/tracts/{tract}/plan.png?width=320").content))
    assert picture.size == (320, 160)
    part = client.get(f"/api/tracts/{tract}/plan.png?width=64&x0=10&y0=20&x1=42&y1=52")
    assert Image.open(io.BytesIO(part.content)).size == (64, 64)
    for level in (-2, 0, 3):
        tile = client.get(f"/api/tracts/{tract}/plan/{level}/0/0.webp?contour_m=5&growth=false")
        shape = {-2: (256, 256), 0: (256, 129), 3: (33, 17)}[level]
        assert Image.open(io.BytesIO(tile.content)).size == shape


def test_tiles_and_patches_show_the_same_ground(client: TestClient, made: dict[str, Any]) -> None:
    """A low sun: shadows reach over tile borders, and every tile shows its part of them."""
    tract = made["tracts"][0]["id"]
    client.patch(f"/api/worlds/{made['id']}", json={"sun_height_deg": 8, "sun_bearing_deg": 260})
    client.post(f"/api/tracts/{tract}/strokes", json={**STROKE, "strength": 20, "path": [[235, 60, 0], [240, 70, 1]]})
    from fernfield.core.grid import Window
    from fernfield.work.seen.plan import plan_pixels
    from fernfield.work.seen.show import Show

    world, at = client.app.state.studio.tract(tract)  # type: ignore[attr-defined]
    for level, size in ((0, (129, 257)), (-1, (257, 513))):
        whole = plan_pixels(world, world.land_from(at.row.id), level, Window(0, 0, *size), Show()).astype(int)
        part = plan_pixels(world, world.land_from(at.row.id), level, Window(31, 57, 120, 250), Show()).astype(int)
        assert np.abs(part - whole[31:120, 57:250]).max() <= 3


@pytest.mark.parametrize(
    ("change", "field", "words"),
    [
        ({"tool": "explode"}, "tool", "glade, close_glade, not 'explode'"),
        ({"radius_m": 0}, "radius_m", "must be above 0"),
        ({"radius_m": "wide"}, "radius_m", "must be a number"),
        ({"softness": 1.5}, "softness", "at most 1"),
        ({"strength": -1}, "strength", "must be above 0"),
        ({"path": []}, "path", "at least 1"),
        ({"path": [[0, 0, 1], [0, 0, 0]]}, "path", "backwards: 0.0 s after 1.0 s"),
        ({"path": [[0, 0]]}, "path.0", "x, y, seconds and maybe a pen's pressure, not 2 numbers"),
        ({"path": [[0, 0, 0], [0, 0, 9999]]}, "path", "at most 600 s"),
        ({"cover": "grass"}, "cover", "cover goes with paint, take_away, veil, speckle or blotch, not with raise"),
        ({"tool": "paint"}, "cover", "paint needs cover"),
        ({"colour": "red"}, "colour", "not asked for"),
        ({"path": [["x", 0, 0]]}, "path.0.0", "must be a number"),
    ],
)
def test_a_bad_stroke_is_refused_by_name_and_changes_nothing(
    client: TestClient, made: dict[str, Any], change: dict[str, Any], field: str, words: str
) -> None:
    answer = client.post(f"/api/tracts/{made['tracts'][0]['id']}/strokes", json={**STROKE, **change})
    assert answer.status_code == 422
    assert answer.headers["content-type"] == "application/problem+json"
    body = answer.json()
    assert body["status"] == 422
    assert [e["field"] for e in body["errors"]] == [field]
    assert words in body["errors"][0]["message"]
    assert client.get(f"/api/worlds/{made['id']}").json()["revision"] == 0


def test_numbers_that_are_no_numbers_are_refused(client: TestClient, made: dict[str, Any]) -> None:
    tract = made["tracts"][0]["id"]
    body = '{"tool":"raise","radius_m":NaN,"softness":0.5,"strength":1,"path":[[1,1,0]]}'
    headers = {"content-type": "application/json"}
    assert client.post(f"/api/tracts/{tract}/strokes", content=body, headers=headers).status_code == 422
    assert client.post(f"/api/tracts/{tract}/strokes", content="{", headers=headers).status_code == 422
    for query in ("x=nan&y=1", "x=inf&y=1", "y=1", "x=1e9&y=0"):
        assert client.get(f"/api/tracts/{tract}/spot?{query}").status_code == 422
    for query in ("row0=-1", "row1=9999", "row0=5&row1=5", "step=0"):
        assert client.get(f"/api/tracts/{tract}/heights?{query}").status_code == 422
    assert client.get(f"/api/tracts/{tract}/plan.png?width=1e9").status_code == 422
    assert client.get(f"/api/tracts/{tract}/plan.png?x0=50&x1=20").status_code == 422
    assert client.get(f"/api/tracts/{tract}/plan/99/0/0.webp").status_code == 422
    assert client.get(f"/api/tracts/{tract}/plan/0/7/0.webp").status_code == 422
    assert client.get(f"/api/tracts/{tract}/plan/-40/0/0.webp").status_code == 422


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"name": ""}, "name"),
        ({"name": "x" * 81}, "name"),
        ({"name": "a\x00b"}, "name"),
        ({"width_m": 10.5}, "width_m"),
        ({"width_m": 1e5}, "width_m"),
        ({"spacing_m": 0}, "spacing_m"),
        ({"elevation_m": 1e9}, "elevation_m"),
        ({"depth_m": None}, "depth_m"),
    ],
)
def test_a_world_that_cannot_be_is_refused_by_name(client: TestClient, change: dict[str, Any], field: str) -> None:
    answer = client.post("/api/worlds", json={**WORLD, **change})
    assert answer.status_code == 422
    assert [e["field"] for e in answer.json()["errors"]] == [field]
    assert client.get("/api/worlds").json() == []


def test_what_is_not_there_is_404_and_what_does_not_fit_409(client: TestClient, made: dict[str, Any]) -> None:
    for path in ("worlds/w0", "tracts/t0/spot?x=0&y=0", "jobs/j0", f"worlds/{made['id']}/handover.zip"):
        answer = client.get(f"/api/{path}")
        assert answer.status_code == 404
        assert answer.json()["detail"]
    answer = client.post(f"/api/worlds/{made['id']}/undo")
    assert (answer.status_code, answer.json()["detail"]) == (409, "there is nothing to undo")


def test_things_are_placed_moved_and_deleted(client: TestClient, made: dict[str, Any]) -> None:
    base = f"/api/worlds/{made['id']}/things"
    start = client.post(
        base, json={"sort": "start", "name": "South", "x": 20, "y": 30, "turn_deg": 45, "team": 2}
    ).json()
    piece = client.post(base, json={"sort": "piece", "kit": "windpump", "name": "Pump", "x": 60, "y": 60}).json()
    client.post(f"/api/tracts/{made['tracts'][0]['id']}/strokes", json={**STROKE, "path": [[60, 60, 0], [60, 60, 1]]})
    listed = {t["id"]: t for t in client.get(base).json()}
    assert listed[start["id"]]["default"]
    assert listed[piece["id"]]["z"] == pytest.approx(20)
    moved = {"sort": "piece", "kit": "windpump", "name": "Pump", "x": 200, "y": 60, "over_m": 1.5, "turn_deg": 359}
    assert client.put(f"{base}/{piece['id']}", json=moved).status_code == 200
    assert {t["id"]: t for t in client.get(base).json()}[piece["id"]]["z"] == pytest.approx(11.5)
    assert client.delete(f"{base}/{piece['id']}").status_code == 200
    assert [t["id"] for t in client.get(base).json()] == [start["id"]]
    for bad in ({"kit": "castle"}, {"x": -1}, {"turn_deg": 360}, {"team": 9}, {"sort": "thing"}, {"default": True}):
        assert client.post(base, json={**moved, **bad}).status_code == 422


def test_rules_and_mixes_are_set_over_the_api(client: TestClient, made: dict[str, Any]) -> None:
    rock = {k: v for k, v in made["covers"][3].items() if k != "key"}
    rock["rule"] = {"above_deg": 20, "blend_deg": 2}
    assert client.put(f"/api/worlds/{made['id']}/covers/rock", json=rock).json()["revision"] == 1
    rock["rule"] = {"above_deg": 120}
    assert client.put(f"/api/worlds/{made['id']}/covers/rock", json=rock).status_code == 422
    mix = {k: v for k, v in made["mixes"][0].items() if k != "key"}
    mix["kinds"][0]["size_min"] = 3
    answer = client.put(f"/api/worlds/{made['id']}/mixes/mix", json=mix)
    assert answer.status_code == 422
    assert "smallest size must not be above the largest, not 3 and 1.5" in answer.text
    assert client.put(f"/api/worlds/{made['id']}/covers/snow", json=rock | {"rule": None}).status_code == 200
    assert client.patch(f"/api/worlds/{made['id']}/covers/gone", json={"name": "Gone"}).status_code == 404
    odd = client.patch(f"/api/worlds/{made['id']}/covers/snow", json={"texture": "velvet"})
    assert odd.status_code == 422
    assert "turf" in odd.text


# Imports


def send(client: TestClient, content: bytes, **form: object) -> Any:
    return client.post("/api/worlds/import", files={"file": ("land", content)}, data={"name": "In", **form})


def test_real_land_comes_in_from_both_formats_with_the_same_elevations(client: TestClient) -> None:
    land = jacksboro()[:120, :150]
    low, high = float(land.min()), float(land.max())
    files = {
        "asc": (b"".join(asc_lines(iter([land]), *land.shape, 30.0)), {}),
        "png": (heights_png(land, low, high), {"spacing_m": 30, "lowest_m": low, "highest_m": high}),
    }
    for name, (content, form) in files.items():
        answer = send(client, content, **form)
        assert answer.status_code == 202
        job = done(client, answer)
        world = client.get(f"/api/worlds/{job['result']['world']}").json()
        assert world["tracts"][0]["rows"] == 120
        assert world["tracts"][0]["spacing_m"] == 30
        tract = world["tracts"][0]["id"]
        back = np.frombuffer(client.get(f"/api/tracts/{tract}/heights").content, "<f4").reshape(land.shape)
        assert np.abs(back - land).max() <= (0 if name == "asc" else (high - low) / 65_535 / 2 + 1e-4)
        if name == "asc":
            assert client.get(f"/api/tracts/{tract}/heights.asc").content == content


def test_a_bad_upload_is_refused_with_a_message_and_leaves_nothing(client: TestClient) -> None:
    huge = (
        b"\x89PNG\r\n\x1a\n"
        + struct.pack(">I", 13)
        + b"IHDR"
        + struct.pack(">IIBBBBB", 2**31 - 1, 2**31 - 1, 16, 0, 0, 0, 0)
    )
    scale = {"spacing_m": 1, "lowest_m": 0, "highest_m": 9}
    for content, form, words in (
        (b"GIF89a", {}, "must be one of"),
        (huge + b"\0" * 20, scale, "posts on each side"),
        (heights_png(np.eye(9, dtype=np.float32), 0, 1), {}, "lowest_m is needed"),
        (b"ncols 2\nnrows 2\ncellsize 1\n1 2 3", {}, "cut short: 3 of 4"),
    ):
        assert words in done(client, send(client, content, **form), "failed")["message"]
    assert send(client, b"x", spacing_m="wide").status_code == 422
    assert send(client, b"x", spacing_m=-1).status_code == 422
    assert send(client, b"x", name=" ").status_code == 422
    assert client.post("/api/worlds/import", data={"name": "no file"}).status_code == 422
    cut = b'--b\r\nContent-Disposition: form-data; name="file"; filename="x"\r\n\r\nabc'
    headers = {"content-type": "multipart/form-data; boundary=b"}
    assert client.post("/api/worlds/import", content=cut, headers=headers).status_code in (400, 422)
    assert client.get("/api/worlds").json() == []
    studio = client.app.state.studio  # type: ignore[attr-defined]
    assert not list((studio.data / "incoming").iterdir())


def test_the_openapi_description_holds_every_public_call(client: TestClient) -> None:
    paths = client.get("/openapi.json").json()["paths"]
    for path, method in (
        ("/healthz", "get"),
        ("/api/worlds", "post"),
        ("/api/worlds/import", "post"),
        ("/api/worlds/{world}", "patch"),
        ("/api/tracts/{tract}/strokes", "post"),
        ("/api/tracts/{tract}/heights", "get"),
        ("/api/tracts/{tract}/spot", "get"),
        ("/api/tracts/{tract}/plan.png", "get"),
        ("/api/worlds/{world}/undo", "post"),
        ("/api/worlds/{world}/revisions", "get"),
        ("/api/jobs/{job}", "delete"),
        ("/api/jobs/{job}/events", "get"),
        ("/api/worlds/{world}/handover", "post"),
        ("/api/worlds/{world}/handover.zip", "get"),
        ("/api/worlds/{world}/changes", "get"),
    ):
        assert method in paths[path], path


def test_heights_from_afar_say_what_the_ground_around_each_post_comes_to(
    client: TestClient, made: dict[str, Any]
) -> None:
    tract = made["tracts"][0]
    url = f"/api/tracts/{tract['id']}/heights"
    whole = {"row0": 0, "col0": 0, "row1": tract["rows"], "col1": tract["cols"]}
    assert client.post(f"/api/tracts/{tract['id']}/strokes", json=STROKE).status_code == 200

    def asked(**more: Any) -> np.ndarray:
        answer = client.get(url, params={**whole, **more})
        shape = tuple(int(n) for n in answer.headers["x-shape"].split(","))
        return np.frombuffer(answer.content, "<f4").reshape(shape)

    posts = asked()
    for of, furthest in (("highest", maximum_filter), ("lowest", minimum_filter)):
        assert np.array_equal(asked(step=16, of=of), furthest(posts, 17)[::16, ::16])
    mean = asked(step=16, of="mean")
    assert (asked(step=16, of="lowest") <= mean).all()
    assert (mean <= asked(step=16, of="highest")).all()
    assert np.array_equal(asked(step=16), posts[::16, ::16])
    refused = client.get(url, params={**whole, "of": "median"})
    assert refused.status_code == 422
    assert "post, mean, lowest, highest" in refused.json()["errors"][0]["message"]


def test_every_row_of_the_demo_fits_the_schema_of_its_sort(client: TestClient) -> None:
    """By an independent validator (jsonschema-rs, draft 2020-12); what does not fit a row does not fit its schema."""
    kept = json.loads((Path(fernfield.demo.__file__).parent / "rows.json").read_text().replace("tract-", "t000000000"))
    schemas = {name: validator_for(client.get(f"/api/schemas/{name}.json").json())
               for name in client.get("/api/schemas").json()}  # fmt: skip
    assert {"road", "thing", "scatter", "tract"} <= set(schemas)
    assert client.get("/api/schemas/nothing.json").status_code == 404
    rows = [(name, key, row) for name, some in kept["rows"].items() for key, row in some.items()]
    for name, key, row in rows:
        own = {field: value for field, value in row.items() if field != "_v"}
        wrong = [one.message for one in schemas[name_of(HOUSE.collections[name])].iter_errors(own)]
        assert wrong == [], (name, key)
    assert len(rows) > 100
    assert not schemas["road"].is_valid({"name": "R", "points": [[1, 2]]})
    assert not schemas["thing"].is_valid({"sort": "piece", "kit": "cairn", "name": "C", "x": "east", "y": 1})
