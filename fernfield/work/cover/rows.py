"""Cover: the ground's materials, and the rules that put them where the land says."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Change, Collection, Colour, Look, Name, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld


class CoverRule(Row):
    """The cover is there where the ground is steeper than `above_deg`, growing in over `blend_deg`."""

    above_deg: Annotated[float, Field(ge=0, le=90), Say("Steeper than", "°")]
    blend_deg: Annotated[float, Field(ge=0, le=45), Say("Blend over", "°")] = 6.0


class Cover(Row):
    """Collection "covers". The base is the one with `position` 0."""

    name: Name
    colour: Annotated[Colour, Say("Colour")]
    position: Annotated[int, Field(ge=0, le=31), UNASKED]
    rule: Annotated[CoverRule | None, Say("Rule", left_out="painted only")] = None


def _plan(change: Change[Cover], look: Look) -> Plan:
    if change.new is None or change.old is None:
        if change.old is None:
            look.need(COVERS, change.key)
        raise Conflict("covers cannot be removed yet")
    if change.new.position != change.old.position:
        raise Conflict(f"the place of a cover cannot change yet; {change.key!r} stays at {change.old.position}")
    if change.old.position == 0 and change.new.rule is not None:
        raise InvalidInput("the base cover is everywhere and takes no rule", "rule")
    return plainly(COVERS, change)


COVERS = Collection("covers", Cover, "cover", pictured=True, most=32, order=lambda pair: pair[1].position, plan=_plan)


def covers_of(world: OpenWorld) -> list[tuple[str, Cover]]:
    """Key and cover, the base first."""
    return world.each(COVERS)
