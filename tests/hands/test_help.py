"""Help for everything: a walk over the registers, the manual and its search, the help sheet, the pictures."""

from __future__ import annotations

import io
import re
from dataclasses import replace

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from playwright.sync_api import Page, expect

from fernfield.core.brush.tool import Tool
from fernfield.core.grid import ByteArray
from fernfield.core.landforms import LANDFORMS
from fernfield.core.settings import Setting
from fernfield.web.kernel.manual import manual, sources
from fernfield.web.page.help import FORMS, form_settings, parts
from fernfield.web.page.shortcuts import shortcuts
from fernfield.web.rooms import PANELS
from fernfield.work.house import HOUSE
from fernfield.work.seen.trying import compared, overlaid, pair, tried
from tests.browser.driving import Server
from tests.browser.table import Table


def wanted() -> set[str]:
    """The key of every tool, setting, landform, overlay, check and stage."""
    keys = {f"stage.{panel.name}" for panel in PANELS}
    for room in HOUSE.rooms:
        keys |= {f"tool.{tool.name}" for tool in room.tools}
        keys |= {f"setting.{tool.name}.{setting.name}" for tool in room.tools for setting in tool.settings}
        keys |= {f"overlay.{laid.overlay.name}" for laid in room.overlays}
        keys |= {f"check.{check.name}" for check in room.checks}
    keys |= {f"landform.{form.name}" for form in LANDFORMS.values()}
    return keys | {f"form.{setting.name}" for form in LANDFORMS.values() for setting in form.settings}


def test_everything_in_the_registers_has_its_text() -> None:
    assert {key for key in wanted() if not manual().get(key)} == set()
    entries = [entry for _, found in parts() for entry in found]
    assert [entry.key for entry in entries if not entry.words] == []
    # And no text is left of what is no more.
    assert set(manual()) - {entry.key for entry in entries} == set()
    assert set(sources()) - set(manual()) == set()


def test_the_texts_have_one_voice() -> None:
    for key, words in manual().items():
        assert re.match(r"[A-Z0-9].*[.]$", words, re.DOTALL), f"{key}: a text is a sentence: {words!r}"
        assert len(words) <= 330, key
        assert not re.search(r"\b(click here|please|simply|just|easily|etc)\b|!", words, re.IGNORECASE), key


def test_every_field_of_a_form_is_in_the_manual() -> None:
    keys = {entry.key for _, found in parts() for entry in found}
    for _, models in FORMS:
        for _, model in models:
            assert any(key.startswith(f"field.{model.__name__}.") for key in keys), model


def test_the_manual_is_found_by_words(client: TestClient) -> None:
    whole = client.get("/help").text
    assert "Lays an even slope" in whole
    some = client.get("/help", params={"q": "SLOPE drag"}).text
    assert "Lays an even slope" in some
    assert "Puts growth down" not in some
    assert "Nothing holds all of these words" in client.get("/help", params={"q": "quagga"}).text
    assert client.get("/help", params={"q": "x" * 81}).status_code == 422
    part = client.get("/help/tool.flatten").text
    assert "Brings the ground to one elevation" in part
    assert "Only cut what is too high" in part
    missing = client.get("/help/tool.nothing")
    assert missing.status_code == 404
    assert "tool.nothing" in missing.json()["detail"]


@pytest.mark.parametrize("name", sorted(HOUSE.tools))
def test_the_picture_of_a_tool_shows_what_it_does(client: TestClient, name: str) -> None:
    """The tool itself is tried: what it does to the ground is in the picture."""
    was = tried(HOUSE.tools[name])
    moved = was.after - was.before
    middle = len(moved) // 2
    assert np.isfinite(was.after).all()
    assert np.abs(moved).max() > 0.01
    if name in ("raise", "paint", "sow", "open", "glade"):
        assert moved[middle] > 0
    elif name in ("lower", "take_away", "thin", "clear", "close", "close_glade"):
        assert moved[middle] < 0
    elif name == "smooth":
        # Bending goes, by the sum of squared second differences.
        assert np.square(np.diff(was.after, 2)).sum() < np.square(np.diff(was.before, 2)).sum()
    elif name == "flatten":
        assert np.ptp(was.after[middle - 10 : middle + 10]) < np.ptp(was.before[middle - 10 : middle + 10])
    elif name == "grade":
        # An even slope along the way: second differences of nothing.
        assert np.abs(np.diff(was.after[40 : len(moved) - 40], 2)).max() < 1e-3
    picture = client.get(f"/help/pictures/tool.{name}.svg")
    assert picture.headers["content-type"].startswith("image/svg+xml")
    assert picture.text.count("<poly") == 2


