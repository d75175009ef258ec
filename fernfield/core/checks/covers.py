"""Is the ground covered as it was meant to be?"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from fernfield.core.checks.finding import Finding, Meeting, Mend, Specks

MOST_MEETING = 8
"""Covers that may meet at one place: what common game engines blend in one pass is less (common practice)."""
TILES_SEEN = 40
"""So many repetitions of a tile side by side are seen as a pattern (our choice; common practice speaks of tens)."""
SEEN_FROM_M = 250.0
"""From how far ground is looked at across open land (our choice)."""


def specks(found: Sequence[Specks]) -> Iterator[Finding]:
    for one in found:
        if one.count:
            many = "1 fleck" if one.count == 1 else f"{one.count} flecks"
            yield Finding(
                "flecks",
                f"{many} under {one.least_m2:g} m² left by hand, the first at {one.x:.0f}, {one.y:.0f}.",
                "Give them to what is around them.",
                False,
                one.x,
                one.y,
                one.tract,
                Mend("Mend them all", f"/tracts/{one.tract}/covers/flecks", {"least_m2": one.least_m2}),
            )


def meetings(found: Sequence[Meeting]) -> Iterator[Finding]:
    for one in found:
        if one.most > MOST_MEETING:
            yield Finding(
                "covers meeting",
                f"{one.most} covers meet at {one.x:.0f}, {one.y:.0f}; more than {MOST_MEETING} are seldom drawn.",
                "Take away some of them there.",
                False,
                one.x,
                one.y,
                one.tract,
            )


def repetition(tiles: Sequence[tuple[str, float]]) -> Iterator[Finding]:
    """Covers by name, and how wide their tile is [m]: how often it comes again within what is looked at."""
    for name, tile in tiles:
        times = SEEN_FROM_M / tile
        if times > TILES_SEEN * 4:
            yield Finding(
                "repetition",
                f"The tile of {name} is {tile:g} m wide: it comes again {times:.0f} times in {SEEN_FROM_M:g} m.",
                f"Make it {SEEN_FROM_M / TILES_SEEN / 4:.1f} m wide or more.",
                False,
            )
