"""Places that keep their distance, worked out from a seed alone: the same wherever one begins to look.

Places are found by random sequential addition: darts fall one after the other, and one stays when it is far enough from
all that stayed before it [1]_. The land is divided into square blocks that are filled in four turns, those of even row
and column first: blocks of one turn are too far apart to touch, and each keeps its distance from the neighbours that
were filled before it. So what stands in a block follows from at most the two blocks around it, whatever part of the
land is asked for. When darts no longer find room the squares that are still free are gone through, halved again and
again until none is left [2]_: what is full is really full.

References
----------
.. [1] J. Feder (1980), Random sequential adsorption, doi:10.1016/0022-5193(80)90358-6
.. [2] M. S. Ebeida and others (2012), A simple algorithm for maximal Poisson-disk sampling in high dimensions,
   doi:10.1111/j.1467-8659.2012.03059.x
"""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.draws import key_of, unit
from fernfield.core.errors import InvalidInput
from fernfield.core.kernels import kernel

SMALLEST_BLOCK_M = 32.0
MOST_APART_M = 60.0
DENSEST_PER_HA = 10_000.0
"""One to the square metre; denser growth is ground cover, not plants one by one."""
HECTARE_M2 = 10_000.0

Cell = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Pattern:
    """How places of several sorts are laid out.

    seed : 0 up to 2**62
    per_ha : at most so many of each sort to a hectare; a sort that comes first finds its places first
    apart : the least distance between a place of one sort and one of another, [sort][sort]; symmetric, 0 for none [m]
    """

    seed: int
    per_ha: tuple[float, ...]
    apart: tuple[tuple[float, ...], ...]

    def __post_init__(self) -> None:
        for density in self.per_ha:
            if not 0 <= density <= DENSEST_PER_HA:
                raise InvalidInput(
                    f"density must be 0 to {DENSEST_PER_HA:g} a hectare, not {density:g}", "density_per_ha"
                )
        far = max((d for row in self.apart for d in row), default=0.0)
        if not 0 <= far <= MOST_APART_M:
            raise InvalidInput(f"a distance must be 0 to {MOST_APART_M:g} m, not {far:g} m", "apart_m")

    @property
    def block_m(self) -> float:
        """The side of a block: twice the largest distance at least."""
        side, far = SMALLEST_BLOCK_M, max((d for row in self.apart for d in row), default=0.0)
        while side < 2 * far:
            side *= 2
        return side


@dataclass(frozen=True, slots=True)
class Places:
    """Places in the order of their blocks: x east, y north [m, of the world]; the sort of each; from which share on it
    is taken (above 0, at most 1 where there is room for all); its block and its number in it."""

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    sort: NDArray[np.uint8]
    taken_from: NDArray[np.float32]
    block: NDArray[np.int32]
    number: NDArray[np.int32]

    def __len__(self) -> int:
        return len(self.x)

    def those(self, which: NDArray[np.bool_]) -> Places:
        """Some of them."""
        return Places(*(getattr(self, name)[which] for name in self.__slots__))


@dataclass(slots=True)
class _Block:
    """What stands in a block: x, y from its south-west corner, sort; from which share on; number within its sort."""

    places: NDArray[np.float64]
    taken_from: NDArray[np.float32]
    number: NDArray[np.int32]


def _before(cell: Cell) -> list[Cell]:
    """The neighbours that are filled before a block."""
    i, j = cell
    turn = (i & 1) + 2 * (j & 1)
    around = [(i + a, j + b) for a in (-1, 0, 1) for b in (-1, 0, 1)]
    return [other for other in around if (other[0] & 1) + 2 * (other[1] & 1) < turn]


