"""The register of shortcuts: what every key does, and where. Two that clash keep the application from starting."""

from __future__ import annotations

from typing import Any

from fernfield.web.kernel.panels import Shortcut
from fernfield.web.rooms import PANELS
from fernfield.work.house import HOUSE

WAYS = {"west": "ArrowLeft", "east": "ArrowRight", "north": "ArrowUp", "south": "ArrowDown"}

STEPS = (("", "post", "a post"), ("Shift+", "radius", "the brush's radius"), ("Ctrl+", "screen", "a screen"))

MAP = (
    *(
        Shortcut((f"{held}{key}",), f"move the crosshair {way} by {by}", f"crosshair-{step}:{way}", "map")
        for held, step, by in STEPS
        for way, key in WAYS.items()
    ),
    Shortcut((" ",), "hold: the tool works, and draws with the arrows", "hold-tool", "map"),
    Shortcut(("Shift+ ",), "hold: the opposite tool works", "hold-opposite", "map"),
    Shortcut(("Enter",), "set a corner, place, choose; put the tool down, and lift it again", "set-here", "map"),
    Shortcut(("ContextMenu", "Shift+F10"), "the map's menu at the crosshair", "menu-here", "map"),
)  # fmt: skip
"""With the focus on the map, and the crosshair moved by keys."""

VIEW = (
    Shortcut(("[",), "smaller radius", "radius-less"),
    Shortcut(("]",), "larger radius", "radius-more"),
    Shortcut(("{",), "harder edge", "softness-less"),
    Shortcut(("}",), "softer edge", "softness-more"),
    Shortcut(("ArrowLeft",), "move the map west", "pan-west"),
    Shortcut(("ArrowRight",), "move the map east", "pan-east"),
    Shortcut(("ArrowUp",), "move the map north", "pan-north"),
    Shortcut(("ArrowDown",), "move the map south", "pan-south"),
    Shortcut(("+", "="), "zoom in", "zoom-in"),
    Shortcut(("-",), "zoom out", "zoom-out"),
    Shortcut(("0",), "show the whole tract", "fit"),
    Shortcut((",",), "turn the overlook left", "turn-left"),
    Shortcut((".",), "turn the overlook right", "turn-right"),
    Shortcut(("PageUp",), "look down more steeply in the overlook", "tilt-up"),
    Shortcut(("PageDown",), "look down less steeply in the overlook", "tilt-down"),
    Shortcut(("j",), "jump to a place by its figures", "jump"),
    Shortcut(("v",), "plan, overlook, both", "next-view"),
    Shortcut((" ",), "hold and drag: move the map (or the middle button)", "hold-pan"),
    Shortcut(("Ctrl+z",), "undo; takes back the stroke under way", "undo"),
    Shortcut(("Ctrl+y", "Ctrl+Shift+z"), "redo", "redo"),
    Shortcut(("?",), "this list", "keys"),
    Shortcut(("F1",), "help with what has the focus", "help"),
    Shortcut(("F6",), "to the map, and from the map back to the bench", "map-or-bench"),
    Shortcut(
        ("Escape",), "close what was opened last: a menu, what is drawn or chosen, the stroke under way", "escape"
    ),
    Shortcut(("Enter",), "end the plot, outline or line that is being drawn", "end-outline", "outline"),
)


def _stages() -> list[Shortcut]:
    return [
        Shortcut((str(n),), f"the {panel.name.capitalize()} stage", f"stage:{panel.name}")
        for n, panel in enumerate(PANELS, 1)
    ]


def _tools(stage: str) -> list[Shortcut]:
    tools = [tool for room in HOUSE.rooms if room.name == stage for tool in room.tools]
    return [Shortcut((tool.key.lower(),), tool.label, f"tool:{tool.name}", "stage") for tool in tools]


def shortcuts() -> list[tuple[str, Shortcut]]:
    """Every shortcut with the stage that it belongs to ("" for all). Raises ValueError when two clash."""
    found = [("", shortcut) for shortcut in (*MAP, *VIEW, *_stages())]
    for panel in PANELS:
        found += [(panel.name, shortcut) for shortcut in (*_tools(panel.name), *panel.shortcuts)]
    _check(found)
    return found


def _check(found: list[tuple[str, Shortcut]]) -> None:
    """A key of a stage must not be one of the map's, nor another of that stage."""
    taken: dict[tuple[str, str, str], str] = {}
    for stage, shortcut in found:
        for key in shortcut.keys:
            at = "view" if shortcut.place == "stage" else shortcut.place
            for where in {stage, ""} if at == "view" else {""}:
                other = taken.get((at, where, key))
                if other is not None:
                    raise ValueError(f"the key {key!r} means both {other!r} and {shortcut.name!r} ({at}, {stage})")
            taken[at, stage if at == "view" else "", key] = shortcut.name


def shortcuts_json() -> list[dict[str, Any]]:
    """As the page has it; `single` are those that a person may turn off or change (WCAG 2.1.4)."""
    return [
        {
            "keys": list(shortcut.keys),
            "words": shortcut.words,
            "name": shortcut.name,
            "place": shortcut.place,
            "stage": stage,
            "single": shortcut.place in ("view", "stage")
            and any(len(key) == 1 and key != " " for key in shortcut.keys),
        }
        for stage, shortcut in shortcuts()
    ]
