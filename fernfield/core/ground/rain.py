"""Rain: drops run downhill, carve where they are fast and lay down where they slow.

Each drop carries a load up to a capacity that grows with slope, speed and water; below it
the drop takes ground from a small disc around it, above it it lets ground fall on such a
disc, and on the way up it fills the hollow behind it between the four posts beside it
(the droplet scheme of [1]_, with falls spread so that fans come out smooth). Whatever it
still carries at its end falls there, so material is kept.

References
----------
.. [1] H. T. Beyer (2015), Implementation of a method for hydraulic erosion, bachelor's
   thesis, TU Munich. Its figures are quoted from memory.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import Window
from fernfield.core.kernels import kernel

DoubleArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Rain:
    """How drops behave; lengths are in posts, since one and the same land may be sampled finer.

    inertia : how much of its direction a drop keeps, 0 to 1
    capacity : load at slope 1, speed 1, full water
    carve, settle : part of the missing load that is taken, of the surplus that falls, at each step
    dry : part of the water that goes at each step
    steps : a drop's longest way
    spread : radius of the disc that a drop takes ground from and lets it fall on
    """

    inertia: float = 0.1
    capacity: float = 3.0
    carve: float = 0.15
    settle: float = 0.2
    dry: float = 0.02
    steps: int = 48
    spread: float = 2.5


CELL_POSTS = 64
GROUP = 32
"""So many drops fall one after the other in a cell of about so many posts a side, over large land."""

GOLDEN = 0.6180339887498949
"""Its multiples are spread evenly after the point: cells take turns, and none is left out."""

FEW_CELLS = 16
"""Land of fewer cells than this is one cell."""


def disc(spread: float) -> tuple[NDArray[np.int64], DoubleArray]:
    """Offsets (n, 2) and weights (n,) of the disc that ground is taken from; the weights add up to 1."""
    reach = math.ceil(spread)
    at = [
        (r, c, max(spread - math.hypot(r, c), 0.0))
        for r in range(-reach, reach + 1)
        for c in range(-reach, reach + 1)
        if math.hypot(r, c) < spread
    ] or [(0, 0, 1.0)]
    weights = np.array([w for *_, w in at])
    return np.array([(r, c) for r, c, _ in at], np.int64), weights / weights.sum()


def rain_in_place(
    heights: DoubleArray,
    spacing: float,
    drops: int,
    seed: int,
    rain: Rain,
    *,
    weights: NDArray[np.float32] | None = None,
    box: tuple[int, int, int, int] | None = None,
) -> None:
    """Let `drops` fall on `heights` (modified).

    Parameters
    ----------
    heights : shape (rows, cols), at least (3, 3), in one piece in memory; float64, to lose nothing in rounding [m]
    spacing : between posts [m]
    drops : how many fall, evenly over `box`
    seed : the same seed gives the same drops
    rain : how they behave
    weights : same shape, 0 to 1: how much a drop carries there; where it is 0 it ends
    box : first and last-but-one row, first and last-but-one column that drops fall on; all when left out
    """
    offsets, shares = disc(rain.spread)
    r0, r1, c0, c1 = box or (0, heights.shape[0], 0, heights.shape[1])
    none = np.zeros((0, 0), np.float32)
    _fall(
        heights, spacing, drops, seed & 0xFFFFFFFF, rain.inertia, rain.capacity, rain.carve, rain.settle, rain.dry,
        rain.steps, offsets, shares, none if weights is None else weights, float(r0), float(r1 - 1), float(c0),
        float(c1 - 1),
    )  # fmt: skip


BLOCK = 128
"""Posts along the side of a block that drops are let fall on by one worker: more than twice as far as one runs."""

EACH = 300
"""About so many drops fall on a block before the next one has its turn."""

FEWEST = 20
"""Not fewer than this, as far as there are enough."""


@dataclass(frozen=True, slots=True)
class Shower:
    """What falls on one block: where it lies, how many drops, and their seed."""

    block: Window
    drops: int
    seed: int


def reach_of(rain: Rain) -> int:
    """How far from the place where it fell a drop may change the ground. [posts]"""
    return rain.steps + math.ceil(rain.spread) + 2


def showers(rows: int, cols: int, drops: int, seed: int, rain: Rain) -> Iterator[list[Shower]]:
    """Rain over land of so many posts, in turns: what falls on the blocks of one turn can fall at the same time.

    Blocks of one turn lie a block apart, so that no drop of one comes near the ground of another. So it does not matter
    who works on which, or in what order: the land is the same to the last bit.
    """
    side = max(BLOCK, 2 * reach_of(rain))
    down, across = max(1, rows // side), max(1, cols // side)
    blocks = [
        Window(rows * r // down, cols * c // across, rows * (r + 1) // down, cols * (c + 1) // across)
        for r in range(down)
        for c in range(across)
    ]
    times = max(4, math.ceil(drops / (EACH * len(blocks))))
    times = max(1, min(times, math.ceil(drops / (FEWEST * len(blocks)))))
    shares = np.cumsum([block.rows * block.cols for block in blocks]) / (rows * cols)
    fallen = 0
    for time in range(times):
        until = drops * (time + 1) // times
        ends = [fallen + round(share * (until - fallen)) for share in shares]
        counts = np.diff([fallen, *ends])
        fallen = until
        for turn in range(4):
            found = []
            for number, block in enumerate(blocks):
                row, col = divmod(number, across)
                if (row % 2) * 2 + col % 2 == turn and counts[number]:
                    found.append(Shower(block, int(counts[number]), (seed * 65_537 + time) * 65_537 + number))
            if found:
                yield found


def rain_on(
    heights: DoubleArray, weights: NDArray[np.float32] | None, spacing: float, drops: int, seed: int, rain: Rain,
    box: tuple[int, int, int, int],
) -> DoubleArray:  # fmt: skip
    """A block with the ground around it, as far as drops run (modified and returned); they fall on `box` of it."""
    rain_in_place(heights, spacing, drops, seed, rain, weights=weights, box=box)
    return heights


@kernel
def _chance(seed: int, drop: int, lane: int) -> float:
    """An even number, 0 to below 1, for one drop and purpose."""
    z = np.uint64(seed) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(drop * 4 + lane) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return float((z ^ (z >> np.uint64(31))) >> np.uint64(11)) / 9007199254740992.0


@kernel
def _fall(
    heights: DoubleArray, spacing: float, drops: int, seed: int, inertia: float, capacity: float, carve: float,
    settle: float, dry: float, steps: int, offsets: NDArray[np.int64], shares: DoubleArray,
    weights: NDArray[np.float32], top: float, bottom: float, left: float, right: float,
) -> None:  # fmt: skip
    rows, cols = heights.shape
    weighted = weights.shape[0] > 0
    group, first = GROUP, _chance(seed, 0, 3)
    reach = int(offsets.max())
    flat = heights.reshape(rows * cols)
    steps_to = offsets[:, 0] * cols + offsets[:, 1]
    cells_down, cells_right = max(1, round((bottom - top) / CELL_POSTS)), max(1, round((right - left) / CELL_POSTS))
    if cells_down * cells_right < FEW_CELLS or drops < group * FEW_CELLS:
        cells_down = cells_right = 1
    tall, wide = (bottom - top) / cells_down, (right - left) / cells_right
    # Elevations are counted in posts here, so that slopes are plain ratios.
    scale = 1.0 / spacing
    for drop in range(drops):
        # A few drops after each other fall in one cell, whose ground the processor then has at hand.
        cell = int((first + (drop // group) * GOLDEN) % 1.0 * cells_down * cells_right)
        y = top + (cell // cells_right + _chance(seed, drop, 0)) * tall
        x = left + (cell % cells_right + _chance(seed, drop, 1)) * wide
        dy = dx = 0.0
        speed, water, load = 1.0, 1.0, 0.0
        for _ in range(steps):
            r, c = int(y), int(x)
            if r < 0 or c < 0 or r >= rows - 1 or c >= cols - 1:
                break
            strength = 1.0
            if weighted:
                strength = float(weights[r, c])
                if strength <= 0 or weights[r + 1, c] <= 0 or weights[r, c + 1] <= 0 or weights[r + 1, c + 1] <= 0:
                    break
            fy, fx = y - r, x - c
            h00, h01, h10, h11 = heights[r, c], heights[r, c + 1], heights[r + 1, c], heights[r + 1, c + 1]
            slope_x = ((h01 - h00) * (1 - fy) + (h11 - h10) * fy) * scale
            slope_y = ((h10 - h00) * (1 - fx) + (h11 - h01) * fx) * scale
            here = ((h00 * (1 - fx) + h01 * fx) * (1 - fy) + (h10 * (1 - fx) + h11 * fx) * fy) * scale
            dx = dx * inertia - slope_x * (1 - inertia)
            dy = dy * inertia - slope_y * (1 - inertia)
            long = math.sqrt(dx * dx + dy * dy)
            if long < 1e-9:
                break
            dx /= long
            dy /= long
            ny, nx = y + dy, x + dx
            nr, nc = int(ny), int(nx)
            if ny < 0 or nx < 0 or nr >= rows - 1 or nc >= cols - 1:
                break
            gy, gx = ny - nr, nx - nc
            there = (
                (heights[nr, nc] * (1 - gx) + heights[nr, nc + 1] * gx) * (1 - gy)
                + (heights[nr + 1, nc] * (1 - gx) + heights[nr + 1, nc + 1] * gx) * gy
            ) * scale
            rise = there - here
            # Where less may be done a drop can carry less: towards an edge it lays its load down bit by bit.
            most = max(-rise, 0.01) * speed * water * capacity * strength
            if rise > 0:
                # Up a rise a drop fills the hollow behind it.
                fall = min(rise, load)
                load -= fall
                part = fall * spacing
                heights[r, c] += part * (1 - fx) * (1 - fy)
                heights[r, c + 1] += part * fx * (1 - fy)
                heights[r + 1, c] += part * (1 - fx) * fy
                heights[r + 1, c + 1] += part * fx * fy
            elif load > most:
                # All the more so the nearer the edge is, lest the rest be dropped in a bank along it.
                edge = (1 - strength) * (1 - strength)
                fall = (load - most) * (settle + (1 - settle) * edge * edge)
                if _let_fall(heights, weights, int(y + 0.5), int(x + 0.5), fall * spacing, offsets, shares):
                    load -= fall
            else:
                # Never more than the drop ahead is deep, so that no pit is dug.
                take = min((most - load) * carve, -rise) * strength
                br, bc = int(y + 0.5), int(x + 0.5)
                if not weighted and br >= reach and bc >= reach and br < rows - reach and bc < cols - reach:
                    # One index for a post, not two: this loop and its like are half of the work.
                    base, part = br * cols + bc, take * spacing
                    for i in range(steps_to.shape[0]):
                        flat[base + steps_to[i]] -= part * shares[i]
                    load += take
                    taken = 0
                else:
                    taken = offsets.shape[0]
                for i in range(taken):
                    tr, tc = br + offsets[i, 0], bc + offsets[i, 1]
                    if tr < 0 or tc < 0 or tr >= rows or tc >= cols or (weighted and weights[tr, tc] <= 0):
                        continue
                    part = take * shares[i]
                    heights[tr, tc] -= part * spacing
                    load += part
            speed = min(math.sqrt(max(speed * speed * 0.9 - rise * 4.0, 0.0)), 4.0)
            if speed == 0.0:
                # It has come to rest in a hollow.
                y, x = ny, nx
                break
            water *= 1 - dry
            y, x = ny, nx
        # What is still carried falls where the drop is.
        if load > 0:
            r, c = min(max(int(y + 0.5), 0), rows - 1), min(max(int(x + 0.5), 0), cols - 1)
            _let_fall(heights, weights, r, c, load * spacing, offsets, shares)


@kernel
def _let_fall(
    heights: DoubleArray, weights: NDArray[np.float32], row: int, col: int, amount: float,
    offsets: NDArray[np.int64], shares: DoubleArray,
) -> bool:  # fmt: skip
    """Lay `amount` [m] on the disc around a post, by how much its posts may change; False where none may."""
    rows, cols = heights.shape
    weighted = weights.shape[0] > 0
    reach = offsets[offsets.shape[0] - 1, 0]
    if not weighted and row >= reach and col >= reach and row < rows - reach and col < cols - reach:
        flat = heights.reshape(rows * cols)
        base = row * cols + col
        for i in range(offsets.shape[0]):
            flat[base + offsets[i, 0] * cols + offsets[i, 1]] += amount * shares[i]
        return True
    total = 0.0
    for i in range(offsets.shape[0]):
        r, c = row + offsets[i, 0], col + offsets[i, 1]
        if r >= 0 and c >= 0 and r < rows and c < cols and (not weighted or weights[r, c] > 0):
            total += shares[i] * (weights[r, c] if weighted else 1.0)
    if total <= 0:
        return False
    scale = amount / total
    for i in range(offsets.shape[0]):
        r, c = row + offsets[i, 0], col + offsets[i, 1]
        if r >= 0 and c >= 0 and r < rows and c < cols and (not weighted or weights[r, c] > 0):
            heights[r, c] += scale * shares[i] * (weights[r, c] if weighted else 1.0)
    return True