class _Laid:
    """The blocks of a pattern that have been filled so far."""

    def __init__(self, pattern: Pattern) -> None:
        self.pattern, self.side = pattern, pattern.block_m
        self.blocks: dict[Cell, _Block] = {}
        self.lock = threading.Lock()
        self.counts = np.array([d * self.side**2 / HECTARE_M2 for d in pattern.per_ha], np.float64)
        self.apart = np.array(pattern.apart, np.float64).reshape(len(pattern.per_ha), len(pattern.per_ha))
        self.size = 0

    def fill(self, cells: Sequence[Cell]) -> list[_Block]:
        with self.lock:
            wanted = {cell for cell in cells if cell not in self.blocks}
            turns: list[list[Cell]] = [[], [], [], []]
            # A block needs those before it, and these need those before them.
            front = wanted
            while front:
                for cell in front:
                    turns[(cell[0] & 1) + 2 * (cell[1] & 1)].append(cell)
                front = {b for cell in front for b in _before(cell) if b not in self.blocks and b not in wanted}
                wanted |= front
            for turn in turns:
                half = len(turn) // 2
                parts = [turn] if half < 32 else [turn[:half], turn[half:]]
                for part, made in zip(parts, _SHARED.map(self._some, parts), strict=True):
                    for cell, block in zip(part, made, strict=True):
                        self.blocks[cell] = block
                        self.size += len(block.number) + 8
            return [self.blocks[cell] for cell in cells]

    def _some(self, cells: Iterable[Cell]) -> list[_Block]:
        return [self._one(cell) for cell in cells]

    def _one(self, cell: Cell) -> _Block:
        found = []
        for other in _before(cell):
            near = self.blocks[other].places
            if len(near):
                shift = np.array([(other[0] - cell[0]) * self.side, (other[1] - cell[1]) * self.side, 0.0])
                found.append(near + shift)
        near = np.concatenate(found) if found else np.zeros((0, 3))
        most = int(np.ceil(self.counts).sum()) + len(self.counts)
        out, told = np.empty((most, 3)), np.empty(most, np.float32)
        numbers = np.empty(most, np.int32)
        count = _fill(self.pattern.seed, *cell, self.side, self.counts, self.apart, near, out, told, numbers)
        return _Block(out[:count].copy(), told[:count].copy(), numbers[:count].copy())


_SHARED = ThreadPoolExecutor(max_workers=2, thread_name_prefix="growth")
MOST_KEPT = 4_000_000
"""Places that are kept at hand, of all patterns together: 40 bytes each."""
_LAID: OrderedDict[Pattern, _Laid] = OrderedDict()
_LOCK = threading.Lock()


def _laid_of(pattern: Pattern) -> _Laid:
    with _LOCK:
        laid = _LAID.pop(pattern, None) or _Laid(pattern)
        _LAID[pattern] = laid
        while len(_LAID) > 1 and sum(one.size for one in _LAID.values()) > MOST_KEPT:
            _LAID.popitem(last=False)
        if laid.size > MOST_KEPT:
            laid = _LAID[pattern] = _Laid(pattern)
        return laid


def places(pattern: Pattern, x0: float, y0: float, x1: float, y1: float) -> Places:
    """All places of a pattern with x0 <= x < x1 and y0 <= y < y1, in a fixed order. [m, of the world]"""
    laid = _laid_of(pattern)
    side = laid.side
    cells = [
        (i, j)
        for j in range(math.floor(y0 / side), math.ceil(y1 / side))
        for i in range(math.floor(x0 / side), math.ceil(x1 / side))
    ]
    blocks = laid.fill(cells)
    counts = np.array([len(block.number) for block in blocks], np.int64)
    at = np.repeat(np.array(cells, np.int32).reshape(-1, 2), counts, axis=0)
    every = np.concatenate([block.places for block in blocks]) if blocks else np.zeros((0, 3))
    found = Places(
        at[:, 0] * side + every[:, 0],
        at[:, 1] * side + every[:, 1],
        every[:, 2].astype(np.uint8),
        np.concatenate([block.taken_from for block in blocks]) if blocks else np.zeros(0, np.float32),
        at,
        np.concatenate([block.number for block in blocks]) if blocks else np.zeros(0, np.int32),
    )
    inside = (found.x >= x0) & (found.x < x1) & (found.y >= y0) & (found.y < y1)
    return found if inside.all() else found.those(inside)


