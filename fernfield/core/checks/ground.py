"""Is the ground whole, and as fair as it is meant to be?"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fernfield.core.checks.finding import Finding, Hole, Lopsided

FAIR_M = 0.05
"""Differences below this are rounding. [m]"""


def bare_openings(holes: Iterable[Hole]) -> Iterator[Finding]:
    for hole in holes:
        if not hole.covered:
            yield Finding(
                "bare opening",
                f"An opening of {hole.area:.0f} m² at {hole.x:.0f}, {hole.y:.0f} has nothing over it.",
                "Place a piece there, or close it.",
                True,
                hole.x,
                hole.y,
                hole.tract,
            )


def lopsided(found: Lopsided | None) -> Iterator[Finding]:
    if found is not None and found.largest > FAIR_M:
        yield Finding(
            "symmetry",
            f"The ground differs from its image by up to {found.largest:.2f} m, at {found.x:.0f}, {found.y:.0f}.",
            "Work with the symmetry on, or turn it off.",
            False,
            found.x,
            found.y,
            found.tract,
        )
