"""Cover: the ground's materials, and the rules that put them where the land says."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fernfield.core.cover.textures import TEXTURES
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.work.kernel.declared import Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import Bearing, Change, Collection, Colour, Key, Look, Name, NameText, Plan, Row
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld


class CoverRule(Row):
    """The cover is there where the ground is steeper than `above_deg`, growing in over `blend_deg`, over all that lies
    under it: how worlds began before there was a list of rules, which lies under what is painted."""

    above_deg: Annotated[float, Field(ge=0, le=90), Say("Steeper than", "°")]
    blend_deg: Annotated[float, Field(ge=0, le=45), Say("Blend over", "°")] = 6.0


MOST_COVERS = 32


class Cover(Row):
    """Collection "covers". The base is the one with `position` 0; a new one, or one that is moved, comes to lie at its
    `position`, at the top when that is left out, and the others make room.

    texture, steep_texture : of our own, or the key of a picture of the world's; the second on steep faces
    pace : how much of a walker's speed is left on it; sound : a tag for whoever plays it
    likes : kinds of growth that like it; a kind that likes any cover stands on those alone
    """

    name: Name
    colour: Annotated[Colour, Say("Colour")]
    position: Annotated[int, Field(ge=0, le=MOST_COVERS - 1), UNASKED] = MOST_COVERS - 1
    rule: Annotated[CoverRule | None, UNASKED] = None
    hidden: Annotated[bool, UNASKED] = False
    texture: Annotated[Key | None, UNASKED] = None
    steep_texture: Annotated[Key | None, UNASKED] = None
    tile_m: Annotated[float, Field(ge=0.25, le=200), Say("Tile size", "m", under="More")] = 4.0
    turn_deg: Annotated[Bearing, Say("Turn of the tile", "°", under="More")] = 0.0
    pace: Annotated[float, Field(ge=0.1, le=1), Say("Pace of a walker", "%", percent=True)] = 1.0
    sound: Annotated[NameText | None, Say("Sound underfoot", left_out="none", under="More")] = None
    likes: Annotated[tuple[Annotated[Key, Names("kinds", "clear")], ...], Field(max_length=64), UNASKED] = ()


def _plan(change: Change[Cover], look: Look) -> Plan:
    old, new = change.old, change.new
    if new is None:
        raise Conflict("a cover is removed by DELETE of its own route: what is painted of it goes too")
    if old is not None and old.position == 0:
        if new.hidden:
            raise Conflict(f"{new.name} is the base cover: it cannot be hidden")
        if new.rule is not None:
            raise InvalidInput("the base cover is everywhere and takes no rule", "rule")
        if new.position != 0:
            raise Conflict(f"{new.name} is the base cover: it lies under all others")
    elif new.position == 0:
        raise Conflict(f"{new.name} cannot be the base: fill with it what is to be covered by it")
    for field in ("texture", "steep_texture"):
        named = getattr(new, field)
        # A picture of the world's begins so; whether it is there is asked when it is drawn.
        if named is not None and named not in TEXTURES and not named.startswith("p"):
            raise InvalidInput(
                f"{field} must be one of {', '.join(TEXTURES)}, or a picture's key, not {named!r}", field
            )
    made = plainly(COVERS, change)
    others = sorted(((key, row) for key, row in look.each(COVERS) if key != change.key), key=lambda p: p[1].position)
    order = [*others[: new.position], (change.key, new), *others[new.position :]]
    for at, (key, row) in enumerate(order):
        if row.position != at or key == change.key:
            made.moves[COVERS.name, key] = row.model_copy(update={"position": at})
    return made


COVERS = Collection(
    "covers", Cover, "cover", pictured="look", most=MOST_COVERS, removed_by_room=True,
    order=lambda pair: pair[1].position, plan=_plan,
)  # fmt: skip


def shown_covers(world: OpenWorld) -> list[tuple[str, Cover]]:
    """Those that are not hidden, the base first: what the hand works on."""
    return [(key, cover) for key, cover in covers_of(world) if not cover.hidden]


def covers_of(world: OpenWorld) -> list[tuple[str, Cover]]:
    """Key and cover, the base first."""
    return world.each(COVERS)
