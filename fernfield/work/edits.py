"""What each command does to the rows of a world: words for the logbook, and rows to put or remove."""

from __future__ import annotations

from typing import Protocol, TypeVar

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Grid
from fernfield.work.commands import (
    Edit,
    PlaceTract,
    PutCover,
    PutMix,
    PutRow,
    PutThing,
    RemoveRow,
    RemoveThing,
    Rename,
    SetIcon,
    SetLight,
    SetLimits,
    SetSymmetry,
    SetWater,
    Together,
)
from fernfield.work.entries import BOOKS, About, Cover, Join, Line, Mix, Plot, Row, Symmetry, Thing, TractPlace

R = TypeVar("R", bound=Row)


class HasGrid(Protocol):
    @property
    def grid(self) -> Grid: ...


class Rows(Protocol):
    """What an edit asks of the world that it changes."""

    rows: dict[str, dict[str, Row]]

    def row(self, model: type[R], collection: str, key: str) -> R: ...

    def things(self, tract_id: str | None = None) -> list[tuple[str, Thing]]: ...

    def of_tract(self, own: str | None) -> str: ...

    def tract(self, tract_id: str) -> HasGrid: ...


Moves = dict[tuple[str, str], Row | None]

MOST_THINGS = 20_000
MOST_ROWS = 1_000


def plan_edit(command: Edit, world: Rows) -> tuple[str, Moves]:
    """The words and the rows of an edit; changes nothing. Raises when it does not fit the world."""
    match command:
        case Rename():
            old_about = world.row(About, "about", "world")
            name, description = command.name or old_about.name, command.description
            about = About(name=name, description=old_about.description if description is None else description)
            words = f"Renamed to {name}" if name != old_about.name else f"Described {name}"
            return words, {("about", "world"): about}
        case SetIcon():
            verb = "Took away" if command.icon is None else "Set"
            return f"{verb} the icon", {("icon", "world"): command.icon}
        case PlaceTract():
            was = world.row(TractPlace, "tracts", command.key)
            new = TractPlace(**{**was.model_dump(), **command.model_dump(exclude={"do", "key"}, exclude_none=True)})
            verb = "Renamed" if new.name != was.name else "Moved"
            return f"{verb} the tract {new.name}", {("tracts", command.key): new, **parted(command.key, new, world)}
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
            return _with_images(command, world)
        case RemoveThing():
            thing = world.row(Thing, "things", command.key)
            keys = [command.key, *(key for key, _ in _images(command.key, thing, world))]
            return f"Deleted {thing.name}", {("things", key): None for key in keys if key in world.rows["things"]}
        case PutRow():
            old = world.rows[command.book].get(command.key)
            if old is None and len(world.rows[command.book]) >= MOST_ROWS:
                raise Conflict(f"a world holds at most {MOST_ROWS} {command.book}")
            verb = "Added" if old is None else "Changed"
            words = f"{verb} the {command.book[:-1]} {command.row.name}"
            row = command.row
            if isinstance(row, Plot | Line):
                row = row.model_copy(update={"tract": world.of_tract(row.tract)})
                world.tract(row.tract or "")
            return words, {(command.book, command.key): row}
        case RemoveRow():
            gone = world.row(BOOKS[command.book], command.book, command.key)
            return f"Deleted the {command.book[:-1]} {gone.name}", {(command.book, command.key): None}
        case SetSymmetry():
            return symmetry_words(command.symmetry), {("symmetry", "world"): command.symmetry}
        case SetLimits():
            low, high = command.limits.lowest_m, command.limits.highest_m
            return f"Ground kept from {low:g} to {high:g} m", {("limits", "world"): command.limits}
        case Together():
            planned = [plan_edit(edit, world) for edit in command.edits]
            moves: Moves = {}
            for _, own in planned:
                moves.update(own)
            return "; ".join(words for words, _ in planned), moves


def parted(key: str, new: TractPlace, world: Rows) -> Moves:
    """A tract that is moved or goes underground is joined to no other any more."""
    old = world.rows["tracts"].get(key)
    if isinstance(old, TractPlace) and (old.x, old.y, old.kind) == (new.x, new.y, new.kind):
        return {}
    joins = [(k, j) for k, j in world.rows["joins"].items() if isinstance(j, Join)]
    return {("joins", k): None for k, j in joins if key in (j.first, j.second)}


def symmetry_words(symmetry: Symmetry) -> str:
    at = f"{symmetry.x:g}, {symmetry.y:g}"
    if symmetry.kind == "mirror":
        return f"Symmetry: mirrored across the line through {at} along {symmetry.bearing_deg:g}°"
    return f"Symmetry: turned {symmetry.times} times about {at}" if symmetry.kind == "turn" else "Symmetry off"


IMAGE_MARK = "--"
"""Between the key of a piece and the number of its image under a symmetry."""


def _images(key: str, thing: Thing, world: Rows) -> list[tuple[str, Thing]]:
    """What follows a piece or a start under the world's symmetry. Whichever of them is moved, the others follow."""
    symmetry = world.rows["symmetry"].get("world")
    copies = symmetry.images() if isinstance(symmetry, Symmetry) else []
    if not copies:
        return []
    root, _, mark = key.partition(IMAGE_MARK)
    number = int(mark) if mark.isdigit() and int(mark) <= len(copies) else 0
    back = copies[number - 1].back() if number else None
    x, y = back.place(thing.x, thing.y) if back else (thing.x, thing.y)
    turn = back.bearing(thing.turn_deg) if back else thing.turn_deg
    team = None if thing.team is None else (thing.team - 1 - number) % 8 + 1
    name = thing.name.removesuffix(f" {number + 1}") if number else thing.name
    found = []
    for k, copy in enumerate([None, *copies]):
        if k == number:
            continue
        place = (x, y) if copy is None else copy.place(x, y)
        update = {
            # Rounding may put a piece on the border a hair beyond it.
            "x": round(place[0], 6) + 0.0,
            "y": round(place[1], 6) + 0.0,
            "turn_deg": round(turn if copy is None else copy.bearing(turn), 6) % 360,
            "team": None if team is None else (team - 1 + k) % 8 + 1,
            "name": name if k == 0 else f"{name[:76]} {k + 1}",
            "default": thing.default and k == 0,
        }
        found.append((f"{root}{IMAGE_MARK}{k}" if k else root, thing.model_copy(update=update)))
    return found


def _with_images(command: PutThing, world: Rows) -> tuple[str, Moves]:
    """A piece or start, and its images under the symmetry; those that would fall outside the tract are left out."""
    thing = command.thing.model_copy(update={"tract": world.of_tract(command.thing.tract)})
    grid = world.tract(thing.tract or "").grid
    command = PutThing(key=command.key, thing=thing)
    words, moves = _thing(command, world, grid)
    followers = 0
    for key, thing in _images(command.key, command.thing, world):
        if not grid.holds(thing.x, thing.y):
            continue
        own = _thing(PutThing(key=key, thing=thing), world, grid)[1]
        if thing.sort == "start" and not thing.default and command.thing.sort == "start":
            # Only the start itself can become the first default.
            own["things", key] = thing
        moves = {**own, **moves}
        followers += 1
    return words + (f" and {followers} by symmetry" if followers else ""), moves


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
