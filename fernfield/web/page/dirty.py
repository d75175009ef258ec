"""What of the land a page has not been shown yet: a few windows, so that two hands far apart are no one large patch."""

from __future__ import annotations

import math
from dataclasses import dataclass

from fernfield.core.grid import Window

MOST = 8
"""Windows that are kept apart."""

SPARE = 1.4
"""Two are taken together when that has so many times the posts of both at most."""


@dataclass
class Stale:
    """A window of posts, and the layers in it that have changed."""

    window: Window
    layers: set[str]


def _posts(window: Window) -> int:
    return window.rows * window.cols


class Dirty:
    """Windows that have changed. Nothing piles up: what changes twice is drawn once."""

    def __init__(self) -> None:
        self._parts: list[Stale] = []
        self._turn = 0

    def __bool__(self) -> bool:
        return bool(self._parts)

    def add(self, layer: str, window: Window) -> None:
        """Something has changed in a window."""
        self._put(Stale(window, {layer}))
        if len(self._parts) > MOST:
            pairs = [(a, b) for n, a in enumerate(self._parts) for b in self._parts[:n]]
            one, two = min(pairs, key=lambda pair: _posts(pair[0].window.join(pair[1].window)) - _posts(pair[0].window))
            self._parts.remove(one)
            self._parts.remove(two)
            self._put(Stale(one.window.join(two.window), one.layers | two.layers))

    def _put(self, new: Stale) -> None:
        """Keep a window, together with those that it lies beside."""
        while True:
            for part in self._parts:
                both = part.window.join(new.window)
                if _posts(both) <= SPARE * (_posts(part.window) + _posts(new.window)):
                    self._parts.remove(part)
                    new = Stale(both, part.layers | new.layers)
                    break
            else:
                self._parts.append(new)
                return

    def take(self, near: tuple[float, float] | None = None) -> Stale:
        """The window nearest to a place (row, column); every third time, or without one, that which waits longest."""
        self._turn = (self._turn + 1) % 3
        if near is None or self._turn == 0:
            return self._parts.pop(0)

        def away(part: Stale) -> float:
            w = part.window
            rows = max(w.row0 - near[0], 0.0, near[0] - w.row1)
            cols = max(w.col0 - near[1], 0.0, near[1] - w.col1)
            return math.hypot(rows, cols)

        found = min(self._parts, key=away)
        self._parts.remove(found)
        return found
