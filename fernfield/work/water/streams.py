"""Streams as commands: set one, change it, take it away. What it cut into the ground lies in a sheet of its own."""

from __future__ import annotations

from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray
from fernfield.work.kernel.commands import Command, said_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Moves, Name, Spot, TractId
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.draft import Draft
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep, Unit
from fernfield.work.water.laying import falls_of, laid, lowest_of, part_of
from fernfield.work.water.network import Network, planned
from fernfield.work.water.rows import MOST_POINTS, POOLS, STREAMS, WATER, Stream, StreamTold
from fernfield.work.water.ways import SHEET, SHEET_NAME, apart_of


class PutStream(Command):
    """Set a stream from a spring, along points, and on by the way that the land gives. [m]

    `in_hollow` says what is done where that way ends in a hollow: a pool stands there, or it is cut through.
    """

    do: Literal["put_stream"] = "put_stream"
    name: Name
    tract: TractId | None = None
    points: Annotated[tuple[Spot, ...], Field(min_length=1, max_length=MOST_POINTS)]
    width_m: Annotated[float, Field(ge=0.3, le=200)] = 3.0
    depth_m: Annotated[float, Field(ge=0.05, le=20)] = 0.6
    bank_deg: Annotated[float, Field(ge=5, le=80)] = 35.0
    carve: bool = True
    fords: Annotated[tuple[Spot, ...], Field(max_length=16)] = ()
    in_hollow: Literal["pool", "cut"] | None = None


class PatchStream(Command):
    """What is to change of a stream; it is laid anew in any case."""

    do: Literal["patch_stream"] = "patch_stream"
    name: Name | None = None
    points: Annotated[tuple[Spot, ...], Field(min_length=1, max_length=MOST_POINTS)] | None = None
    width_m: Annotated[float, Field(ge=0.3, le=200)] | None = None
    depth_m: Annotated[float, Field(ge=0.05, le=20)] | None = None
    bank_deg: Annotated[float, Field(ge=5, le=80)] | None = None
    carve: bool | None = None
    fords: Annotated[tuple[Spot, ...], Field(max_length=16)] | None = None
    in_hollow: Literal["pool", "cut"] | None = None


class DropStream(Command):
    """Take a stream away: the land that it cut comes back."""

    do: Literal["drop_stream"] = "drop_stream"


def _land_of(world: OpenWorld, tract: str | None) -> Land:
    return world.land_from((world.first_tract if tract is None else world.tract(tract)).row.id)


def _wanted(world: OpenWorld, key: str, command: PutStream | PatchStream) -> Stream:
    """The stream that is asked for, without a course. Raises NotFound, Conflict where it runs on another land."""
    if isinstance(command, PutStream):
        tract = world.first_tract if command.tract is None else world.tract(command.tract)
        old = world.rows[STREAMS.name].get(key)
        if isinstance(old, Stream) and _land_of(world, old.tract).id != _land_of(world, tract.row.id).id:
            raise Conflict(f"{old.name} runs on another land: delete it there first")
        fields = command.model_dump(exclude={"do", "tract"})
        return Stream(**fields, tract=tract.row.id)
    was = world.row(STREAMS, key)
    own = said_of(command)
    own.pop("do", None)
    return Stream.model_validate({**was.model_dump(exclude=_DERIVED), **own})


_DERIVED = {"way", "course", "ends", "joins", "leaves", "cut_m3"}


def put_stream(world: OpenWorld, key: str, command: PutStream | PatchStream) -> tuple[Outcome, dict[str, Any]]:
    """Set or change a stream, in one revision; returns that, and what it came to.

    Raises InHollow, Conflict where it has no way to run, NotFound.
    """
    found: dict[str, Any] = {}
    plan = world.ahead(lambda: _planned(world, key, command))

    def begin() -> Sweep:
        land, network = plan()
        row = network.row or world.row(STREAMS, key)
        found.update(told(world, land, key, row))
        verb = "Changed" if key in world.rows[STREAMS.name] else "Put"
        words = f"{verb} the stream {row.name}"
        return stream_sweep(world, land, network, words, command)

    return world.sweep(begin), found


