"""Does every plant stand as it can? What each trouble is called, and how it is put right."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fernfield.core.checks.finding import Finding, Mend


@dataclass(frozen=True, slots=True)
class Trouble:
    """A way in which plants can stand wrong.

    name : as the API has it; words : what they do, after their number; remedy : what is proposed; done : of the button
    """

    name: str
    words: str
    remedy: str
    done: str
    grave: bool = False


TROUBLES: dict[str, Trouble] = {
    trouble.name: trouble
    for trouble in (
        Trouble("floating", "float over the ground", "Settle them: their feet go back on the ground.", "Settle them"),
        Trouble("buried", "are more than half in the ground", "Settle them.", "Settle them"),
        Trouble("under_water", "stand under water and do not like it", "Take them away.", "Take away"),
        Trouble("too_steep", "stand upright on ground steeper than 55°", "Take them away.", "Take away"),
        Trouble("inside_piece", "stand inside a piece", "Take them away.", "Take away"),
        Trouble("on_line", "stand on a kept line, in the way", "Take them away, or move the line.", "Take away"),
        Trouble("at_start", "stand in the first metres of a start", "Take them away.", "Take away", grave=True),
        Trouble("blocking", "close the only way from a start to another", "Take them away.", "Take away", grave=True),
    )
}
"""The next way to stand wrong is a line here, and a test of it beside the others in `work.growth.findings`."""
SETTLED = ("floating", "buried")
"""What is put right by settling; the rest by taking away."""


@dataclass(frozen=True, slots=True)
class Troubled:
    """Plants of a tract with one trouble: how many; of the first its kind, where it stands [m] and its id."""

    trouble: str
    count: int
    kind: str
    x: float
    y: float
    tract: str
    id: str


def troubled(one: Troubled) -> Finding:
    trouble = TROUBLES[one.trouble]
    many = "1 plant" if one.count == 1 else f"{one.count:,} plants"
    words, path = trouble.words, f"/tracts/{one.tract}/plants/mend"
    if one.count == 1:
        first, _, rest = words.partition(" ")
        words = f"{'is' if first == 'are' else first + 's'} {rest}"
    return Finding(
        "growth",
        f"{many} {words}; the first, {one.kind}, at {one.x:.0f}, {one.y:.0f}.",
        trouble.remedy,
        trouble.grave,
        one.x,
        one.y,
        one.tract,
        Mend(f"{trouble.done}", path, {"trouble": one.trouble}),
        None if one.count == 1 else Mend("This one only", path, {"trouble": one.trouble, "id": one.id}),
    )


@dataclass(frozen=True, slots=True)
class Switch:
    """How tall a kind is on a screen where it becomes simpler, a card and nothing [px], and its distances. [m]"""

    kind: str
    sizes: dict[str, float]
    distances: dict[str, float]


SEEN_PX = {"simpler": 240.0, "card": 90.0, "gone": 12.0}
"""Taller than this on a screen of 1,080 pixels a change of detail is seen (our choice, by looking at our own forms)."""
SWITCHES = {"simpler": "becomes simpler", "card": "becomes a card", "gone": "is gone"}


def seen_switches(switch: Switch) -> list[str]:
    """Which changes of detail of a kind are seen."""
    return [name for name, most in SEEN_PX.items() if switch.sizes[name] > most]


def switched(switches: Sequence[Switch]) -> Iterator[Finding]:
    for one in switches:
        for name in seen_switches(one):
            far = one.distances[name] * one.sizes[name] / SEEN_PX[name]
            yield Finding(
                "switches of detail",
                f"{one.kind} {SWITCHES[name]} at {one.distances[name]:g} m, where it is {one.sizes[name]:.0f} pixels "
                "tall: the change is seen.",
                f"Let it do so from {far:.0f} m on.",
                False,
            )
