"""The Water stage: hollows, pools, the way down, where water stands, how the land drains."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import Query, Response
from pydantic import Field

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import FloatArray
from fernfield.core.water.liquids import LIQUIDS
from fernfield.web.kernel.panels import Asked, Panel
from fernfield.web.kernel.parts import Keyed, TheLand, TheWorld, keyed_json
from fernfield.web.kernel.routing import Router
from fernfield.web.kernel.rows import Metres
from fernfield.web.kernel.windows import TheWindow
from fernfield.work.kernel.commands import Command, Patch, Remove, said_of
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.places import from_world
from fernfield.work.kernel.rows import Elevation, Key, Name, TractId
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.ledger import Edited
from fernfield.work.plots.rows import PLOTS
from fernfield.work.water.draining import HollowListed, What, drainage_of, flood_of, flood_told, hollows_of, stands_to
from fernfield.work.water.hollows import (
    FillHollow,
    HollowTold,
    NoHollow,
    PutPool,
    fill_hollow,
    hollow_around,
    put_pool,
    told,
)
from fernfield.work.water.rows import (
    DRY_M,
    POOLS,
    STREAMS,
    WATER,
    OwnLiquid,
    Pool,
    PoolTold,
    Stream,
    StreamTold,
    Tide,
    Water,
    tide_level,
)
from fernfield.work.water.running import WayTold, way_down
from fernfield.work.water.standing import sea_over, standing
from fernfield.work.water.streams import PatchStream, PutStream, StreamLaid, drop_stream, look_at, put_stream

router = Router(prefix="/api", tags=["water"])

Place = Annotated[float, Query(ge=-1e6, le=1e6)]
MOST_POSTS = 4_097 * 1_025
Step = Annotated[int, Query(ge=1, le=1024)]


class Spot(Command):
    x: Annotated[float, Field(ge=-1e6, le=1e6)]
    y: Annotated[float, Field(ge=-1e6, le=1e6)]


class PoolPatch(Command):
    """What is to change of a pool; a level, a depth or a share sets it anew where it lies."""

    name: Name | None = None
    tract: TractId | None = None
    x: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    y: Annotated[float, Field(ge=-1e6, le=1e6)] | None = None
    level_m: Elevation | None = None
    depth_m: Annotated[float, Field(gt=0, le=10_000)] | None = None
    share_of_brim: Annotated[float, Field(ge=0, le=1)] | None = None
    liquid: Key | None = None
    plot: Key | None = None
    above_brim: Annotated[str, Field(pattern="^(flood|raise_rim|dig_outlet)$")] | None = None


@router.get("/tracts/{tract}/hollow")
@router.get("/lands/{tract}/hollow")
def hollow(
    land: TheLand, x: Place, y: Place,
    or_none: Annotated[bool, Query(description="200 with `none`, in words, in the place of 404")] = False,
) -> HollowTold | NoHollow:  # fmt: skip
    """The smallest hollow around a spot, with its figures at the brim; the land's edge is an outlet.

    404 where water runs off the land without one.
    """
    try:
        return told(*land, hollow_around(*land, x, y))
    except NotFound as error:
        if or_none:
            return {"none": str(error)}
        raise


@router.post("/tracts/{tract}/way-down")
@router.post("/lands/{tract}/way-down")
def way(spot: Spot, land: TheLand) -> WayTold:
    """The way of water from a spot, and where it ends: "sea", "pool", "hollow" or "edge"."""
    return way_down(*land, spot.x, spot.y)


@router.get("/tracts/{tract}/hollows")
@router.get("/lands/{tract}/hollows")
def hollows(
    land: TheLand,
    least_m2: Annotated[float, Query(ge=0, le=1e9)] = 100.0,
    least_deep_m: Annotated[float, Query(ge=0, le=1_000)] = 0.5,
) -> list[HollowListed]:
    """The hollows of a land that are larger and deeper than said, the largest first; at most 200."""
    return hollows_of(*land, least_m2, least_deep_m)


@router.get("/tracts/{tract}/water", response_class=Response)
@router.get("/lands/{tract}/water", response_class=Response)
def water(
    land: TheLand, window: TheWindow, step: Step = 1,
    only: Annotated[
        Literal["all", "standing", "sea"], Query(description="`standing`: sea and pools without streams")
    ] = "all",
    tide: Annotated[Tide | None, Query(description="as if the sea stood as high as then")] = None,
    sea_level_m: Annotated[Elevation | None, Query(description="as if the sea stood there")] = None,
) -> Response:  # fmt: skip
    """The elevation of the water's surface at every `step`-th post as little-endian float32, NaN where it is dry."""
    world, seen = land
    rows, cols = -(-window.rows // step), -(-window.cols // step)
    if rows * cols > MOST_POSTS:
        raise InvalidInput(f"at most {MOST_POSTS} posts can be asked for at once, not {rows * cols}", "step")
    with world.lock:
        if sea_level_m is not None and tide is not None:
            raise InvalidInput("sea_level_m or tide: not both", "tide")
        sea = sea_level_m if sea_level_m is not None else tide_level(world, tide)
        if only == "sea":
            surface = sea_over(world, seen, window, step, sea)
        elif only == "standing":
            surface = standing(world, seen, window, step, sea_m=sea)
        else:
            surface = world.surface(seen, window, step, sea_m=sea)
        ground = np.asarray(seen.seen(HEIGHT, window, step), np.float32)[:rows, :cols]
    found = np.where((surface > ground) & (surface > DRY_M), surface, np.float32(np.nan))
    return Response(found.astype("<f4").tobytes(), media_type="application/octet-stream",
                    headers={"X-Shape": f"{rows},{cols}"})  # fmt: skip


@router.get("/tracts/{tract}/drainage", response_class=Response)
@router.get("/lands/{tract}/drainage", response_class=Response)
def drainage(land: TheLand, what: What, window: TheWindow, step: Step = 1) -> Response:
    """How the land drains, at every `step`-th post, as little-endian float32.

    `catchment_m2`; `direction`, 0 north, 1 north-east and on clockwise, 8 off the land; `wetness` (Beven and Kirkby);
    `order`, Strahler's, 0 where no stream is.
    """
    rows, cols = -(-window.rows // step), -(-window.cols // step)
    if rows * cols > MOST_POSTS:
        raise InvalidInput(f"at most {MOST_POSTS} posts can be asked for at once, not {rows * cols}", "step")
    found = drainage_of(*land, what, window, step)
    return Response(found.astype("<f4").tobytes(), media_type="application/octet-stream",
                    headers={"X-Shape": f"{rows},{cols}"})  # fmt: skip


@router.post("/tracts/{tract}/hollow/fill")
@router.post("/lands/{tract}/hollow/fill")
def fill(spot: Spot, land: TheLand) -> Edited:
    """Raise the ground of the smallest hollow around a spot to its brim."""
    return fill_hollow(*land, FillHollow(x=spot.x, y=spot.y)).public()


@router.get("/tracts/{tract}/flood", response_class=Response)
@router.get("/lands/{tract}/flood", response_class=Response)
def flood(
    land: TheLand, window: TheWindow, step: Step = 1,
    rain_mm: Annotated[float, Query(ge=0, le=10_000)] = 0.0,
    x: Annotated[float | None, Query(ge=-1e6, le=1e6)] = None,
    y: Annotated[float | None, Query(ge=-1e6, le=1e6)] = None,
    volume_m3: Annotated[float, Query(ge=0, le=1e12)] = 0.0,
    level_m: Annotated[Elevation | None, Query(description="of a pool at (x, y), in the place of rain")] = None,
    plot: Annotated[Key | None, Query(description="to which such a pool is kept")] = None,
    runs_over: Annotated[bool, Query(description="whether such a pool runs over its brim")] = False,
) -> Response:  # fmt: skip
    """How deep water stands at every `step`-th post after rain on all of the land, after so much from a spring at
    (x, y), or with a pool there up to a level, as little-endian float32; 0 where it is dry. Nothing is changed.

    `X-Shape`: rows and columns; `X-Flood`: JSON with `stands_m3`, `area_m2`, `deepest_m` of the land, and how much runs
    off it, `runs_off_m3`; of a pool whether it does, `runs_off`.
    """
    rows, cols = -(-window.rows // step), -(-window.cols // step)
    if rows * cols > MOST_POSTS:
        raise InvalidInput(f"at most {MOST_POSTS} posts can be asked for at once, not {rows * cols}", "step")
    if (x is None) != (y is None):
        raise InvalidInput("x and y go together: say both, or neither", "x")
    world, seen = land
    if x is not None and y is not None:
        seen.need(x, y, "the spring")
    spring = None if x is None or y is None else (x, y)
    if level_m is not None:
        if spring is None:
            raise InvalidInput("level_m is that of a pool: say x and y", "x")
        if rain_mm or volume_m3:
            raise InvalidInput("a pool up to level_m, or rain_mm and volume_m3: not both", "level_m")
        if plot is not None:
            world.row(PLOTS, plot)
        home = seen.part_at(*spring) or seen.parts[0]
        pool = Pool(name="?", x=spring[0] - home.x, y=spring[1] - home.y, level_m=level_m, plot=plot,
                    runs_over=runs_over, tract=home.tract.row.id)  # fmt: skip
        deep, told_of = stands_to(world, seen, pool, window, step)
        return _depths(deep, told_of)
    if plot is not None or runs_over:
        raise InvalidInput("plot and runs_over are those of a pool: say its level_m", "level_m")
    found, flooded = flood_of(world, seen, rain_mm / 1_000, spring, volume_m3)
    return _depths(found.at(flooded.depth, window, step), flood_told(found, flooded))


def _depths(deep: FloatArray, told_of: dict[str, Any]) -> Response:
    return Response(deep.astype("<f4").tobytes(), media_type="application/octet-stream", headers={
        "X-Shape": f"{deep.shape[0]},{deep.shape[1]}", "X-Flood": json.dumps(told_of),
    })  # fmt: skip


@router.get("/worlds/{world}/pools", tags=["pools"])
def pools(world: TheWorld) -> Annotated[list[dict[str, Any]], list[PoolTold]]:
    """All pools of a world."""
    with world.lock:
        return world.told(POOLS)


@router.put("/worlds/{world}/pools/{key}", tags=["pools"])
def put(key: Key, command: PutPool, world: TheWorld, within: Metres = "tract") -> Keyed:
    """Set a pool. 409 with the `choices` where it would stand above its brim, unless `above_brim` says what to do."""
    if within == "world":
        with world.lock:
            command = PutPool.model_validate(from_world(world, POOLS, key, said_of(command)))
    return keyed_json(key, put_pool(world, key, command))


@router.patch("/worlds/{world}/pools/{key}", tags=["pools"])
def patch(key: Key, said: PoolPatch, world: TheWorld) -> Keyed:
    """Change a pool; a level that is said is looked at as when it is set first."""
    own = said_of(said)
    with world.lock:
        pool = world.row(POOLS, key)
        if not {"level_m", "depth_m", "share_of_brim", "x", "y", "tract"} & own.keys():
            own.pop("above_brim", None)
            return keyed_json(key, world.edit(Patch(collection=POOLS.name, key=key, row=own)))
        kept = pool.model_dump(include={"name", "x", "y", "liquid", "plot", "tract"})
        level = {} if {"level_m", "depth_m", "share_of_brim"} & own.keys() else {"level_m": pool.level_m}
    return put(key, PutPool.model_validate({**kept, **level, **own}), world)


class StreamSet(StreamLaid):
    """A stream that was set, and what its edit came to: see `Edited`."""

    id: str
    revision: int
    window: list[int]
    fill_m3: float
    words: str


ALaidStream = Annotated[dict[str, Any], StreamSet]


@router.get("/worlds/{world}/streams", tags=["streams"])
def streams(world: TheWorld) -> Annotated[list[dict[str, Any]], list[StreamTold]]:
    """All streams of a world."""
    with world.lock:
        return world.told(STREAMS)


def _in_its_tract(world: OpenWorld, key: str, command: PutStream) -> PutStream:
    """A stream that was said in the world's metres, in those of the tract where it lies."""
    with world.lock:
        return PutStream.model_validate(from_world(world, STREAMS, key, said_of(command)))


@router.post("/worlds/{world}/streams/{key}/look", tags=["streams"])
def look(
    key: Key, command: PutStream, world: TheWorld, within: Metres = "tract"
) -> Annotated[dict[str, Any], StreamLaid]:
    """What a stream would come to: its course, what it ends in, what it cuts. Nothing is changed."""
    return look_at(world, key, _in_its_tract(world, key, command) if within == "world" else command)


@router.put("/worlds/{world}/streams/{key}", tags=["streams"])
def set_stream(key: Key, command: PutStream, world: TheWorld, within: Metres = "tract") -> ALaidStream:
    """Set a stream. 409 with the `choices` where its way ends in a hollow, unless `in_hollow` says what to do."""
    outcome, found = put_stream(world, key, _in_its_tract(world, key, command) if within == "world" else command)
    return {**keyed_json(key, outcome), **found}


@router.patch("/worlds/{world}/streams/{key}", tags=["streams"])
def change_stream(key: Key, command: PatchStream, world: TheWorld) -> ALaidStream:
    """Change a stream, or lay it anew as it is; what it cut before comes back first."""
    outcome, found = put_stream(world, key, command)
    return {**keyed_json(key, outcome), **found}


@router.post("/worlds/{world}/streams/{key}/relay", tags=["streams"])
def relay(key: Key, world: TheWorld) -> ALaidStream:
    """Lay a stream anew, as it was asked for, on the ground as it is now."""
    outcome, found = put_stream(world, key, PatchStream())
    return {**keyed_json(key, outcome), **found}


@router.delete("/worlds/{world}/streams/{key}", tags=["streams"])
def remove_stream(key: Key, world: TheWorld) -> Keyed:
    """Take a stream away; the land that it cut comes back."""
    return keyed_json(key, drop_stream(world, key))


@router.delete("/worlds/{world}/pools/{key}", tags=["pools"])
def remove(key: Key, world: TheWorld) -> Keyed:
    """Let a pool run dry."""
    return keyed_json(key, world.edit(Remove(collection=POOLS.name, key=key)))


def _context(asked: Asked) -> dict[str, Any]:
    return {"Water": Water, "water": asked.world.only(WATER), "Pool": Pool, "Stream": Stream,
            "OwnLiquid": OwnLiquid, "liquids": LIQUIDS}  # fmt: skip


PANEL = Panel("water", _context, script=True)
