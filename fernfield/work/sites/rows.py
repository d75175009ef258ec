"""Sites: pieces and starts."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.sites.kit import KIT, TEAM_MARKS
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.posts.lands import Land, Part, joined_to
from fernfield.work.kernel.posts.tracts import JOINS, PLACES
from fernfield.work.kernel.rows import (
    Change,
    Collection,
    East,
    Facing,
    Look,
    Name,
    North,
    Plan,
    Row,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY


class Thing(Row):
    """Collection "things": a placed piece or a start. x east, y north, `over_m` above the ground. [m, °]

    `tract` is where it stands; left out, the world's first.
    """

    sort: Annotated[Literal["piece", "start"], UNASKED]
    kit: Annotated[str | None, UNASKED] = None
    name: Name
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    over_m: Annotated[float, Field(ge=-100, le=10_000), Say("Over the ground", "m")] = 0.0
    turn_deg: Annotated[Facing, Say("Turn", "°")] = 0.0
    team: Annotated[
        int | None,
        Field(ge=1, le=8),
        Say("Team", called={str(n): f"{n} {mark}" for n, mark in enumerate(TEAM_MARKS, 1)}, left_out="none"),
    ] = None
    default: Annotated[bool, Say("The default start", when="sort=start")] = False
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def called(self) -> str:
        return self.sort

    @property
    def sort_named(self) -> str:
        return self.kit or self.sort

    @model_validator(mode="after")
    def _fits_its_sort(self) -> Thing:
        if self.sort == "piece" and self.kit not in KIT:
            raise InvalidInput(f"kit must be one of {', '.join(KIT)}, not {self.kit!r}", "kit")
        if self.sort == "start" and self.kit is not None:
            raise InvalidInput(f"a start has no kit, not {self.kit!r}", "kit")
        if self.sort == "piece" and self.default:
            raise InvalidInput("only a start can be the default", "default")
        return self


class ToPlace(Row):
    """A thing to be placed: what is not said of it is chosen by the world (its name, and the team of a start)."""

    sort: Literal["piece", "start"]
    kit: str | None = None
    name: Name | None = None
    x: East
    y: North
    over_m: Annotated[float, Field(ge=-100, le=10_000)] = 0.0
    turn_deg: Facing = 0.0
    team: Annotated[int, Field(ge=1, le=8)] | None = None
    default: bool = False
    tract: TractId | None = None


IMAGE_MARK = "--"
"""Between the key of a piece and the number of its image under a symmetry."""


def _images(key: str, thing: Thing, look: Look) -> list[tuple[str, Thing]]:
    """What follows a piece or a start under the world's symmetry. Whichever of them is moved, the others follow."""
    at = look.need(PLACES, look.tract_or_first(thing.tract))
    copies = [image.seen_at(at.x, at.y) for image in look.only(SYMMETRY).images()]
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


def _at_home(thing: Thing, look: Look) -> Thing | None:
    """A thing in the tract of its land in which it comes to stand; None when it falls outside of all."""
    own = look.tract_or_first(thing.tract)
    if look.grid(own).holds(thing.x, thing.y):
        return thing
    at = look.need(PLACES, own)
    for tract_id in sorted(joined_to(own, (join for _, join in look.each(JOINS)))):
        place = look.need(PLACES, tract_id)
        x, y = thing.x + at.x - place.x, thing.y + at.y - place.y
        if look.grid(tract_id).holds(x, y):
            return thing.model_copy(update={"x": x, "y": y, "tract": tract_id})
    return None