def reached(pattern: Pattern) -> list[float]:
    """The part of each density that there is room for, 0 to 1, from 64 blocks of an ideal land."""
    laid = _laid_of(pattern)
    blocks = laid.fill([(i, j) for j in range(8) for i in range(8)])
    found = np.zeros(len(laid.counts))
    for block in blocks:
        found += np.bincount(block.places[:, 2].astype(int), minlength=len(found))
    wanted = laid.counts * 64
    return [min(1.0, float(f / w)) if w > 0 else 1.0 for f, w in zip(found, wanted, strict=True)]


@kernel
def _free(
    x: float, y: float, sort: int, apart: NDArray[np.float64], at: NDArray[np.float64], follows: NDArray[np.int64],
    heads: NDArray[np.int64], begins: NDArray[np.int64], wide: NDArray[np.float64], across: NDArray[np.int64],
    far: float,
) -> bool:  # fmt: skip
    """Whether a place is far enough from all of every sort."""
    for other in range(apart.shape[0]):
        d = apart[sort, other]
        if d <= 0:
            continue
        n = across[other]
        c, r = int((x + far) / wide[other]), int((y + far) / wide[other])
        for rr in range(max(0, r - 1), min(n, r + 2)):
            for cc in range(max(0, c - 1), min(n, c + 2)):
                p = heads[begins[other] + rr * n + cc]
                while p >= 0:
                    dx, dy = at[p, 0] - x, at[p, 1] - y
                    if dx * dx + dy * dy < d * d:
                        return False
                    p = follows[p]
    return True


@kernel
def _finely(value: float) -> float:
    """To 1/1024 of a metre: the same place in the metres of any tract, to the last bit of a float32."""
    return float(math.floor(value * 1024.0) / 1024.0)


@kernel
def _covered(
    x: float, y: float, side: float, sort: int, apart: NDArray[np.float64], at: NDArray[np.float64],
    follows: NDArray[np.int64], heads: NDArray[np.int64], begins: NDArray[np.int64], wide: NDArray[np.float64],
    across: NDArray[np.int64], far: float,
) -> bool:  # fmt: skip
    """Whether one place forbids all of a square."""
    mx, my, half = x + side / 2, y + side / 2, side / 2
    for other in range(apart.shape[0]):
        d = apart[sort, other]
        if d <= half:
            continue
        n = across[other]
        c, r = int((mx + far) / wide[other]), int((my + far) / wide[other])
        for rr in range(max(0, r - 1), min(n, r + 2)):
            for cc in range(max(0, c - 1), min(n, c + 2)):
                p = heads[begins[other] + rr * n + cc]
                while p >= 0:
                    dx, dy = abs(at[p, 0] - mx) + half, abs(at[p, 1] - my) + half
                    if dx * dx + dy * dy < d * d:
                        return True
                    p = follows[p]
    return False


