"""How a piece stands: turned, sized, tilted and led by the ground; what it takes up there, and whether it stands in
another."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fernfield.core.kernels import kernel
from fernfield.core.sites.kit import Corners, Entry

Points = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Pose:
    """How a piece stands: its foot [m], how it is turned and tilted [°], its size, and the horizontal part of the way
    up that it leans along (east and north of a unit vector; 0 for what stands upright)."""

    x: float
    y: float
    z: float
    turn_deg: float = 0.0
    tilt_deg: float = 0.0
    size: float = 1.0
    east: float = 0.0
    north: float = 0.0

    @property
    def frame(self) -> Points:
        """Three by three: where a metre to the right, ahead and up of the piece comes to lie."""
        turn, tilt = math.radians(self.turn_deg), math.radians(self.tilt_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        own = np.array([[cos, sin, 0.0], [-sin, cos, 0.0], [0.0, 0.0, 1.0]])
        own = own @ np.array([
            [1.0, 0.0, 0.0], [0.0, math.cos(tilt), math.sin(tilt)], [0.0, -math.sin(tilt), math.cos(tilt)]
        ])  # fmt: skip
        return np.asarray(_leaned(self.east, self.north) @ own * self.size)

    def of(self, points: Points) -> Points:
        """Where points of the piece's own frame lie, shape (n, 3). [m]"""
        return np.asarray(points @ self.frame.T + [self.x, self.y, self.z])

    def local(self, x: float, y: float) -> tuple[float, float]:
        """A place in the frame of a piece that stands upright: to its right, and ahead. [m]"""
        turn = math.radians(self.turn_deg)
        east, north = x - self.x, y - self.y
        cos, sin = math.cos(turn), math.sin(turn)
        return (east * cos - north * sin) / self.size, (east * sin + north * cos) / self.size


def _leaned(east: float, north: float) -> Points:
    """The shortest turn from straight up to a way that has these horizontal parts."""
    flat = math.hypot(east, north)
    if flat < 1e-12:
        return np.eye(3)
    up = math.sqrt(max(0.0, 1 - flat * flat))
    ax, ay = -north / flat, east / flat
    return np.array([
        [up + ax * ax * (1 - up), ax * ay * (1 - up), ay * flat],
        [ax * ay * (1 - up), up + ay * ay * (1 - up), -ax * flat],
        [-ay * flat, ax * flat, up],
    ])  # fmt: skip


ENDS = np.array([(1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0)])
"""Where the ground is asked of what lies along it: half its size to the right and left, ahead and behind."""


