"""Sites: pieces, placed assemblies and starts."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Annotated, Any, Literal, NotRequired

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.sites.arranging import bearings, rounded
from fernfield.core.sites.shipped import KIT
from fernfield.core.sites.teams import MARKS as TEAM_MARKS
from fernfield.core.sites.walls import length_of
from fernfield.work.kernel.declared import Names, WorkedOut
from fernfield.work.kernel.edits import Planned, plainly
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.rows import (
    Change,
    Collection,
    Colour,
    East,
    Elevation,
    Facing,
    Journey,
    Key,
    Look,
    Name,
    North,
    Plan,
    Row,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted
from fernfield.work.plots.rows import SYMMETRY
from fernfield.work.sites.assemblies import ASSEMBLIES
from fernfield.work.sites.groups import groups_over
from fernfield.work.sites.images import IMAGE_MARK, at_home, images_of
from fernfield.work.sites.kit import KIT_ROWS, check_value, kit_of, piece_of

Size = Annotated[float, Field(ge=0.05, le=20)]
Over = Annotated[float, Field(ge=-100, le=10_000)]


class Thing(Parted):
    """Collection "things": what all that is placed has. x east, y north, `over_m` above the ground. [m, °]

    `tract` is where it stands; left out, the world's first. `on` : the thing that it stands on, and goes along with.
    """

    sort: Annotated[str, UNASKED]
    name: Name
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    over_m: Annotated[Over, Say("Over the ground", "m")] = 0.0
    turn_deg: Annotated[Facing, Say("Turn", "°")] = 0.0
    team: Annotated[
        int | None,
        Field(ge=1, le=8),
        Say(
            "Team",
            called={str(n): f"{n} {mark}" for n, mark in enumerate(TEAM_MARKS, 1)},
            left_out="none",
            under="Team",
        ),
    ] = None
    group: Annotated[Key | None, Names("groups", gone="clear"), UNASKED] = None
    on: Annotated[Key | None, Names("things", gone="clear"), UNASKED] = None
    locked: Annotated[bool, Say("Locked", under="More")] = False
    hidden: Annotated[bool, Say("Hidden", under="More")] = False
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def called(self) -> str:
        return self.sort

    @property
    def sort_named(self) -> str:
        return self.sort


class Piece(Thing):
    """A piece of the kit.

    kit : its entry; look, tint : one of those that it has, the usual one when left out; data : what it says of the
    entry's own fields; level_m : the elevation of the level ground that was made under it
    scatter, cell : the scatter that it is of, and its place there; by_hand : a hand has moved it since
    """

    sort: Annotated[Literal["piece"], UNASKED] = "piece"
    kit: Annotated[Key, Names("kit", always=KIT), UNASKED]
    size: Annotated[Size, Say("Size", "×")] = 1.0
    tilt_deg: Annotated[float, Field(ge=-90, le=90), Say("Tilt forward", "°", under="More")] = 0.0
    look: Annotated[Key | None, UNASKED] = None
    tint: Annotated[Colour | None, UNASKED] = None
    data: Annotated[dict[Key, float | bool | str], Field(max_length=16), UNASKED] = Field(default_factory=dict)
    level_m: Annotated[Elevation | None, WorkedOut, UNASKED] = None
    scatter: Annotated[Key | None, Names("scatters", gone="clear"), UNASKED] = None
    cell: Annotated[str | None, Field(max_length=40), UNASKED] = None
    by_hand: Annotated[bool, UNASKED] = False

    @property
    def sort_named(self) -> str:
        return self.kit

    @property
    def bulk(self) -> float:
        return self.size


class Assembled(Thing):
    """A placed assembly: its members stand where it says, each on the ground there.

    way : which of its ways it has; levels : the elevations of the level ground that was made under its members [m]
    """

    sort: Annotated[Literal["assembly"], UNASKED] = "assembly"
    assembly: Annotated[Key, Names("assemblies"), UNASKED]
    size: Annotated[Size, Say("Size", "×")] = 1.0
    way: Annotated[int, Field(ge=0, le=7), UNASKED] = 0
    levels: Annotated[tuple[Elevation, ...], Field(max_length=200), WorkedOut, UNASKED] = ()

    @property
    def sort_named(self) -> str:
        return f"+{self.assembly}"

    @property
    def bulk(self) -> float:
        return self.size


Aside = tuple[Annotated[float, Field(ge=-5e3, le=5e3)], Annotated[float, Field(ge=-5e3, le=5e3)]]
"""To the right and ahead. [m]"""
LIES = {"stepped": "upright, in steps", "along": "along the slope", "level": "as a deck from end to end"}
WALL_MARK = "="
"""Before what walls are sorted by: the power of two that they reach to. [m]"""


class Gate(BaseModel):
    """Something else in a wall: an entry of the kit, its middle so far along it. [m]"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    at_m: Annotated[float, Field(ge=0, le=1e5)]
    kit: Annotated[Key, Names("kit", always=KIT)]


