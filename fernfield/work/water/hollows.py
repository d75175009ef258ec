"""Hollows of a land as a click finds them, the way down from a spot, and pools that are set in them."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import cv2
import numpy as np
from pydantic import Field
from typing_extensions import TypedDict

from fernfield.core.errors import Choice, Conflict, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.water.hollow import Brim, curve_of, nested
from fernfield.work.kernel.commands import Command, put
from fernfield.work.kernel.edits import Planned, plainly
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Change, Elevation, Key, Name, TractId
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import draw_ground
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.water.laying import part_of
from fernfield.work.water.network import Network, planned
from fernfield.work.water.rows import POOLS, Pool, Stream
from fernfield.work.water.running import (
    MOST_POSTS,
    down_to,
    heights_of,
    nearest_post,
    rising,
    way_down,
)
from fernfield.work.water.standing import pool_extent
from fernfield.work.water.streams import stream_sweep

LEAST_DEEP_M, LEAST_POSTS = 0.3, 12
"""Hollows inside of one that are shallower or smaller are not listed (our choice)."""
SHOWS_M = 0.05
"""A hollow that is shallower than this is none: water in it would not show (our choice)."""
RIM_M, RIM_POSTS = 0.3, 2
OUTLET_M = 2.0
"""A rim that is raised stands so much above the level, and so many posts wide."""


@dataclass(frozen=True)
class Hollow:
    """A hollow: the posts under its brim in a window of the land, and the brims around it, outward."""

    window: Window
    heights: FloatArray
    posts: np.ndarray
    floor: tuple[int, int]
    brim: Brim
    parents: list[tuple[Brim, np.ndarray]]

    @property
    def ground(self) -> FloatArray:
        return np.asarray(self.heights[self.posts[:, 0], self.posts[:, 1]])

    @property
    def floor_m(self) -> float:
        return float(self.heights[self.floor])


def hollow_around(world: OpenWorld, land: Land, x: float, y: float) -> Hollow:
    """The smallest hollow around a spot. Raises NotFound where water runs off the land without one."""
    land.need(x, y, "the spot")
    row, col = nearest_post(land, x, y)
    read = heights_of(world, land)
    around = rising(land, read, down_to(land, read, (row, col)))
    own = around.risen
    found: list[tuple[Brim, np.ndarray]] = []
    spot = row - around.window.row0, col - around.window.col0
    for brim in own.brims:
        posts = own.posts[: brim.count]
        posts = posts[around.heights[posts[:, 0], posts[:, 1]] < np.float32(brim.level)]
        holds = len(posts) and (
            found or bool(((posts == spot).all(axis=1)).any()) or around.heights[spot] == brim.level
        )
        if holds and brim.level - around.heights[posts[:, 0], posts[:, 1]].min() >= SHOWS_M:
            found.append((brim, posts))
    if not found:
        words = "there is no hollow around the spot: water runs off the land from here"
        if own.end != 0 and not own.brims:
            words = f"no hollow was found around the spot within {MOST_POSTS:,} posts"
        raise NotFound(words)
    brim, posts = found[0]
    lowest = posts[around.heights[posts[:, 0], posts[:, 1]].argmin()]
    return Hollow(around.window, around.heights, posts, (int(lowest[0]), int(lowest[1])), brim, found[1:])


def _place(land: Land, window: Window, post: tuple[int, int]) -> list[float]:
    return [land.grid.x_of(post[1] + window.col0), land.grid.y_of(post[0] + window.row0)]


class HollowInside(TypedDict):
    """A smaller hollow in one: where its floor lies, and its figures at its own brim. [m]"""

    floor: list[float]
    floor_m: float
    brim_m: float
    area_m2: float


class HollowAround(TypedDict):
    """The hollow that one becomes a part of when it runs over: where that spills, and its figures. [m]"""

    brim_m: float
    area_m2: float
    spill: list[float]


class HollowTold(TypedDict):
    """A hollow at its brim. `runs_to`: the way of what runs over; `curve`: level, area and volume, step by step. [m]"""

    floor_m: float
    floor: list[float]
    brim_m: float
    spill: list[float]
    runs_to: list[list[float]]
    area_m2: float
    volume_m3: float
    greatest_depth_m: float
    curve: list[list[float]]
    inside: list[HollowInside]
    parents: list[HollowAround]


class NoHollow(TypedDict):
    """Why there is no hollow."""

    none: str


def told(world: OpenWorld, land: Land, hollow: Hollow) -> HollowTold:
    """A hollow as the API tells it: its figures at the brim."""
    cell, brim = land.grid.spacing**2, hollow.brim
    curve = curve_of(hollow.ground, brim.level, cell)
    runs: list[list[float]] = []
    if brim.beyond is not None:
        to = _place(land, hollow.window, brim.beyond)
        runs = way_down(world, land, to[0], to[1])["line"]
    inside = nested(hollow.heights, hollow.posts, brim.level, LEAST_DEEP_M, LEAST_POSTS)
    return {
        "floor_m": hollow.floor_m, "floor": _place(land, hollow.window, hollow.floor), "brim_m": brim.level,
        "spill": _place(land, hollow.window, brim.spill), "runs_to": runs, "area_m2": len(hollow.posts) * cell,
        "volume_m3": float(curve.volumes[-1]), "greatest_depth_m": brim.level - hollow.floor_m,
        "curve": [list(line) for line in zip(curve.levels.tolist(), curve.areas.tolist(), curve.volumes.tolist(),
                                             strict=True)],
        "inside": [
            {"floor": _place(land, hollow.window, (one.row, one.col)), "floor_m": one.floor, "brim_m": one.brim,
             "area_m2": one.posts * cell} for one in inside
        ],
        "parents": [
            {"brim_m": brim.level, "area_m2": len(posts) * cell, "spill": _place(land, hollow.window, brim.spill)}
            for brim, posts in hollow.parents
        ],
    }  # fmt: skip


class PutPool(Command):
    """Set a pool where a hollow is: by its level, its greatest depth, or a share of the way from floor to brim.

    `above_brim` says what is done when it would stand above the brim: it floods what lies beyond, the rim is raised, or
    an outlet is dug: then it stands to the brim, and a stream leads away what is more.
    """

    do: Literal["put_pool"] = "put_pool"
    name: Name
    tract: TractId | None = None
    x: Annotated[float, Field(ge=-1e6, le=1e6)]
    y: Annotated[float, Field(ge=-1e6, le=1e6)]
    level_m: Elevation | None = None
    depth_m: Annotated[float | None, Field(gt=0, le=10_000)] = None
    share_of_brim: Annotated[float | None, Field(ge=0, le=1)] = None
    liquid: Key = "water"
    plot: Key | None = None
    above_brim: Literal["flood", "raise_rim", "dig_outlet"] | None = None


class AboveBrim(Choice):
    """The pool would stand above its brim; `more["choices"]` says what each way out comes to."""


def put_pool(world: OpenWorld, key: str, command: PutPool) -> Outcome:
    """One revision: the pool, and the rim where it is raised. Raises AboveBrim, InvalidInput, NotFound."""
    if sum(value is not None for value in (command.level_m, command.depth_m, command.share_of_brim)) != 1:
        raise InvalidInput("say one of level_m, depth_m and share_of_brim", "level_m")
    with world.lock:
        found = _planned(world, key, command)
        if isinstance(found, Pool):
            return world.edit(put(POOLS, key, found))
    if isinstance(found, Outlet):

        def digs() -> Sweep:
            again = _planned(world, key, command)
            if not isinstance(again, Outlet):
                raise Conflict("the ground has changed meanwhile: there is no outlet to be dug any more")
            network = again.network(world, key)
            network.pools[key] = again.pool
            words = f"Put the pool {again.pool.name}, and dug its outlet"
            return stream_sweep(world, again.land, network, words, command)

        return world.sweep(digs)
    land, held, window, raised = found

    def new(part: Window, was: FloatArray) -> FloatArray:
        rows = slice(part.row0 - window.row0, part.row1 - window.row0)
        return np.asarray(np.maximum(was, raised[rows, part.col0 - window.col0 : part.col1 - window.col0]), np.float32)

    def begin() -> Sweep:
        look = Planned(world)
        moves = plainly(POOLS, Change(key, look.get(POOLS, key), held)).moves
        words = f"Put the pool {held.name}, and raised its rim"
        return draw_ground(world, land, window, None, new, lambda: Ended(words, command.model_dump_json(), moves))

    # Without the lock: the world is looked at meanwhile.
    return world.sweep(begin)


Rim = tuple[Land, Pool, Window, FloatArray]


@dataclass(frozen=True)
class Outlet:
    """A pool that stands to its outermost brim, and where water leaves it: the post that it runs over, and the next."""

    land: Land
    pool: Pool
    spill: tuple[float, float]
    beyond: tuple[float, float]

    def network(self, world: OpenWorld, key: str) -> Network:
        """The outlet as a stream. Hold the world's lock. Raises Conflict where it has no way to run."""
        home = part_of(world, self.land, self.pool.tract)
        points = tuple((x - home.x, y - home.y) for x, y in (self.spill, self.beyond))
        stream = Stream(name=f"Outlet of {self.pool.name}"[:60], points=points, width_m=OUTLET_M, in_hollow="cut",
                        tract=self.pool.tract)  # fmt: skip
        return planned(world, self.land, f"{key}-outlet"[:40], stream)


