"""Pieces that stand wrong: found on the land as it is, and put right by one command."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from fernfield.core.checks.sites import PiecesTroubled
from fernfield.core.errors import Conflict, FernError, InvalidInput
from fernfield.core.sites.placing import FITS, outlines_of, settled
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.many import MOST_AT_ONCE
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Key, Moves
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.sites.pads import uneven
from fernfield.work.sites.rows import THINGS, Assembled, Piece, things_of
from fernfield.work.sites.scatters import SCATTERS, follows
from fernfield.work.sites.standing import Stood, asked_of, footprints_of, stand

FLOATS_M = 0.4
"""Higher over the ground than this, all around, a piece floats (our choice)."""
UNEVEN_M = 0.25
"""Level ground that is further off than this is none (our choice)."""
Name = Literal["floating", "buried", "uneven", "inside"]


class SettleThings(Command):
    """Put the feet of things back on the ground and lay their pads anew: of those with these ids, or of all that have a
    trouble."""

    do: Literal["settle_things"] = "settle_things"
    ids: Annotated[tuple[Key, ...] | None, Field(min_length=1, max_length=MOST_AT_ONCE)] = None
    trouble: Name | None = None

    @model_validator(mode="after")
    def _says_which(self) -> SettleThings:
        if self.ids is None and self.trouble is None:
            raise InvalidInput("say which: ids, or a trouble", "ids")
        return self


def _ground_around(land: Land, one: Stood) -> np.ndarray:
    corners = np.concatenate(footprints_of(one))
    return np.asarray(land.elevations(corners[:, 0].tolist(), corners[:, 1].tolist()), np.float64)


def _floating(world: OpenWorld, land: Land, one: Stood) -> bool:
    if one.thing.on is not None or one.entry.meets in ("hangs", "floats", "pad"):
        return False
    # What has legs reaches down: its lowest point counts.
    low = one.pose.z + min(one.entry.box[0][2], 0.0) * one.pose.size
    return bool(low - _ground_around(land, one).max() > FLOATS_M)


def _buried(world: OpenWorld, land: Land, one: Stood) -> bool:
    if one.thing.on is not None or one.entry.meets in ("hangs", "pad"):
        return False
    return bool(_ground_around(land, one).min() > one.pose.z + 0.5 * one.entry.size[2] * one.pose.size)


def _uneven(world: OpenWorld, land: Land, one: Stood) -> bool:
    if one.entry.meets != "pad" or one.thing.on is not None:
        return False
    part = next(part for part in land.parts if part.tract.row.id == world.of_tract(one.thing.tract))
    return uneven(world, land, one.thing, one.thing.x + part.x, one.thing.y + part.y) > UNEVEN_M


LOOKS: dict[str, Callable[[OpenWorld, Land, Stood], bool]] = {
    "floating": _floating, "buried": _buried, "uneven": _uneven,
}  # fmt: skip


def _stood(world: OpenWorld, land: Land, tract_id: str) -> list[Stood]:
    part = next(part for part in land.parts if part.tract.row.id == tract_id)
    asked = [
        one
        for key, thing in things_of(world, tract_id)
        for one in asked_of(world, key, thing, thing.x + part.x, thing.y + part.y)
    ]
    return stand(world, land, asked)


def troubled_in(world: OpenWorld, land: Land, tract_id: str) -> dict[str, list[Stood]]:
    """The pieces of a tract by the trouble that they have."""
    with world.lock:
        stood = _stood(world, land, tract_id)
        found = {name: [one for one in stood if look(world, land, one)] for name, look in LOOKS.items()}
    found["inside"] = _inside(stood)
    return found


def _inside(stood: list[Stood]) -> list[Stood]:
    """Those that stand in one before them; what stands on another, and members of one assembly, may."""
    alone = [one for one in stood if one.thing.on is None and one.entry.meets != "hangs"]
    if not alone:
        return []
    own = outlines_of([(one.entry, one.pose) for one in alone])
    nobody = outlines_of([])
    overlaps = np.array([one.entry.overlaps for one in alone])
    verdict, by = settled(own, nobody, 0.0, 0.0, overlaps, len(alone))
    return [
        one for at, one in enumerate(alone)
        if verdict[at] != FITS and by[at] >= 0 and alone[int(by[at])].key != one.key
    ]  # fmt: skip


def piece_troubles(world: OpenWorld) -> Iterator[PiecesTroubled]:
    """What is wrong with the pieces of every tract."""
    for tract_id in list(world.tracts):
        with world.lock:
            land = world.land_from(tract_id)
        for trouble, found in troubled_in(world, land, tract_id).items():
            keys = list(dict.fromkeys(one.key for one in found))
            if keys:
                first = found[0]
                yield PiecesTroubled(
                    trouble, len(keys), first.thing.name, first.thing.x, first.thing.y, tract_id, first.key
                )  # fmt: skip


def settle_things(world: OpenWorld, command: SettleThings) -> Outcome:
    """One revision. Raises NotFound for an id, Conflict when there is nothing to settle."""
    with world.lock:
        if command.ids is not None:
            keys = list(dict.fromkeys(command.ids))
        else:
            keys = []
            for tract_id in world.tracts:
                found = troubled_in(world, world.land_from(tract_id), tract_id)
                keys += [one.key for one in found[command.trouble or "floating"]]
            keys = list(dict.fromkeys(keys))
        moves: Moves = {}
        for key in keys:
            thing = world.row(THINGS, key)
            update: dict[str, object] = {"over_m": 0.0 if thing.on is None else thing.over_m}
            # Without its level a pad is laid anew.
            if isinstance(thing, Piece):
                update["level_m"] = None
            elif isinstance(thing, Assembled):
                update["levels"] = ()
            moves[THINGS.name, key] = thing.model_copy(update=update)
        if not moves:
            raise Conflict("there is nothing to settle: nothing was done")
        count = "1 thing" if len(moves) == 1 else f"{len(moves):,} things"
        said = SettleThings(ids=command.ids and command.ids[:50], trouble=command.trouble)
        return world.change_rows(said, f"Settled {count}", moves)


def scatters_off(world: OpenWorld) -> list[tuple[str, str, int]]:
    """Scatters that were kept and do not stand as their rule says now: key, name, how many."""
    off = []
    with world.lock:
        for key, row in world.each(SCATTERS):
            try:
                count = follows(world, key, row)
            except FernError:
                continue
            if count:
                off.append((key, row.name, count))
    return off