class Wall(Thing):
    """A line of pieces that follows the ground from its place through points, which go along as it moves and turns.

    kit : the entry that it is of; corner : what stands at its corners and ends; gates : what stands in it besides
    points : to its right and ahead of its place [m]; closed : it comes back to the first of them
    lies : whether its pieces stand upright, each a step from the next, lie along the slope, or carry a way from the
    ground at its one end to that at the other; road : the road whose way that is
    """

    sort: Annotated[Literal["wall"], UNASKED] = "wall"
    kit: Annotated[Key, Names("kit", always=KIT), UNASKED]
    points: Annotated[tuple[Aside, ...], Field(min_length=2, max_length=400), UNASKED]
    closed: Annotated[bool, Say("It comes back to where it begins")] = False
    lies: Annotated[Literal["stepped", "along", "level"], Say("Its pieces stand", called=LIES)] = "stepped"
    corner: Annotated[Key | None, Names("kit", gone="clear", always=KIT), UNASKED] = None
    gates: Annotated[tuple[Gate, ...], Field(max_length=100), UNASKED] = ()
    road: Annotated[Key | None, Names("roads", gone="delete"), UNASKED] = None

    @property
    def sort_named(self) -> str:
        return f"{WALL_MARK}{1 << max(0, math.ceil(math.log2(max(self.reach, 1.0))))}"

    @property
    def mirrored(self) -> tuple[Aside, ...]:
        """Its points in a mirror: what lies to its right lies to its left."""
        return tuple((-x + 0.0, y) for x, y in self.points)

    @property
    def reach(self) -> float:
        """How far its points are from its place at most. [m]"""
        return max(math.hypot(x, y) for x, y in self.points)

    @model_validator(mode="after")
    def _is_a_line(self) -> Wall:
        if len(set(self.points)) < 2:
            raise InvalidInput("a wall needs two points that are not in one place", "points")
        if length_of(self.points, self.closed) > MOST_WALL_M:
            raise InvalidInput(f"a wall is {MOST_WALL_M:,.0f} m long at most", "points")
        return self


MOST_WALL_M = 5_000.0


class Start(Thing):
    """Where somebody begins, on the ground or over it, with a facing, or facing a thing wherever that is.

    speed_ms : how fast one goes ahead at first [m/s]; holding : players gather here before the round, and nobody begins
    """

    sort: Annotated[Literal["start"], UNASKED] = "start"
    default: Annotated[bool, Say("The default start")] = False
    faces: Annotated[Key | None, Names("things", gone="clear"), UNASKED] = None
    speed_ms: Annotated[float, Field(ge=0, le=300), Say("Begins at", "m/s", under="More")] = 0.0
    holding: Annotated[bool, Say("Only to gather before", under="More")] = False


def _images(key: str, thing: Thing, look: Look) -> list[tuple[str, Thing]]:
    """What follows a piece or a start under the world's symmetry. Whichever of them is moved, the others follow."""
    base = thing.on.partition(IMAGE_MARK)[0] if thing.on else None
    found = []
    for k, own, update in images_of(key, thing, look):
        update["on"] = None if base is None else f"{base}{IMAGE_MARK}{k}" if k else base
        if isinstance(thing, Start):
            update["default"] = thing.default and k == 0
            if thing.faces is not None:
                root = thing.faces.partition(IMAGE_MARK)[0]
                faced = f"{root}{IMAGE_MARK}{k}" if k else root
                update["faces"] = faced if look.get(THINGS, faced) is not None else thing.faces
        if isinstance(thing, Piece):
            # The ground under an image is its own, and it is of no scatter: it follows what it is an image of.
            update |= {"level_m": None, "scatter": None, "cell": None}
        if isinstance(thing, Assembled):
            update["levels"] = ()
        if isinstance(thing, Wall) and look.only(SYMMETRY).kind == "mirror":
            update["points"] = thing.mirrored
        found.append((own, thing.model_copy(update=update)))
    return found


