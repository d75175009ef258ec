"""A finding: what a check found, where, how bad, and how it can be put right."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Finding:
    """`grave` findings make a world unusable for play; the others are worth a look."""

    check: str
    words: str
    remedy: str
    grave: bool
    x: float | None = None
    y: float | None = None


@dataclass(frozen=True, slots=True)
class Standing:
    """A start or piece as the checks see it: name, place, ground and water there. [m, °]"""

    name: str
    sort: str
    x: float
    y: float
    depth: float
    slope_deg: float
    default: bool
