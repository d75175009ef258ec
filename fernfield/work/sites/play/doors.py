"""Doors that lead elsewhere, and places that throw to another: the curve is drawn, and checked for what it meets."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Annotated, Any, Literal, NotRequired

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput
from fernfield.core.sites.throwing import Throw, thrown
from fernfield.work.kernel.declared import Lies, Names
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Leads
from fernfield.work.kernel.rows import Collection, East, Facing, Key, Name, North, Spot, TractId
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.parts.rows import Parted
from fernfield.work.sites.images import with_images
from fernfield.work.sites.play.aims import Far
from fernfield.work.sites.play.teams import Owner
from fernfield.work.sites.rows import THINGS
from fernfield.work.sites.standing import is_in, stood_in

Along = NDArray[np.float64]
BODY_M = 1.8
STEP_M = 0.5
CLEAR_M = 3.0
"""Near its two ends a throw may touch what it begins and ends on. [m]"""


class Way(Parted):
    """Collection "doors": a place that brings whoever comes within its reach elsewhere. x east, y north [m]

    leads : where to, a place of the same tract; turn_deg : how one faces there
    """

    sort: Annotated[str, UNASKED]
    name: Annotated[Name, Say("Name")]
    x: Annotated[East, Say("East", "m")]
    y: Annotated[North, Say("North", "m")]
    reach_m: Annotated[Far, Say("Reach", "m")] = 1.5
    leads: Annotated[tuple[Spot, ...], Field(max_length=1), Lies("path"), UNASKED] = ()
    turn_deg: Annotated[Facing, Say("One faces there", "°")] = 0.0
    team: Owner = None
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def called(self) -> str:
        return {"launch": "launching place"}.get(self.sort, self.sort)


class Door(Way):
    """One is there at once: at a place, or where a thing stands, on this land or another. back : it leads back too"""

    sort: Annotated[Literal["door"], UNASKED] = "door"
    thing: Annotated[Key | None, Names("things", gone="clear"), UNASKED] = None
    back: Annotated[bool, Say("The way back too")] = False


class Launch(Way):
    """One is thrown there. steep_deg : how steeply it begins"""

    sort: Annotated[Literal["launch"], UNASKED] = "launch"
    steep_deg: Annotated[float, Field(ge=5, le=85), Say("It begins at", "°")] = 50.0

    @model_validator(mode="after")
    def _is_thrown(self) -> Launch:
        if self.leads and math.hypot(self.leads[0][0] - self.x, self.leads[0][1] - self.y) < 1:
            raise InvalidInput("a launching place throws a metre at least", "leads")
        return self


def _completed(world: OpenWorld, said: dict[str, Any], number: int = 0) -> dict[str, Any]:
    own = {name: value for name, value in said.items() if value is not None}
    called = "Launching place" if own.get("sort") == "launch" else "Door"
    own.setdefault("name", f"{called} {len(world.rows[DOORS.name]) + 1 + number}")
    return own


class DoorTold(TypedDict):
    """A door or launching place. curve : east, north and elevation of its throw; meets : what that meets [m]"""

    key: str
    sort: str
    name: str
    x: float
    y: float
    reach_m: float
    turn_deg: float
    team: int | None
    part: str | None
    tract: str | None
    thing: NotRequired[str | None]
    back: NotRequired[bool]
    steep_deg: NotRequired[float]
    leads: list[tuple[float, float]]
    curve: list[tuple[float, float, float]]
    speed: float | None
    meets: str


def _shown(world: OpenWorld, key: str, row: Way) -> Annotated[dict[str, Any], DoorTold]:
    told: dict[str, Any] = {"key": key, **row.model_dump(mode="json"), "curve": [], "speed": None, "meets": ""}
    if isinstance(row, Launch) and row.leads:
        found, told["meets"] = thrown_by(world, row)
        if found is not None:
            far = np.linspace(0, found.far, 25)
            (x, y), z = row.leads[0], _ground(world, row, row.x, row.y) + found.heights(far)
            xs, ys = row.x + (x - row.x) * far / found.far, row.y + (y - row.y) * far / found.far
            told["curve"] = np.column_stack([xs, ys, z]).round(2).tolist()
            told["speed"] = round(found.speed, 2)
    return told


DOORS: Collection[Way] = Collection(
    "doors", Way, "door", variants={"door": Door, "launch": Launch}, in_tract=True, packed=True, most=1_000,
    completes=_completed, shown=_shown, plan=lambda change, look: with_images(DOORS, change, look),
)  # fmt: skip


def _ground(world: OpenWorld, row: Way, x: float, y: float) -> float:
    return world.any_tract(world.of_tract(row.tract)).elevation(x, y)


def place_led_to(world: OpenWorld, row: Way) -> tuple[str, float, float] | None:
    """The tract and place that a door leads to; None where nothing is said of it. [m]"""
    thing = world.get(THINGS, row.thing or "") if isinstance(row, Door) else None
    if thing is not None:
        return world.of_tract(thing.tract), thing.x, thing.y
    return (world.of_tract(row.tract), *row.leads[0]) if row.leads else None


def leading(world: OpenWorld, land: Land) -> Iterator[Leads]:
    """The doors and launching places of a land that lead somewhere on it. Hold the lock."""
    corners = {part.tract.row.id: (part.x, part.y) for part in land.parts}
    for part in land.parts:
        for key, row in world.each_in(DOORS, part.tract.row.id):
            led = place_led_to(world, row)
            if led is None or led[0] not in corners:
                continue
            east, north = corners[led[0]]
            own = row.x + part.x, row.y + part.y
            to = led[1] + east, led[2] + north
            flight = 0.0, 0.0, 0.0
            if isinstance(row, Launch):
                try:
                    throw = throw_of(world, row)
                except InvalidInput:
                    continue
                flight = throw.steep_deg, throw.speed, throw.seconds
            yield Leads(key, row.name, *own, row.reach_m, *to, row.turn_deg, *flight)
            if isinstance(row, Door) and row.back:
                yield Leads(f"{key} back", row.name, *to, row.reach_m, *own, (row.turn_deg + 180) % 360)


def throw_of(world: OpenWorld, row: Launch) -> Throw:
    """Raises InvalidInput where it begins too gently to come there."""
    x, y = row.leads[0]
    up = _ground(world, row, x, y) - _ground(world, row, row.x, row.y)
    return thrown(math.hypot(x - row.x, y - row.y), up, row.steep_deg)


def thrown_by(world: OpenWorld, row: Launch) -> tuple[Throw | None, str]:
    """The throw of a launching place, and what it meets in words, "" for nothing. Under the lock."""
    tract_id = world.of_tract(row.tract)
    land = world.land_from(tract_id)
    part = next(part for part in land.parts if part.tract.row.id == tract_id)
    (x, y), z0 = row.leads[0], _ground(world, row, row.x, row.y)
    try:
        found = throw_of(world, row)
    except InvalidInput as error:
        return None, str(error)
    far = np.arange(CLEAR_M, found.far - CLEAR_M, STEP_M)
    if not len(far):
        return found, ""
    xs, ys = row.x + (x - row.x) * far / found.far, row.y + (y - row.y) * far / found.far
    z = z0 + found.heights(far)
    under = np.array(land.elevations((xs + part.x).tolist(), (ys + part.y).tolist()))
    low = np.flatnonzero(z < under)
    at = [(int(low[0]), "the ground")] if len(low) else []
    at += _met(world, land, xs + part.x, ys + part.y, z)
    if not at:
        return found, ""
    first, what = min(at)
    return found, f"it meets {what} after {far[first]:.0f} m"


def _met(world: OpenWorld, land: Land, xs: Along, ys: Along, z: Along) -> list[tuple[int, str]]:
    """The first place along a curve at which a body would be in each piece, and what that is called."""
    box = float(xs.min()), float(ys.min()), float(xs.max()), float(ys.max())
    found = []
    for stood in stood_in(world, land, box):
        near = np.hypot(xs - stood.pose.x, ys - stood.pose.y) <= stood.entry.reach * stood.pose.size
        for at in np.flatnonzero(near).tolist():
            if is_in(stood, float(xs[at]), float(ys[at]), float(z[at]), BODY_M):
                found.append((at, stood.thing.name))
                break
    return found
