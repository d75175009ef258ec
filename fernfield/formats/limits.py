"""How large a file that comes in may be, and how its reading tells how far it is."""

from __future__ import annotations

from collections.abc import Callable

from fernfield.core.errors import FormatError
from fernfield.core.grid import LARGEST_SIDE

Step = Callable[[float], None]
"""Is told which part of a file has been read (0 to 1), and may raise to stop."""


def no_step(done: float) -> None:
    """Nobody wants to know."""


LARGEST_IMPORT_SIDE = LARGEST_SIDE
"""Most posts along one side of an elevation file: as many as a tract may have. They are read band by band."""


def check_dimensions(rows: int, cols: int) -> None:
    """Raise FormatError unless both sides are 2 to LARGEST_IMPORT_SIDE; called before any memory is taken."""
    if not (2 <= rows <= LARGEST_IMPORT_SIDE and 2 <= cols <= LARGEST_IMPORT_SIDE):
        raise FormatError(
            f"an elevation file must be 2 to {LARGEST_IMPORT_SIDE} posts on each side, not {cols} wide and {rows} high",
            "file",
        )
