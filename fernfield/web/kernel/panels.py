"""The panels of the bench: each stage declares its own, with what its template is told and what renews it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio


@dataclass(frozen=True)
class Asked:
    """What a panel is asked for: a world, seen from one of its tracts."""

    studio: Studio
    world: OpenWorld
    tract: Tract


def _nothing(asked: Asked) -> dict[str, Any]:
    return {}


@dataclass(frozen=True)
class Shortcut:
    """A key and what it does.

    keys : as the browser names them ("[", "Delete"), with "Ctrl+" or "Shift+" before; several that do the same
    place : where it holds: "view" (anywhere but in a field), "map" (with the focus on it), "stage" (with this panel),
        "outline", "walk"
    words : what it does; name : the action that the page's script does
    """

    keys: tuple[str, ...]
    words: str
    name: str
    place: str = "view"


@dataclass(frozen=True)
class Panel:
    """A stage's panel: `rooms/<name>/panel.html`, and `rooms/<name>/panel.js` where it has a script.

    context : what its template is told besides the world, and the `models` of the collections by their names. Rows
        are not: the page lists them from its own store,
        which follows every revision, so that no panel is fetched again because of an edit
    script : whether it has one
    shortcuts : keys of its own
    """

    name: str
    context: Callable[[Asked], dict[str, Any]] = _nothing
    script: bool = False
    shortcuts: tuple[Shortcut, ...] = ()
