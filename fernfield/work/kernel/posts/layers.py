"""Layers: what is kept for every post of a tract. Rooms declare theirs; the kernel knows the ground's heights alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.tool import HEIGHT as HEIGHT
from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray, Window

if TYPE_CHECKING:
    from fernfield.core.brush.tool import Tool
    from fernfield.work.kernel.commands import StrokeBase
    from fernfield.work.kernel.posts.lands import Land
    from fernfield.work.kernel.posts.tracts import Tract
    from fernfield.work.kernel.rows import Moves
    from fernfield.work.kernel.world import OpenWorld
    from fernfield.work.kernel.writing.draft import Draft

MASK = np.dtype(np.uint16)
WHOLE = 65_535
"""A post of a mask that is wholly covered."""

Touched = Callable[["OpenWorld", "Tool", str | None], list[tuple[str, int]]]
"""The layers that a stroke works on: each one's name, and whether it adds (1), takes away (-1) or only knows it (0)."""

Under = Callable[["OpenWorld", "Land"], Callable[[Window], FloatArray | None] | None]
"""The share of every mask of a stack where nothing of it was laid, by windows of a land; None where that is nothing."""

Told = Callable[["OpenWorld", "StrokeBase"], dict[str, Any]]
"""What a stroke's tool is told besides its own settings."""

Settle = Callable[["Draft", "OpenWorld", "Tract", tuple[int, int], NDArray[Any], str | None], None]
"""What happens before a commit, when a tile was drawn on: draft, world, tract, tile, the tile before, and where the
edit goes (None: into the layer itself)."""


class Apart(Protocol):
    """Values that a room keeps apart from all others under a key, so that it can change or take back its own alone."""

    def moves(self, world: OpenWorld, key: str, name: str) -> Moves:
        """The rows that are needed before something is laid. Raises Conflict when there is no room for more."""
        ...

    def without(self, world: OpenWorld, land: Land, window: Window, key: str) -> FloatArray:
        """A window of a land as it would be without what is kept apart under a key."""
        ...

    def lay(self, draft: Draft, world: OpenWorld, unit: tuple[str, tuple[int, int]], key: str, new: NewTile) -> None:
        """What is kept apart in a tile becomes the difference that `new` makes to what is there without it."""
        ...


NewTile = Callable[[FloatArray], FloatArray]
"""Makes the values of a whole tile from what is there."""


@dataclass(frozen=True)
class Layer:
    """A sort of layer, and what is done with it.

    sort : its name, or the part of its name before the colon where there is one for each row ("mask:key")
    dtype : of its values; fill : where nothing was written (None: the elevation that the tract began with)
    seen : what those who look on are told has moved; "" for a layer that nobody sees by itself
    carried : the word with which land that is moved takes it along; "" for one that stays
    gathers : False where coarser land must not mix the values of posts (a hole is a hole)
    touched : for a mask, the layers that a stroke works on. Raises NotFound or Conflict
    under : for masks that lie over each other, what is there where none of them is
    told : for a mask, what a stroke's tool is told besides its settings. Raises NotFound
    bounds : no edit takes a value past these
    check : raises when an edit cannot go where it is said to go
    settle : what happens before a commit
    apart : how rooms keep values apart from those of others
    rests_on : collections whose rows `bounds`, `check`, `settle` and `apart` read
    """

    sort: str
    dtype: np.dtype[Any] = MASK
    fill: float | None = 0
    seen: str = ""
    carried: str = ""
    gathers: bool = True
    touched: Touched | None = None
    under: Under | None = None
    told: Told | None = None
    bounds: Callable[[OpenWorld], tuple[float, float]] | None = None
    check: Callable[[OpenWorld, str | None], None] | None = None
    settle: Settle | None = None
    apart: Apart | None = None
    rests_on: tuple[str, ...] = ()


class Layers:
    """The layers of a house, found by name. Raises FormatError for one that is not known to this version."""

    def __init__(self, layers: Iterable[Layer]) -> None:
        self._sorts = {layer.sort: layer for layer in layers}

    def __call__(self, name: str) -> Layer:
        found = self._sorts.get(sort_of(name))
        if found is None:
            raise FormatError(f"the stored layer {name!r} is not known to this version")
        return found

    def __iter__(self) -> Any:
        return iter(self._sorts.values())


def sort_of(name: str) -> str:
    """The sort of the layer with this name."""
    return name.split(":")[0]