def _planned(world: OpenWorld, key: str, command: PutStream | PatchStream) -> tuple[Land, Network]:
    with world.lock:
        stream = _wanted(world, key, command)
        land = _land_of(world, stream.tract)
    return land, planned(world, land, key, stream)


def drop_stream(world: OpenWorld, key: str) -> Outcome:
    """Take a stream away. Streams that ran into it run on by themselves."""

    def without() -> tuple[Land, Network]:
        with world.lock:
            land = _land_of(world, world.row(STREAMS, key).tract)
        return land, planned(world, land, key, None)

    plan = world.ahead(without)

    def begin() -> Sweep:
        row = world.row(STREAMS, key)
        land, network = plan()
        network.streams[key] = None
        return stream_sweep(world, land, network, f"Deleted the stream {row.name}", DropStream())

    return world.sweep(begin)


def stream_sweep(world: OpenWorld, land: Land, network: Network, words: str, command: Command) -> Sweep:
    """The edit that a change of streams comes to: rows, and the ground around them."""
    apart = apart_of(world)
    # What is needed for something to be cut; a stream that only goes needs nothing.
    moves: Moves = dict(apart.moves(world, SHEET, SHEET_NAME)) if network.laid else {}
    moves |= {(STREAMS.name, k): row for k, row in network.streams.items()}
    moves |= {(POOLS.name, k): pool for k, pool in network.pools.items()}
    parts = {part.tract.row.id: part for part in land.parts}
    units: set[Unit] = {(tract.row.id, tile) for window in network.windows for tract, tile, _, _ in land.tiles(window)}

    def draw(draft: Draft, unit: Unit) -> None:
        part = parts[unit[0]]
        whole = part.tract.grid.tile_window(*unit[1]).shifted(part.row, part.col)

        def new(ground: FloatArray) -> FloatArray:
            bed = lowest_of(network.laid, whole, float(ground.max()))
            return ground if bed is None else np.minimum(ground, bed)

        apart.lay(draft, world, unit, SHEET, new)

    still = world.rests_on(*world.house.layers(HEIGHT).rests_on, STREAMS.name, POOLS.name, WATER.name)
    return Sweep(sorted(units), draw, lambda: Ended(words, said(command), moves), still)


def look_at(world: OpenWorld, key: str, command: PutStream | PatchStream) -> dict[str, Any]:
    """What a stream would come to, or is as it was; nothing is changed. Raises as `put_stream`."""
    land, network = _planned(world, key, command)
    with world.lock:
        return told(world, land, key, network.row or world.row(STREAMS, key))


class Fall(TypedDict):
    """Where water falls, and how far. [m]"""

    x: float
    y: float
    height_m: float


class StreamLaid(StreamTold):
    """A stream with its figures and its falls. [m]"""

    length_m: float
    fall_m: float
    width_at_end_m: float
    falls: list[Fall]


def told(world: OpenWorld, land: Land, key: str, row: Stream) -> Annotated[dict[str, Any], StreamLaid]:
    """A stream as the API tells it: where it runs and ends, how long it is and how far it falls, what it cut."""
    home = part_of(world, land, row.tract)
    one = laid(land, row, (home.x, home.y))
    course = one.course
    return {
        "key": key,
        **row.model_dump(mode="json", exclude={"way", "course"}),
        "length_m": round(float(course.along(one.spacing)[-1]), 2),
        "fall_m": round(float(course.surface[0] - course.surface[-1]), 3),
        "width_at_end_m": round(2 * float(course.half[-1]), 3),
        "course": [list(spot) for spot in row.course],
        "falls": [
            {"x": row.course[begin][0], "y": row.course[begin][1],
             "height_m": round(float(course.surface[begin] - course.surface[end]), 3)}
            for begin, end in falls_of(one)
        ],
    }  # fmt: skip
