"""Findings are gone through: accepted, come back when they say something else, and are told to machines."""

from __future__ import annotations

import json
import subprocess
import sys
from typing import Any
from xml.etree import ElementTree as xml

import pytest
from fastapi.testclient import TestClient
from jsonschema_rs import validator_for

from fernfield.formats.reports import Line, as_json, as_junit, as_sarif

SARIF: dict[str, Any] = {
    "type": "object", "required": ["version", "runs"],
    "properties": {
        "version": {"const": "2.1.0"}, "$schema": {"type": "string", "format": "uri"},
        "runs": {"type": "array", "items": {"$ref": "#/$defs/run"}},
    },
    "additionalProperties": False,
    "$defs": {
        "message": {"type": "object", "required": ["text"], "properties": {"text": {"type": "string"}}},
        "run": {
            "type": "object", "required": ["tool"], "additionalProperties": False,
            "properties": {
                "tool": {"type": "object", "required": ["driver"], "properties": {"driver": {
                    "type": "object", "required": ["name"], "properties": {
                        "name": {"type": "string"}, "version": {"type": "string"},
                        "rules": {"type": "array", "uniqueItems": True, "items": {
                            "type": "object", "required": ["id"],
                            "properties": {"shortDescription": {"$ref": "#/$defs/message"}},
                        }},
                    }, "additionalProperties": False}}},
                "columnKind": {"enum": ["utf16CodeUnits", "unicodeCodePoints"]},
                "results": {"type": "array", "items": {"$ref": "#/$defs/result"}},
            },
        },
        "result": {
            "type": "object", "required": ["message"], "additionalProperties": False,
            "properties": {
                "ruleId": {"type": "string"}, "ruleIndex": {"type": "integer", "minimum": -1},
                "level": {"enum": ["none", "note", "warning", "error"]}, "message": {"$ref": "#/$defs/message"},
                "locations": {"type": "array", "items": {"type": "object", "properties": {
                    "logicalLocations": {"type": "array", "uniqueItems": True, "items": {
                        "type": "object", "additionalProperties": False,
                        "properties": {"fullyQualifiedName": {"type": "string"}, "kind": {"type": "string"}}}},
                    "properties": {"type": "object"}}, "additionalProperties": False}},
                "partialFingerprints": {"type": "object", "additionalProperties": {"type": "string"}},
                "suppressions": {"type": "array", "uniqueItems": True, "items": {
                    "type": "object", "required": ["kind"], "additionalProperties": False,
                    "properties": {"kind": {"enum": ["inSource", "external"]}, "justification": {"type": "string"}}}},
                "properties": {"type": "object"},
            },
        },
    },
}  # fmt: skip
"""What of the schema of SARIF 2.1.0 (OASIS 2020, appendix: sarif-schema-2.1.0.json) these logs use; from memory."""

LINES = [
    Line("a1", "default start", "sites", "grave", "No start.", "Place one.", "w", None, None, None, None),
    Line("b2", "water", "water", "note", "A <pool> spills.", "Lower it.", "w", "t", 3.0, 4.5, None),
    Line("c3", "cues", "sites", "note", "It never\x00 goes off.", "Change it.", "w", "t", None, None, "meant so"),
]


