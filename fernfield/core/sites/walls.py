"""Walls, fences and rows: pieces one after the other along a line, with others at its corners and in its gaps."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

Spot = tuple[float, float]
LEAST_PART = 0.15
"""What is left of a stretch stays open where it is less than this part of a piece."""


@dataclass(frozen=True, slots=True)
class Gap:
    """Something else in a wall: its middle so far along the line, and how wide it is. [m]"""

    at: float
    width: float
    kit: str


@dataclass(frozen=True, slots=True)
class Laid:
    """A piece of a wall: its entry, its middle, and its turn; its width lies along the wall. [m, °]

    size : under 1 where there is no room for all of it; far : its middle so far along the line [m]
    """

    kit: str
    x: float
    y: float
    turn_deg: float
    size: float = 1.0
    far: float = 0.0


def length_of(points: Sequence[Spot], closed: bool) -> float:
    """[m]"""
    return sum(math.dist(a, b) for a, b in stretches(points, closed))


def stretches(points: Sequence[Spot], closed: bool) -> list[tuple[Spot, Spot]]:
    """From corner to corner; none where two lie in one place."""
    ends = [*points, points[0]] if closed and len(points) > 2 else list(points)
    return [(a, b) for a, b in pairwise(ends) if a != b]


def along_wall(
    points: Sequence[Spot], kit: str, width: float, *, closed: bool = False, corner: str | None = None,
    gaps: Sequence[Gap] = (),
) -> list[Laid]:  # fmt: skip
    """The pieces of a wall of pieces so wide: none is left open, and all lie over each other by the same bit.

    A gap lies where it is told, moved to lie within its stretch; of two that overlap the later one is left out.
    """
    found: list[Laid] = []
    before = 0.0
    lines = stretches(points, closed)
    for number, (a, b) in enumerate(lines):
        length = math.dist(a, b)
        turn = (math.degrees(math.atan2(b[0] - a[0], b[1] - a[1])) - 90) % 360

        def put(
            entry: str, at: float, size: float = 1.0,
            a: Spot = a, b: Spot = b, length: float = length, turn: float = turn, before: float = before,
        ) -> None:  # fmt: skip
            part = at / length
            place = a[0] + (b[0] - a[0]) * part, a[1] + (b[1] - a[1]) * part
            found.append(Laid(entry, *place, turn, size, before + at))

        free = 0.0
        last = number == len(lines) - 1
        for gap in sorted(gaps, key=lambda one: one.at):
            if not before <= gap.at < before + length and not (last and gap.at >= before + length):
                continue
            if gap.width > length:
                continue
            middle = min(max(gap.at - before, gap.width / 2), length - gap.width / 2)
            if middle - gap.width / 2 < free - 1e-9:
                continue
            for at, size in _filled(free, middle - gap.width / 2, width):
                put(kit, at, size)
            put(gap.kit, middle)
            free = middle + gap.width / 2
        for at, size in _filled(free, length, width):
            put(kit, at, size)
        before += length
    if corner is not None:
        ends = points if not closed or len(points) > 2 else points[:1]
        far = [length_of(points[: k + 1], False) for k in range(len(ends))]
        found += [Laid(corner, *place, 0.0, far=at) for place, at in dict(zip(ends, far, strict=True)).items()]
    return found


def _filled(start: float, end: float, width: float) -> list[tuple[float, float]]:
    """The middles and sizes of pieces so wide that together reach from a start to an end. [m]"""
    length = end - start
    if length < LEAST_PART * width:
        return []
    count = max(1, math.ceil(length / width - 1e-6))
    if count == 1:
        return [(start + length / 2, min(length / width, 1.0))]
    # The first begins where the stretch begins, and the last ends where it ends.
    step = (length - width) / (count - 1)
    return [(start + width / 2 + k * step, 1.0) for k in range(count)]
