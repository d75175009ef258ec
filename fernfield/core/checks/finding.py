"""A finding: what a check found, where, how bad, and how it can be put right."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Mend:
    """What puts a finding right: words for a button, and the call of the API (after /api) with its body."""

    words: str
    path: str
    body: dict[str, Any]


@dataclass(frozen=True, slots=True)
class Finding:
    """`grave` findings make a world unusable for play; the others are worth a look. x, y in the tract. [m]

    mend, mend_one : put right all that was found; only what is at x, y, where there is more
    """

    check: str
    words: str
    remedy: str
    grave: bool
    x: float | None = None
    y: float | None = None
    tract: str | None = None
    mend: Mend | None = None
    mend_one: Mend | None = None


@dataclass(frozen=True, slots=True)
class Specks:
    """Flecks under an area [m²] in a tract: how many, and where the first is. [m]"""

    count: int
    least_m2: float
    x: float
    y: float
    tract: str


@dataclass(frozen=True, slots=True)
class Meeting:
    """Where the most covers of a tract meet, and how many they are. [m]"""

    most: int
    x: float
    y: float
    tract: str


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
    turn_deg: float = 0.0


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
