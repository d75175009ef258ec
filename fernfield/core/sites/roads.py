"""Roads: how high one lies along its way, nowhere steeper than it may be, and the ground that carries it.

A road is spots along a line, a post apart at most. Every post of the land belongs to the nearest place on it
(`core/lines`), so a bend has neither gaps nor overlaps; across, it falls from its crown to its edges, and beyond them
the ground is led to the land over a shoulder.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import Line, Nearest, evened, nearest, places_on

LEFT_OVER = 0.95
"""So much of the greatest grade is used: the land has posts, and what lies between them is not the line itself."""
ROUNDED_M = 6.0
"""Where the grade changes it does so over so much either way (our choice)."""


@dataclass(frozen=True, slots=True)
class Bed:
    """A road in the posts of a land: float64 arrays of one length.

    row, col : posts, with fractions; z : its middle [m]; half : half its width, under 0 where it is carried and touches
    no ground [m]
    shoulder : the ground is led to the land over so much beside it [m]; fall : how much lower it lies for each metre
    from its crown
    """

    row: Line
    col: Line
    z: Line
    half: Line
    shoulder: float
    fall: float

    def reach(self, spacing: float) -> Line:
        """How far from each spot it changes the ground. [posts]"""
        return np.asarray((np.abs(self.half) + self.shoulder) / spacing + 1)

    def cut(self, first: int, last: int) -> Bed:
        """Its spots from one number up to another."""
        part = slice(first, last)
        return replace(self, row=self.row[part], col=self.col[part], z=self.z[part], half=self.half[part])

    def window(self, spacing: float) -> Window:
        far = float(self.reach(spacing).max())
        return Window(
            int(self.row.min() - far), int(self.col.min() - far), int(self.row.max() + far) + 2,
            int(self.col.max() + far) + 2,
        )  # fmt: skip


def stretches_that_differ(was: Bed, now: Bed) -> list[Bed]:
    """Of a road before and after a change, the stretches between what is the same from its two ends; none where all
    is."""
    if (was.shoulder, was.fall) != (now.shoulder, now.fall):
        return [was, now]
    a, b = (np.stack([bed.row, bed.col, bed.z, bed.half], axis=1) for bed in (was, now))
    few = min(len(a), len(b))
    same = (a[:few] == b[:few]).all(axis=1)
    first = few if same.all() else int(np.argmin(same))
    back = (a[len(a) - few :] == b[len(b) - few :]).all(axis=1)[::-1]
    last = min(few if back.all() else int(np.argmin(back)), few - first)
    if first == len(a) == len(b):
        return []
    # With a spot of what is the same at either end, from which the line goes on.
    return [bed.cut(max(first - 1, 0), len(bed.row) - max(last - 1, 0)) for bed in (was, now)]


def profile(
    ground: Line, far: Line, steepest: float, fixed: Mapping[int, float], smooth: int = 0
) -> NDArray[np.float64]:  # fmt: skip
    """How high a road lies at its spots: near the ground, nowhere steeper than it may be, and as high as is said where
    it meets something. [m]

    ground : under each spot [m]; far : how far each lies from its beginning [m]
    steepest : rise over run; fixed : elevations by the number of their spot; smooth : grades change over so many spots

    Between the ground lowered and the ground raised until neither is too steep; so as much is cut as is filled, about.
    Raises InvalidInput where two places that are fixed lie too near for their difference in height.
    """
    places = sorted(fixed)
    for a, b in pairwise(places):
        rise, run = abs(fixed[b] - fixed[a]), far[b] - far[a]
        if rise > steepest * run + 1e-9:
            raise InvalidInput(
                f"from {far[a]:,.0f} m to {far[b]:,.0f} m along it, it climbs {rise:.1f} m in {run:,.0f} m: that is "
                f"{100 * rise / max(run, 1e-9):.1f} %, steeper than {100 * steepest:g} %. Lead it further around",
                "points",
            )  # fmt: skip
    step = steepest * np.diff(far)
    z = evened((_limited(ground, step, np.minimum) + _limited(ground, step, np.maximum)) / 2, smooth)
    # What is evened near its ends may be a little steeper.
    z = (_limited(z, step, np.minimum) + _limited(z, step, np.maximum)) / 2
    for at in places:
        reach = steepest * np.abs(far - far[at])
        z = np.clip(z, fixed[at] - reach, fixed[at] + reach)
    return z


def _limited(values: Line, step: Line, pick: np.ufunc) -> Line:
    """The largest function under some values (with the minimum; else the least over them) that is nowhere too steep."""
    out, sign = values.astype(np.float64, copy=True), 1.0 if pick is np.minimum else -1.0
    # Up to here every step is the same cone: its slopes are taken away, and what is left is a running minimum.
    along_ = np.concatenate([[0.0], np.cumsum(step)]) * sign
    out = pick(out, pick.accumulate(out - along_) + along_)
    return np.asarray(pick(out, (pick.accumulate((out + along_)[::-1])[::-1]) - along_))


def grades(z: Line, far: Line) -> Line:
    """Rise over run between one spot and the next; downhill is negative."""
    return np.diff(z) / np.maximum(np.diff(far), 1e-9)


def climb(z: Line) -> float:
    """What somebody who goes along it goes up in all. [m]"""
    return float(np.clip(np.diff(z), 0, None).sum())


def built(ground: FloatArray, beds: Sequence[Bed], window: Window, spacing: float) -> FloatArray:
    """The ground of a window of posts with roads in it. Where they meet, earlier ones go on as they are: later ones
    were led to them; and no shoulder lies on a road. [m]

    ground : shape of the window; not modified
    """
    out = ground.astype(np.float32, copy=True)
    laid = [one for bed in beds if (one := _Laid.of(bed, window, spacing)) is not None]
    roads = np.zeros(out.shape, np.bool_)
    for one in laid:
        roads |= one.away <= one.half
    for at in range(len(laid) - 1, -1, -1):
        one = laid[at]
        share = np.clip(1 - (one.away - one.half) / np.float32(max(one.bed.shoulder, 1e-6)), 0, 1)
        beside = ~roads & (share > 0)
        out[beside] += (one.level[beside] - out[beside]) * share[beside]
        on = one.away <= one.half
        level = one.level.copy()
        for earlier in laid[:at]:
            level += one.tilted(earlier, spacing)
        out[on] = level[on]
    return out


@dataclass(frozen=True, slots=True)
class _Laid:
    """A road by the posts of a window: how far each lies from its middle, half its width, how high it is there. [m]"""

    bed: Bed
    near: Nearest
    away: FloatArray
    half: FloatArray
    level: FloatArray

    @classmethod
    def of(cls, bed: Bed, window: Window, spacing: float) -> _Laid | None:
        near = nearest((bed.row, bed.col), bed.reach(spacing), window)
        if not np.isfinite(near.away).any():
            return None
        away = np.where(np.isfinite(near.away), near.away * np.float32(spacing), np.float32(np.inf))
        return cls(bed, near, away, near.of(bed.half), surface(bed, near, spacing))

    def tilted(self, earlier: _Laid, spacing: float) -> FloatArray:
        """How much a road leans to lie in the surface of an earlier one at its edge: less and less beside it. [m]"""
        bed, other = self.bed, earlier.bed
        over = max(other.shoulder, spacing)
        share = np.where(earlier.away > earlier.half, 1 - (earlier.away - earlier.half) / np.float32(over), 0).clip(0)
        if not share.any():
            return np.zeros_like(self.level)
        _, at = places_on(bed.row, bed.col, (other.row, other.col))
        there = np.interp(at, np.arange(len(other.z)), other.z)
        return np.asarray((earlier.near.of(other.z) - self.near.of(there)) * share, np.float32)


def surface(bed: Bed, near: Nearest, spacing: float) -> FloatArray:
    """How high a road lies at the posts that are near it. [m]"""
    away = np.minimum(near.away * np.float32(spacing), near.of(bed.half))
    # Its crown is level for a post to either side, or a walker along its middle would go up and down.
    return np.asarray(near.of(bed.z) - np.float32(bed.fall) * np.maximum(away - np.float32(spacing), 0), np.float32)


def covered(bed: Bed, window: Window, spacing: float) -> NDArray[np.bool_]:
    """Which posts of a window a road itself lies on."""
    near = nearest((bed.row, bed.col), bed.reach(spacing), window)
    return np.asarray(near.away * np.float32(spacing) <= near.of(bed.half))


PARTS = 16
"""Corners are told to OpenCV in so many parts of a pixel."""


def paved(col: Line, row: Line, half: Line, shape: tuple[int, int]) -> FloatArray:
    """How much of each pixel of a picture a road covers, 0 to 1.

    col, row, half : its spots and half its width, none or less where it does not lie on the ground [pixels]
    """
    out = np.zeros(shape, np.uint8)
    bare = half <= 0
    wide = np.maximum(half, 0.5)
    along_col, along_row = np.gradient(col), np.gradient(row)
    long = np.maximum(np.hypot(along_col, along_row), 1e-9)
    aside = np.stack([-along_row / long * wide, along_col / long * wide], axis=1)
    middle = np.stack([col, row], axis=1)
    left, right = middle + aside, middle - aside
    far = float(wide.max()) + 2
    seen = (col > -far) & (col < shape[1] + far) & (row > -far) & (row < shape[0] + far)
    for at in np.flatnonzero((seen[:-1] | seen[1:]) & ~(bare[:-1] | bare[1:])):
        corners = np.stack([left[at], left[at + 1], right[at + 1], right[at]])
        cv2.fillConvexPoly(out, np.rint(corners * PARTS).astype(np.int32), 255, cv2.LINE_8, 4)
    # Narrower than a pixel it is fainter, not wider.
    share = np.float32(min(1.0, float(half[~bare].mean() if not bare.all() else 0) / 0.5) / 255)
    return np.asarray(cv2.GaussianBlur(out, (3, 3), 0), np.float32) * share


def through(points: Line, step: float) -> Line:
    """A curve through points, shape (n, 2), by spots `step` apart at most: centripetal Catmull-Rom [1]_, which has
    neither loops nor cusps, and where a moved point moves no more than two stretches on either side.

    .. [1] P. J. Barry, R. N. Goldman (1988), doi:10.1145/54852.378511; C. Yuksel et al. (2011),
       doi:10.1016/j.cad.2010.08.008
    """
    kept = points[np.concatenate([[True], np.hypot(*np.diff(points, axis=0).T) > 1e-6])]
    if len(kept) < 3:
        ends = kept if len(kept) == 2 else np.repeat(kept, 2, axis=0)
        count = max(1, int(np.ceil(np.hypot(*(ends[1] - ends[0])) / step)))
        return np.linspace(ends[0], ends[1], count + 1)
    every = np.concatenate([[2 * kept[0] - kept[1]], kept, [2 * kept[-1] - kept[-2]]])
    out = [kept[:1]]
    for p0, p1, p2, p3 in zip(every, every[1:], every[2:], every[3:], strict=False):
        knots = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff([p0, p1, p2, p3], axis=0).T) ** 0.5)])
        count = max(1, int(np.ceil(1.3 * np.hypot(*(p2 - p1)) / step)))
        t = np.linspace(knots[1], knots[2], count + 1)[1:, None]
        t0, t1, t2, t3 = knots
        a1 = (t1 - t) / (t1 - t0) * p0 + (t - t0) / (t1 - t0) * p1
        a2 = (t2 - t) / (t2 - t1) * p1 + (t - t1) / (t2 - t1) * p2
        a3 = (t3 - t) / (t3 - t2) * p2 + (t - t2) / (t3 - t2) * p3
        b1 = (t2 - t) / (t2 - t0) * a1 + (t - t0) / (t2 - t0) * a2
        b2 = (t3 - t) / (t3 - t1) * a2 + (t - t1) / (t3 - t1) * a3
        out.append((t2 - t) / (t2 - t1) * b1 + (t - t1) / (t2 - t1) * b2)
    return np.concatenate(out)
