"""Light that plays badly: starts that look into a low sun, lamps in walls, lamps that light nothing, too many."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from fernfield.core.checks.finding import Finding, Standing

LOW_SUN_DEG, INTO_SUN_DEG = 20.0, 10.0
"""A sun lower than this dazzles whoever looks so near to it."""
MOST_AT_ONCE = 8
"""Lamps that reach one place before a machine draws them slowly; common practice."""


@dataclass(frozen=True, slots=True)
class Hung:
    """A lamp as the checks see it: its name and place, what it hangs in ("" for nothing), whether its light comes to
    the ground, and how many others reach it."""

    name: str
    x: float
    y: float
    inside: str
    seen: bool
    others: int
    tract: str | None = None


def into_the_sun(things: Iterable[Standing], bearing: float, height: float) -> Iterator[Finding]:
    """Starts whose first look goes into the sun, which stands at a bearing and so high. [°]"""
    if not 0 <= height <= LOW_SUN_DEG:
        return
    for t in things:
        apart = abs((t.turn_deg - bearing + 180) % 360 - 180)
        if t.sort == "start" and apart <= INTO_SUN_DEG:
            yield Finding(
                "start into the sun", f"{t.name} looks into the sun, {height:.0f}° high.",
                "Turn it, or let the sun stand elsewhere in the world's own light.", False, t.x, t.y, t.tract,
            )  # fmt: skip


def lamps(hung: Iterable[Hung]) -> Iterator[Finding]:
    """Each that hangs wrong; where too many reach one place, the worst place and how many there are."""
    crowded: list[Hung] = []
    for lamp in hung:
        said = None
        if lamp.inside:
            said = f"{lamp.name} hangs inside {lamp.inside}.", "Move it out, or hang it higher."
        elif not lamp.seen:
            said = f"The light of {lamp.name} does not come to the ground.", "Hang it lower, or let it reach further."
        elif lamp.others >= MOST_AT_ONCE:
            crowded.append(lamp)
        if said is not None:
            yield Finding("lamps", *said, False, lamp.x, lamp.y, lamp.tract)
    if crowded:
        worst = max(crowded, key=lambda lamp: lamp.others)
        words = f"{worst.others + 1} lamps reach {worst.name}: more than {MOST_AT_ONCE} are drawn slowly."
        more = f" So do they at {len(crowded) - 1} others." if len(crowded) > 1 else ""
        yield Finding(
            "lamps", words + more, "Take some away, or let them reach less far.", False, worst.x, worst.y, worst.tract
        )
