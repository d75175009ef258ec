"""Assemblies made of what stands, and made into pieces again."""

from __future__ import annotations

import math
import secrets
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.sites.arranging import bearings, rounded
from fernfield.work.kernel.commands import Command, Put
from fernfield.work.kernel.edits import Planned, plan_one
from fernfield.work.kernel.many import Ids
from fernfield.work.kernel.relations import need_named
from fernfield.work.kernel.rows import Change, Key, Moves, NameText, new_key
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.sites.assemblies import ASSEMBLIES, MOST_MEMBERS, Assembly, Member, Way
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Assembled, Piece, Thing, Wall, corner_of, take_away
from fernfield.work.sites.standing import members_of


class Join(Command):
    """Save things as an assembly.

    key : of one that is there: they become what it is now, and those placed of it follow; as_way : they become one more
    way that it may look
    """

    do: Literal["join_things"] = "join_things"
    ids: Ids
    name: NameText | None = None
    key: Key | None = None
    as_way: bool = False
    weight: Annotated[float, Field(gt=0, le=1_000)] = 1.0


class Loosen(Command):
    """Make placed assemblies the pieces that they are of."""

    do: Literal["loosen_things"] = "loosen_things"
    ids: Ids


def join_things(world: OpenWorld, command: Join) -> tuple[str, Outcome]:
    """The key of the assembly. Raises NotFound, InvalidInput for what cannot be part of one, Conflict."""
    with world.lock:
        things = [(key, world.row(THINGS, key)) for key in dict.fromkeys(command.ids)]
        if len(things) > MOST_MEMBERS:
            raise InvalidInput(f"an assembly holds at most {MOST_MEMBERS} things, not {len(things)}", "ids")
        if command.key is None and command.name is None:
            raise InvalidInput("a new assembly needs a name", "name")
        corners = np.array([corner_of(world, thing) for _, thing in things])
        at = np.array([(thing.x, thing.y) for _, thing in things]) + corners
        middle = rounded((at.min(axis=0) + at.max(axis=0)) / 2)
        members = [_member(thing, *(at[n] - middle).tolist()) for n, (_, thing) in enumerate(things)]
        way = Way(weight=command.weight, members=tuple(members))
        old = None if command.key is None else world.row(ASSEMBLIES, command.key)
        key = command.key or new_key(command.name or "")
        row = _assembly(command, old, way)
        look = Planned(world)
        look.take(
            plan_one(Put(collection=ASSEMBLIES.name, key=key, row=row.model_dump(mode="json")), look, world).moves
        )
        first = things[0][1]
        placed = Assembled(
            name=f"{row.name} {world.count_of(THINGS, f'+{key}') + 1}"[:80], assembly=key,
            x=float(rounded(np.array([middle[0] - corners[0, 0]]))[0]),
            y=float(rounded(np.array([middle[1] - corners[0, 1]]))[0]), team=first.team, group=first.group,
            tract=world.of_tract(first.tract), way=len(row.ways) - 1 if command.as_way else 0,
        )  # fmt: skip
        take_away(look, [own for own, _ in things])
        plan = THINGS.plan
        assert plan is not None
        look.take(plan(Change(secrets.token_hex(5), None, placed), look).moves)
        _let_go_of(world, look, {own for own, _ in things})
        need_named(look, world.house, look.moves, world.rows)
        verb = "Saved" if old is None else "Changed"
        said = Join(ids=command.ids[:50], name=row.name, key=key, as_way=command.as_way)
        return key, world.change_rows(said, f"{verb} the assembly {row.name} of {len(things)} things", look.moves)


def _assembly(command: Join, old: Assembly | None, way: Way) -> Assembly:
    if old is None:
        return Assembly(name=command.name or "", ways=(way,))
    ways = (*old.ways, way) if command.as_way else (way, *old.ways[1:])
    return Assembly.model_validate({**dict(old), "name": command.name or old.name, "ways": ways})


def _member(thing: Thing, x: float, y: float) -> Member:
    x, y = rounded(np.array([x, y])).tolist()
    if isinstance(thing, Piece):
        return Member(
            kit=thing.kit, over_m=thing.over_m, turn_deg=thing.turn_deg, size=thing.size, look=thing.look,
            tint=thing.tint, x=x, y=y,
        )  # fmt: skip
    if isinstance(thing, Assembled):
        return Member(assembly=thing.assembly, over_m=thing.over_m, turn_deg=thing.turn_deg, size=thing.size, x=x, y=y)
    raise InvalidInput(f"{thing.name} is a {thing.called}, and no part of an assembly", "ids")


def _let_go_of(world: OpenWorld, look: Planned, gone: set[str]) -> None:
    """What stands on things that go stands on the ground now."""
    moves: Moves = {}
    for key, thing in look.marked(THINGS, "on"):
        if thing.on in gone and key not in gone:
            moves[THINGS.name, key] = thing.model_copy(update={"on": None})
    look.take(moves)


def loosen(world: OpenWorld, command: Loosen) -> tuple[Outcome, list[str]]:
    """Raises NotFound, Conflict for what is no assembly."""
    with world.lock:
        look, plan, made = Planned(world), THINGS.plan, []
        assert plan is not None
        kit = kit_of(world)
        keys = list(dict.fromkeys(command.ids))
        for key in keys:
            thing = world.row(THINGS, key)
            if not isinstance(thing, Assembled | Wall):
                raise Conflict(f"{thing.name} is no assembly: there is nothing to loosen")
            size = thing.size if isinstance(thing, Assembled) else 1.0
            turn = math.radians(thing.turn_deg)
            cos, sin = math.cos(turn), math.sin(turn)
            take_away(look, [key])
            for one in members_of(world, thing):
                entry = kit.get(one["kit"])
                if entry is None:
                    continue
                across, ahead = one["x"] * size, one["y"] * size
                x, y = rounded(
                    np.array([thing.x + across * cos + ahead * sin, thing.y - across * sin + ahead * cos])
                ).tolist()
                piece = Piece(
                    kit=one["kit"], name=f"{entry.label} of {thing.name}"[:80], x=x, y=y, look=one["look"],
                    tint=one["tint"], size=round(one["size"] * size, 6), team=thing.team, group=thing.group,
                    turn_deg=float(bearings(np.array([thing.turn_deg + one["turn_deg"]]))[0]), tract=thing.tract,
                    over_m=round(thing.over_m + one["over_m"] * size, 6),
                    data={field.name: field.first for field in entry.fields},
                )  # fmt: skip
                own = secrets.token_hex(5)
                made.append(own)
                look.take(plan(Change(own, None, piece), look).moves)
        _let_go_of(world, look, set(keys))
        need_named(look, world.house, look.moves, world.rows)
        some = world.row(THINGS, keys[0]).name if len(keys) == 1 else f"{len(keys)} assemblies"
        said = Loosen(ids=command.ids[:50])
        return world.change_rows(said, f"Loosened {some}", look.moves), made
