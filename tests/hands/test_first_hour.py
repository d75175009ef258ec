"""A newcomer: an empty table offers ways to begin, the first steps are done by doing them, the demo comes as a job."""

from __future__ import annotations

import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from playwright.sync_api import Page, expect

from fernfield.core.errors import Cancelled
from fernfield.demo.reach import NAME, build_demo
from fernfield.web.app import create_app
from fernfield.work.studio import Studio
from fernfield.work.warm import STEPS, compiling, warm_kernels
from tests.browser.driving import until
from tests.browser.table import WAIT
from tests.waits import done

A_DEMO_S = 600
"""How long the demo may take where everything else wants the processors too."""


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[str]:
    """The address of a server on an empty folder; asked for before the page, which then closes before it ends."""
    command = [sys.executable, "-u", "-m", "fernfield.cli", "serve", "--port", "0", "--data", str(tmp_path / "data")]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        yield next(found[1] for line in process.stdout if (found := re.search(r"(http://127\.0\.0\.1:\d+)/", line)))
        process.terminate()


def test_from_an_empty_table_through_the_first_steps(empty: str, page: Page) -> None:
    # With all that sways and slides, as most people have it.
    page.emulate_media(reduced_motion="no-preference")
    page.goto(empty)
    page.evaluate("localStorage.setItem('fern.first', '0')")
    expect(page.locator(".empty")).to_contain_text("Three ways to begin")
    page.get_by_role("button", name="A first world").click()
    page.wait_for_url("**/worlds/w*", timeout=WAIT)
    until(page, "window.fern && document.getElementById('bench').dataset.shows === 'ground' && fern.counts.tiles > 0")
    card = page.locator("#first")
    expect(card).to_contain_text("Raise the ground")
    box = page.locator("#flat").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2 - 60
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 60, y, steps=10)
    page.mouse.up()
    expect(card).to_contain_text("Look at it")
    page.locator(".views [data-view=overlook]").click()
    page.keyboard.press(",")
    expect(card).to_contain_text("Take it back")
    page.locator("#undo").click()
    expect(card).to_contain_text("Lay a cover on")
    page.locator(".views [data-view=plan]").click()
    page.locator("[data-stage=cover]").click()
    until(page, "document.getElementById('bench').dataset.shows === 'cover'")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 40, y, steps=10)
    page.mouse.up()
    expect(card).to_contain_text("Walk on it")
    page.locator("[data-stage=trial]").click()
    until(page, "document.getElementById('bench').dataset.shows === 'trial'")
    page.mouse.click(x, y)
    until(page, "fern.state.walking")
    page.keyboard.press("Escape")
    expect(card).to_contain_text("That was all")
    card.get_by_role("button", name="Close").click()
    expect(card).to_be_hidden()
    # They do not come again by themselves, and do when they are asked for.
    page.reload()
    until(page, "window.fern && fern.counts.tiles > 0")
    expect(card).to_be_hidden()
    page.locator("#world-menu > button").click()
    page.locator("[data-first-walk]").click()
    expect(card).to_contain_text("1 of 5")
    card.get_by_role("button", name="Leave the first steps").click()
    expect(card).to_be_hidden()
    # What is still missing is told on Handover, with the way to where it is put right.
    page.locator("[data-stage=handover]").click()
    page.locator("#findings").get_by_role("button", name="To Sites").click()
    expect(page.locator("#bench")).to_have_attribute("data-shows", "sites")
    expect(page.locator("[data-stage=sites]")).to_be_focused()


def test_the_demo_is_made_from_an_empty_table(empty: str, page: Page) -> None:
    page.goto(empty)
    page.get_by_role("button", name="The demo world").click()
    expect(page.locator("#demo-job .job")).to_contain_text(re.compile("Shaping|Laying|Noting|Joining|open it"))
    page.locator("#demo-job").get_by_role("link", name="open it").click(timeout=A_DEMO_S * 1000)
    until(page, "window.fern && fern.counts.tiles > 3 && fern.rows('things').length > 0")
    expect(page.locator(".world-name span")).to_have_text(NAME)


def test_a_demo_that_is_cancelled_leaves_nothing(tmp_path: Path) -> None:
    studio = Studio(tmp_path)

    def stop(share: float, words: str) -> None:
        if share > 0.4:
            raise Cancelled("enough")

    with pytest.raises(Cancelled):
        build_demo(studio, stop)
    assert list(studio.worlds()) == []
    assert studio.listed()[0] == []
    assert not (tmp_path / "demo-being-made").exists()
    studio.close()


def test_a_server_without_a_demo_says_so(client: TestClient) -> None:
    answer = client.post("/api/demo")
    assert answer.status_code == 404
    assert "without a demo" in answer.json()["detail"]


def test_the_demo_by_the_api(tmp_path: Path) -> None:
    studio = Studio(tmp_path)
    made: list[str] = []
    both_asked = threading.Event()

    def build(at: Studio, say: object) -> str:
        made.append("once")
        assert both_asked.wait(60)
        return "w1"

    with TestClient(create_app(studio, demo=build), base_url="http://127.0.0.1") as client:
        begun = client.post("/api/demo")
        # Whoever asks while it is being made gets the same job: two would take each other's world away.
        assert client.post("/api/demo").json() == begun.json()
        both_asked.set()
        assert done(client, begun)["result"] == {"world": "w1"}
    assert made == ["once"]


def test_haste_makes_the_same_land(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A stroke drawn six times as quickly, with six times the strength, is the same work in fewer dabs."""
    from fernfield.demo import reach
    from fernfield.work.worlds.beginnings import WorldSpec

    studio = Studio(tmp_path)
    lands = []
    for haste in (1.0, reach.HASTE):
        monkeypatch.setattr(reach, "HASTE", haste)
        spec = WorldSpec(name="H", width_m=300, depth_m=300, spacing_m=1.0, elevation_m=10.0, sea_level_m=0.0)
        world = studio.world(studio.create(spec))
        hand = reach._Hand(world)
        hand("raise", [(60, 150), (150, 200), (240, 140)], radius=40, strength=3, seconds=12)
        hand("lower", [(60, 100), (240, 120)], radius=20, softness=0.7, strength=2, seconds=10)
        hand("smooth", [(100, 150), (200, 160)], radius=30, strength=150, seconds=6)
        tract = world.first_tract
        lands.append(world.land(tract.row.id).read("height", tract.grid.window).copy())
    assert np.ptp(lands[0]) > 5
    assert np.abs(lands[0] - lands[1]).max() < 0.05 * np.ptp(lands[0])
    studio.close()


def test_compiling_says_how_far_it_is() -> None:
    told: list[tuple[int, int]] = []
    warm_kernels(lambda done, of: told.append((done, of)))
    assert told == [(k, len(STEPS)) for k in range(len(STEPS) + 1)]


def test_a_second_start_finds_everything_compiled() -> None:
    ask = [sys.executable, "-c", "from fernfield.core.kernels import compiled_before; print(compiled_before())"]
    subprocess.run(ask, check=True)
    assert subprocess.run(ask, check=True, capture_output=True, text=True).stdout == "True\n"


def test_what_is_compiled_beside_is_told_and_loaded(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fernfield.work.warm.compiled_before", lambda: False)
    beside = compiling()
    assert beside is not None
    told: list[tuple[int, int]] = []
    beside.follow(lambda done, of: told.append((done, of)))
    assert told == [(k, len(STEPS)) for k in range(len(STEPS) + 1)]