def _outlet(land: Land, hollow: Hollow | None, pool: Pool) -> Outlet | None:
    """None where water runs off the land at once, or there is no hollow."""
    if hollow is None:
        return None
    brim = hollow.parents[-1][0] if hollow.parents else hollow.brim
    if brim.beyond is None:
        return None
    spill, beyond = _place(land, hollow.window, brim.spill), _place(land, hollow.window, brim.beyond)
    held = pool.model_copy(update={"level_m": brim.level, "runs_over": False})
    return Outlet(land, held, (spill[0], spill[1]), (beyond[0], beyond[1]))


def _planned(world: OpenWorld, key: str, command: PutPool) -> Pool | Rim | Outlet:
    """The pool that is meant, or, where its rim is to be raised or its outlet dug, what that comes to. Raises as
    `put_pool`."""
    tract = world.first_tract if command.tract is None else world.tract(command.tract)
    land = world.land_from(tract.row.id)
    land.need(command.x, command.y, "the pool")
    try:
        hollow = hollow_around(world, land, command.x, command.y)
    except NotFound:
        hollow = None
    floor = land.elevation(command.x, command.y) if hollow is None else hollow.floor_m
    level = _level_of(command, hollow, floor)
    if level <= floor:
        raise InvalidInput(f"the level must be above the floor at {floor:.2f} m, not {level:g}", "level_m")
    at = (command.x, command.y) if hollow is None else tuple(_place(land, hollow.window, hollow.floor))
    home = land.part_at(at[0], at[1]) or land.parts[0]
    brims = [] if hollow is None else [hollow.brim.level, *(brim.level for brim, _ in hollow.parents)]
    above = not brims or level > max(brims)
    pool = Pool(name=command.name, x=at[0] - home.x, y=at[1] - home.y, level_m=level, liquid=command.liquid,
                plot=command.plot, runs_over=above, tract=home.tract.row.id)  # fmt: skip
    if command.plot is not None or not above or command.above_brim == "flood":
        return pool
    rim, outlet = None if hollow is None else _rim(land, hollow, level), _outlet(land, hollow, pool)
    if command.above_brim is None:
        raise _asked(world, land, key, pool, max(brims, default=floor), rim, outlet)
    if command.above_brim == "dig_outlet":
        if outlet is None:
            raise Conflict(
                "there is no outlet to be dug: no hollow lies around the spot, or water leaves the land there"
            )
        return outlet
    if rim is None:
        raise Conflict("there is no rim to be raised: no hollow lies around the spot")
    return land, pool.model_copy(update={"runs_over": False}), *rim


