"""The pages and fragments, by what a person would read in them."""

import html as html_module
import io
import json
import re
import threading
import time
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.checks.finding import Finding
from fernfield.formats.asc import asc_lines
from fernfield.work.house import HOUSE
from fernfield.work.kernel.checking import Check
from fernfield.work.kernel.jobs import Job, JobKind
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from tests.core.real_land import jacksboro
from tests.waits import done, until_true

WORLD = {"name": "Paper", "width_m": 128, "depth_m": 64, "spacing_m": 1, "elevation_m": 5, "sea_level_m": 0}


@pytest.fixture
def made(client: TestClient) -> dict[str, Any]:
    return dict(client.post("/api/worlds", json=WORLD).json())


def text_of(html: str) -> str:
    """What is read of a page: tags gone, white space folded."""
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", html))


def test_the_first_page_lists_name_extent_change_and_picture(client: TestClient, made: dict[str, Any]) -> None:
    html = client.get("/").text
    text = text_of(html)
    assert "Paper" in text
    assert "128 × 64 m, a post every 1 m" in text
    assert re.search(r"changed \d{2} \w{3} \d{4}, \d{2}:\d{2}", text)
    picture = re.search(r'<img\s+src="([^"]+)"', html)
    assert picture is not None
    answer = client.get(picture[1].replace("&amp;", "&"))
    assert answer.headers["content-type"] == "image/png"
    client.delete(f"/api/worlds/{made['id']}")
    assert "There is no world on this table yet" in client.get("/").text


def test_the_live_picture_tells_what_a_world_costs_or_what_is_wrong(client: TestClient) -> None:
    def picture(**fields: Any) -> str:
        spec = {k: v for k, v in WORLD.items() if k != "name"} | fields
        return str(client.get("/make/picture", params={"spec": json.dumps(spec)}).text)

    text = text_of(picture(width_m=2048, depth_m=1024, spacing_m=0.5))
    for words in ("4,097 × 2,049, 8,394,753 in all", "32 MiB", "2,048 m", "11 min", "1 m wide", "1 m ridge", "yes"):
        assert words in text, words
    # 2,048 m at the walker's 3 m/s are 683 s; 8,394,753 posts of 4 bytes are 32.02 MiB.
    assert round(2048 / 3 / 60) == 11
    assert "no: some engines ask for that" in picture(width_m=300, depth_m=300)
    seed = {"ground": "seed", "recipe": {"landscapes": [{"name": "fells"}, {"name": "moor"}], "blend_m": 100}}
    assert "fells has features of 1200 m; the region is 64 m across" in picture(begin=seed)
    image = re.search(r'<image href="([^"]+)"', picture(begin={"ground": "rim", "width_m": 12, "steep_deg": 55}))
    assert image is not None
    assert client.get(image[1].replace("&amp;", "&")).headers["content-type"] == "image/png"
    for fields, words in (
        ({"width_m": 100.5}, "width must be a whole number of spacings (1.0 m), not 100.5 m"),
        ({"depth_m": "deep"}, "Depth, south to north must be a number, not"),
        ({"width_m": 99_999}, "at most 16385 are allowed"),
        ({"begin": {"ground": "rim", "width_m": 60}}, "width_m must be 3 m (three posts) to 31 m (half the tract)"),
        ({"begin": {"ground": "moon"}}, "sea_floor"),
    ):
        assert words in text_of(picture(**fields)), fields
    for spec in ("{", "[]", "null", "5"):
        assert "alert-danger" in client.get("/make/picture", params={"spec": spec}).text
    assert client.get("/api/worlds").json() == []


def test_the_bin_asks_before_it_deletes_for_good(client: TestClient, made: dict[str, Any]) -> None:
    assert client.delete(f"/api/worlds/{made['id']}").status_code == 204
    shelf = text_of(client.get("/").text)
    assert "There is no world on this table yet" in shelf
    assert "Bring it back" in shelf
    asked = client.get(f"/bin/{made['id']}/ask").text
    assert "Delete Paper for good?" in asked
    assert client.post(f"/api/bin/{made['id']}/restore").json()["name"] == "Paper"
    assert client.get(f"/worlds/{made['id']}").status_code == 200
    client.delete(f"/api/worlds/{made['id']}")
    assert client.delete(f"/api/bin/{made['id']}").status_code == 204
    assert client.get("/api/bin").json() == []
    assert client.post(f"/api/bin/{made['id']}/restore").status_code == 404


