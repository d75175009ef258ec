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
    buckets = int(min(MOST_BUCKETS, math.ceil(longest / least) + 2))
    cost = np.full((rows, cols), np.inf)
    came = np.full((rows, cols), -1, np.int8)
    first = np.array([row * cols + col for row, col in sources], np.int64)
    # All that is asked of a post lies together.
    whole = np.ascontiguousarray(np.moveaxis(leave, 0, -1))
    # A hair less: sums of steps may round to just under their bound.
    _ring(whole, first, cost, came, ground, spacing, speed, _BY[by], _CLOCKS[clock], least * (1 - 1e-9), buckets, most)
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
    leave: ByteArray, sources: NDArray[np.int64], cost: NDArray[np.float64], came: NDArray[np.int8],
    heights: FloatArray, spacing: float, speed: float, by: int, clock: int, width: float, buckets: int, most: float,
) -> None:  # fmt: skip
    rows, cols, _ = leave.shape
    head = np.full(buckets, -1, np.int64)
    runs = np.array([spacing, spacing * math.sqrt(2.0)])
    paced = np.full((2, 256), np.inf)
    for k in range(2):
        for pace in range(1, 256):
            paced[k, pace] = runs[k] / (speed * (pace / 255.0))
    around = np.empty((8, 2), np.int64)
    for d in range(8):
        around[d] = down_by(d), right_by(d)
    # Entries of the buckets: a post and the one behind it. What was taken is used again.
    room = 1 << 14
    post, behind = np.empty(room, np.int64), np.empty(room, np.int64)
    used, free, waiting = 0, np.int64(-1), 0
    for k in range(len(sources)):
        r, c = sources[k] // cols, sources[k] % cols
        if cost[r, c] == 0.0:
            continue
        cost[r, c] = 0.0
        if used == room:
            post, behind, room = _more(post), _more(behind), room * 2
        post[used], behind[used] = sources[k], head[0]
        head[0] = used
        used += 1
        waiting += 1
    done = np.zeros((rows, cols), np.uint8)
    at = 0
    while waiting > 0:
        slot = at % buckets
        while head[slot] >= 0:
            entry = head[slot]
            head[slot] = behind[entry]
            here = post[entry]
            behind[entry] = free
            free = entry
            waiting -= 1
            r, c = here // cols, here % cols
            if done[r, c]:
                continue
            if int(cost[r, c] / width) > at:
                # It lies further than the ring is long: its turn has not come.
                free = behind[entry]
                ahead = min(int(cost[r, c] / width), at + buckets - 1) % buckets
                behind[entry] = head[ahead]
                head[ahead] = entry
                waiting += 1
                continue
            done[r, c] = 1
            so_far = cost[r, c]
            for d in range(8):
                pace = leave[r, c, d]
                if pace == 0:
                    continue
                r1, c1 = r + around[d, 0], c + around[d, 1]
                if r1 < 0 or c1 < 0 or r1 >= rows or c1 >= cols:
                    continue
                run = runs[d % 2]
                if by == 1:
                    step = run
                elif by == 2:
                    step = FLAT_PART * run + max(0.0, float(heights[r1, c1]) - float(heights[r, c]))
                else:
                    step = paced[d % 2, pace]
                    if clock > 0:
                        step *= _slowed(clock, float(heights[r1, c1]) - float(heights[r, c]), run)
                new = so_far + step
                if new < cost[r1, c1] and new <= most:
                    cost[r1, c1] = new
                    came[r1, c1] = d
                    to = int(new / width)
                    to = min(to, at + buckets - 1)
                    if free >= 0:
                        one = free
                        free = behind[one]
                    else:
                        if used == room:
                            post, behind, room = _more(post), _more(behind), room * 2
                        one = np.int64(used)
                        used += 1
                    post[one], behind[one] = r1 * cols + c1, head[to % buckets]
                    head[to % buckets] = one
                    waiting += 1
        at += 1


@kernel
def _more(values: NDArray[np.int64]) -> NDArray[np.int64]:
    out = np.empty(len(values) * 2, np.int64)
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
