"""The pages and fragments, by what a person would read in them."""

import re
import time
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.formats.asc import asc_lines
from tests.core.real_land import jacksboro

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
    picture = re.search(r'<img src="([^"]+)"', html)
    assert picture is not None
    answer = client.get(picture[1].replace("&amp;", "&"))
    assert answer.headers["content-type"] == "image/png"
    client.delete(f"/api/worlds/{made['id']}")
    assert "There is no world yet" in client.get("/").text


def test_the_form_keeps_what_was_typed_and_says_what_is_wrong(client: TestClient) -> None:
    form = {**{k: str(v) for k, v in WORLD.items()}, "width_m": "100.5"}
    answer = client.post("/worlds", data=form)
    assert "width must be a whole number of spacings (1.0 m), not 100.5 m" in text_of(answer.text)
    assert 'value="100.5"' in answer.text
    assert 'value="Paper"' in answer.text
    for change, words in (({"name": " "}, "name"), ({"depth_m": "deep"}, "depth_m"), ({"spacing_m": ""}, "spacing_m")):
        assert words in text_of(client.post("/worlds", data={**form, "width_m": "100", **change}).text)
    assert client.get("/api/worlds").json() == []
    made = client.post("/worlds", data={**form, "width_m": "100"})
    assert made.status_code == 204
    assert client.get(made.headers["hx-redirect"]).status_code == 200


def test_deleting_asks_first_and_can_be_called_off(client: TestClient, made: dict[str, Any]) -> None:
    asked = text_of(client.get(f"/worlds/{made['id']}/delete").text)
    assert "Delete Paper?" in asked
    assert "for good" in asked
    assert "Open" in text_of(client.get(f"/worlds/{made['id']}/card").text)
    assert len(client.get("/api/worlds").json()) == 1
    assert client.delete(f"/worlds/{made['id']}").text == ""
    assert client.get("/api/worlds").json() == []


def test_an_import_shows_its_progress_and_then_the_world(client: TestClient) -> None:
    land = jacksboro()[:30, :40]
    content = b"".join(asc_lines(iter([land]), 30, 40, 90.0))
    html = client.post("/worlds/import", files={"file": ("a.asc", content)}, data={"name": "Fault"}).text
    for _ in range(200):
        again = re.search(r'hx-get="([^"]+)"', html)
        if again is None:
            break
        assert "Cancel" in html
        time.sleep(0.02)
        html = client.get(again[1]).text
    link = re.search(r'href="(/worlds/[^"]+)"', html)
    assert link is not None
    assert "Fault" in client.get(link[1]).text
    bad = client.post("/worlds/import", files={"file": ("a", b"x")}, data={"name": "B", "spacing_m": "-3"}).text
    assert "spacing_m" in text_of(bad)
    assert 'value="B"' in bad


def test_an_import_can_be_cancelled_from_its_card(client: TestClient) -> None:
    studio = client.app.state.studio  # type: ignore[attr-defined]
    waits = studio.jobs.start(
        "import", lambda job: [time.sleep(0.01) or job.step(i / 1e3, "Working") for i in range(900)]
    )
    html = client.get(f"/jobs/{waits.id}/card").text
    assert "<progress" in html
    begin = time.monotonic()
    client.delete(f"/jobs/{waits.id}/card")
    while not waits.ended:
        time.sleep(0.01)
    assert waits.state == "cancelled"
    assert time.monotonic() - begin < 1
    assert "nothing was changed" in client.get(f"/jobs/{waits.id}/card").text