def ends_of(x: float, y: float, turn_deg: float, half: tuple[float, float]) -> Points:
    """The four places whose ground says how a piece lies, shape (4, 2). [m]"""
    turn = math.radians(turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    across, along = ENDS[:, 0] * half[0], ENDS[:, 1] * half[1]
    return np.column_stack([x + across * cos + along * sin, y - across * sin + along * cos])


def laid(heights: Sequence[float], half: tuple[float, float], turn_deg: float) -> tuple[float, float, float]:
    """How a piece lies on the ground of its four ends: the height of its foot [m], and how it leans east and north.

    The plane is that of least squares: the slopes between opposite ends, through the mean of all four.
    """
    right, left, ahead, behind = heights
    across = (right - left) / max(2 * half[0], 1e-9)
    along = (ahead - behind) / max(2 * half[1], 1e-9)
    turn = math.radians(turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    east, north = across * cos + along * sin, along * cos - across * sin
    long = math.sqrt(1 + east * east + north * north)
    return float(np.mean(heights)), -east / long, -north / long


def footprint_of(entry: Entry, pose: Pose) -> list[Corners]:
    """The ground that a piece takes up as it stands: convex polygons, counter-clockwise, seen from above. [m]"""
    frame = pose.frame[:2, :2]
    return [corners @ frame.T + [pose.x, pose.y] for corners in entry.outline]


@dataclass(frozen=True, slots=True)
class Outlines:
    """The footprints of many pieces, one after the other.

    x, y, reach : the middle of each piece and a circle around all of it [m]
    first : the number of the first polygon of each; one more at the end
    begin : the number of the first corner of each polygon; one more at the end
    corners : shape (n, 2) [m]
    """

    x: Points
    y: Points
    reach: Points
    first: NDArray[np.int64]
    begin: NDArray[np.int64]
    corners: Points

    def __len__(self) -> int:
        return len(self.x)


def outlines_of(pieces: Sequence[tuple[Entry, Pose]]) -> Outlines:
    """The footprints of pieces as they stand."""
    polygons = [footprint_of(entry, pose) for entry, pose in pieces]
    flat = [polygon for own in polygons for polygon in own]
    return Outlines(
        np.array([pose.x for _, pose in pieces], np.float64), np.array([pose.y for _, pose in pieces], np.float64),
        np.array([
            max((float(np.hypot(p[:, 0] - pose.x, p[:, 1] - pose.y).max()) for p in own), default=0.0)
            for own, (_, pose) in zip(polygons, pieces, strict=True)
        ], np.float64),
        np.cumsum([0, *(len(own) for own in polygons)], dtype=np.int64),
        np.cumsum([0, *(len(polygon) for polygon in flat)], dtype=np.int64),
        np.concatenate(flat) if flat else np.zeros((0, 2)),
    )  # fmt: skip


@kernel
def _apart(a: Points, b: Points) -> float:
    """How far two convex polygons are from each other; 0 where they meet. [m]"""
    meets = True
    for turn in range(2):
        one, other = (a, b) if turn == 0 else (b, a)
        n = len(one)
        for i in range(n):
            ex, ey = one[(i + 1) % n, 0] - one[i, 0], one[(i + 1) % n, 1] - one[i, 1]
            # A point has no sides.
            outside = ex * ex + ey * ey > 0
            for k in range(len(other) if outside else 0):
                if ex * (other[k, 1] - one[i, 1]) - ey * (other[k, 0] - one[i, 0]) > 1e-9:
                    outside = False
                    break
            if outside:
                meets = False
                break
        if not meets:
            break
    if meets:
        return 0.0
    best = 1e300
    for turn in range(2):
        one, other = (a, b) if turn == 0 else (b, a)
        n = len(one)
        for i in range(n):
            x0, y0 = one[i, 0], one[i, 1]
            ex, ey = one[(i + 1) % n, 0] - x0, one[(i + 1) % n, 1] - y0
            long = ex * ex + ey * ey
            for k in range(len(other)):
                dx, dy = other[k, 0] - x0, other[k, 1] - y0
                t = 0.0 if long == 0 else min(max((dx * ex + dy * ey) / long, 0.0), 1.0)
                best = min(best, (dx - t * ex) ** 2 + (dy - t * ey) ** 2)
    return math.sqrt(best)


@kernel
def _between(
    first: NDArray[np.int64], begin: NDArray[np.int64], corners: Points, i: int, other_first: NDArray[np.int64],
    other_begin: NDArray[np.int64], other_corners: Points, k: int,
) -> float:  # fmt: skip
    best = 1e300
    for p in range(first[i], first[i + 1]):
        for q in range(other_first[k], other_first[k + 1]):
            best = min(
                best,
                _apart(corners[begin[p] : begin[p + 1]], other_corners[other_begin[q] : other_begin[q + 1]]),
            )
    return best


def between(a: Outlines, i: int, b: Outlines, k: int) -> float:
    """How far two pieces are from each other; 0 where they touch or stand in each other. [m]"""
    return _between(a.first, a.begin, a.corners, i, b.first, b.begin, b.corners, k)


FITS, TOO_NEAR, IN_ANOTHER = 0, 1, 2
"""What becomes of one that asks for a place: it has it; it is too near to another of its own; it stands in, or too near
to, another piece."""


def settled(
    asks: Outlines, stands: Outlines, middle_m: float, edge_m: float, overlaps: NDArray[np.bool_], most: int
) -> tuple[NDArray[np.uint8], NDArray[np.int64]]:
    """Which of those that ask find a place, one after the other: each keeps away from all that stand and from those
    before it that found one.

    middle_m : between the middles of two of them at least [m]
    edge_m : between the outlines of one of them and of what stands already [m]
    overlaps : which of them may stand in others
    most : so many find a place at most; the others are not looked at

    Returns
    -------
    shape (n,), `FITS`, `TOO_NEAR` or `IN_ANOTHER`; and the number of whom each found in its way, of `stands` first and
    then of the asking, -1 for none. Those not looked at have `TOO_NEAR` and -2.
    """
    out, by = np.full(len(asks), TOO_NEAR, np.uint8), np.full(len(asks), -2, np.int64)
    if len(asks):
        _settle(
            asks.x, asks.y, asks.reach, asks.first, asks.begin, asks.corners, stands.x, stands.y, stands.reach,
            stands.first, stands.begin, stands.corners, float(middle_m), float(edge_m), overlaps, most, out, by,
        )  # fmt: skip
    return out, by


@kernel
def _settle(
    x: Points, y: Points, reach: Points, first: NDArray[np.int64], begin: NDArray[np.int64], corners: Points,
    sx: Points, sy: Points, sreach: Points, sfirst: NDArray[np.int64], sbegin: NDArray[np.int64], scorners: Points,
    middle_m: float, edge_m: float, overlaps: NDArray[np.bool_], most: int, out: NDArray[np.uint8],
    by: NDArray[np.int64],
) -> None:  # fmt: skip
    n, m = len(x), len(sx)
    widest = reach.max()
    if m > 0:
        widest = max(widest, sreach.max())
    side = max(2 * widest + edge_m, middle_m, 0.5)
    # Cells of `side` metres as lists: the newest of each, and the one before each.
    x0, y0 = x.min(), y.min()
    cols, rows = int((x.max() - x0) / side) + 1, int((y.max() - y0) / side) + 1
    newest = np.full((rows + 2) * (cols + 2), -1, np.int64)
    before = np.full(n + m, -1, np.int64)
    for k in range(m):
        c, r = int(math.floor((sx[k] - x0) / side)), int(math.floor((sy[k] - y0) / side))
        if -1 <= c <= cols and -1 <= r <= rows:
            cell = (r + 1) * (cols + 2) + c + 1
            before[k] = newest[cell]
            newest[cell] = k
    found = 0
    for i in range(n):
        if found >= most:
            return
        c, r = int((x[i] - x0) / side), int((y[i] - y0) / side)
        verdict, who = FITS, -1
        for dr in range(-1, 2):
            for dc in range(-1, 2):
                k = newest[(r + dr + 1) * (cols + 2) + c + dc + 1]
                while k >= 0 and verdict == FITS:
                    if k < m:
                        dx, dy = sx[k] - x[i], sy[k] - y[i]
                        far = reach[i] + sreach[k] + edge_m
                        if not overlaps[i] and dx * dx + dy * dy < far * far:
                            gap = _between(first, begin, corners, i, sfirst, sbegin, scorners, k)
                            if gap < edge_m or gap <= 0:
                                verdict, who = IN_ANOTHER, k
                    else:
                        dx, dy = x[k - m] - x[i], y[k - m] - y[i]
                        away = dx * dx + dy * dy
                        if away < middle_m * middle_m:
                            verdict, who = TOO_NEAR, k
                        else:
                            far = reach[i] + reach[k - m]
                            if (
                                not (overlaps[i] or overlaps[k - m])
                                and away < far * far
                                and _between(first, begin, corners, i, first, begin, corners, k - m) <= 0
                            ):
                                verdict, who = IN_ANOTHER, k
                    k = before[k]
        out[i], by[i] = verdict, who
        if verdict == FITS:
            found += 1
            cell = (r + 1) * (cols + 2) + c + 1
            before[m + i] = newest[cell]
            newest[cell] = m + i


def holds_any(outlines: Outlines, margin: Points, x: Points, y: Points) -> NDArray[np.bool_]:
    """Which places lie within the outline of a piece, or less than its margin beside it. [m]"""
    out = np.zeros(len(x), bool)
    for i in range(len(outlines)):
        reach = outlines.reach[i] + margin[i]
        near = np.flatnonzero(~out & (np.abs(x - outlines.x[i]) <= reach) & (np.abs(y - outlines.y[i]) <= reach))
        if len(near):
            _inside(
                outlines.first, outlines.begin, outlines.corners, i, float(margin[i]), np.asarray(x, np.float64),
                np.asarray(y, np.float64), near, out,
            )  # fmt: skip
    return out


@kernel
def _inside(
    first: NDArray[np.int64], begin: NDArray[np.int64], corners: Points, i: int, margin: float, x: Points, y: Points,
    near: NDArray[np.int64], out: NDArray[np.bool_],
) -> None:  # fmt: skip
    point = np.empty((1, 2))
    for number in near:
        point[0, 0], point[0, 1] = x[number], y[number]
        for p in range(first[i], first[i + 1]):
            if _apart(corners[begin[p] : begin[p + 1]], point) <= margin:
                out[number] = True
                break


def frames_of(turn_deg: Points, tilt_deg: Points, size: Points, east: Points, north: Points) -> Points:
    """The horizontal part of `Pose.frame` for many pieces at once: shape (n, 2, 2)."""
    turn, tilt = np.radians(turn_deg), np.radians(tilt_deg)
    cos, sin, flat = np.cos(turn), np.sin(turn), np.cos(tilt)
    own = np.empty((len(turn), 3, 2))
    own[:, 0, 0], own[:, 0, 1] = cos, sin * flat
    own[:, 1, 0], own[:, 1, 1] = -sin, cos * flat
    own[:, 2, 0], own[:, 2, 1] = 0.0, -np.sin(tilt)
    leans = np.hypot(east, north)
    up = np.sqrt(np.maximum(0.0, 1 - leans * leans))
    safe = np.where(leans < 1e-12, 1.0, leans)
    ax, ay = -north / safe, east / safe
    turned = np.empty((len(turn), 2, 3))
    turned[:, 0, 0], turned[:, 0, 1], turned[:, 0, 2] = up + ax * ax * (1 - up), ax * ay * (1 - up), ay * leans
    turned[:, 1, 0], turned[:, 1, 1], turned[:, 1, 2] = ax * ay * (1 - up), up + ay * ay * (1 - up), -ax * leans
    level = leans < 1e-12
    turned[level] = [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]
    return np.asarray(turned @ own * size[:, None, None])


def outlines_many(entries: Sequence[Entry], kind: NDArray[np.int64], x: Points, y: Points, frames: Points) -> Outlines:
    """The footprints of many pieces: `kind` is the number of each one's entry, `frames` as `frames_of` gives them."""
    polygons = np.array([len(entry.outline) for entry in entries], np.int64)
    corners = [np.array([len(polygon) for polygon in entry.outline], np.int64) for entry in entries]
    points = np.array([own.sum() for own in corners], np.int64)
    first = np.concatenate([[0], np.cumsum(polygons[kind])]).astype(np.int64)
    begins = np.concatenate([[0], np.cumsum(points[kind])]).astype(np.int64)
    begin = np.empty(first[-1] + 1, np.int64)
    begin[-1] = begins[-1]
    out = np.empty((begins[-1], 2))
    reach = np.zeros(len(kind))
    for number, entry in enumerate(entries):
        own = np.flatnonzero(kind == number)
        if not len(own):
            continue
        flat = np.concatenate(entry.outline)
        placed = flat @ np.swapaxes(frames[own], 1, 2)
        reach[own] = np.hypot(placed[..., 0], placed[..., 1]).max(axis=1)
        at = begins[own][:, None] + np.arange(len(flat))
        out[at] = placed + np.stack([x[own], y[own]], axis=1)[:, None, :]
        starts = np.concatenate([[0], np.cumsum(corners[number])[:-1]])
        begin[first[own][:, None] + np.arange(len(starts))] = begins[own][:, None] + starts
    return Outlines(np.asarray(x, np.float64), np.asarray(y, np.float64), reach, first, begin, out)