def read_file(client: TestClient, content: bytes, **form: Any) -> str:
    """Send a file and wait until it was read; returns its id."""
    sent = client.post("/api/files", files={"file": ("heath.tif", content)}, data=form)
    done(client, sent)
    return str(sent.json()["file"])


def test_a_file_is_read_looked_at_and_placed(client: TestClient, made: dict[str, Any]) -> None:
    land = jacksboro()[:80, :120]
    content = b"".join(asc_lines(iter([land]), 80, 120, 90.0))
    file = read_file(client, content)
    facts = client.get(f"/api/files/{file}").json()
    assert (facts["rows"], facts["cols"], facts["spacing_m"], facts["missing"]) == (80, 120, 90, 0)
    assert (facts["lowest"], facts["highest"]) == (land.min(), land.max())
    assert sum(facts["counts"]) == land.size
    page = client.get(f"/files/{file}/place").text
    for words in ("ESRI ASCII grid", "heath.tif", "120 × 80", "as they stand"):
        assert words in page
    assert "a new tract of Paper" in client.get(f"/files/{file}/place", params={"world": made["id"]}).text
    shown = client.post(f"/api/files/{file}/preview", json={"crop": [0, 0, 40, 60], "turn_deg": 90}).json()
    assert (shown["rows"], shown["cols"], shown["width_m"]) == (60, 40, 39 * 90)
    assert client.get(f"/api/files/{file}/preview.png").headers["content-type"] == "image/png"
    assert client.get(f"/api/files/{file}/preview.png", params={"sea_level_m": "nan"}).status_code == 422
    bad = client.post(f"/api/files/{file}/preview", json={"crop": [0, 0, 99, 60]})
    assert bad.status_code == 422
    assert "within 80 rows and 120 columns" in bad.json()["detail"]
    assert client.post(f"/api/files/{file}/preview", json={"turn_deg": 45}).status_code == 422
    # As a tract of a world, then pressed into a plot of it.
    body: dict[str, Any] = {"world": made["id"], "name": "Fault", "x": 500}
    job = done(client, client.post(f"/api/files/{file}/tract", json=body))
    assert job["result"]["world"] == made["id"]
    tract = job["result"]["tract"]
    back = np.frombuffer(client.get(f"/api/tracts/{tract}/heights").content, "<f4").reshape(land.shape)
    assert np.array_equal(back, land)
    assert client.get(f"/api/files/{file}").status_code == 404, "it was placed and is gone"
    file = read_file(client, content)
    main = made["tracts"][0]["id"]
    body = {"tract": main, "box": [20, 10, 100, 50], "feather_m": 0, "lift_m": -200}
    done(client, client.post(f"/api/files/{file}/press", json=body))
    pressed = np.frombuffer(client.get(f"/api/tracts/{main}/heights").content, "<f4").reshape(65, 129)
    assert pressed[14, 20] == pytest.approx(float(land[0, 0]) - 200, abs=1)
    assert pressed[54, 100] == pytest.approx(float(land[-1, -1]) - 200, abs=1)
    assert (pressed[:14] == 5).all()
    assert (pressed[:, 101:] == 5).all()
    client.post(f"/api/worlds/{made['id']}/undo")
    assert np.frombuffer(client.get(f"/api/tracts/{main}/heights").content, "<f4").max() == 5
    # A file that is bad is told of, and one that waits can be dropped.
    file = read_file(client, content)
    assert client.delete(f"/api/files/{file}").status_code == 204
    studio = client.app.state.studio  # type: ignore[attr-defined]
    assert not list((studio.data / "incoming").iterdir())


