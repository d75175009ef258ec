"""Water: the level of the sea with its tides, standing pools, and streams."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.water.liquids import LIQUIDS, Liquid
from fernfield.work.kernel.declared import Lies, Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import (
    Change,
    Collection,
    Colour,
    East,
    Elevation,
    Key,
    Look,
    Name,
    North,
    Plan,
    Row,
    Spot,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld

DRY_M = -20_000.0
"""A level of water that no ground lies under. [m]"""

MOST_POINTS, MOST_REACHES = 200, 6_000


class OwnLiquid(Row):
    """Collection "liquids": one that a pool may hold besides those that are known.

    clear : how much of the ground is seen through a metre of it; wade_m : from this depth on it stops a walker, 0: it
    is walked on; tag : for whoever plays it
    """

    name: Annotated[Name, Say("Name")]
    colour: Annotated[Colour, Say("Colour")] = "#7a5a8c"
    clear: Annotated[float, Field(ge=0, le=1), Say("Seen through a metre", "%", percent=True)] = 0.4
    wade_m: Annotated[float, Field(ge=0, le=10), Say("Stops a walker from", "m")] = 1.0
    tag: Annotated[str, Field(max_length=40), Say("Tag", left_out="none")] = ""


class Water(Row):
    """Collection "water", key "sea".

    tide_low_m, tide_high_m : between which levels the sea goes; None: it stands still
    inland : land under its level that it does not reach is flooded too
    """

    sea_level_m: Annotated[Elevation, Say("Sea level", "m")]
    tide_low_m: Annotated[Elevation | None, Say("Low tide", "m", left_out="none")] = None
    tide_high_m: Annotated[Elevation | None, Say("High tide", "m", left_out="none")] = None
    inland: Annotated[bool, Say("Also where the sea does not reach")] = False

    @model_validator(mode="after")
    def _in_their_order(self) -> Water:
        low, high = self.tide_low_m, self.tide_high_m
        if (low is None) != (high is None):
            raise InvalidInput("low and high tide go together: say both, or neither", "tide_low_m")
        if low is not None and high is not None and not low <= high:
            raise InvalidInput(f"low tide must not be above high tide, not {low:g} and {high:g} m", "tide_low_m")
        return self


class Pool(Row):
    """Collection "pools": standing water around its deepest place (x, y), up to a level. [m]

    liquid : what it holds; plot : it is kept to this plot; runs_over : it was asked to run over its brim
    """

    name: Annotated[Name, Say("Name")]
    x: Annotated[East, UNASKED]
    y: Annotated[North, UNASKED]
    level_m: Annotated[Elevation, Say("Level", "m")]
    liquid: Annotated[Key, Names("liquids", always=LIQUIDS), UNASKED] = "water"
    plot: Annotated[Key | None, Names("plots"), UNASKED] = None
    runs_over: Annotated[bool, UNASKED] = False
    tract: Annotated[TractId | None, UNASKED] = None


Reach = tuple[float, float, float, float, float, float]
"""A spot of a course: x, y, surface, width, depth [m], and the tangent of its banks."""


class Stream(Row):
    """Collection "streams": running water from a spring, along points, and on by the way that the land gives. [m]

    width_m, depth_m, bank_deg : at its spring; what joins it makes it wider
    carve : its bed is cut into the ground; fords : where it is shallow, with gentle banks
    in_hollow : what is done where its way ends in a hollow: a pool that stands to the brim, or it is cut through
    way : where it runs, from its spring to its end; course : the same with its surface, width, depth and banks
    ends : in what; joins, leaves : the stream that it runs into, and that it branches from
    cut_m3 : what its bed took from the ground
    """

    name: Annotated[Name, Say("Name")]
    points: Annotated[tuple[Spot, ...], Field(min_length=1, max_length=MOST_POINTS), Lies("path"), UNASKED]
    width_m: Annotated[float, Field(ge=0.3, le=200), Say("Width at its spring", "m")] = 3.0
    depth_m: Annotated[float, Field(ge=0.05, le=20), Say("Depth", "m")] = 0.6
    bank_deg: Annotated[float, Field(ge=5, le=80), Say("Banks", "°")] = 35.0
    carve: Annotated[bool, Say("Carves its bed")] = True
    fords: Annotated[tuple[Spot, ...], Field(max_length=16), Lies("path"), UNASKED] = ()
    in_hollow: Annotated[Literal["pool", "cut"] | None, UNASKED] = None
    way: Annotated[tuple[tuple[float, float], ...], Field(max_length=MOST_REACHES), Lies("path"), UNASKED] = ()
    course: Annotated[tuple[Reach, ...], Field(max_length=MOST_REACHES), Lies("path"), UNASKED] = ()
    ends: Annotated[Literal["sea", "pool", "stream", "edge", "hollow"], UNASKED] = "edge"
    joins: Annotated[Key | None, Names("streams", "clear"), UNASKED] = None
    leaves: Annotated[Key | None, Names("streams", "clear"), UNASKED] = None
    cut_m3: Annotated[float, Field(ge=0), UNASKED] = 0.0
    tract: Annotated[TractId | None, UNASKED] = None


def _upgrade(body: dict[str, Any], version: int) -> dict[str, Any]:
    # Until then all land under the level of the sea was under water.
    return {**body, "inland": True}


def _sea_words(row: Water) -> str:
    tide = "" if row.tide_low_m is None else f", tide {row.tide_low_m:g} to {row.tide_high_m:g} m"
    return f"Sea level {row.sea_level_m:g} m{tide}"


class PoolTold(Pool):
    """With its key, and the colour of its liquid."""

    key: str
    colour: str


class StreamTold(Stream):
    """With its key, without the posts that it was laid along."""

    key: str
    way: Annotated[tuple[tuple[float, float], ...], Field(exclude=True)] = ()


def _shown(world: OpenWorld, key: str, row: Pool) -> Annotated[dict[str, Any], PoolTold]:
    return {"key": key, **row.model_dump(mode="json"), "colour": liquid_of(world, row.liquid).colour}


def _stream_shown(world: OpenWorld, key: str, row: Stream) -> Annotated[dict[str, Any], StreamTold]:
    return {"key": key, **row.model_dump(mode="json", exclude={"way"})}


def liquids_of(world: OpenWorld) -> dict[str, Liquid]:
    """The liquids that a pool may hold: those that are known, and the world's own."""
    return {**LIQUIDS, **{key: _own_liquid(key, row) for key, row in world.each(OWN_LIQUIDS)}}