@kernel
def _fill(
    seed: int, i: int, j: int, side: float, counts: NDArray[np.float64], apart: NDArray[np.float64],
    near: NDArray[np.float64], out: NDArray[np.float64], taken_from: NDArray[np.float32], number: NDArray[np.int32],
) -> int:  # fmt: skip
    """Fill a block; `out` (n, 3) gets x, y and sort of what stands, from its corner. Returns how many."""
    sorts = counts.shape[0]
    far = 0.0
    for a in range(sorts):
        for b in range(sorts):
            far = max(far, apart[a, b])
    # Every sort in a grid of its own, as wide as the farthest that anything keeps from it.
    wide, across = np.empty(sorts, np.float64), np.empty(sorts, np.int64)
    begins = np.zeros(sorts + 1, np.int64)
    for a in range(sorts):
        reach = 0.0
        for b in range(sorts):
            reach = max(reach, apart[b, a])
        wide[a] = max(reach, side / 64)
        across[a] = int((side + 2 * far) / wide[a]) + 1
        begins[a + 1] = begins[a] + across[a] * across[a]
    heads = np.full(begins[sorts], -1, np.int64)
    most = out.shape[0] + near.shape[0]
    at, follows = np.empty((most, 2), np.float64), np.empty(most, np.int64)
    known = 0
    for p in range(near.shape[0]):
        x, y, own = near[p, 0], near[p, 1], int(near[p, 2])
        if x < -far or y < -far or x >= side + far or y >= side + far:
            continue
        place = begins[own] + int((y + far) / wide[own]) * across[own] + int((x + far) / wide[own])
        at[known, 0], at[known, 1], follows[known] = x, y, heads[place]
        heads[place] = known
        known += 1
    total = 0
    for sort in range(sorts):
        wanted = int(math.ceil(counts[sort]))
        if wanted == 0:
            continue
        key = key_of(seed, sort, i, j)
        begin = unit(key, 0)
        drawn, count = 1, 0
        for _ in range(6 * wanted + 16):
            if count == wanted:
                break
            x, y = _finely(unit(key, drawn) * side), _finely(unit(key, drawn + 1) * side)
            drawn += 2
            if _free(x, y, sort, apart, at, follows, heads, begins, wide, across, far):
                place = begins[sort] + int((y + far) / wide[sort]) * across[sort] + int((x + far) / wide[sort])
                at[known, 0], at[known, 1], follows[known] = x, y, heads[place]
                heads[place] = known
                known += 1
                out[total, 0], out[total, 1], out[total, 2] = x, y, sort
                taken_from[total] = max((count + begin) / counts[sort], 1e-7)
                number[total] = count
                total += 1
                count += 1
        if count == wanted:
            continue
        # Darts find no more room: what is free is gone through, in squares that are halved again and again.
        least = far
        for b in range(sorts):
            if apart[sort, b] > 0:
                least = min(least, apart[sort, b])
        n = max(1, int(math.ceil(side / (least / math.sqrt(2.0)))))
        size = side / n
        squares = np.empty((n * n, 2), np.float64)
        active = 0
        for a in range(n):
            for b in range(n):
                if not _covered(b * size, a * size, size, sort, apart, at, follows, heads, begins, wide, across, far):
                    squares[active, 0], squares[active, 1] = b * size, a * size
                    active += 1
        while active > 0 and count < wanted and size > least / 4096:
            for _ in range(2 * active):
                q = min(int(unit(key, drawn) * active), active - 1)
                x = _finely(squares[q, 0] + unit(key, drawn + 1) * size)
                y = _finely(squares[q, 1] + unit(key, drawn + 2) * size)
                drawn += 3
                if _free(x, y, sort, apart, at, follows, heads, begins, wide, across, far):
                    place = begins[sort] + int((y + far) / wide[sort]) * across[sort] + int((x + far) / wide[sort])
                    at[known, 0], at[known, 1], follows[known] = x, y, heads[place]
                    heads[place] = known
                    known += 1
                    out[total, 0], out[total, 1], out[total, 2] = x, y, sort
                    taken_from[total] = max((count + begin) / counts[sort], 1e-7)
                    number[total] = count
                    total += 1
                    count += 1
                    if count == wanted:
                        break
            finer = np.empty((4 * active, 2), np.float64)
            size /= 2
            left = 0
            for q in range(active):
                for quarter in range(4):
                    x, y = squares[q, 0] + (quarter & 1) * size, squares[q, 1] + (quarter >> 1) * size
                    if not _covered(x, y, size, sort, apart, at, follows, heads, begins, wide, across, far):
                        finer[left, 0], finer[left, 1] = x, y
                        left += 1
            squares, active = finer[:left], left
    return total