def test_setting_up_and_layout_over_the_api(client: TestClient, made: dict[str, Any]) -> None:
    base, tract = f"/api/worlds/{made['id']}", made["tracts"][0]["id"]
    client.patch(base, json={"description": "Two banks and a sluice."})
    assert client.get(base).json()["description"] == "Two banks and a sluice."
    assert client.patch(base, json={"description": "x" * 2001}).status_code == 422
    assert client.get(f"{base}/icon.png").status_code == 404
    assert client.post(f"{base}/icon", json={}).status_code == 200
    icon = Image.open(io.BytesIO(client.get(f"{base}/icon.png").content))
    assert icon.size == (120, 120) or icon.size[0] == icon.size[1] <= 120
    own = io.BytesIO()
    Image.new("RGB", (300, 200), (10, 120, 60)).save(own, "JPEG")
    assert client.put(f"{base}/icon", files={"file": ("i.jpg", own.getvalue())}).status_code == 200
    icon = Image.open(io.BytesIO(client.get(f"{base}/icon.png").content))
    assert icon.size == (120, 120)
    for bad in (b"GIF89a....", b"\x89PNG\r\n\x1a\n" + b"\0" * 40, b""):
        assert client.put(f"{base}/icon", files={"file": ("i", bad)}).status_code == 422
    assert client.delete(f"{base}/icon").status_code == 200
    assert client.post(f"/api/tracts/{tract}/boundary", json={"width_m": 9, "sheet": "none"}).status_code == 404
    for page in ("setup", "layout"):
        assert "Paper" in client.get(f"/worlds/{made['id']}/{page}").text
    spec = {"name": "East", "x": 128, "width_m": 64, "depth_m": 64, "spacing_m": 1, "elevation_m": 9}
    answer = client.post(f"{base}/tracts", json=spec)
    assert answer.status_code == 201
    east = answer.json()["tract"]
    layout = client.get(f"{base}/layout").json()
    assert [t["name"] for t in layout["tracts"]] == ["Main tract", "East"]
    assert layout["touching"][0]["gap_m"] == 4
    assert client.post(f"{base}/joins", json={"first": tract, "second": east, "blend_m": 20}).status_code == 200
    assert client.get(f"{base}/layout").json()["touching"][0] | {} == {
        "first": tract, "second": east, "side": "east", "along_m": 64, "why_not": None, "gap_m": 0,
        "joined": f"{tract}-{east}", "blend_m": 20,
    }  # fmt: skip
    assert client.patch(f"/api/tracts/{east}", json={"x": 200, "name": "Far"}).status_code == 200
    assert client.get(f"{base}/layout").json()["touching"] == []
    assert client.post(f"{base}/joins", json={"first": tract, "second": east}).status_code == 409
    for body in ({"width_m": 0}, {"begin": {"ground": "seed", "recipe": {}}}, {"kind": "sky"}):
        assert client.post(f"{base}/tracts", json={**spec, **body}).status_code == 422
    loss = client.get(f"/api/tracts/{east}/loss", params={"spacing_m": 2}).json()
    assert loss["greatest_m"] < 2
    assert client.get(f"/api/tracts/{east}/loss.png", params={"spacing_m": 2}).headers["content-type"] == "image/png"
    assert client.get(f"/api/tracts/{east}/loss", params={"spacing_m": 3}).status_code == 422
    done(client, client.post(f"/api/tracts/{east}/respace", json={"spacing_m": 2}))
    assert client.get(f"/api/tracts/{east}/spot?x=1&y=1").status_code == 404, "it has another id now"
    twin = done(client, client.post(f"{base}/copy", json={"name": "Twin"}))["result"]["world"]
    assert [t["rows"] for t in client.get(f"/api/worlds/{twin}").json()["tracts"]] == [65, 33]
    seed = {**WORLD, "begin": {"ground": "seed", "recipe": {"landscapes": [{"name": "moor"}], "seed": 3}}}
    answer = client.post("/api/worlds", json=seed)
    job, begun = done(client, answer), answer.json()
    assert "Moor" in job["result"]["suits"][0]
    assert client.get(f"/api/worlds/{begun['id']}/recipes").json()[0]["suits"][0]["growth"] == 0.08
    dressed = client.post(f"/api/tracts/{begun['tracts'][0]['id']}/dress", json={"sheet": "land"})
    assert dressed.status_code == 200
    assert dressed.json()["revision"] == 2


def test_an_import_can_be_cancelled_from_its_card(client: TestClient) -> None:
    studio = client.app.state.studio  # type: ignore[attr-defined]

    def work(job: Job) -> dict[str, Any]:
        for i in range(900):
            time.sleep(0.01)
            job.step(i / 1e3, "Working")
        return {}

    waits = studio.jobs.start(JobKind("import", "Working", work), None)
    html = client.get(f"/jobs/{waits.id}/card").text
    assert 'role="progressbar"' in html
    begin = time.monotonic()
    client.delete(f"/jobs/{waits.id}/card")
    until_true(lambda: waits.ended)
    assert waits.state == "cancelled"
    assert time.monotonic() - begin < 1
    assert "nothing was changed" in client.get(f"/jobs/{waits.id}/card").text