def liquid_of(world: OpenWorld, name: str) -> Liquid:
    """One of them; water where it is gone."""
    own = world.rows["liquids"].get(name)
    return _own_liquid(name, own) if isinstance(own, OwnLiquid) else LIQUIDS.get(name, LIQUIDS["water"])


def _own_liquid(key: str, row: OwnLiquid) -> Liquid:
    return Liquid(key, row.name, row.colour, row.clear, row.wade_m, row.tag)


def _plan_liquid(change: Change[OwnLiquid], look: Look) -> Plan:
    """Raises Conflict for the key of one that is known."""
    if change.key in LIQUIDS:
        raise Conflict(f"{change.key} is a liquid already: take another key")
    return plainly(OWN_LIQUIDS, change)


WATER = Collection(
    "water", Water, "sea", only="sea", first=Water(sea_level_m=0.0), pictured="look", words=_sea_words,
    version=2, upgrade=_upgrade,
)  # fmt: skip
OWN_LIQUIDS = Collection("liquids", OwnLiquid, "liquid", pictured="look", most=32, plan=_plan_liquid)
POOLS = Collection(
    "pools", Pool, "pool", in_tract=True, pictured="look", plain=False, most=500, shown=_shown,
)  # fmt: skip
STREAMS = Collection(
    "streams", Stream, "stream", in_tract=True, pictured="look", plain=False, most=500, stays=True, shown=_stream_shown,
)  # fmt: skip


def sea_level(world: OpenWorld) -> float:
    """The level of the sea, under which open land that it reaches is flooded. [m]"""
    return world.only(WATER).sea_level_m


Tide = Literal["low", "high"]


def tide_level(world: OpenWorld, tide: Tide | None) -> float | None:
    """How high the sea stands at a tide [m]; None: as it is set, and where it has no tides."""
    sea = world.only(WATER)
    return {"low": sea.tide_low_m, "high": sea.tide_high_m}[tide] if tide else None


def sea_of(world: OpenWorld, tract_id: str) -> float:
    """The level of the sea in a tract: underground it is dry, however deep. [m]"""
    return DRY_M if world.place_of(tract_id).kind == "underground" else sea_level(world)
