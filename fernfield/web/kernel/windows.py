"""A window of posts as a query says it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends, Query

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.web.kernel.parts import TheLand


def _window(
    land: TheLand,
    row0: Annotated[int, Query(ge=0)] = 0,
    col0: Annotated[int, Query(ge=0)] = 0,
    row1: Annotated[int | None, Query(ge=1)] = None,
    col1: Annotated[int | None, Query(ge=1)] = None,
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
