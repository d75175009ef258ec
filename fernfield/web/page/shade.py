"""What a change darkens or lights further off: drawn after the brush's own ground, piece by piece."""

from __future__ import annotations

import math
from collections.abc import Iterator

from fernfield.core.grid import Window

BLOCK_PIXELS = 320
"""Side of a piece, in pixels of what is looked at: some hundredths of a second of work."""


def less(window: Window, hole: Window) -> Iterator[Window]:
    """What of a window lies outside of another, as up to four windows."""
    hole = window.meet(hole)
    if hole.empty:
        yield window
        return
    for part in (
        Window(window.row0, window.col0, hole.row0, window.col1),
        Window(hole.row1, window.col0, window.row1, window.col1),
        Window(hole.row0, window.col0, hole.row1, hole.col0),
        Window(hole.row0, hole.col1, hole.row1, window.col1),
    ):
        if not part.empty:
            yield part


class Shade:
    """Posts whose light is to be drawn again. Nothing piles up: what is asked for twice is drawn once."""

    def __init__(self) -> None:
        self._left: list[Window] = []

    def __bool__(self) -> bool:
        return bool(self._left)

    def add(self, window: Window, near: Window, side: int) -> None:
        """The light of `window` has changed, because of what was done in `near`; in pieces of so many posts a side."""
        for left in self._left:
            window = window.join(left)
        rows, cols = max(1, math.ceil(window.rows / side)), max(1, math.ceil(window.cols / side))
        pieces = [
            Window(
                window.row0 + window.rows * r // rows, window.col0 + window.cols * c // cols,
                window.row0 + window.rows * (r + 1) // rows, window.col0 + window.cols * (c + 1) // cols,
            )
            for r in range(rows)
            for c in range(cols)
        ]  # fmt: skip
        middle = near.row0 + near.row1, near.col0 + near.col1
        # The nearest last: it is taken first.
        pieces.sort(key=lambda p: -math.hypot(p.row0 + p.row1 - middle[0], p.col0 + p.col1 - middle[1]))
        self._left = pieces

    def take(self) -> Window:
        """The next piece."""
        return self._left.pop()