@pytest.mark.parametrize(
    ("stage", "words"),
    [
        ("ground", ("Raise", "Lower", "Smooth", "Flatten", "Radius", "Softness", "Strength")),
        ("cover", ("Paint", "Take away", "Give back", "Rules", "Raggedness", "Transitions", "Guises", "Tile size")),
        ("growth", ("Sow", "Thin", "Clear", "Glade", "Density", "Smallest", "Largest", "Seed", "Habitat", "Form")),
        ("water", ("Sea level",)),
        ("light", ("Bearing", "Height")),
        ("sites", ("Start", "In what order", "A new scatter")),
        ("trial", ("There is no default start",)),
        ("handover", ("has not been handed over yet",)),
    ],
)
def test_each_stage_has_its_bench(client: TestClient, made: dict[str, Any], stage: str, words: tuple[str, ...]) -> None:
    text = text_of(client.get(f"/worlds/{made['id']}/bench/{stage}").text)
    for word in words:
        assert word in text


def test_a_stage_that_is_not_there_is_named(client: TestClient, made: dict[str, Any]) -> None:
    answer = client.get(f"/worlds/{made['id']}/bench/attic")
    assert answer.status_code == 404
    assert "stage must be one of ground, cover" in answer.text


def test_a_rule_and_a_mix_are_set_field_by_field_and_bad_ones_refused(client: TestClient, made: dict[str, Any]) -> None:
    base = f"/api/worlds/{made['id']}"
    assert client.patch(f"{base}/covers/rock", json={"rule": {"above_deg": 25, "blend_deg": 3}}).status_code == 200
    refused = client.patch(f"{base}/covers/rock", json={"rule": {"above_deg": 250}})
    assert refused.status_code == 422
    assert refused.json()["errors"][0]["field"] == "rule.above_deg"
    rock = client.get(base).json()["covers"][3]
    assert (rock["rule"], rock["name"]) == ({"above_deg": 25, "blend_deg": 3}, "Rock")
    assert 'value="25"' in client.get(f"/worlds/{made['id']}/bench/cover").text
    client.patch(f"{base}/covers/rock", json={"rule": None})
    assert client.get(base).json()["covers"][3]["rule"] is None
    kinds = f"{base}/mixes/mix/kinds"
    assert client.patch(kinds, json={"tree": {"weight": 500}}).status_code == 200
    assert client.patch(f"{kinds}/boulder", json={"apart_m": 6}).status_code == 200
    client.patch(f"{base}/mixes/mix", json={"seed": 9})
    found = client.get(base).json()["mixes"][0]
    tree, boulder = found["kinds"]
    assert (found["seed"], tree["weight"], boulder["weight"], boulder["apart_m"]) == (9, 500, 25, 6)
    for bad in ({"tree": {"size_min": 9}}, {"tree": {"weight": "many"}}, {"oak": {"size_min": 1}}, {"tree": {"x": 1}}):
        assert client.patch(kinds, json=bad).status_code in (404, 422), bad
    assert client.patch(f"{base}/mixes/mix", json={"seed": -1}).status_code == 422
    assert client.get(base).json()["mixes"][0] == found


def test_the_logbook_says_what_was_done(client: TestClient, made: dict[str, Any]) -> None:
    assert "Nothing has been done yet" in client.get(f"/worlds/{made['id']}/logbook").text
    client.patch(f"/api/worlds/{made['id']}", json={"sea_level_m": 7})
    client.post(f"/api/worlds/{made['id']}/undo")
    text = text_of(client.get(f"/worlds/{made['id']}/logbook").text)
    assert "r2 Undid r1: Sea level 7 m" in text
    assert "r1 Sea level 7 m" in text


def test_the_handover_page_says_when_the_package_is_old(client: TestClient, made: dict[str, Any]) -> None:
    html = client.post(f"/api/worlds/{made['id']}/handover", headers={"hx-request": "true"}).text
    while again := re.search(r'hx-get="([^"]+)"', html):
        html = client.get(again[1]).text
    assert "Package of r0 is ready" in text_of(html)
    bench = f"/worlds/{made['id']}/bench/handover"
    assert "holds r0, the world as it is now" in text_of(client.get(bench).text)
    client.patch(f"/api/worlds/{made['id']}", json={"name": "Changed"})
    assert "The last package holds r0" in text_of(client.get(bench).text)
    assert client.get(f"/api/worlds/{made['id']}/handover").json()["stale"] is True