def _plan(change: Change[Thing], look: Look) -> Plan:
    """A piece or start, and its images under the symmetry; those that would fall outside the land are left out."""
    thing = change.new
    if thing is None:
        made = plainly(THINGS, change)
        if change.old is not None:
            keys = [key for key, _ in _images(change.key, change.old, look)]
            made.moves |= {("things", key): None for key in keys if look.get(THINGS, key) is not None}
        return made
    made = _put(change.key, thing, change.old, look)
    followers = 0
    for key, seen in _images(change.key, thing, look):
        image = _at_home(seen, look)
        if image is None:
            continue
        own = _put(key, image, look.get(THINGS, key), look).moves
        if image.sort == "start" and not image.default and thing.sort == "start":
            # Only the start itself can become the first default.
            own["things", key] = image
        made.moves = {**own, **made.moves}
        followers += 1
    made.words += f" and {followers} by symmetry" if followers else ""
    return made


def _put(key: str, thing: Thing, old: Thing | None, look: Look) -> Plan:
    made = Plan(f"{'Placed' if old is None else 'Changed'} {thing.name}", {("things", key): thing})
    if thing.sort != "start":
        return made
    defaults = [(k, t) for k, t in look.marked(THINGS, "default") if k != key]
    if not defaults and old is None:
        # The first start is the default: a world that can be walked needs one.
        made.moves["things", key] = thing.model_copy(update={"default": True})
    elif thing.default:
        made.moves |= {("things", k): start.model_copy(update={"default": False}) for k, start in defaults}
    return made


class ThingTold(TypedDict):
    """A piece or a start as it stands. `z`: the elevation it stands at. [m, °]"""

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


def _shown(world: OpenWorld, key: str, thing: Thing) -> Annotated[dict[str, Any], ThingTold]:
    """With the elevation it stands at. [m]"""
    kit = KIT.get(thing.kit or "")
    tract_id = world.of_tract(thing.tract)
    ground = world.any_tract(tract_id).elevation(thing.x, thing.y)
    return {
        "key": key, "id": key, "sort": thing.sort, "kit": thing.kit, "name": thing.name, "x": thing.x, "y": thing.y,
        "z": round(ground + thing.over_m, 4), "over_m": thing.over_m, "turn_deg": thing.turn_deg, "team": thing.team,
        "default": thing.default, "tract": tract_id, "resource": bool(kit and kit.resource),
    }  # fmt: skip


LONGEST_SHADOW = 6.0
"""A piece throws its shadow so many times as far as it is high, under a sun of 9°."""


def _seen(thing: Thing) -> tuple[str, float, float, float, float]:
    """The ground whose light a piece may change; a start changes none."""
    piece = KIT.get(thing.kit or "")
    around = 0.0 if piece is None else piece.width + piece.depth + LONGEST_SHADOW * piece.height
    return thing.tract or "", thing.x - around, thing.y - around, thing.x + around, thing.y + around


THINGS = Collection(
    "things", Thing, "thing", in_tract=True, told=False, made_by_room=True, most=20_000, plan=_plan, seen=_seen,
    carried=lambda _thing, journey: {"default": False} if journey.copied else {}, shown=_shown,
)  # fmt: skip


def things_of(world: OpenWorld, tract_id: str | None = None) -> list[tuple[str, Thing]]:
    """Pieces and starts; with a tract, those that stand in it."""
    return world.each(THINGS) if tract_id is None else world.each_in(THINGS, tract_id)


def named(world: OpenWorld, wanted: ToPlace) -> Thing:
    """A thing with what was not said of it: the next name of its sort, and the next team for a start."""
    said = wanted.model_dump(exclude_unset=True)
    kit = KIT.get(wanted.kit or "")
    same = world.count_of(THINGS, wanted.kit or wanted.sort)
    if wanted.name is None:
        said["name"] = f"{kit.label if kit else 'Start'} {same + 1}"
    if wanted.sort == "start" and "team" not in said:
        said["team"] = same % len(TEAM_MARKS) + 1
    return Thing.model_validate(said)


def default_start(world: OpenWorld, land: Land) -> tuple[Part, Thing]:
    """The start that a walk on a land begins at, and the tract where it stands. Raises NotFound."""
    for part in land.parts:
        for _, thing in things_of(world, part.tract.row.id):
            if thing.sort == "start" and thing.default:
                return part, thing
    raise NotFound("this world has no default start: place one on the Sites stage")
