"""Groups of what is placed: named, in each other, locked, hidden; and those of which each round draws so many."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Change, Collection, Key, Look, Name, Plan
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted

DEEPEST = 8


class Group(Parted):
    """Collection "groups": things that belong together.

    within : the group that it is part of; draws : they are candidate places, of which each round has so many
    """

    name: Annotated[Name, Say("Name")]
    within: Annotated[Key | None, Names("groups", gone="clear"), UNASKED] = None
    locked: Annotated[bool, Say("Locked")] = False
    hidden: Annotated[bool, Say("Hidden")] = False
    draws: Annotated[int | None, Field(ge=0, le=10_000), Say("Each round draws", left_out="all of them")] = None


def _plan(change: Change[Group], look: Look) -> Plan:
    at, seen = change.new, [change.key]
    while at is not None and at.within is not None:
        if at.within in seen or len(seen) > DEEPEST:
            words = "a group cannot be part of itself" if at.within in seen else f"groups lie {DEEPEST} deep at most"
            raise InvalidInput(f"{words}: {' in '.join([*seen, at.within])}", "within")
        seen.append(at.within)
        at = look.get(GROUPS, at.within)
    return plainly(GROUPS, change)


GROUPS = Collection("groups", Group, "group", most=2_000, plan=_plan)


def groups_over(look: Look | OpenWorld, key: str | None) -> list[tuple[str, Group]]:
    """A group and those that it is part of, the innermost first."""
    found: list[tuple[str, Group]] = []
    while key is not None and len(found) <= DEEPEST:
        row = look.get(GROUPS, key)
        if row is None:
            break
        found.append((key, row))
        key = row.within
    return found
