"""What each command does to the rows of a world: words for the logbook, and rows to put or remove."""

from __future__ import annotations

from typing import Protocol, TypeVar

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Grid
from fernfield.work.commands import (
    Edit,
    PutCover,
    PutMix,
    PutThing,
    RemoveThing,
    Rename,
    SetLight,
    SetWater,
    Together,
)
from fernfield.work.entries import About, Cover, Mix, Row, Thing

R = TypeVar("R", bound=Row)


class Rows(Protocol):
    """What an edit asks of the world that it changes."""

    rows: dict[str, dict[str, Row]]

    def row(self, model: type[R], collection: str, key: str) -> R: ...

    def things(self) -> list[tuple[str, Thing]]: ...


Moves = dict[tuple[str, str], Row | None]

MOST_THINGS = 20_000


def plan_edit(command: Edit, world: Rows, grid: Grid) -> tuple[str, Moves]:
    """The words and the rows of an edit; changes nothing. Raises when it does not fit the world."""
    match command:
        case Rename():
            return f"Renamed to {command.name}", {("about", "world"): About(name=command.name)}
        case SetWater():
            return f"Sea level {command.water.sea_level_m:g} m", {("water", "sea"): command.water}
        case SetLight():
            sun = command.light
            words = f"Sun at {sun.sun_bearing_deg:g}°, {sun.sun_height_deg:g}° high"
            return words, {("light", "sun"): sun}
        case PutCover():
            return _cover(command, world)
        case PutMix():
            world.row(Mix, "mixes", command.key)
            return f"Changed the mix {command.mix.name}", {("mixes", command.key): command.mix}
        case PutThing():
            return _thing(command, world, grid)
        case RemoveThing():
            old = world.row(Thing, "things", command.key)
            return f"Deleted {old.name}", {("things", command.key): None}
        case Together():
            planned = [plan_edit(edit, world, grid) for edit in command.edits]
            moves: Moves = {}
            for _, own in planned:
                moves.update(own)
            return "; ".join(words for words, _ in planned), moves


def _cover(command: PutCover, world: Rows) -> tuple[str, Moves]:
    old = world.row(Cover, "covers", command.key)
    if command.cover.position != old.position:
        raise Conflict(f"the place of a cover cannot change yet; {command.key!r} stays at {old.position}")
    if old.position == 0 and command.cover.rule is not None:
        raise InvalidInput("the base cover is everywhere and takes no rule", "rule")
    return f"Changed the cover {command.cover.name}", {("covers", command.key): command.cover}


def _thing(command: PutThing, world: Rows, grid: Grid) -> tuple[str, Moves]:
    thing, place = command.thing, ("things", command.key)
    if not grid.holds(thing.x, thing.y):
        raise InvalidInput(
            f"a place must be inside the tract (0 to {grid.width:g}, 0 to {grid.depth:g}), "
            f"not {thing.x:g}, {thing.y:g}",
            "x",
        )
    old = world.rows["things"].get(command.key)
    others = world.things()
    if old is None and len(others) >= MOST_THINGS:
        raise Conflict(f"a world holds at most {MOST_THINGS} pieces and starts")
    moves: Moves = {place: thing}
    if thing.sort == "start":
        starts = [(k, t) for k, t in others if t.sort == "start" and k != command.key]
        if not any(t.default for _, t in starts) and old is None:
            # The first start is the default: a world that can be walked needs one.
            moves[place] = thing.model_copy(update={"default": True})
        elif thing.default:
            for key, start in starts:
                if start.default:
                    moves["things", key] = start.model_copy(update={"default": False})
    return f"{'Placed' if old is None else 'Changed'} {thing.name}", moves