def test_reports_for_machines_say_it_all() -> None:
    log = json.loads(as_sarif(LINES, "1.2"))
    assert not list(validator_for(SARIF).iter_errors(log))
    (run,) = log["runs"]
    rules = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    assert [rules[one["ruleIndex"]] for one in run["results"]] == [one["ruleId"] for one in run["results"]]
    assert [one["level"] for one in run["results"]] == ["error", "warning", "warning"]
    assert [one.get("suppressions") for one in run["results"]][2] == [{"kind": "external", "justification": "meant so"}]
    assert run["results"][1]["locations"][0]["properties"] == {"x_m": 3.0, "y_m": 4.5}
    suites = xml.fromstring(as_junit(LINES, [("sites", "cues"), ("sites", "default start"), ("light", "lamps")]))
    counts = {one.get("name"): (one.get("tests"), one.get("failures"), one.get("skipped")) for one in suites}
    assert counts == {"sites": ("2", "1", "1"), "light": ("1", "0", "0"), "water": ("1", "1", "0")}
    assert [one.get("type") for one in suites.iter("failure")] == ["grave", "note"]
    assert "A <pool> spills. Lower it. (3.0, 4.5)" in (suites.find(".//testcase[@name='water']/failure").text or "")  # type: ignore[union-attr]
    assert [one["id"] for one in json.loads(as_json(LINES))] == ["a1", "b2", "c3"]


def test_what_is_accepted_stays_so_until_it_says_something_else(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 60, "depth_m": 60, "spacing_m": 1}).json()
    base = f"/api/worlds/{made['id']}"

    def found(**params: str) -> list[dict[str, Any]]:
        answer = client.get(f"{base}/findings", params=params)
        assert answer.status_code == 200, answer.text
        return list(answer.json())

    (none,) = found(weight="grave", stage="sites")
    assert (none["check"], none["accepted"]) == ("default start", None)
    accepted = f"{base}/accepted/{none['id']}"
    assert client.put(accepted, json={"reason": ""}).status_code == 422
    assert client.put(accepted, json={"reason": "The game places them", "words": none["words"]}).status_code == 200
    assert found(stage="sites")[-1]["accepted"] == "The game places them"
    # It is somewhere else: it is another one; and where it was, it is accepted still.
    for key in ("a", "b"):
        piece = {"sort": "piece", "kit": "cairn", "name": key, "x": 30, "y": 30}
        assert client.put(f"{base}/things/{key}", json=piece).status_code == 200
    (first,) = [one for one in found() if "another" in one["words"]]
    assert client.put(f"{base}/accepted/{first['id']}", json={"reason": "They are one"}).status_code == 200
    for x, reason in ((40, None), (30, "They are one")):
        client.patch(f"{base}/things", json={"ids": ["a", "b"], "change": {"x": x}})
        assert [one["accepted"] for one in found() if "another" in one["words"]] == [reason]
    client.delete(f"{base}/accepted/{first['id']}")
    client.delete(accepted)
    assert not [one for one in found() if one["accepted"]]
    assert client.get(f"{base}/findings", params={"weight": "heavy"}).status_code == 422


@pytest.mark.parametrize(
    ("shown", "weight", "status"), [("json", "grave", 0), ("sarif", "note", 1), ("junit", "grave", 0)]
)
def test_the_command_prints_it_and_ends_by_weight(client: TestClient, shown: str, weight: str, status: int) -> None:
    """A world with a start that is not the default: a note, and nothing grave."""
    studio = client.app.state.studio  # type: ignore[attr-defined]
    made = client.post("/api/worlds", json={"name": "W", "width_m": 60, "depth_m": 60, "spacing_m": 1}).json()
    start = {"sort": "start", "x": 5, "y": 5, "default": True}
    client.post(f"/api/worlds/{made['id']}/things", json=start)
    client.post(
        f"/api/worlds/{made['id']}/things", json={"sort": "piece", "kit": "cairn", "x": 30, "y": 30, "over_m": 4}
    )
    notes = [one["weight"] for one in client.get(f"/api/worlds/{made['id']}/findings").json()]
    assert set(notes) == {"note"}
    client.__exit__(None, None, None)
    ask = [sys.executable, "-m", "fernfield.cli", "check", made["id"], "--format", shown, "--weight", weight]
    ran = subprocess.run([*ask, "--data", str(studio.data)], capture_output=True, text=True, timeout=120)
    assert ran.returncode == status, ran.stderr
    assert xml.fromstring(ran.stdout.encode()).tag == "testsuites" if shown == "junit" else json.loads(ran.stdout)
