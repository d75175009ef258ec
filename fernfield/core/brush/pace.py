"""From pointer samples to dabs: even steps of time along a smooth curve.

The pointer reports whenever it likes. Its samples are joined by cubic Hermite pieces
whose tangents are those of the parabola through a sample and the two before it: second
order on uneven times, and nothing that comes later is needed. The curve is walked in
fixed steps from the first sample, short ones for brushes that are small in posts and so
cost little, since the land lags behind the hand by up to a step. A step in which the
pointer goes far is split so that dabs lie no further apart than `gap` metres. What a
stroke does therefore depends on the movement, not on how often it was reported.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from fernfield.core.errors import InvalidInput

STEP_S = 1 / 60
FINE_STEP_S = 1 / 120
"""Length of one step along a stroke, and of one with a brush of at most `FINE_POSTS`. [s]"""

FINE_POSTS = 64.0

TAP_S = 0.1
"""A stroke counts as at least this long, held where it ended: a tap does something. [s]"""

MOST_DABS_A_STEP = 4096


@dataclass(frozen=True, slots=True)
class Sample:
    """Where the pointer was: easting and northing [m] at a time [s], and how hard a pen was pressed, 0 to 1."""

    x: float
    y: float
    seconds: float
    pressure: float = 1.0


@dataclass(frozen=True, slots=True)
class Dab:
    """The brush held at (x, y) [m] for `seconds` [s]; `pressure` is a part of its strength."""

    x: float
    y: float
    seconds: float
    pressure: float = 1.0


class Pace:
    """Takes samples as they come and gives the dabs that are certain so far.

    From the third sample on a piece of the curve is certain when its end is known, so the
    dabs are at most a step behind the pointer. They are the same however the samples are
    batched.
    """

    def __init__(self, gap: float, step: float = STEP_S) -> None:
        if not (gap > 0 and step > 0):
            raise InvalidInput(f"gap must be above 0 m and step above 0 s, not {gap} and {step}")
        self._gap, self._step = gap, step
        self._samples: list[Sample] = []
        self._steps_done = 0
        self._piece = 0

    def add(self, samples: Sequence[Sample]) -> list[Dab]:
        """Dabs that became certain. Raises InvalidInput when time runs backwards."""
        for sample in samples:
            if self._samples and sample.seconds < self._samples[-1].seconds:
                raise InvalidInput(
                    f"times in a path must not run backwards: {sample.seconds} s after {self._samples[-1].seconds} s",
                    "path",
                )
            # Two reports of one moment: the first counts, since it may be drawn already.
            if not self._samples or sample.seconds > self._samples[-1].seconds:
                self._samples.append(sample)
        if len(self._samples) < 3:
            return []
        return self._dabs_until(self._samples[-1].seconds, whole_steps=True)

    def finish(self) -> list[Dab]:
        """The rest of the dabs, the last one shortened to where the stroke ended."""
        if not self._samples:
            return []
        first, last = self._samples[0], self._samples[-1]
        if last.seconds - first.seconds < TAP_S:
            self._samples.append(Sample(last.x, last.y, first.seconds + TAP_S, last.pressure))
        return self._dabs_until(self._samples[-1].seconds, whole_steps=False)

    @property
    def drawn_to(self) -> float:
        """The time up to which dabs were given. [s]"""
        return self._samples[0].seconds + self._steps_done * self._step if self._samples else 0.0

    def _dabs_until(self, end: float, *, whole_steps: bool) -> list[Dab]:
        dabs: list[Dab] = []
        start = self._samples[0].seconds
        while True:
            begin = start + self._steps_done * self._step
            until = start + (self._steps_done + 1) * self._step
            if until > end:
                if whole_steps or end - begin < 1e-9:
                    return dabs
                until = end
            self._split(begin, until, dabs)
            self._steps_done += 1

    def _split(self, begin: float, until: float, dabs: list[Dab]) -> None:
        x0, y0 = self._at(begin)
        x1, y1 = self._at(until)
        parts = min(MOST_DABS_A_STEP, max(1, math.ceil(math.hypot(x1 - x0, y1 - y0) / self._gap)))
        seconds = (until - begin) / parts
        for part in range(parts):
            middle = begin + (part + 0.5) * seconds
            x, y = self._at(middle)
            dabs.append(Dab(x, y, seconds, self._pressure(middle)))

    def _pressure(self, seconds: float) -> float:
        """Straight between samples; `_at` has found the piece."""
        samples = self._samples
        if len(samples) == 1:
            return samples[0].pressure
        a, b = samples[self._piece], samples[self._piece + 1]
        t = min(max((seconds - a.seconds) / (b.seconds - a.seconds), 0.0), 1.0)
        return a.pressure + (b.pressure - a.pressure) * t

    def _at(self, seconds: float) -> tuple[float, float]:
        samples = self._samples
        if len(samples) == 1:
            return samples[0].x, samples[0].y
        piece = min(self._piece, len(samples) - 2)
        while piece > 0 and samples[piece].seconds > seconds:
            piece -= 1
        while piece < len(samples) - 2 and samples[piece + 1].seconds < seconds:
            piece += 1
        self._piece = piece
        a, b = samples[piece], samples[piece + 1]
        length = b.seconds - a.seconds
        t = min(max((seconds - a.seconds) / length, 0.0), 1.0)
        ax, ay = self._tangent(piece)
        bx, by = self._tangent(piece + 1)
        h00, h10 = (1 + 2 * t) * (1 - t) ** 2, t * (1 - t) ** 2 * length
        h01, h11 = t * t * (3 - 2 * t), t * t * (t - 1) * length
        return (
            h00 * a.x + h10 * ax + h01 * b.x + h11 * bx,
            h00 * a.y + h10 * ay + h01 * b.y + h11 * by,
        )

    def _tangent(self, i: int) -> tuple[float, float]:
        """Velocity at sample `i` of the parabola through it and the two before, at the start the first three. [m/s]"""
        s = self._samples
        if len(s) == 2:
            length = s[1].seconds - s[0].seconds
            return (s[1].x - s[0].x) / length, (s[1].y - s[0].y) / length
        last = max(i, 2)
        a, b, c = s[last - 2], s[last - 1], s[last]
        before, after = b.seconds - a.seconds, c.seconds - b.seconds
        velocity = []
        for pa, pb, pc in ((a.x, b.x, c.x), (a.y, b.y, c.y)):
            one, two = (pb - pa) / before, (pc - pb) / after
            if i == last:
                velocity.append(two + (two - one) * after / (before + after))
            elif i == last - 1:
                velocity.append((one * after + two * before) / (before + after))
            else:
                velocity.append(one + (one - two) * before / (before + after))
        return velocity[0], velocity[1]


def dab_gap(radius: float) -> float:
    """How far apart dabs may lie for a brush of `radius`: an eighth of it. [m]"""
    return radius / 8


def dab_step(radius_posts: float) -> float:
    """How long a step may be for a brush of so many posts. [s]"""
    return FINE_STEP_S if radius_posts <= FINE_POSTS else STEP_S


def dabs_of(samples: Sequence[Sample], gap: float, step: float = STEP_S) -> list[Dab]:
    """All the dabs of a finished stroke."""
    pace = Pace(gap, step)
    return pace.add(samples) + pace.finish()