@pytest.mark.parametrize("name", sorted(HOUSE.overlays))
def test_the_picture_of_an_overlay_shows_it(client: TestClient, name: str) -> None:
    """The overlay itself is drawn: the picture differs from the bare plan, and from those of the others."""
    bare = replace(HOUSE.overlays[name], draw=lambda out, seen: None)
    drawn = overlaid(HOUSE.overlays[name])
    assert drawn.shape == (72, 240, 3)
    assert (drawn != overlaid(bare)).any(axis=2).mean() > 0.004
    picture = Image.open(io.BytesIO(client.get(f"/help/pictures/overlay.{name}.png").content))
    assert np.array_equal(np.asarray(picture), drawn)
    assert client.get("/help/pictures/overlay.fog.png").status_code == 404


SETTINGS = [(tool, setting) for tool in HOUSE.tools.values() for setting in tool.settings if not setting.picture]


@pytest.mark.parametrize(("tool", "setting"), SETTINGS, ids=[f"{t.name}.{s.name}" for t, s in SETTINGS])
def test_the_picture_of_a_setting_shows_what_it_does(client: TestClient, tool: Tool, setting: Setting) -> None:
    """The tool is tried with two values that the setting allows, and the two works differ by what is seen."""
    values, two = pair(tool.name, setting), compared(tool, setting)
    assert values is not None
    assert two is not None
    for value in values:
        if value is not None:
            setting.check(value)
    # A pixel of the picture at least: it is 44 high.
    tall = max(one.after.max() for one in two) - min(one.after.min() for one in two)
    assert np.abs(two[0].after - two[1].after).max() > tall / 44
    # Neither is the ground as it was in both: the tool did something.
    assert max(np.abs(one.after - one.before).max() for one in two) > 0.05
    drawn = client.get(f"/help/pictures/setting.{tool.name}.{setting.name}.svg").text
    assert drawn.count("<text") == 2
    for value in values:
        if isinstance(value, int | float):
            shown = value * 100 if setting.percent else value
            assert f">{shown:g} {setting.unit}".rstrip() in drawn


def test_pictures_of_settings_that_are_not_there(client: TestClient) -> None:
    assert client.get("/help/pictures/setting.raise.colour.svg").status_code == 404
    assert client.get("/help/pictures/setting.imprint.image.svg").status_code == 404
    assert "fen" in client.get("/help/pictures/landform.sea.png").json()["detail"]
    assert "relief_m" in client.get("/help/pictures/form.colour.png").json()["detail"]


def picture_at(client: TestClient, key: str) -> ByteArray:
    return np.asarray(Image.open(io.BytesIO(client.get(f"/help/pictures/{key}.png").content)))


def test_pictures_of_landforms_and_of_their_settings(client: TestClient) -> None:
    plans = [picture_at(client, f"landform.{name}") for name in LANDFORMS]
    assert {plan.shape for plan in plans} == {(72, 240, 3)}
    for i, plan in enumerate(plans):
        assert all((plan != other).any(axis=2).mean() > 0.3 for other in plans[:i])
    for name in form_settings():
        both = picture_at(client, f"form.{name}")
        assert both.shape == (72, 240, 3)
        assert (both[:, :119] != both[:, 121:]).any(axis=2).mean() > 0.02, name


def test_a_picture_of_no_tool(client: TestClient) -> None:
    answer = client.get("/help/pictures/tool.hammer.svg")
    assert answer.status_code == 404
    assert "raise" in answer.json()["detail"]


def test_every_shortcut_has_its_words() -> None:
    assert [shortcut for _, shortcut in shortcuts() if len(shortcut.words) < 3] == []


@pytest.fixture
def table(page: Page, server: Server) -> Table:
    return Table(page, server)


def test_f1_tells_of_what_has_the_focus(table: Table) -> None:
    table.open("ground")
    page = table.page
    for selector, words in (
        ("[data-tool=smooth]", "Evens out humps and hollows"),
        ("[data-stage=water]", "Here water gets its levels"),
        ("#flat", "the arrows move a crosshair"),
        ("[data-fold=sheets] .fold-button", "Sheets are separate layers"),
        ("#altitude [data-level=sea]", "how much of the land in view"),
    ):
        page.locator(selector).focus()
        page.keyboard.press("F1")
        expect(page.locator("#help-text")).to_contain_text(words)
        page.keyboard.press("Escape")
        expect(page.locator("#help-sheet")).to_be_hidden()
        expect(page.locator(selector)).to_be_focused()


def test_the_manual_searches_as_one_types(page: Page, server: Server) -> None:
    page.goto(f"{server.url}/help")
    page.get_by_label("Look for").fill("repose")
    expect(page.locator("#manual [role=status]")).to_contain_text("with “repose”")
    expect(page.locator("#manual .entries > div").first).to_contain_text(
        "steepest slope at which loose ground lies still"
    )
    expect(page.get_by_label("Look for")).to_be_focused()
