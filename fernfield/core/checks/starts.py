"""Can everybody begin? There is a default start, and no start is under water or on a cliff."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from fernfield.core.checks.finding import Finding, Standing

WADE_M = 1.2
STEEPEST_DEG = 45.0


def default_start(things: Iterable[Standing]) -> Iterator[Finding]:
    starts = [t for t in things if t.sort == "start"]
    if not starts:
        yield Finding("default start", "The world has no start.", "Place a start on the Sites stage.", True)
    elif not any(t.default for t in starts):
        yield Finding("default start", "No start is the default.", "Choose a start and make it the default.", True)


def drowned_starts(things: Iterable[Standing]) -> Iterator[Finding]:
    for t in things:
        if t.sort == "start" and t.depth > WADE_M:
            yield Finding(
                "start under water",
                f"{t.name} stands in {t.depth:.1f} m of water.",
                "Move it, raise the ground, or lower the sea.",
                True,
                t.x,
                t.y,
                t.tract,
            )


def steep_starts(things: Iterable[Standing]) -> Iterator[Finding]:
    for t in things:
        if t.sort == "start" and t.slope_deg > STEEPEST_DEG:
            yield Finding(
                "start on a cliff",
                f"{t.name} stands on a slope of {t.slope_deg:.0f}°.",
                "Move it, or flatten the ground.",
                False,
                t.x,
                t.y,
                t.tract,
            )
