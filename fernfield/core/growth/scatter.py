"""Which plants and stones stand: worked out from a seed and from how full the land is, never stored.

A pattern (`spacing`) has places for all that can stand; each is taken from a share of its own on. So the same seed and
the same land give the same plants, whatever part is asked for and in whatever order; thinning takes plants away and
leaves the others where they are. What a plant is like follows from its block and its number there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fernfield.core.draws import key_of, unit
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.growth.spacing import Pattern, Places, places
from fernfield.core.kernels import kernel

Spread = Literal["even", "middle", "small"]
SPREADS: tuple[Spread, ...] = ("even", "middle", "small")
"""How sizes are spread over their range: all alike; most in the middle; most small, few large (both triangular)."""
DRAWS = 16
"""The lane of chance that is for what plants are like; lower ones are for their places."""


@dataclass(frozen=True, slots=True)
class Sort:
    """What plants of one sort are like.

    size_min, size_max : of the height, a factor; `spread` says how it is spread
    width_min, width_max : of the width, a factor of the height's
    turn, turn_around : bearing, and how far to both sides of it [°]
    tilt : how far off the upright at most, any way [°]
    tint : how far from healthy (0) to dry (1) at most
    sink_min, sink_max : how deep it stands in the ground, at size 1 [m]
    """

    size_min: float = 1.0
    size_max: float = 1.0
    spread: Spread = "even"
    width_min: float = 1.0
    width_max: float = 1.0
    turn: float = 0.0
    turn_around: float = 180.0
    tilt: float = 0.0
    tint: float = 0.0
    sink_min: float = 0.0
    sink_max: float = 0.0

    def __post_init__(self) -> None:
        for low, high in ((self.size_min, self.size_max), (self.width_min, self.width_max)):
            if not 0 < low <= high <= 100:
                words = f"sizes must be above 0, at most 100, smallest first, not {low:g} to {high:g}"
                raise InvalidInput(words, "size_max")
        if self.sink_min > self.sink_max:
            words = f"the least sink comes first, not {self.sink_min:g} to {self.sink_max:g} m"
            raise InvalidInput(words, "sink_max")


@dataclass(frozen=True, slots=True)
class Plants:
    """Plants of one sort.

    x, y : east and north [m]; height, width : factors; turn : clockwise from north [°]
    tilt, tilt_to : how far off the upright, and to which bearing [°]; tint : 0 healthy to 1 dry; sink : [m]
    block, number : which block of the pattern each stands in, and which of the block it is
    by_hand : whether a hand has touched it; put : its number where a hand has put it, else 0; variant : how it looks
    """

    x: FloatArray
    y: FloatArray
    height: FloatArray
    width: FloatArray
    turn: FloatArray
    tilt: FloatArray
    tilt_to: FloatArray
    tint: FloatArray
    sink: FloatArray
    block: NDArray[np.int32]
    number: NDArray[np.int32]
    by_hand: NDArray[np.bool_]
    put: NDArray[np.uint32]
    variant: NDArray[np.uint8]

    def __len__(self) -> int:
        return len(self.x)

    def and_(self, others: Plants) -> Plants:
        """These and others."""
        return Plants(*(np.concatenate([getattr(self, f.name), getattr(others, f.name)]) for f in fields(self)))

    def those(self, which: NDArray[np.bool_]) -> Plants:
        """Some of them."""
        return self if which.all() else Plants(*(getattr(self, one.name)[which] for one in fields(self)))


@kernel
def _one_size(u: float, low: float, high: float, spread: int) -> float:
    if spread == 1:
        # Triangular with its peak in the middle.
        u = np.sqrt(u / 2) if u < 0.5 else 1 - np.sqrt((1 - u) / 2)
    elif spread == 2:
        # Triangular with its peak at the small end.
        u = 1 - np.sqrt(1 - u)
    return float(low + (high - low) * u)


@kernel
def _dress(
    seed: int, sort: int, block: NDArray[np.int32], number: NDArray[np.int32], ranges: NDArray[np.float64], spread: int,
    out: FloatArray,
) -> None:  # fmt: skip
    """Fill `out` (n, 7): height, width, turn, tilt, tilt_to, tint, sink."""
    for p in range(number.shape[0]):
        key = key_of(seed, 16 + sort, block[p, 0], block[p, 1])
        at = 8 * number[p]
        height = _one_size(unit(key, at), ranges[0], ranges[1], spread)
        out[p, 0] = height
        out[p, 1] = height * (ranges[2] + (ranges[3] - ranges[2]) * unit(key, at + 1))
        turn = ranges[4] + ranges[5] * (2 * unit(key, at + 2) - 1)
        out[p, 2] = turn - 360.0 * np.floor(turn / 360.0)
        out[p, 3] = ranges[6] * unit(key, at + 3)
        out[p, 4] = 360.0 * unit(key, at + 4)
        out[p, 5] = ranges[7] * unit(key, at + 5)
        out[p, 6] = height * (ranges[8] + (ranges[9] - ranges[8]) * unit(key, at + 6))


def dressed(pattern: Pattern, sort: int, like: Sort, found: Places, origin: tuple[float, float]) -> Plants:
    """Places of one sort as plants; their x and y less `origin`. [m]"""
    out = np.empty((len(found), 7), np.float32)
    ranges = np.array(
        [like.size_min, like.size_max, like.width_min, like.width_max, like.turn, like.turn_around, like.tilt,
         like.tint, like.sink_min, like.sink_max]
    )  # fmt: skip
    _dress(pattern.seed, sort, found.block, found.number, ranges, SPREADS.index(like.spread), out)
    x, y = (found.x - origin[0]).astype(np.float32), (found.y - origin[1]).astype(np.float32)
    height, width, turn, tilt, tilt_to, tint, sink = (np.ascontiguousarray(out[:, k]) for k in range(7))
    n = len(found)
    return Plants(
        x, y, height, width, turn, tilt, tilt_to, tint, sink, found.block, found.number, np.zeros(n, bool),
        np.zeros(n, np.uint32), np.zeros(n, np.uint8),
    )  # fmt: skip


def scatter(
    pattern: Pattern,
    sorts: Sequence[Sort],
    shares: Sequence[FloatArray | None],
    window: Window,
    grid: Grid,
    part: Window,
    bounds: Window | None = None,
    origin: tuple[float, float] = (0.0, 0.0),
) -> list[Plants | None]:
    """The plants of every sort on the half-open cells of ground that belong to the posts of `part`.

    Parameters
    ----------
    sorts : what those of each sort of the pattern are like
    shares : for each sort, how much of its places is taken at every post of `window`, 0 to 1; None where nothing is.
        A plant asks the post nearest to it.
    window : must hold `part` and one post around it (less at the border of the land)
    part : each post owns the cell of ground to its south-east up to the next post, so that windows side by side share
        no plant and lose none
    bounds : the posts that there are, where they are more than the grid's own
    origin : where the origin of the grid's metres lies in the world [m]

    Returns
    -------
    Plants of each sort in a fixed order; None where none stands.
    """
    there = bounds or grid.window
    wanted = part.meet(Window(there.row0, there.col0, there.row1 - 1, there.col1 - 1))
    nothing: list[Plants | None] = [None] * len(sorts)
    if wanted.empty or all(share is None for share in shares):
        return nothing
    west, east = grid.x_of(wanted.col0) + origin[0], grid.x_of(wanted.col1) + origin[0]
    south, north = grid.y_of(wanted.row1) + origin[1], grid.y_of(wanted.row0) + origin[1]
    found = places(pattern, west, south, east, north)
    if not len(found):
        return nothing
    first_x, first_y = grid.x_of(window.col0) + origin[0], grid.y_of(window.row0) + origin[1]
    cols = ((found.x - first_x) / grid.spacing + 0.5).astype(np.int64)
    rows = ((first_y - found.y) / grid.spacing + 0.5).astype(np.int64)
    here = (rows >= 0) & (rows < window.rows) & (cols >= 0) & (cols < window.cols)
    out = nothing
    for sort, (like, share) in enumerate(zip(sorts, shares, strict=True)):
        if share is None:
            continue
        own = np.flatnonzero(here & (found.sort == sort))
        own = own[found.taken_from[own] <= share[rows[own], cols[own]]]
        if len(own):
            out[sort] = dressed(pattern, sort, like, _at(found, own), origin)
    return out


def _at(found: Places, which: NDArray[np.int64]) -> Places:
    return Places(*(getattr(found, name)[which] for name in Places.__slots__))
