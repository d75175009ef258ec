"""Forms are made from what fields declare; shortcuts clash at the start and not later; files have one limit."""

from __future__ import annotations

import io
import re
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.ground.grade import SETTINGS
from fernfield.formats.asc import asc_lines
from fernfield.web.kernel.forms import field_of, fields_of
from fernfield.web.kernel.panels import Shortcut
from fernfield.web.page import shortcuts
from fernfield.work.ground.rows import Recipe, Sheet
from fernfield.work.sites.notes import Note
from fernfield.work.sites.rows import Start
from fernfield.work.worlds.beginnings import WorldSpec


def test_a_form_says_what_the_field_declares() -> None:
    found = {one.name: one for one in fields_of(Start, {"x": 12.5, "team": 2})}
    assert "sort" not in found  # what no form asks for
    assert (found["x"].kind, found["x"].unit, found["x"].low, found["x"].high) == ("number", "m", -1e6, 1e6)
    assert (found["x"].text, found["x"].required) == ("12.5", True)
    assert found["team"].choices[0] == ("", "none")
    assert ("2", "2 square") in found["team"].choices or found["team"].choices[2][0] == "2"
    assert (found["default"].kind, found["default"].when) == ("tick", "")
    height = next(one for one in fields_of(Recipe, {}) if one.name == "height_m")
    assert (height.required, height.left_out, height.high) == (False, "their own", 6_000)
    weight = next(one for one in fields_of(Sheet, {}) if one.name == "weight")
    assert weight.percent
    ends = {one.name: one.range for one in (*fields_of(WorldSpec, {}), *found.values())}
    assert (ends["width_m"], ends["turn_deg"]) == ("above 0 to 200,000 m", "0 to below 360 °")
    assert [one.kind for one in fields_of(Note, {})] == ["long", "number", "number", "colour", "tick"]


def test_a_tools_setting_is_a_field_by_the_same_way() -> None:
    settings = {setting.name: field_of(setting, ()) for setting in SETTINGS}
    reach, way = settings["reach_m"], settings["way"]
    assert (reach.label, reach.unit, reach.left_out, reach.required) == ("Shoulders reach", "m", "three widths", False)
    assert way.kind == "choice"
    assert dict(way.choices)["ends"] == "straight from end to end"


@pytest.mark.parametrize("stage", ["ground", "sites", "water"])
def test_the_page_has_the_declared_range_at_every_number(client: TestClient, stage: str) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()
    page = client.get(f"/worlds/{made['id']}/bench/{stage}").text
    numbers = re.findall(r"<input class=\"form-control\"[^>]*type=\"number\"[^>]*>", page)
    named = [
        field for field in numbers if 'name="' in field and "sheet-position" not in field and "-asks-" not in field
    ]
    assert named
    assert all("min=" in field and "data-bs-title=" in field for field in named)


def test_two_shortcuts_that_clash_keep_the_application_from_starting(monkeypatch: pytest.MonkeyPatch) -> None:
    assert len(shortcuts.shortcuts()) > 30
    monkeypatch.setattr(shortcuts, "VIEW", (*shortcuts.VIEW, Shortcut(("r",), "something else", "other")))
    with pytest.raises(ValueError, match="the key 'r' means both 'other' and 'tool:raise'"):
        shortcuts.shortcuts()
    monkeypatch.setattr(shortcuts, "VIEW", (*shortcuts.VIEW[:-1], Shortcut(("[",), "again", "again")))
    with pytest.raises(ValueError, match=r"'\['"):
        shortcuts.shortcuts()


def test_the_same_key_may_mean_a_tool_on_two_stages() -> None:
    stages = {stage for stage, one in shortcuts.shortcuts() if one.place == "stage" and one.name.startswith("tool:")}
    assert {"ground", "cover", "growth"} <= stages


def test_a_file_of_more_than_sixteen_mebibytes_is_taken_where_files_are_taken(client: TestClient) -> None:
    land = np.zeros((1600, 1700), np.float32) + np.float32(1234.5625)
    content = b"".join(asc_lines(iter([land]), *land.shape, 1.0))
    assert len(content) > 17 * 2**20
    answer = client.post("/api/files", files={"file": ("big.asc", io.BytesIO(content))})
    assert answer.status_code == 202, answer.text
    # Where no file is expected the small limit holds, and the message names both.
    refused = client.post("/api/worlds", content=b" " * (17 * 2**20), headers={"content-type": "application/json"})
    assert refused.status_code == 413
    assert "16 MiB" in refused.json()["detail"]


def test_the_old_call_for_legends_is_answered_as_before_and_says_that_it_is_old(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()
    tract = f"/api/tracts/{made['tracts'][0]['id']}"
    old, new = client.get(f"{tract}/legend"), client.get(f"{tract}/legends")
    assert "deprecation" in old.headers
    assert "deprecation" not in new.headers
    assert old.json()


def test_a_bad_field_is_named_so_that_the_form_can_show_it(client: TestClient) -> None:
    wrong: dict[str, Any] = {"name": "W", "width_m": "wide", "depth_m": 128, "spacing_m": 1}
    said = client.post("/api/worlds", json=wrong).json()
    assert [one["field"] for one in said["errors"]] == ["width_m"]
    assert "wide" in said["errors"][0]["message"]
