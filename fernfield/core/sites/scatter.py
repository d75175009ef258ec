"""Scatters: places that follow from a rule and a seed alone, whichever part of the land is looked at first.

The land is divided into square cells, each with one place in it by chance, a number that says whose turn comes first,
and the draws for what would stand there. Whoever asks for so many pieces goes through the places in that order. Where
they do not suffice the cells are halved, and their places come after.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.draws import key_of, unit
from fernfield.core.kernels import kernel

Numbers = NDArray[np.float64]
CANDIDATES = 6
"""So many places are looked at for each piece that is wanted, at first."""
ROUNDS = 3
"""So often the cells are halved when there are too few."""
SMALLEST_M = 0.2
DRAWS = 7


@dataclass(frozen=True, slots=True)
class Candidates:
    """Places in the order of their turn: x, y [m, of the world], what each draws (0 to 1), and the cell of each."""

    x: Numbers
    y: Numbers
    draws: Numbers
    cell: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.x)

    def those(self, which: NDArray[np.bool_]) -> Candidates:
        return Candidates(self.x[which], self.y[which], self.draws[which], self.cell[which])


SHARE, KIND, TURN, SIZE, LOOK, TINT, TILT = range(DRAWS)
"""What a candidate's draws are for."""


def cell_side(area_m2: float, wanted: int) -> float:
    """How wide the cells of the first round are, so that there are enough. [m]"""
    return max(math.sqrt(area_m2 / (CANDIDATES * max(wanted, 1))), SMALLEST_M)


def candidates(seed: int, side: float, level: int, box: tuple[float, float, float, float]) -> Candidates:
    """The places of one round with x0 <= x < x1 and y0 <= y < y1, in the order of their turn.

    side : of the cells [m]; level : the number of the round
    """
    x0, y0, x1, y1 = box
    i0, i1 = math.floor(x0 / side), math.floor(x1 / side)
    j0, j1 = math.floor(y0 / side), math.floor(y1 / side)
    x, y, order, draws, cell = _drawn(seed, side, level, i0, i1, j0, j1)
    own = (x >= x0) & (x < x1) & (y >= y0) & (y < y1)
    x, y, order, draws, cell = x[own], y[own], order[own], draws[own], cell[own]
    turn = np.lexsort((cell[:, 1], cell[:, 0], order))
    return Candidates(x[turn], y[turn], draws[turn], cell[turn])


@kernel
def _drawn(
    seed: int, side: float, level: int, i0: int, i1: int, j0: int, j1: int
) -> tuple[Numbers, Numbers, Numbers, Numbers, NDArray[np.int64]]:
    count = (i1 - i0 + 1) * (j1 - j0 + 1)
    x, y, order = np.empty(count), np.empty(count), np.empty(count)
    draws, cell = np.empty((count, DRAWS)), np.empty((count, 3), np.int64)
    n = 0
    for i in range(i0, i1 + 1):
        for j in range(j0, j1 + 1):
            key = key_of(seed, 40 + level, i, j)
            x[n], y[n] = (i + unit(key, 0)) * side, (j + unit(key, 1)) * side
            order[n] = unit(key, 2) + unit(key, 3) / 16777216.0
            for d in range(DRAWS):
                draws[n, d] = unit(key, 4 + d)
            cell[n, 0], cell[n, 1], cell[n, 2] = i, j, level
            n += 1
    return x, y, order, draws, cell


def chosen(draws: Numbers, weights: Sequence[float]) -> NDArray[np.int64]:
    """Which of several each draw falls on, by their weights."""
    ends = np.cumsum(np.asarray(weights, np.float64))
    found = np.searchsorted(ends, draws * ends[-1], "right")
    return np.asarray(np.minimum(found, len(ends) - 1), np.int64)


def drawn_in(seed: int, keys: Sequence[str], of: str, count: int) -> set[str]:
    """Which of several candidate places a round has, by its seed: each is as likely as any other.

    keys : in any order; of : the name of what they are candidates of, so that two groups are drawn by themselves
    """
    lane = sum(ord(sign) * 31**k for k, sign in enumerate(of)) % (1 << 31)
    ranked = sorted(sorted(keys), key=lambda key: _rank(seed, lane, key))
    return set(ranked[: max(0, count)])


def _rank(seed: int, lane: int, key: str) -> float:
    own = 0
    for sign in key:
        own = (own * 131 + ord(sign)) % (1 << 31)
    return _ranked(seed, lane, own)


@kernel
def _ranked(seed: int, lane: int, own: int) -> float:
    key = key_of(seed, 90, lane, own)
    return unit(key, 0) + unit(key, 1) / 16777216.0
