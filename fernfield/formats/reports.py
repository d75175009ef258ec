"""Findings for machines: JSON, SARIF 2.1.0 [1]_, and the XML that test runners write, as JUnit does (common practice).

.. [1] OASIS (2020), Static Analysis Results Interchange Format (SARIF) Version 2.1.0
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from xml.etree import ElementTree as xml

LEVELS = {"grave": "error", "note": "warning"}
SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
"""What the document says of itself; nothing is fetched."""


@dataclass(frozen=True, slots=True)
class Line:
    """A finding in a report: its id, check, stage and weight; what it says, how it is mended; where, in which world;
    why it was accepted, if it was. x, y : east and north in the tract [m]"""

    id: str
    check: str
    stage: str
    weight: str
    words: str
    remedy: str
    world: str
    tract: str | None
    x: float | None
    y: float | None
    accepted: str | None


def as_json(lines: Sequence[Line]) -> str:
    """A list of objects."""
    return json.dumps([{name: getattr(one, name) for name in Line.__dataclass_fields__} for one in lines], indent=1)


def as_sarif(lines: Sequence[Line], version: str) -> str:
    """A log of one run: each check a rule, each finding a result, what was accepted suppressed with its reason.

    Places are no lines of a file: they are told as logical locations, world/tract, with their metres as properties.
    """
    checks = sorted({one.check for one in lines})
    results = [_result(one, checks) for one in lines]
    rules = [{"id": name.replace(" ", "-"), "name": name, "shortDescription": {"text": name}} for name in checks]
    driver = {"name": "Fern Field", "version": version, "rules": rules}
    log = {
        "$schema": SCHEMA, "version": "2.1.0",
        "runs": [{"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}],
    }  # fmt: skip
    return json.dumps(log, indent=1)


def _result(one: Line, checks: Sequence[str]) -> dict[str, Any]:
    name = one.world if one.tract is None else f"{one.world}/{one.tract}"
    place: dict[str, Any] = {"logicalLocations": [{"fullyQualifiedName": name, "kind": "world"}]}
    if one.x is not None and one.y is not None:
        place["properties"] = {"x_m": one.x, "y_m": one.y}
    found: dict[str, Any] = {
        "ruleId": one.check.replace(" ", "-"), "ruleIndex": checks.index(one.check), "level": LEVELS[one.weight],
        "message": {"text": f"{one.words} {one.remedy}"}, "locations": [place],
        "partialFingerprints": {"findingId/v1": one.id}, "properties": {"stage": one.stage},
    }  # fmt: skip
    if one.accepted is not None:
        found["suppressions"] = [{"kind": "external", "justification": one.accepted}]
    return found


def as_junit(lines: Sequence[Line], checks: Sequence[tuple[str, str]]) -> str:
    """A test case for each check (its stage and name), which fails by what it found; what was accepted is skipped."""
    by_check: dict[str, list[Line]] = {}
    for one in lines:
        by_check.setdefault(one.check, []).append(one)
    every = [*checks, *sorted({(one.stage, one.check) for one in lines} - set(checks))]
    root = xml.Element("testsuites", name="Fern Field")
    for stage in dict.fromkeys(stage for stage, _ in every):
        suite = xml.SubElement(root, "testsuite", name=stage)
        counts = {"tests": 0, "failures": 0, "skipped": 0}
        for _, check in [one for one in every if one[0] == stage]:
            case = xml.SubElement(suite, "testcase", name=check, classname=stage)
            counts["tests"] += 1
            own = by_check.get(check, [])
            open_ = [one for one in own if one.accepted is None]
            if open_:
                counts["failures"] += 1
                worst = "grave" if any(one.weight == "grave" for one in open_) else "note"
                told = xml.SubElement(case, "failure", message=_clean(open_[0].words), type=worst)
                told.text = "\n".join(_clean(f"{one.weight}: {one.words} {one.remedy}{_at(one)}") for one in open_)
            elif own:
                counts["skipped"] += 1
                xml.SubElement(case, "skipped", message=_clean(f"accepted: {own[0].accepted}"))
        suite.attrib |= {name: str(count) for name, count in counts.items()}
    xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + xml.tostring(root, encoding="unicode")


def _at(one: Line) -> str:
    return "" if one.x is None or one.y is None else f" ({one.x:.1f}, {one.y:.1f})"


def _clean(text: str) -> str:
    """Without signs that XML has no way to write."""
    return "".join(sign for sign in text if sign in "\t\n" or (sign >= " " and not "\ufffe" <= sign <= "\uffff"))