@pytest.mark.parametrize(
    ("stage", "words"),
    [
        ("ground", ("Raise", "Lower", "Smooth", "Flatten", "Radius", "Softness", "Strength")),
        ("cover", ("Paint", "Take away", "Rock", "by slope", "Grass", "base")),
        ("growth", ("Sow", "Thin", "Density", "Smallest", "Largest", "Seed")),
        ("water", ("Sea level",)),
        ("light", ("Bearing", "Height")),
        ("sites", ("Start", "Pump house", "resource", "Nothing is placed yet")),
        ("trial", ("There is no default start",)),
        ("handover", ("has not been handed over yet", "The world has no start.")),
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


def test_a_rule_and_a_mix_are_set_by_form_and_bad_ones_refused(client: TestClient, made: dict[str, Any]) -> None:
    rule = f"/worlds/{made['id']}/covers/rock/rule"
    assert 'value="25"' in client.post(rule, data={"above_deg": "25", "blend_deg": "3"}).text
    assert "above_deg" in text_of(client.post(rule, data={"above_deg": "250"}).text)
    assert client.get(f"/api/worlds/{made['id']}").json()["covers"][3]["rule"] == {"above_deg": 25, "blend_deg": 3}
    client.post(rule, data={"above_deg": ""})
    assert client.get(f"/api/worlds/{made['id']}").json()["covers"][3]["rule"] is None
    mix = f"/worlds/{made['id']}/mixes/mix"
    assert 'value="500"' in client.post(mix, data={"tree.density_per_ha": "500", "seed": "9"}).text
    found = client.get(f"/api/worlds/{made['id']}").json()["mixes"][0]
    assert (found["seed"], found["kinds"][0]["density_per_ha"], found["kinds"][1]["density_per_ha"]) == (9, 500, 25)
    for bad in ({"tree.size_min": "9"}, {"tree.density_per_ha": "many"}, {"seed": "-1"}):
        assert 'role="alert"' in client.post(mix, data=bad).text
    assert client.get(f"/api/worlds/{made['id']}").json()["mixes"][0] == found


def test_the_logbook_says_what_was_done(client: TestClient, made: dict[str, Any]) -> None:
    assert "Nothing has been done yet" in client.get(f"/worlds/{made['id']}/logbook").text
    client.patch(f"/api/worlds/{made['id']}", json={"sea_level_m": 7})
    client.post(f"/api/worlds/{made['id']}/undo")
    text = text_of(client.get(f"/worlds/{made['id']}/logbook").text)
    assert "r2 Undid r1: Sea level 7 m" in text
    assert "r1 Sea level 7 m" in text


def test_the_handover_page_says_when_the_package_is_old(client: TestClient, made: dict[str, Any]) -> None:
    html = client.post(f"/worlds/{made['id']}/handover").text
    for _ in range(200):
        again = re.search(r'hx-get="([^"]+)"', html)
        if again is None:
            break
        time.sleep(0.02)
        html = client.get(again[1]).text
    assert "Package of r0 is ready" in text_of(html)
    bench = f"/worlds/{made['id']}/bench/handover"
    assert "holds r0, the world as it is now" in text_of(client.get(bench).text)
    client.patch(f"/api/worlds/{made['id']}", json={"name": "Changed"})
    assert "The world is at r1: hand it over again" in text_of(client.get(bench).text)


def test_the_ground_panel_lists_what_the_world_has(client: TestClient) -> None:
    spec = {"name": "Panel", "width_m": 100, "depth_m": 100, "spacing_m": 1}
    world = client.post("/api/worlds", json=spec).json()["id"]
    base = f"/api/worlds/{world}"
    client.put(f"{base}/sheets/b", json={"name": "Banks & dykes", "weight": 0.5, "locked": True})
    client.put(f"{base}/plots/p", json={"name": "North <fen>", "points": [[0, 0], [9, 0], [9, 9]]})
    client.put(f"{base}/levels/l", json={"name": "Yard", "elevation_m": 7.25})
    client.put(f"{base}/symmetry", json={"kind": "turn", "x": 50, "y": 50, "times": 3})
    panel = client.get(f"/worlds/{world}/bench/ground").text
    for words in ("Banks &amp; dykes", "50 % locked", "North &lt;fen&gt;", "7.25 m", "turned 3 times", "Roughen"):
        assert words in panel, words
    for tool in ("smooth", "flatten", "roughen", "weather", "grade", "imprint"):
        assert f'data-own="{tool}"' in panel
    assert panel.count("Or draw a rectangle") == 3


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
