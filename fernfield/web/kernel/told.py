"""What the page and scripts are told of the tools: everything that is declared of them, as JSON."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from typing_extensions import TypedDict

from fernfield.core.brush.tool import STRENGTHS, FirstBrush, Tool
from fernfield.web.kernel.manual import words_for
from fernfield.work.kernel.commands import LARGEST_RADIUS_M
from fernfield.work.kernel.rooms import House

SMALLEST_RADIUS_M = 1.0


class SettingSaid(TypedDict):
    """A setting as `Setting` says; no limits where it is no number."""

    name: str
    label: str
    unit: str
    low: float | None
    high: float | None
    first: float | str | None
    whole: bool
    choices: list[str]
    picture: bool
    left_out: str
    called: dict[str, str]
    percent: bool


class SettingTold(SettingSaid):
    """One of a tool. `worded`: it is said in words, not in figures."""

    worded: bool


class ToolTold(TypedDict):
    """A tool as `Tool` says, with the brush that it begins with and what its strength and radius may be."""

    name: str
    label: str
    key: str
    stage: str
    unit: str
    words: str
    verb: str
    opposite: str
    layer: str
    subject: str
    sheeted: bool
    whole_path: bool
    timeless: bool
    first: FirstBrush
    strengths: tuple[float, float]
    radii: tuple[float, float]
    settings: list[SettingTold]


class OverlayTold(TypedDict):
    """An overlay of the plan, and where the help speaks of it."""

    name: str
    label: str
    hint: str
    stage: str
    help: str | None


class ToolsTold(TypedDict):
    tools: list[ToolTold]
    overlays: list[OverlayTold]


def tools_json(house: House) -> list[dict[str, Any]]:
    """The tools of every stage, with their settings and the brush that each begins with."""
    return [_tool(room.name, tool) for room in house.rooms for tool in room.tools]


def _tool(stage: str, tool: Tool) -> dict[str, Any]:
    low, high = STRENGTHS.get(tool.unit, (1.0, 1.0))
    return {
        "name": tool.name,
        "label": tool.label,
        "key": tool.key,
        "stage": stage,
        "unit": tool.unit,
        "words": tool.words,
        "verb": tool.verb,
        "opposite": tool.opposite,
        "layer": tool.layer,
        "subject": tool.subject,
        "sheeted": tool.sheeted,
        "whole_path": tool.lay is not None,
        "timeless": tool.timeless,
        "first": asdict(tool.begins),
        "strengths": (low, high),
        "radii": (SMALLEST_RADIUS_M, LARGEST_RADIUS_M),
        "settings": [
            {**asdict(setting), "low": _finite(setting.low), "high": _finite(setting.high), "worded": setting.worded}
            for setting in tool.settings
        ],
    }


def _finite(value: float) -> float | None:
    return value if abs(value) < 1e300 else None


def overlays_json(house: House) -> list[dict[str, Any]]:
    return [
        {
            "name": name,
            "label": one.overlay.label,
            "hint": one.overlay.hint,
            "stage": stage,
            "help": words_for(f"overlay.{name}"),
        }
        for name, (stage, one) in house.laid.items()
    ]