def _plan(change: Change[Thing], look: Look) -> Plan:
    """A thing, those that stand on it, and its images under the symmetry; those that would fall outside the land are
    left out."""
    thing = change.new
    _check_lock(change, look)
    if thing is None:
        made = plainly(THINGS, change)
        if change.old is not None:
            keys = [key for key, _ in _images(change.key, change.old, look)]
            made.moves |= {("things", key): None for key in keys if look.get(THINGS, key) is not None}
        return made
    _check(change.key, thing, change.old, look)
    made = _put(change.key, thing, change.old, look)
    made.moves = {**_ridden(change.key, change.old, thing, look), **made.moves}
    followers = 0
    for key, seen in _images(change.key, thing, look):
        image = at_home(seen, look)
        if image is None or (image.on is not None and look.get(THINGS, image.on) is None):
            continue
        own = _put(key, image, look.get(THINGS, key), look).moves
        if isinstance(image, Start) and not image.default and isinstance(thing, Start):
            # Only the start itself can become the first default.
            own["things", key] = image
        made.moves = {**own, **made.moves}
        followers += 1
    made.words += f" and {followers} by symmetry" if followers else ""
    return made


FREE = {"locked", "hidden", "group", "name", "tract"}
"""What may be done to things that are locked: unlocked, they may be changed in the same edit."""


def _check_lock(change: Change[Thing], look: Look) -> None:
    """Raises Conflict for a thing that is locked, or is in a group that is, and would be changed or go."""
    old, new = change.old, change.new
    if old is None:
        return
    locked = old.locked and (new is None or new.locked)
    if not locked and not any(group.locked for _, group in groups_over(look, old.group)):
        return
    own = [name for name in type(old).model_fields if name not in FREE]
    if new is not None and type(new) is type(old) and all(getattr(old, name) == getattr(new, name) for name in own):
        return
    raise Conflict(f"{old.name} is locked; nothing was changed: unlock it, or leave it out")


def corner_of(world: OpenWorld, thing: Thing) -> tuple[float, float]:
    """The place in the world of the corner that a thing's metres are counted from. [m]"""
    place = world.place_of(world.of_tract(thing.tract))
    return place.x, place.y


def take_away(look: Planned, keys: Iterable[str]) -> None:
    """Things go, with their images. Raises NotFound, Conflict for one that is locked."""
    for key in keys:
        look.take(_plan(Change(key, look.need(THINGS, key), None), look).moves)


