"""Where plants and stones stand: worked out from a seed and a mask, never stored.

For each kind the world is divided into square cells with room for one plant at full
density. A cell's plant has a place, a size, a turn and a *threshold* that follow from the
seed, the kind and the cell's own numbers alone; it stands where the mask is above the
threshold. So the same seed and mask give the same plants, whatever part is asked for and
in whatever order; thinning takes plants away and leaves the others where they are.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.kernels import kernel

HECTARE_M2 = 10_000.0
DENSEST_PER_HA = 10_000.0
"""One to the square metre; denser growth is ground cover, not plants one by one."""

JITTER = 0.9
"""How much of its cell a plant may stand in; our choice: even, and not in rows."""


@dataclass(frozen=True, slots=True)
class Habit:
    """How one kind stands: plants a hectare at full mask, and smallest and largest size (a factor)."""

    density_per_ha: float
    size_min: float
    size_max: float

    def __post_init__(self) -> None:
        if not 0 <= self.density_per_ha <= DENSEST_PER_HA:
            raise InvalidInput(
                f"density must be 0 to {DENSEST_PER_HA:g} a hectare, not {self.density_per_ha}", "density_per_ha"
            )
        if not 0 < self.size_min <= self.size_max <= 100:
            raise InvalidInput(
                f"sizes must be above 0, at most 100, smallest first, not {self.size_min} to {self.size_max}",
                "size_max",
            )


@dataclass(frozen=True, slots=True)
class Plants:
    """Plants of one kind: x east, y north [m]; size (factor); turn clockwise from north [°]."""

    x: FloatArray
    y: FloatArray
    size: FloatArray
    turn: FloatArray

    def __len__(self) -> int:
        return len(self.x)

    def those(self, which: NDArray[np.bool_]) -> Plants:
        """Some of them."""
        return self if which.all() else Plants(self.x[which], self.y[which], self.size[which], self.turn[which])


@kernel
def _mixed(value: np.uint64) -> np.uint64:
    """The finaliser of SplitMix64 (Steele, Lea, Flood 2014, doi:10.1145/2660193.2660195)."""
    z = value
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@kernel
def _unit(key: np.uint64, draw: int) -> float:
    """Draw number `draw` of a cell's stream, 0 up to 1."""
    step = np.uint64(0x9E3779B97F4A7C15) * np.uint64(draw + 1)
    return float(_mixed(key + step) >> np.uint64(40)) / 16777216.0


@kernel
def _scatter(
    mask: NDArray[np.uint16],
    west: float,
    north: float,
    spacing: float,
    bounds: NDArray[np.float64],
    cell: float,
    seed: int,
    size_min: float,
    size_max: float,
    origin: tuple[float, float],
    out: FloatArray,
) -> int:
    """Fill `out` (n, 4) with plants inside `bounds` (x0, y0, x1, y1), less `origin`; returns how many."""
    x0, y0, x1, y1 = bounds[0], bounds[1], bounds[2], bounds[3]
    count = 0
    rows, cols = mask.shape
    for j in range(int(math.floor(y0 / cell)), int(math.floor(y1 / cell)) + 1):
        for i in range(int(math.floor(x0 / cell)), int(math.floor(x1 / cell)) + 1):
            key = _mixed(
                np.uint64(seed)
                ^ _mixed(np.uint64(i) * np.uint64(0x632BE59BD9B4E019) + np.uint64(j) * np.uint64(0xD6E8FEB86659FD93))
            )
            x = (i + 0.5 + (_unit(key, 0) - 0.5) * 0.9) * cell
            y = (j + 0.5 + (_unit(key, 1) - 0.5) * 0.9) * cell
            if not (x0 <= x < x1 and y0 <= y < y1):
                continue
            c, r = int((x - west) / spacing + 0.5), int((north - y) / spacing + 0.5)
            if not (0 <= r < rows and 0 <= c < cols):
                continue
            # A threshold above 0, so that nothing stands on an empty mask.
            if mask[r, c] < (_unit(key, 2) * 65534.0 + 1.0):
                continue
            if count < out.shape[0]:
                out[count, 0], out[count, 1] = x - origin[0], y - origin[1]
                out[count, 2] = size_min + (size_max - size_min) * _unit(key, 3)
                out[count, 3] = 360.0 * _unit(key, 4)
            count += 1
    return count


def scatter(
    mask: NDArray[np.uint16],
    mask_window: Window,
    grid: Grid,
    part: Window,
    habit: Habit,
    seed: int,
    bounds: Window | None = None,
    origin: tuple[float, float] = (0.0, 0.0),
) -> Plants:
    """Plants of one kind on the half-open cells of ground that belong to the posts of `part`.

    Parameters
    ----------
    mask : shape of `mask_window`, 0 to 65,535; must hold `part` and one post around it
        (less at the border of the tract). A plant asks the post nearest to it.
    part : Window
        Each post owns the square metre-cell to its north-west up to the next post, so
        that windows side by side share no plant and lose none.
    habit : density and sizes
    seed : 0 up to 2**63; differs for each kind
    bounds : the posts that there are, where they are more than the grid's own
    origin : where the origin of the grid's metres lies in the world [m]

    Returns
    -------
    Plants, in a fixed order.
    """
    there = bounds or grid.window
    wanted = part.meet(Window(there.row0, there.col0, there.row1 - 1, there.col1 - 1))
    if habit.density_per_ha <= 0 or wanted.empty:
        none = np.zeros(0, np.float32)
        return Plants(none, none, none, none)
    cell = math.sqrt(HECTARE_M2 / habit.density_per_ha)
    box = np.array(
        [
            grid.x_of(wanted.col0) + origin[0],
            grid.y_of(wanted.row1) + origin[1],
            grid.x_of(wanted.col1) + origin[0],
            grid.y_of(wanted.row0) + origin[1],
        ],
        np.float64,
    )
    most = (int((box[2] - box[0]) / cell) + 2) * (int((box[3] - box[1]) / cell) + 2)
    out = np.empty((most, 4), np.float32)
    count = _scatter(
        mask,
        grid.x_of(mask_window.col0) + origin[0],
        grid.y_of(mask_window.row0) + origin[1],
        grid.spacing,
        box,
        cell,
        seed,
        habit.size_min,
        habit.size_max,
        origin,
        out,
    )
    found = out[:count]
    return Plants(*(np.ascontiguousarray(found[:, k]) for k in range(4)))


def kind_seed(seed: int, kind: int) -> int:
    """A seed for kind number `kind` of a mix with `seed`."""
    return (seed * 1_000_003 + kind * 7_919 + 12_345) % (1 << 62)
