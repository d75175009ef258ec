"""What an open world tells those who have it open."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from fernfield.core.grid import Window
from fernfield.work.kernel.rows import Row


@dataclass(frozen=True, slots=True)
class Moved:
    """Posts of a tract changed. `layer` is what a listener sees of it: "height", "look", …

    was : nothing there was higher before than this, where it is known [m]
    """

    tract_id: str
    layer: str
    window: Window
    was: float | None = None


@dataclass(frozen=True, slots=True)
class Changed:
    """A row as it is now, and as it was before; None when it is gone, or was not there."""

    collection: str
    key: str
    row: Row | None
    was: Row | None = None


@dataclass(frozen=True, slots=True)
class Revised:
    """A revision was made; `rows` are those that it changed."""

    number: int
    words: str
    rows: tuple[Changed, ...] = ()

    @property
    def collections(self) -> frozenset[str]:
        return frozenset(change.collection for change in self.rows)


@dataclass(frozen=True, slots=True)
class Gone:
    """The world was deleted."""


@dataclass(frozen=True, slots=True)
class Touched:
    """What an edit changed: the posts, by tract; and the collections of its rows."""

    windows: Mapping[str, Window]
    collections: frozenset[str]


Event = Moved | Revised | Gone
Listener = Callable[[Event], None]