def test_opening_handover_waits_for_no_check(client: TestClient, made: dict[str, Any]) -> None:
    """The checks of a large world take seconds: the panel is there at once, and findings come into it one by one."""
    asked, go_on = [], threading.Event()

    def slow(world: OpenWorld) -> list[Finding]:
        asked.append(world.revision)
        assert go_on.wait(60)
        return [Finding("slow", "Three spikes stand on Reach.", "Smooth them.", True)]

    studio: Studio = client.app.state.studio  # type: ignore[attr-defined]
    own = (
        Check("quick", lambda world: [Finding("quick", "Two pits lie there.", "Fill them.", False)]),
        Check("slow", slow),
    )
    studio.house = replace(HOUSE, rooms=(replace(HOUSE.rooms[0], checks=own),))
    panel = client.get(f"/worlds/{made['id']}/bench/handover").text
    assert not asked
    part = re.search(r'hx-get="([^"]+/findings)" hx-trigger="load,', panel)
    assert part is not None
    findings = part[1]
    for _ in range(2):
        first = client.get(findings).text
        assert re.search(r"Findings 1 .*Still looking: slow … .*Two pits", text_of(first))
        assert re.search(rf'hx-get="{findings}"[^>]*hx-trigger="every', first)
    go_on.set()
    until_true(lambda: "Still looking" not in client.get(findings).text)
    assert re.search(r"Findings 2 .*Three spikes.*Two pits", text_of(client.get(findings).text))
    # Once for this state of the world; anew for another one.
    assert asked == [0]
    client.put(f"/api/worlds/{made['id']}/plots/p", json={"name": "Fen", "points": [[0, 0], [9, 0], [9, 9]]})
    assert "Three spikes" in until_true(lambda: client.get(findings).text * (len(asked) > 1))
    assert asked == [0, 1]
    # Who left while the checks looked, and comes back to another world, is not told of the one before.
    go_on.clear()
    plot = {"name": "Fen", "points": [[0, 0], [9, 0], [9, 9]]}
    client.put(f"/api/worlds/{made['id']}/plots/q", json=plot)
    assert "Still looking" in client.get(findings).text
    until_true(lambda: len(asked) == 3)
    client.put(f"/api/worlds/{made['id']}/plots/r", json=plot)
    go_on.set()
    studio.findings(made["id"])
    assert "checked: 3" in client.get(findings).text
    assert asked == [0, 1, 2, 3]


def test_the_page_is_told_every_row_that_its_panels_list(client: TestClient) -> None:
    spec = {"name": "Panel", "width_m": 100, "depth_m": 100, "spacing_m": 1}
    world = client.post("/api/worlds", json=spec).json()["id"]
    base = f"/api/worlds/{world}"
    client.put(f"{base}/sheets/b", json={"name": "Banks & dykes", "weight": 0.5, "locked": True})
    client.put(f"{base}/plots/p", json={"name": "North <fen>", "points": [[0, 0], [9, 0], [9, 9]]})
    client.put(f"{base}/levels/l", json={"name": "Yard", "elevation_m": 7.25})
    client.put(f"{base}/symmetry", json={"kind": "turn", "x": 50, "y": 50, "times": 3})
    page = client.get(f"/worlds/{world}").text
    found = re.search(r"data-boot='([^']*)'", page)
    assert found is not None
    told = json.loads(html_module.unescape(found[1]))["world"]
    assert told["sheets"][0] | {"name": "Banks & dykes", "weight": 0.5, "locked": True} == told["sheets"][0]
    assert told["plots"][0]["name"] == "North <fen>"
    assert (told["levels"][0]["elevation_m"], told["symmetry"]["times"]) == (7.25, 3)
    panel = client.get(f"/worlds/{world}/bench/ground").text
    for tool in ("smooth", "flatten", "roughen", "weather", "grade", "imprint"):
        assert f'data-own="{tool}"' in panel
    # No list of rows is in a panel: none has to be fetched again because of an edit.
    assert "Banks" not in panel
    assert "North" not in panel.replace("North</label>", "")


def test_the_logbook_page_shows_keepsakes_and_how_far_back_it_reaches(client: TestClient) -> None:
    spec = {"name": "Book", "width_m": 100, "depth_m": 100, "spacing_m": 1}
    world = client.post("/api/worlds", json=spec).json()["id"]
    client.patch(f"/api/worlds/{world}", json={"name": "Book two"})
    client.put(f"/api/worlds/{world}/revisions/1/keepsake", json={"name": "First name"})
    page = client.get(f"/worlds/{world}/logbook").text
    assert "It reaches back to r1." in page
    assert "of 1024 MiB" in page
    assert '<span class="keepsake">First name</span>' in page
    assert "where.png" in page
