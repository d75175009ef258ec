"""The Trial stage's panel."""

from __future__ import annotations

from typing import Any

from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.web.kernel.panels import Asked, Panel, Shortcut


def _context(asked: Asked) -> dict[str, Any]:
    return {"gait": WALKERS[WALKER]}


PANEL = Panel(
    "trial",
    _context,
    script=True,
    shortcuts=(
        Shortcut(("w", "ArrowUp"), "walk on", "walk-ahead", "walk"),
        Shortcut(("s", "ArrowDown"), "walk back", "walk-back", "walk"),
        Shortcut(("ArrowLeft",), "turn left", "walk-turn-left", "walk"),
        Shortcut(("ArrowRight",), "turn right", "walk-turn-right", "walk"),
        Shortcut(("a",), "step left", "walk-left", "walk"),
        Shortcut(("d",), "step right", "walk-right", "walk"),
        Shortcut(("PageUp",), "look up", "walk-look-up", "walk"),
        Shortcut(("PageDown",), "look down", "walk-look-down", "walk"),
        Shortcut(("Shift",), "run", "walk-run", "walk"),
        Shortcut(("Escape",), "back to the map as it was", "walk-leave", "walk"),
    ),
)
