"""How long it takes to get anywhere: shortest ways over a grid of posts, from each to the eight around it.

Dijkstra's algorithm with a ring of buckets, each as wide as the least that any step costs: nothing in a bucket can be
improved by another of it, so what comes out is exact, and no queue is sorted [1]_.

.. [1] E. V. Denardo, B. L. Fox (1979), doi:10.1287/opre.27.1.161; E. W. Dijkstra (1959), doi:10.1007/BF01386390
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.travel.passable import DIRECTIONS, WHOLE_PACE, down_by, right_by

By = Literal["time", "length", "climb"]
Clock = Literal["walker", "tobler", "naismith"]
_BY: dict[str, int] = {"time": 0, "length": 1, "climb": 2}
_CLOCKS: dict[str, int] = {"walker": 0, "tobler": 1, "naismith": 2}
FLAT_PART = 0.02
"""A metre along costs as much as this part of a metre up, where the gentlest way is sought (our choice)."""
NOWHERE, NOT_REACHED, REACHED, TRAP = range(4)
"""Of a post: nobody stands on it; it is not reached; it is; it is, and from there one does not come back."""
MOST_BUCKETS = 1 << 20
STEEPEST = 1.0
"""The functions were made for slopes that one walks; a step up or a drop that is steeper counts as steep as this."""


def tobler(slope: float) -> float:
    """The speed of somebody on foot on a slope (rise over run, downhill is negative). [km/h]

    6 exp(-3.5 |s + 0.05|), W. Tobler (1993), Three Presentations on Geographical Analysis and Modeling, NCGIA 93-1.
    """
    return 6 * math.exp(-3.5 * abs(slope + 0.05))


def naismith(run_m: float, rise_m: float) -> float:
    """How long a way takes on foot. [s]

    5 km an hour and an hour for every 600 m up, W. W. Naismith (1892), Scottish Mountaineering Club Journal 2, 136; ten
    minutes less for every 300 m down between 5° and 12°, ten more on steeper ground, E. Langmuir (1984),
    Mountaincraft and Leadership.
    """
    seconds = run_m / 5000 * 3600 + max(rise_m, 0.0) / 600 * 3600
    down = math.degrees(math.atan2(-rise_m, run_m)) if rise_m < 0 and run_m > 0 else 0.0
    if 5 < down <= 12:
        return seconds + rise_m / 300 * 600
    return seconds - rise_m / 300 * 600 if down > 12 else seconds


@dataclass(frozen=True, slots=True)
class Reach:
    """What is reached from some posts, shape (rows, cols).

    cost : of the cheapest way to each post, infinite where none leads: seconds, metres, or metres up (with some for
    the way); came : the direction in which it comes to the post, -1 at its beginning and where none leads
    """

    cost: NDArray[np.float64]
    came: NDArray[np.int8]

    def way(self, row: int, col: int) -> list[tuple[int, int]]:
        """The posts of the way to a post, from its beginning; none where no way leads there."""
        if not math.isfinite(self.cost[row, col]):
            return []
        found = [(row, col)]
        while (d := int(self.came[row, col])) >= 0:
            row, col = row - DIRECTIONS[d][0], col - DIRECTIONS[d][1]
            found.append((row, col))
        return found[::-1]


def reach_from(
    leave: ByteArray, sources: Sequence[tuple[int, int]], spacing: float, speed: float, *,
    heights: FloatArray | None = None, by: By = "time", clock: Clock = "walker", most: float = math.inf,
) -> Reach:  # fmt: skip
    """The cheapest ways from some posts to all others.

    leave : what each post costs to leave in each of the eight directions (`passable`), shape (8, rows, cols)
    spacing : from post to post [m]; speed : at full pace on the level [m/s]
    heights : of the posts [m], for the climb and for the clocks that know slopes
    by : what is least; clock : how a slope slows: as the walker of a trial is (not at all), by Tobler's function beside
    its own value on the level, or by Naismith's with Langmuir's
    most : what costs more is not looked for

    Raises GridError for sources outside of the grid, or heights of another shape.
    """
    _, rows, cols = leave.shape
    if any(not (0 <= row < rows and 0 <= col < cols) for row, col in sources):
        raise GridError(f"every beginning must be a post of {rows} x {cols}")
    needs = by == "climb" or (by == "time" and clock != "walker")
    if needs and (heights is None or heights.shape != (rows, cols)):
        raise GridError(f"heights must have the shape {(rows, cols)}")
    ground = np.ascontiguousarray(heights if needs else np.zeros((1, 1)), np.float32)
    least, longest = _bounds(by, clock, spacing, speed, ground)
    # A power of two: which bucket it is, is found without dividing.
    buckets = 1 << math.ceil(math.log2(min(MOST_BUCKETS, math.ceil(longest / least) + 2)))
    # With a post that nobody leaves around them all: no way is asked whether it leads off the grid.
    wide = cols + 2
    whole = np.zeros((rows + 2, wide, 8), np.uint8)
    whole[1:-1, 1:-1] = np.moveaxis(leave, 0, -1)
    for d, (down, right) in enumerate(DIRECTIONS):
        for edge, leads in ((whole[1, :, d], down < 0), (whole[-2, :, d], down > 0),
                            (whole[:, 1, d], right < 0), (whole[:, -2, d], right > 0)):  # fmt: skip
            if leads:
                edge[...] = 0
    steep = np.zeros((rows + 2, wide) if needs else (1, 1), np.float32)
    if needs:
        steep[1:-1, 1:-1] = ground
    cost = np.full((rows + 2) * wide, np.inf)
    came = np.full((rows + 2) * wide, -1, np.int8)
    first = np.array([(row + 1) * wide + col + 1 for row, col in sources], np.int64)
    # A hair less: sums of steps may round to just under their bound.
    _ring(whole.reshape(-1, 8), wide, first, cost, came, steep.ravel(), spacing, speed, _BY[by], _CLOCKS[clock],
          1 / (least * (1 - 1e-9)), buckets, most)  # fmt: skip
    cost, came = (np.ascontiguousarray(one.reshape(rows + 2, wide)[1:-1, 1:-1]) for one in (cost, came))
    return Reach(cost, came)


def _bounds(by: By, clock: Clock, spacing: float, speed: float, ground: FloatArray) -> tuple[float, float]:
    """The least and the most that a step can cost."""
    far = spacing * math.sqrt(2)
    steep = 0.0
    if ground.size > 1:
        steps = [np.abs(np.diff(ground, axis=0)), np.abs(np.diff(ground, axis=1))]
        steep = 2 * max((float(np.nanmax(one)) for one in steps if one.size and not np.isnan(one).all()), default=0.0)
    if by == "length":
        return spacing, far
    if by == "climb":
        return FLAT_PART * spacing, FLAT_PART * far + steep
    least, longest = spacing / speed, far / speed * WHOLE_PACE
    if clock == "tobler":
        return least * tobler(0) / tobler(-0.05), longest * tobler(0) / tobler(STEEPEST)
    if clock == "naismith":
        # The quickest is down 12°.
        quick = 1 - math.tan(math.radians(12.001)) * 5000 / 1800
        return least * quick, longest * (1 + STEEPEST * 5000 / 600)
    return least, longest


@kernel
def _slowed(clock: int, rise: float, run: float) -> float:
    """So many times as long as on the level."""
    rise = min(max(rise, -STEEPEST * run), STEEPEST * run)
    if clock == 1:
        return math.exp(3.5 * (abs(rise / run + 0.05) - 0.05))
    if clock == 2:
        more = 1.0 + max(rise, 0.0) / run * 5000.0 / 600.0
        if rise < 0:
            down = math.degrees(math.atan2(-rise, run))
            if down > 12.0:
                more += -rise / run * 5000.0 / 1800.0
            elif down > 5.0:
                more += rise / run * 5000.0 / 1800.0
        return more
    return 1.0


@kernel
def _ring(
    leave: ByteArray, wide: int, sources: NDArray[np.int64], cost: NDArray[np.float64], came: NDArray[np.int8],
    heights: FloatArray, spacing: float, speed: float, by: int, clock: int, each: float, buckets: int, most: float,
) -> None:  # fmt: skip
    """each : one over how wide a bucket is"""
    head = np.full(buckets, -1, np.int32)
    mask = buckets - 1
    runs = np.array([spacing, spacing * math.sqrt(2.0)])
    paced = np.full((2, 256), np.inf)
    for k in range(2):
        for pace in range(1, 256):
            paced[k, pace] = runs[k] / (speed * (pace / 255.0))
    around = np.empty(8, np.int64)
    for d in range(8):
        around[d] = down_by(d) * wide + right_by(d)
    plain = by == 0 and clock == 0
    # Entries of the buckets: a post and the one behind it. What was taken is used again.
    room = 1 << 14
    entries = np.empty((room, 2), np.int32)
    used, free, waiting = 0, np.int32(-1), 0
    for k in range(len(sources)):
        if cost[sources[k]] == 0.0:
            continue
        cost[sources[k]] = 0.0
        if used == room:
            entries, room = _more(entries), room * 2
        entries[used, 0], entries[used, 1] = sources[k], head[0]
        head[0] = used
        used += 1
        waiting += 1
    done = np.zeros(len(cost), np.uint8)
    at = 0
    while waiting > 0:
        slot = at & mask
        while head[slot] >= 0:
            entry = head[slot]
            head[slot] = entries[entry, 1]
            here = np.int64(entries[entry, 0])
            entries[entry, 1] = free
            free = entry
            waiting -= 1
            if done[here]:
                continue
            so_far = cost[here]
            if int(so_far * each) > at:
                # It lies further than the ring is long: its turn has not come.
                free = entries[entry, 1]
                ahead = min(int(so_far * each), at + mask) & mask
                entries[entry, 1] = head[ahead]
                head[ahead] = entry
                waiting += 1
                continue
            done[here] = 1
            for d in range(8):
                pace = leave[here, d]
                there = here + around[d]
                if pace == 0 or done[there]:
                    continue
                if plain:
                    step = paced[d & 1, pace]
                elif by == 0:
                    step = paced[d & 1, pace] * _slowed(
                        clock, float(heights[there]) - float(heights[here]), runs[d & 1]
                    )
                elif by == 1:
                    step = runs[d & 1]
                else:
                    step = FLAT_PART * runs[d & 1] + max(0.0, float(heights[there]) - float(heights[here]))
                new = so_far + step
                if new < cost[there] and new <= most:
                    cost[there] = new
                    came[there] = d
                    to = min(int(new * each), at + mask) & mask
                    one = free
                    if one >= 0:
                        free = entries[one, 1]
                    else:
                        if used == room:
                            entries, room = _more(entries), room * 2
                        one = np.int32(used)
                        used += 1
                    entries[one, 0], entries[one, 1] = there, head[to]
                    head[to] = one
                    waiting += 1
        at += 1


@kernel
def _more(values: NDArray[np.int32]) -> NDArray[np.int32]:
    out = np.empty((len(values) * 2, 2), np.int32)
    out[: len(values)] = values
    return out


def classes(leave: ByteArray, sources: Sequence[tuple[int, int]]) -> ByteArray:
    """What each post is to somebody who begins at some: `NOWHERE`, `NOT_REACHED`, `REACHED` or `TRAP`."""
    _, rows, cols = leave.shape
    whole = np.ascontiguousarray(leave).view()
    whole.setflags(write=False)
    first = np.array([row * cols + col for row, col in sources], np.int64)
    there, back = np.zeros((rows, cols), np.uint8), np.zeros((rows, cols), np.uint8)
    _flood(whole, first, there, False)
    _flood(whole, first, back, True)
    out = np.full((rows, cols), NOT_REACHED, np.uint8)
    out[there > 0] = REACHED
    out[(there > 0) & (back == 0)] = TRAP
    out[(leave == 0).all(axis=0) & (there == 0)] = NOWHERE
    return out


@kernel
def _flood(leave: ByteArray, sources: NDArray[np.int64], seen: ByteArray, backwards: bool) -> None:
    _, rows, cols = leave.shape
    queue = np.empty(rows * cols, np.int64)
    count = 0
    for k in range(len(sources)):
        r, c = sources[k] // cols, sources[k] % cols
        if not seen[r, c]:
            seen[r, c] = 1
            queue[count] = sources[k]
            count += 1
    at = 0
    while at < count:
        r, c = queue[at] // cols, queue[at] % cols
        at += 1
        for d in range(8):
            if backwards:
                r1, c1 = r - down_by(d), c - right_by(d)
            else:
                r1, c1 = r + down_by(d), c + right_by(d)
            if r1 < 0 or c1 < 0 or r1 >= rows or c1 >= cols or seen[r1, c1]:
                continue
            if (leave[d, r1, c1] if backwards else leave[d, r, c]) == 0:
                continue
            seen[r1, c1] = 1
            queue[count] = r1 * cols + c1
            count += 1
