"""A window of posts as a query says it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Query

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.web.kernel.parts import TheLand

Post = Annotated[int, Query(ge=0, le=1_000_000)]


def _window(
    land: TheLand,
    row0: Post = 0,
    col0: Post = 0,
    row1: Post | None = None,
    col1: Post | None = None,
) -> Window:
    grid = land[1].grid
    window = Window(row0, col0, grid.rows if row1 is None else row1, grid.cols if col1 is None else col1)
    if window.empty or grid.clip(window) != window:
        raise InvalidInput(
            f"the window must be rows 0 to {grid.rows} and columns 0 to {grid.cols}, smaller number first, "
            f"not {window.as_list()}",
            "row0",
        )
    return window


TheWindow = Annotated[Window, Depends(_window)]
