"""Many things at once: moved, turned, sized, raised, lined up, mirrored, copied, exchanged, dropped to the ground.

Each is one revision. What stands on another goes along with it.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.sites import arranging as core
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.edits import Planned
from fernfield.work.kernel.many import MOST_AT_ONCE, Ids
from fernfield.work.kernel.refused import refused
from fernfield.work.kernel.relations import need_named
from fernfield.work.kernel.rows import Bearing, Change, Colour, Coordinate, Key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Assembled, Over, Piece, Size, Thing, Wall, corner_of

MOST_COPIES = 200
By = Annotated[float, Field(ge=-1e6, le=1e6)]
SpotSaid = tuple[Coordinate, Coordinate]


class Arrange(Command):
    """What becomes of things; what is left out stays. In this order: moved, turned, sized, mirrored, lined up, spread.

    about : what all are turned, sized or mirrored about: each about itself, the last in `ids`, their middle, or a point
    (of the first one's tract) [m]
    copied, copies : it is done to so many copies, each once more than the one before
    """

    dx_m: Annotated[By, Say("East by", "m")] = 0.0
    dy_m: Annotated[By, Say("North by", "m")] = 0.0
    turn_by_deg: Annotated[float, Field(ge=-360, le=360), Say("Turn by", "°")] = 0.0
    about: Annotated[Literal["each", "last", "middle"] | SpotSaid, UNASKED] = "each"
    turn_deg: Annotated[Bearing | None, Say("Face", "°", left_out="as they do")] = None
    turn_any_deg: Annotated[float, Field(ge=0, le=180), Say("By chance, give or take", "°")] = 0.0
    size_by: Annotated[float, Field(gt=0, le=20), Say("Size times", "×")] = 1.0
    size: Annotated[Size | None, Say("Size", "×", left_out="as it is")] = None
    size_from: Annotated[Size | None, Say("Size by chance, from", "×", left_out="as it is")] = None
    size_to: Annotated[Size | None, Say("Size by chance, to", "×", left_out="as it is")] = None
    raise_by_m: Annotated[By, Say("Raise by", "m")] = 0.0
    over_m: Annotated[Over | None, Say("Over the ground", "m", left_out="as it is")] = None
    tilt_deg: Annotated[float | None, Field(ge=-90, le=90), Say("Tilt forward", "°", left_out="as it is")] = None
    mirror_deg: Annotated[Bearing | None, Say("Mirror across the line along", "°", left_out="not")] = None
    line_up: Annotated[Literal["east", "north", "line"] | None, UNASKED] = None
    evenly: Annotated[bool, UNASKED] = False
    towards: Annotated[SpotSaid | None, UNASKED] = None
    drop: Annotated[bool, UNASKED] = False
    kit: Annotated[Key | None, UNASKED] = None
    look: Annotated[Key | Literal["any"] | None, UNASKED] = None
    tint: Annotated[Colour | Literal["any", "none"] | None, UNASKED] = None
    copied: Annotated[bool, UNASKED] = False
    copies: Annotated[int, Field(ge=1, le=MOST_COPIES), Say("Copies")] = 1
    name: Annotated[str | None, UNASKED] = None
    team: Annotated[int | None, Field(ge=1, le=8), UNASKED] = None
    group: Annotated[Key | None, UNASKED] = None
    part: Annotated[Key | None, UNASKED] = None
    on: Annotated[Key | None, UNASKED] = None
    locked: Annotated[bool | None, UNASKED] = None
    hidden: Annotated[bool | None, UNASKED] = None
    data: Annotated[dict[Key, float | bool | str] | None, UNASKED] = None
    x: Annotated[Coordinate | None, UNASKED] = None
    y: Annotated[Coordinate | None, UNASKED] = None
    default: Annotated[bool | None, UNASKED] = None
    way: Annotated[int | None, Field(ge=0, le=7), UNASKED] = None


ROW_FIELDS = ("name", "team", "group", "part", "on", "locked", "hidden", "data", "x", "y", "default", "way")
"""What is said of the rows themselves, as in a change of one."""


class ArrangeThings(Command):
    do: Literal["arrange_things"] = "arrange_things"
    ids: Ids
    change: Arrange


class ArrangedMany(Command):
    """What the logbook keeps of a work on things, whose ids may be many: the rows that changed say the rest."""

    do: Literal["arranged"] = "arranged"
    count: int
    change: dict[str, Any]


class Arranged(Edited):
    """What came of things that were changed: the ids of all, or of the copies."""

    ids: list[str]


def arrange(world: OpenWorld, ids: Sequence[str], change: Arrange, *, within: str = "tract") -> Arranged:
    """Change all of some things or none, in one revision.

    within : whose metres points are in: of the first thing's tract, or the world's
    Raises NotFound, InvalidInput naming the thing that cannot be so, Conflict for locked ones.
    """
    said = change.model_dump(exclude_unset=True)
    with world.lock:
        keys = list(dict.fromkeys(ids))
        things = [world.row(THINGS, key) for key in keys]
        _check(keys, change)
        look = Planned(world)
        made: list[str] = []
        for number in range(1, (change.copies if change.copied else 1) + 1):
            new = _changed(world, keys, things, change, said, number, within)
            own = [secrets.token_hex(5) for _ in keys] if change.copied else keys
            _take(world, look, own, keys, things, new, copied=change.copied)
            made += own
        need_named(look, world.house, look.moves, world.rows)
        some = things[0].name if len(things) == 1 else f"{len(things)} things"
        words = f"{'Copied' if change.copied else 'Changed'} {some}"
        done = ArrangedMany(count=len(keys), change=change.model_dump(mode="json", exclude_unset=True))
        outcome = world.change_rows(done, words, look.moves)
    return {"ids": made, **outcome.public()}


def _check(keys: Sequence[str], change: Arrange) -> None:
    if change.copied and len(keys) * change.copies > MOST_AT_ONCE:
        raise InvalidInput(
            f"at most {MOST_AT_ONCE:,} copies can be made at once, not {len(keys) * change.copies:,}", "copies"
        )
    if (change.size_from is None) != (change.size_to is None) or (change.size_from or 0) > (change.size_to or 0):
        raise InvalidInput("size_from and size_to go together, the smaller first", "change.size_from")


def _changed(
    world: OpenWorld, keys: Sequence[str], things: Sequence[Thing], change: Arrange, said: Mapping[str, Any],
    number: int, within: str,
) -> list[dict[str, Any]]:  # fmt: skip
    """The fields of each that change; places in the world's metres."""
    corners = np.array([corner_of(world, thing) for thing in things])
    spots = np.array([(thing.x, thing.y, thing.turn_deg) for thing in things], np.float64)
    spots[:, :2] += corners
    origin = (0.0, 0.0) if within == "world" else (float(corners[0, 0]), float(corners[0, 1]))

    def point(at: Sequence[float]) -> tuple[float, float]:
        return at[0] + origin[0], at[1] + origin[1]

    moved = spots if not (change.dx_m or change.dy_m) else core.moved(spots, change.dx_m * number, change.dy_m * number)
    if change.x is not None:
        moved = _at(moved, 0, change.x + origin[0])
    if change.y is not None:
        moved = _at(moved, 1, change.y + origin[1])
    about = _about(change, moved, point)
    by, times = change.turn_by_deg * number, change.size_by**number
    if change.turn_deg is not None:
        moved = _at(moved, 2, change.turn_deg)
    if by:
        turned = core.turned(moved, about or (0.0, 0.0), by)
        moved = turned if about is not None else np.column_stack([moved[:, :2], turned[:, 2]])
    if times != 1 and about is not None:
        moved = core.scaled(moved, about, times)
    if change.mirror_deg is not None:
        moved = core.mirrored(moved, about or tuple(moved[:, :2].mean(axis=0)), change.mirror_deg)
    if change.line_up is not None:
        moved = core.lined_up(moved, change.line_up, (float(moved[-1, 0]), float(moved[-1, 1])))
    if change.evenly and len(moved) > 2:
        moved = core.evenly(moved)
    if change.towards is not None:
        moved = core.towards(moved, point(change.towards))
    chance = np.random.default_rng([len(keys), number, *(sum(map(ord, key)) for key in keys[:4])]).random(
        (len(keys), 4)
    )
    if change.turn_any_deg:
        moved[:, 2] = core.bearings(moved[:, 2] + change.turn_any_deg * (2 * chance[:, 0] - 1))
    kit = kit_of(world)
    out = []
    for at, thing in enumerate(things):
        own: dict[str, Any] = {
            name: said[name] for name in ROW_FIELDS if name in said and name in type(thing).model_fields
        }
        if not np.array_equal(moved[at, :2], spots[at, :2]) or {"x", "y"} & set(said):
            own |= {"x": float(moved[at, 0]), "y": float(moved[at, 1])}
        if moved[at, 2] != spots[at, 2]:
            own["turn_deg"] = float(moved[at, 2])
        if isinstance(thing, Wall) and change.mirror_deg is not None:
            own["points"] = thing.mirrored
        own |= _raised(thing, change, number)
        if isinstance(thing, Piece | Assembled):
            own |= _sized(thing, change, times, float(chance[at, 1]))
        if isinstance(thing, Piece):
            own |= _dressed(kit, thing, change, said, chance[at, 2:].tolist())
        out.append(own)
    return out


def _at(spots: np.ndarray, column: int, value: float) -> np.ndarray:
    out = spots.copy()
    out[:, column] = value
    return out


def _about(change: Arrange, spots: np.ndarray, point: Any) -> tuple[float, float] | None:
    if isinstance(change.about, tuple):
        x, y = point(change.about)
        return float(x), float(y)
    if change.about == "last":
        return float(spots[-1, 0]), float(spots[-1, 1])
    if change.about == "middle":
        low, high = spots[:, :2].min(axis=0), spots[:, :2].max(axis=0)
        return float((low[0] + high[0]) / 2), float((low[1] + high[1]) / 2)
    return None


def _raised(thing: Thing, change: Arrange, number: int) -> dict[str, Any]:
    if change.drop:
        return {"over_m": 0.0, "on": None, **({"tilt_deg": 0.0} if isinstance(thing, Piece) else {})}
    over = thing.over_m if change.over_m is None else change.over_m
    over += change.raise_by_m * number
    return {} if over == thing.over_m else {"over_m": float(core.rounded(np.array([over]))[0])}


def _sized(thing: Piece | Assembled, change: Arrange, times: float, chance: float) -> dict[str, Any]:
    size = thing.size if change.size is None else change.size
    if change.size_from is not None and change.size_to is not None:
        size = change.size_from + (change.size_to - change.size_from) * chance
    size = float(core.rounded(np.array([size * times]))[0])
    return {} if size == thing.size else {"size": size}


def _dressed(
    kit: Mapping[str, Any], thing: Piece, change: Arrange, said: Mapping[str, Any], chance: Sequence[float]
) -> dict[str, Any]:
    own: dict[str, Any] = {} if change.tilt_deg is None else {"tilt_deg": change.tilt_deg}
    entry = kit.get(change.kit or thing.kit)
    if change.kit is not None and change.kit != thing.kit:
        if entry is None:
            raise InvalidInput(f"kit must be one of {', '.join(kit)}, not {change.kit!r}", "change.kit")
        known = {look.name for look in entry.looks}
        fields = {field.name for field in entry.fields}
        own |= {"kit": change.kit, "look": thing.look if thing.look in known else None,
                "data": {name: value for name, value in thing.data.items() if name in fields}}  # fmt: skip
    if change.look is not None and entry is not None:
        looks = [look.name for look in entry.looks]
        own["look"] = looks[int(chance[0] * len(looks))] if change.look == "any" else change.look
    elif "look" in said and change.look is None:
        own["look"] = None
    if change.tint == "any":
        tints = entry.tints if entry is not None else ()
        own["tint"] = ([None, *tints])[int(chance[1] * (len(tints) + 1))]
    elif "tint" in said:
        own["tint"] = None if change.tint == "none" else change.tint
    return own


def _take(
    world: OpenWorld, look: Planned, keys: Sequence[str], was: Sequence[str], things: Sequence[Thing],
    said: Sequence[dict[str, Any]], *, copied: bool,
) -> None:  # fmt: skip
    """Plan the changed rows, one after the other. Raises InvalidInput naming the one that cannot be so."""
    off = 0
    plan = THINGS.plan
    assert plan is not None
    own_keys, names = set(keys), dict(zip(was, keys, strict=True)) if copied else {}
    for key, thing, own in zip(keys, things, said, strict=True):
        fields = {**dict(thing), **own}
        if copied:
            fields |= {
                "name": fields["name"] if "name" in own else f"{thing.name[:70]} copy",
                "scatter": None,
                "cell": None,
            }
            fields["on"] = names.get(thing.on or "", thing.on)
            if "default" in fields:
                fields["default"] = False
            fields = {name: value for name, value in fields.items() if name in type(thing).model_fields}
        elif (
            isinstance(thing, Piece)
            and thing.scatter is not None
            and {"x", "y", "turn_deg", "size", "over_m"} & set(own)
        ):
            fields["by_hand"] = True
        if "x" in own:
            home = _tract_at(world, own["x"], own["y"], world.of_tract(thing.tract))
            if home is None:
                off += 1
                continue
            place = world.place_of(home)
            x, y = core.rounded(np.array([own["x"] - place.x, own["y"] - place.y])).tolist()
            fields |= {"x": x, "y": y, "tract": home}
        else:
            fields["tract"] = world.of_tract(thing.tract)
        try:
            row = type(thing).model_validate(fields)
        except ValidationError as error:
            one = refused(error.errors(), THINGS.said_as)[0]
            raise InvalidInput(f"{thing.name}: {one.message}", f"change.{one.field}") from error
        old = None if copied else look.get(THINGS, key)
        if old is None and look.count(THINGS) >= THINGS.most:
            raise Conflict(f"a world holds at most {THINGS.most} things")
        moves = plan(Change(key, old, row), look).moves
        # Those that are changed themselves go where they are told, not along.
        look.take({at: made for at, made in moves.items() if at[1] == key or at[1] not in own_keys})
    if off:
        raise InvalidInput(f"{off} of {len(keys)} things would come to stand outside of all tracts", "change")


def _tract_at(world: OpenWorld, x: float, y: float, first: str) -> str | None:
    """The tract that holds a place of the world, `first` if it does. [m]"""
    for tract_id in dict.fromkeys([first, *world.tracts]):
        place, grid = world.place_of(tract_id), world.tract(tract_id).grid
        if grid.holds(x - place.x, y - place.y):
            return tract_id
    return None