class FillHollow(Command):
    """Raise the ground of the smallest hollow around a spot to its brim."""

    do: Literal["fill_hollow"] = "fill_hollow"
    x: Annotated[float, Field(ge=-1e6, le=1e6)]
    y: Annotated[float, Field(ge=-1e6, le=1e6)]


def fill_hollow(world: OpenWorld, land: Land, command: FillHollow) -> Outcome:
    """One revision. Raises NotFound where there is no hollow."""

    def begin() -> Sweep:
        hollow = hollow_around(world, land, command.x, command.y)
        level = np.float32(hollow.brim.level)
        inside = np.zeros(hollow.heights.shape, bool)
        inside[hollow.posts[:, 0], hollow.posts[:, 1]] = True

        def new(part: Window, was: FloatArray) -> FloatArray:
            here = inside[part.inside(hollow.window)]
            return np.asarray(np.where(here, np.maximum(was, level), was), np.float32)

        words = f"Filled a hollow {hollow.brim.level - hollow.floor_m:.2f} m deep to its brim"
        return draw_ground(world, land, hollow.window, None, new, lambda: Ended(words, said(command), {}))

    return world.sweep(begin)


def _level_of(command: PutPool, hollow: Hollow | None, floor: float) -> float:
    if command.level_m is not None:
        return command.level_m
    if command.depth_m is not None:
        return floor + command.depth_m
    if hollow is None:
        raise InvalidInput(
            "there is no hollow around the spot, so there is no brim: say level_m or depth_m", "share_of_brim"
        )
    return floor + (command.share_of_brim or 0.0) * (hollow.brim.level - floor)


