"""What an open world tells those who have it open."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from fernfield.core.grid import Window


@dataclass(frozen=True, slots=True)
class Moved:
    """Posts of a tract changed. `layer` is "height", "cover" or "growth"."""

    tract_id: str
    layer: str
    window: Window


@dataclass(frozen=True, slots=True)
class Revised:
    """A revision was made; `collections` names the sorts of rows that it changed."""

    number: int
    words: str
    collections: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Gone:
    """The world was deleted."""


Event = Moved | Revised | Gone
Listener = Callable[[Event], None]
