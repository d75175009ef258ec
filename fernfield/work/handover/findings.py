"""Findings as a team goes through them: of which stage each is, by what it is known again, and what was accepted."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import StringConstraints

from fernfield.core.checks.finding import Finding
from fernfield.work.kernel.rows import Collection, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

Reason = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=400)]
Weight = Literal["note", "grave"]


class Accepted(Row):
    """Collection "accepted": a finding that is as it should be, by its id, and why. What it says now is part of its id:
    it comes back as soon as it says something else."""

    reason: Annotated[Reason, Say("It is accepted, because")]
    words: Annotated[str, StringConstraints(max_length=2_000), UNASKED] = ""

    @property
    def title(self) -> str:
        return self.words[:60]


ACCEPTED = Collection("accepted", Accepted, "accepted finding", most=5_000, told=True)


@dataclass(frozen=True, slots=True)
class Found:
    """A finding, the stage that it is of, its id, and why it was accepted (None: it was not)."""

    id: str
    stage: str
    finding: Finding
    accepted: str | None

    @property
    def weight(self) -> Weight:
        return "grave" if self.finding.grave else "note"


def id_of(finding: Finding) -> str:
    """By what a finding is known again: its check, its tract, what it says, and where."""
    place = "" if finding.x is None or finding.y is None else f"{finding.x:.1f} {finding.y:.1f}"
    said = "\0".join((finding.check, finding.tract or "", finding.words, place))
    return hashlib.sha256(said.encode()).hexdigest()[:12]


def gone_through(world: OpenWorld, found: Iterable[tuple[str, Finding]]) -> list[Found]:
    """Findings with their stages, grave ones first, those that were accepted last."""
    reasons = {key: row.reason for key, row in world.each(ACCEPTED)}
    told = [Found(id_of(one), stage, one, reasons.get(id_of(one))) for stage, one in found]
    return sorted(told, key=lambda one: (one.accepted is not None, not one.finding.grave))
