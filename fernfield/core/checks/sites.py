"""Does every piece stand as it should? What each trouble is called, and how it is put right."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from fernfield.core.checks.finding import Finding, Mend


@dataclass(frozen=True, slots=True)
class PieceTrouble:
    """A way in which pieces can stand wrong.

    name : as the API has it; words : what one does, and what several do; remedy : what is proposed; done : of the
    button, where one command puts it right
    """

    name: str
    words: tuple[str, str]
    remedy: str
    done: str = ""


PIECE_TROUBLES: dict[str, PieceTrouble] = {
    trouble.name: trouble
    for trouble in (
        PieceTrouble(
            "floating",
            ("floats over the ground", "float over the ground"),
            "Settle them: their feet go back on the ground.",
            "Settle them",
        ),
        PieceTrouble(
            "buried",
            ("is more than half in the ground", "are more than half in the ground"),
            "Settle them.",
            "Settle them",
        ),
        PieceTrouble(
            "uneven",
            ("has no level ground under it any more", "have no level ground under them any more"),
            "Settle them: their pads are laid anew.",
            "Lay the pads anew",
        ),
        PieceTrouble(
            "inside", ("stands in another", "stand in others"), "Move one of them, or say of its entry that it may."
        ),
    )
}
"""The next way to stand wrong is a line here, and a test of it beside the others in `work.sites.findings`."""


@dataclass(frozen=True, slots=True)
class PiecesTroubled:
    """Pieces of a tract with one trouble: how many; of the first its name and place [m], and its key."""

    trouble: str
    count: int
    name: str
    x: float
    y: float
    tract: str
    key: str


def pieces_troubled(found: Sequence[PiecesTroubled], world: str) -> Iterator[Finding]:
    for one in found:
        trouble = PIECE_TROUBLES[one.trouble]
        if one.count == 1:
            words = f"{one.name} {trouble.words[0]}."
        else:
            words = f"{one.count:,} pieces {trouble.words[1]}; the first is {one.name}."
        path = f"/worlds/{world}/things/settle"
        mend = Mend(trouble.done, path, {"trouble": one.trouble}) if trouble.done else None
        mend_one = Mend("Only this one", path, {"ids": [one.key]}) if trouble.done and one.count > 1 else None
        yield Finding("pieces", words, trouble.remedy, False, one.x, one.y, one.tract, mend, mend_one)


def scatters_gone_by(found: Sequence[tuple[str, str, int]], world: str) -> Iterator[Finding]:
    """Scatters that do not stand as their rules say now: key, name, and how many of each are off."""
    for key, name, off in found:
        words = f"{off} of the scatter {name} would stand otherwise by its rule as the land is now."
        mend = Mend("Let it follow", f"/worlds/{world}/scatters/{key}/keep", {})
        yield Finding("scatters", words, "Let it follow its rule; what was moved by hand stays.", False, mend=mend)


@dataclass(frozen=True, slots=True)
class RoadFound:
    """A road as it lies on the land: how steep it is where it is steepest and how steep it may be [%], how much of it
    is under water [m], and the places of its ends that lead nowhere [m]."""

    key: str
    name: str
    tract: str
    steepest: float
    limit: float
    wet_m: float
    x: float
    y: float
    loose: tuple[tuple[float, float], ...] = ()


STEEPER = 0.25
"""A road may be so much steeper than it says: what lies between posts is not its line. [%]"""
WET_LEAST_M = 1.0


def roads_troubled(found: Iterable[RoadFound], world: str) -> Iterator[Finding]:
    for one in found:
        if one.steepest > one.limit + STEEPER:
            words = f"{one.name} is {one.steepest:.1f} % where it is steepest, and may be {one.limit:g} %."
            mend = Mend("Build it anew", f"/worlds/{world}/roads/{one.key}/build", {})
            remedy = "Build it anew on the land as it is now, or lead it further around."
            yield Finding("roads", words, remedy, False, one.x, one.y, one.tract, mend)
        if one.wet_m >= WET_LEAST_M:
            words = f"{one.name} is under water for {one.wet_m:,.0f} m."
            yield Finding("roads", words, "Lead it around, or over a bridge.", False, one.x, one.y, one.tract)
        for x, y in one.loose:
            words, remedy = f"{one.name} leads nowhere at one end.", "Lead it on to what it is for."
            yield Finding("roads", words, remedy, False, x, y, one.tract)
