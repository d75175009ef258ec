"""Checks of joined tracts."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fernfield.core.checks.finding import Finding, Gap

OPEN_M = 0.01
"""Edges that differ by more than this are seen as a gap (our choice). [m]"""


def open_joins(gaps: Iterable[Gap]) -> Iterator[Finding]:
    for gap in gaps:
        if gap.largest > OPEN_M:
            yield Finding(
                "join",
                f"The joined edges of {gap.first} and {gap.second} differ by up to {gap.largest:.2f} m.",
                "Join them again on the layout page.",
                False,
            )