def _rim(land: Land, hollow: Hollow, level: float) -> tuple[Window, FloatArray]:
    """The ground that holds the outermost brim at a level: a ring around the hollow, as high as it must be. [m]"""
    posts = hollow.parents[-1][1] if hollow.parents else hollow.posts
    pad = RIM_POSTS + 2
    inside = np.pad(np.zeros(hollow.heights.shape, np.uint8), pad)
    inside[posts[:, 0] + pad, posts[:, 1] + pad] = 1
    ring = cv2.dilate(inside, np.ones((2 * RIM_POSTS + 1,) * 2, np.uint8)) - inside
    window = hollow.window.pad(pad)
    part = land.clip(window)
    rows, cols = (
        slice(part.row0 - window.row0, part.row1 - window.row0),
        slice(part.col0 - window.col0, part.col1 - window.col0),
    )
    raised = np.where(ring > 0, np.float32(level + RIM_M), np.float32(-1e9))[rows, cols]
    return part, np.ascontiguousarray(raised)


def _asked(
    world: OpenWorld, land: Land, key: str, pool: Pool, brim: float, rim: tuple[Window, FloatArray] | None,
    outlet: Outlet | None,
) -> AboveBrim:  # fmt: skip
    """What each way out comes to."""
    cell = land.grid.spacing**2
    flooded = pool_extent(world, land, f"?{key}", pool)
    choices: dict[str, Any] = {
        "flood": {"area_m2": int(flooded.wet.sum()) * cell, "runs_off": flooded.runs_off or flooded.too_large}
    }
    if rim is not None:
        window, raised = rim
        fill = float(np.maximum(raised - land.read(HEIGHT, window), 0).sum(dtype=np.float64)) * cell
        choices["raise_rim"] = {"fill_m3": round(fill, 2)}
    if outlet is not None:
        with suppress(Conflict):
            row = outlet.network(world, key).streams[f"{key}-outlet"[:40]]
            if row is not None:
                choices["dig_outlet"] = {"level_m": outlet.pool.level_m, "cut_m3": row.cut_m3, "ends": row.ends}
    words = f"{pool.name} at {pool.level_m:g} m would stand above its brim at {brim:.2f} m: say above_brim, one of " + (
        ", ".join(choices)
    )
    return AboveBrim(words, {"choices": choices})
