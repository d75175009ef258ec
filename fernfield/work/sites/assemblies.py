"""Assemblies: pieces that are saved as one and placed as one. Those placed follow what becomes of it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, model_validator

from fernfield.core.errors import InvalidInput
from fernfield.core.sites.shipped import KIT
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Bearing, Change, Collection, Colour, Key, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.sites.kit import ShortText, Tags

MOST_MEMBERS = 200
MOST_WAYS = 8
MOST_NESTED = 6
Away = Annotated[float, Field(ge=-1_000, le=1_000)]


class Member(Row):
    """One thing of an assembly, from its middle: x to its right, y ahead, over the ground there. [m, °]

    kit, or assembly : what it is
    """

    kit: Annotated[Key | None, Names("kit", always=KIT), UNASKED] = None
    assembly: Annotated[Key | None, Names("assemblies"), UNASKED] = None
    x: Away = 0.0
    y: Away = 0.0
    over_m: Annotated[float, Field(ge=-100, le=1_000)] = 0.0
    turn_deg: Bearing = 0.0
    size: Annotated[float, Field(ge=0.05, le=20)] = 1.0
    look: Key | None = None
    tint: Colour | None = None

    @model_validator(mode="after")
    def _is_one(self) -> Member:
        if (self.kit is None) == (self.assembly is None):
            raise InvalidInput("a member is a piece of the kit or an assembly: say kit or assembly, not both", "kit")
        return self


class Way(Row):
    """One way that an assembly may look, with its weight beside the others."""

    weight: Annotated[float, Field(gt=0, le=1_000)] = 1.0
    members: Annotated[tuple[Member, ...], Field(min_length=1, max_length=MOST_MEMBERS)]


class Assembly(Row):
    """Collection "assemblies": pieces that are saved as one, in one or several ways that chance chooses between."""

    name: Annotated[Name, Say("Name")]
    folder: Annotated[ShortText, Say("Folder")] = "Assemblies"
    tags: Annotated[Tags, Say("Tags", hint="with commas")] = ()
    ways: Annotated[tuple[Way, ...], Field(min_length=1, max_length=MOST_WAYS), UNASKED]


def _plan(change: Change[Assembly], look: Look) -> Plan:
    if change.new is not None:
        _check_nesting(change.key, change.new, look, (change.key,))
    return plainly(ASSEMBLIES, change)


def _check_nesting(key: str, row: Assembly, look: Look, seen: tuple[str, ...]) -> None:
    for way in row.ways:
        for member in way.members:
            if member.assembly is None:
                continue
            if member.assembly in seen:
                words = " in ".join(reversed([*seen, member.assembly]))
                raise InvalidInput(f"an assembly cannot hold itself: {words}", "ways")
            if len(seen) >= MOST_NESTED:
                raise InvalidInput(f"assemblies lie {MOST_NESTED} deep at most", "ways")
            inner = look.get(ASSEMBLIES, member.assembly)
            if inner is not None:
                _check_nesting(member.assembly, inner, look, (*seen, member.assembly))


ASSEMBLIES = Collection("assemblies", Assembly, "assembly", most=500, plan=_plan, pictured="look")
