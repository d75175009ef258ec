"""A finding: what a check found, where, how bad, and how it can be put right."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Finding:
    """`grave` findings make a world unusable for play; the others are worth a look. x, y in the tract. [m]"""

    check: str
    words: str
    remedy: str
    grave: bool
    x: float | None = None
    y: float | None = None
    tract: str | None = None


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
    tract: str | None = None


@dataclass(frozen=True, slots=True)
class Hole:
    """An opening in the ground: its middle [m], its area [m²], and whether a piece stands over it."""

    x: float
    y: float
    area: float
    covered: bool
    tract: str | None = None


@dataclass(frozen=True, slots=True)
class Lopsided:
    """Where a world differs most from the symmetry that it is set to, and by how much. [m]"""

    x: float
    y: float
    largest: float
    tract: str | None = None


@dataclass(frozen=True, slots=True)
class Gap:
    """Two joined tracts by name, and by how much their edges differ at most. [m]"""

    first: str
    second: str
    largest: float
