"""Can a round be played? Each team has a start and a way to win, what is to be won is there, and cues can go off."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from fernfield.core.checks.finding import Finding


@dataclass(frozen=True, slots=True)
class TeamFound:
    """A team as the checks see it: how many starts it has, and whether some way to win is open to it."""

    number: int
    name: str
    starts: int
    can_win: bool


@dataclass(frozen=True, slots=True)
class Owned:
    """Something of a team's: what it is called, its team, and where it is. [m]"""

    name: str
    team: int
    x: float
    y: float
    tract: str


@dataclass(frozen=True, slots=True)
class Stated:
    """What the rules say, beside what there is: the most players and how many starts; whether anything wins; words for
    each condition that nothing on the map can meet."""

    players_most: int = 0
    starts: int = 0
    wins: bool = True
    idle: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class CueFound:
    """A cue as the checks see it: why it can never go off, if so."""

    name: str
    never: str = ""


@dataclass(frozen=True, slots=True)
class Round:
    """All of it. alike : names of two teams, and who cannot tell their colours apart; circles : names of cues"""

    teams: Sequence[TeamFound] = ()
    alike: Sequence[tuple[str, str, str]] = ()
    owned: Sequence[Owned] = ()
    stated: Stated = Stated()
    cues: Sequence[CueFound] = ()
    circles: Sequence[Sequence[str]] = ()
    drowned: Mapping[str, tuple[float, float, str, float]] = field(default_factory=dict)


def teams_troubled(found: Round) -> Iterator[Finding]:
    for team in found.teams:
        if not team.starts:
            yield Finding("teams", f"{team.name} has no start.", f"Place a start of team {team.number}.", True)
        if not team.can_win:
            remedy = "Give it an objective, or another way to win."
            yield Finding("teams", f"{team.name} can never win by the rules.", remedy, True)
    for first, second, who in found.alike:
        words = f"The colours of {first} and {second} look alike"
        words += " to everybody." if who == "everybody" else f" with {who}."
        yield Finding("teams", words, "Choose another colour for one of them.", False)
    known = {team.number for team in found.teams}
    lost = [one for one in found.owned if known and one.team not in known]
    for one in lost[:MOST_TOLD]:
        words = f"{one.name} belongs to team {one.team}, which is not there."
        yield Finding("teams", words, "Give it to another, or add that team.", False, one.x, one.y, one.tract)
    if len(lost) > MOST_TOLD:
        yield Finding("teams", f"{len(lost) - MOST_TOLD:,} more belong to teams that are not there.",
                      "Give them to others, or add those teams.", False)  # fmt: skip


MOST_TOLD = 20


def rules_troubled(found: Round) -> Iterator[Finding]:
    stated = found.stated
    if len(found.teams) > 1 and not stated.wins:
        yield Finding("rules", "Nothing wins a round.", "Say in the rules what wins.", False)
    for words in stated.idle:
        yield Finding("rules", words, "Change the rule, or add what it asks for.", True)
    if found.teams and stated.starts != stated.players_most:
        words = (
            f"The rules have up to {_some(stated.players_most, 'player')}, and there {_are(stated.starts, 'start')}."
        )
        yield Finding("rules", words, "Place as many starts as players, or change the rules.", False)


def objectives_troubled(found: Round) -> Iterator[Finding]:
    for name, (x, y, tract, depth) in found.drowned.items():
        words = f"{name} is under {depth:.1f} m of water."
        yield Finding("objectives", words, "Move it, or lower the water.", True, x, y, tract)


@dataclass(frozen=True, slots=True)
class DoorFound:
    """A door or launching place as the checks see it: what is wrong with it and how that is mended; and where. [m]"""

    words: str
    remedy: str
    x: float
    y: float
    tract: str


def doors_troubled(found: Sequence[DoorFound]) -> Iterator[Finding]:
    for one in found:
        yield Finding("doors", one.words, one.remedy, True, one.x, one.y, one.tract)


def images_missing(found: Sequence[Owned]) -> Iterator[Finding]:
    """What lies on a map that is to be fair, and has no image on its other sides."""
    for one in found[:MOST_TOLD]:
        words = f"{one.name} has no image on the other side of the map."
        yield Finding("images", words, "Change it once: its images follow.", False, one.x, one.y, one.tract)
    if len(found) > MOST_TOLD:
        words = f"{len(found) - MOST_TOLD:,} more have no image on the other side of the map."
        yield Finding("images", words, "Change them once: their images follow.", False)


def cues_troubled(found: Round) -> Iterator[Finding]:
    for cue in found.cues:
        if cue.never:
            yield Finding("cues", f"{cue.name} can never go off: {cue.never}.", "Change what it waits for.", False)
    for names in found.circles:
        words = (
            f"{names[0]} sets itself off." if len(names) == 1 else f"{', '.join(names)} set each other off in a circle."
        )
        yield Finding("cues", words, "Let one of them go off once, or wait for something else.", False)


def _some(count: int, word: str) -> str:
    return f"{count} {word}{'' if count == 1 else 's'}"


def _are(count: int, word: str) -> str:
    return f"{'is' if count == 1 else 'are'} {_some(count, word)}"