def _check(key: str, thing: Thing, old: Thing | None, look: Look) -> None:
    """Raises InvalidInput for what does not go together."""
    if isinstance(thing, Piece):
        was = old if isinstance(old, Piece) else None
        if was is None or (was.kit, was.look, was.data) != (thing.kit, thing.look, thing.data):
            _check_entry(thing, look)
    elif isinstance(thing, Assembled):
        row = look.get(ASSEMBLIES, thing.assembly)
        if row is not None and thing.way >= len(row.ways):
            raise InvalidInput(f"way must be 0 to {len(row.ways) - 1}, not {thing.way}", "way")
    elif isinstance(thing, Wall):
        turn = math.radians(thing.turn_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        for right, ahead in thing.points:
            x, y = thing.x + right * cos + ahead * sin, thing.y - right * sin + ahead * cos
            if at_home(thing.model_copy(update={"x": x, "y": y}), look) is None:
                raise InvalidInput(f"{thing.name} would leave the land at {x:.0f}, {y:.0f}", "points")
        for name, kit in (("kit", thing.kit), ("corner", thing.corner), *(("gates", gate.kit) for gate in thing.gates)):
            shipped, row_of = KIT.get(kit or ""), look.get(KIT_ROWS, kit or "")
            meets = (row_of.meets if row_of is not None else None) or (shipped.meets if shipped is not None else None)
            if meets == "pad":
                raise InvalidInput(f"{kit} wants level ground under it, which a wall has not: place it by itself", name)
    below, seen = thing.on, [key]
    while below is not None:
        if below in seen:
            raise InvalidInput(f"a thing cannot stand on itself: {' on '.join([*seen, below])}", "on")
        seen.append(below)
        other = look.get(THINGS, below)
        if other is not None and look.tract_or_first(other.tract) != look.tract_or_first(thing.tract):
            raise InvalidInput(f"it can stand on what is in its own tract, not on {other.name}", "on")
        below = other.on if other is not None else None


def _check_entry(piece: Piece, look: Look) -> None:
    """Raises InvalidInput for a look or a field that the entry of a piece has not."""
    row, shipped = look.get(KIT_ROWS, piece.kit), KIT.get(piece.kit)
    base = shipped if row is None else KIT.get(row.like or "")
    looks = (
        [one.name for one in row.looks]
        if row is not None and row.looks
        else [one.name for one in base.looks]
        if base
        else ["plain"]
    )
    if piece.look is not None and piece.look not in looks:
        raise InvalidInput(f"look must be one of {', '.join(looks)}, not {piece.look!r}", "look")
    own = [one.field for one in row.fields] if row is not None and row.fields else list(base.fields) if base else []
    fields = {field.name: field for field in own}
    for name, value in piece.data.items():
        if name not in fields:
            raise InvalidInput(f"it has no field {name!r}; there is {', '.join(fields) or 'none'}", f"data.{name}")
        check_value(fields[name], value, f"data.{name}")


def _ridden(key: str, old: Thing | None, new: Thing, look: Look) -> dict[tuple[str, str], Row | None]:
    """Those that stand on a thing, as they go along with it."""
    if old is None or (old.x, old.y, old.turn_deg, old.tract) == (new.x, new.y, new.turn_deg, new.tract):
        return {}
    found: dict[tuple[str, str], Row | None] = {}
    turn = math.radians(new.turn_deg - old.turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    for rider_key, rider in look.marked(THINGS, "on"):
        if rider.on != key or rider_key == key:
            continue
        east, north = rider.x - old.x, rider.y - old.y
        x = float(rounded(_one(new.x + east * cos + north * sin))[0])
        y = float(rounded(_one(new.y - east * sin + north * cos))[0])
        by = new.turn_deg - old.turn_deg
        moved = rider.model_copy(
            update={"x": x, "y": y, "turn_deg": float(bearings(_one(rider.turn_deg + by))[0]), "tract": new.tract}
        )
        found["things", rider_key] = moved
        found |= _ridden(rider_key, rider, moved, look)
    return found


def _one(value: float) -> NDArray[np.float64]:
    return np.array([value], np.float64)


def _put(key: str, thing: Thing, old: Thing | None, look: Look) -> Plan:
    made = Plan(f"{'Placed' if old is None else 'Changed'} {thing.name}", {("things", key): thing})
    if not isinstance(thing, Start):
        return made
    defaults = [(k, t) for k, t in look.marked(THINGS, "default") if k != key]
    if not defaults and old is None:
        # The first start is the default: a world that can be walked needs one.
        made.moves["things", key] = thing.model_copy(update={"default": True})
    elif thing.default:
        made.moves |= {("things", k): start.model_copy(update={"default": False}) for k, start in defaults}
    return made


class MemberTold(TypedDict):
    """One of the pieces of a placed assembly: its place from the assembly's, to its right and ahead. [m, °]

    part : of a wall that is a deck, so far along it, 0 to 1
    """

    kit: str
    x: float
    y: float
    over_m: float
    turn_deg: float
    size: float
    look: str | None
    tint: str | None
    part: NotRequired[float]


class ThingTold(TypedDict):
    """What is placed, as it stands. [m, °]

    z : the elevation it stands at; kit : None for what is no piece; resource : whether it is something to gather
    top_m : of what stands on another: how high over the foot of that
    """

    key: str
    id: str
    sort: str
    kit: str | None
    name: str
    x: float
    y: float
    z: float
    over_m: float
    turn_deg: float
    team: int | None
    default: bool
    tract: str
    resource: bool
    group: str | None
    part: str | None
    on: str | None
    locked: bool
    hidden: bool
    size: NotRequired[float]
    tilt_deg: NotRequired[float]
    look: NotRequired[str | None]
    tint: NotRequired[str | None]
    data: NotRequired[dict[str, float | bool | str]]
    level_m: NotRequired[float | None]
    scatter: NotRequired[str | None]
    cell: NotRequired[str | None]
    by_hand: NotRequired[bool]
    assembly: NotRequired[str]
    way: NotRequired[int]
    levels: NotRequired[list[float]]
    members: NotRequired[list[MemberTold]]
    points: NotRequired[list[tuple[float, float]]]
    closed: NotRequired[bool]
    lies: NotRequired[str]
    corner: NotRequired[str | None]
    faces: NotRequired[str | None]
    speed_ms: NotRequired[float]
    holding: NotRequired[bool]
    gates: NotRequired[list[dict[str, float | str]]]
    top_m: NotRequired[float]


LONGEST_SHADOW = 6.0
"""A piece throws its shadow so many times as far as it is high, under a sun of 9°."""


def _seen(thing: Thing) -> tuple[str, float, float, float, float]:
    """The ground whose light and growth a thing may change; a start changes none."""
    around = 0.0
    if isinstance(thing, Piece):
        # Of an entry that people made as much as of a large one.
        piece = KIT.get(thing.kit)
        around = 60.0 if piece is None else piece.reach + piece.margin_m + LONGEST_SHADOW * piece.size[2]
        around *= thing.size
    elif isinstance(thing, Assembled):
        around = 80.0 * thing.size
    elif isinstance(thing, Wall):
        around = 40.0 + thing.reach
    return thing.tract or "", thing.x - around, thing.y - around, thing.x + around, thing.y + around


def _shown(world: OpenWorld, key: str, thing: Thing) -> Annotated[dict[str, Any], ThingTold]:
    from fernfield.work.sites.standing import told

    return told(world, key, thing)


def _works(world: OpenWorld, moves: Any) -> Any:
    from fernfield.work.sites.pads import pad_works

    return pad_works(world, moves)


def completed(world: OpenWorld, said: dict[str, Any], number: int = 0) -> dict[str, Any]:
    """What is said of a thing, with its sort where that follows, the next name of its sort, and the next team for a
    start. number : of those that are named at once

    Raises InvalidInput for an entry of the kit that there is not.
    """
    own, kit, assembly = dict(said), said.get("kit"), said.get("assembly")
    if own.get("sort") is None and (kit is not None or assembly is not None):
        own["sort"] = "piece" if kit is not None else "assembly"
    entry = piece_of(world, kit if isinstance(kit, str) else None)
    if own.get("sort") in ("piece", "wall") and entry is None:
        raise InvalidInput(f"kit must be one of {', '.join(kit_of(world))}, not {kit!r}", "kit")
    if own.get("sort") not in ("piece", "wall") and kit is not None:
        raise InvalidInput(f"a {own.get('sort')} has no kit, not {kit!r}", "kit")
    own = {name: value for name, value in own.items() if not (name == "kit" and value is None)}
    row = world.get(ASSEMBLIES, assembly) if isinstance(assembly, str) else None
    of = kit if entry else f"+{assembly}" if row else str(own.get("sort"))
    if own.get("sort") == "wall":
        lines = [one for one in world.sorts_of(THINGS)[0] if one.startswith(WALL_MARK)]
        same, called = sum(world.count_of(THINGS, one) for one in lines) + number, "Wall"
    else:
        same = world.count_of(THINGS, str(of)) + number
        called = entry.label if entry else row.name if row else "Start"
    if own.get("name") is None:
        own["name"] = f"{called} {same + 1}"
    if own.get("sort") == "start" and "team" not in own:
        own["team"] = same % len(TEAM_MARKS) + 1
    return own


def _upgrade(body: dict[str, Any], version: int) -> dict[str, Any]:
    """Before version 2 pieces and starts had the fields of each other too."""
    return {
        name: value for name, value in body.items() if name != ("default" if body.get("sort") == "piece" else "kit")
    }


def _carried(thing: Thing, journey: Journey) -> dict[str, Any]:
    if isinstance(thing, Start) and journey.copied:
        return {"default": False}
    turned = (journey.bearing(90) - journey.bearing(0)) % 360
    return {"points": thing.mirrored} if isinstance(thing, Wall) and turned > 180 else {}


SORTS: dict[str, type[Thing]] = {"piece": Piece, "assembly": Assembled, "wall": Wall, "start": Start}
THINGS: Collection[Thing] = Collection(
    "things", Thing, "thing", variants=SORTS, in_tract=True,
    told=False, made_by_room=True, changed_by_room=True, most=20_000, plan=_plan, seen=_seen, ground=_works,
    carried=_carried,
    shown=_shown, completes=completed, version=2, upgrade=_upgrade,
)  # fmt: skip


def things_of(world: OpenWorld, tract_id: str | None = None) -> list[tuple[str, Thing]]:
    """All that is placed; with a tract, what stands in it."""
    return world.each(THINGS) if tract_id is None else world.each_in(THINGS, tract_id)


def named(world: OpenWorld, said: dict[str, Any]) -> Thing:
    """A thing with what was not said of it. Raises ValidationError, InvalidInput."""
    return THINGS.checked(completed(world, said))


def facing_of(world: OpenWorld, start: Start) -> float:
    """The bearing that one faces at a start. [°]"""
    faced = world.get(THINGS, start.faces or "")
    if faced is None:
        return start.turn_deg
    (x, y), (at_x, at_y) = corner_of(world, start), corner_of(world, faced)
    east, north = faced.x + at_x - start.x - x, faced.y + at_y - start.y - y
    return math.degrees(math.atan2(east, north)) % 360 if east or north else start.turn_deg


def default_start(world: OpenWorld, land: Land) -> tuple[Part, Start]:
    """The start that a walk on a land begins at, and the tract where it stands. Raises NotFound."""
    for part in land.parts:
        for _, thing in things_of(world, part.tract.row.id):
            if isinstance(thing, Start) and thing.default:
                return part, thing
    raise NotFound("this world has no default start: place one on the Sites stage")
