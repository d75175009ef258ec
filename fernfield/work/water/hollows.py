"""Hollows of a land as a click finds them, the way down from a spot, and pools that are set in them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Annotated, Any, Literal

import cv2
import numpy as np
from pydantic import Field

from fernfield.core.errors import Choice, Conflict, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.water.drainage import DC, DR
from fernfield.core.water.hollow import CUT_OFF, Brim, Risen, curve_of, nested, rise
from fernfield.work.kernel.commands import Command, put
from fernfield.work.kernel.edits import Planned, plainly
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Change, Elevation, Key, Name, TractId
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.drawing import draw_ground
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.kernel.writing.sweep import Sweep
from fernfield.work.water.rows import POOLS, LiquidName, Pool
from fernfield.work.water.standing import Extent, pool_extent, pools_of, sea_over

FIRST_POSTS, MOST_POSTS = 128, 1_100_000
"""Hollows are looked for this far around a spot first, and on so many posts at most."""
LEAST_DEEP_M, LEAST_POSTS = 0.3, 12
"""Hollows inside of one that are shallower or smaller are not listed (our choice)."""
SHOWS_M = 0.05
"""A hollow that is shallower than this is none: water in it would not show (our choice)."""
SHALLOW_M = 0.25
"""The way down goes over brims that are less than this above their floor."""
LONGEST_WAY = 60_000
RIM_M, RIM_POSTS = 0.3, 2
"""A rim that is raised stands so much above the level, and so many posts wide."""


@dataclass(frozen=True)
class Around:
    """A window of a land in which water rose from a post."""

    window: Window
    heights: FloatArray
    risen: Risen


def _rising(world: OpenWorld, land: Land, row: int, col: int, *, first_only: bool = False) -> Around:
    """Water rises from a post to its first brim, or until it runs off the land or further than is looked at.

    The world is held only while its heights are read.
    """
    bounds, around = land.bounds, FIRST_POSTS
    while True:
        window = land.clip(Window(row, col, row + 1, col + 1).pad(around))
        with world.lock:
            heights = np.array(land.read(HEIGHT, window), np.float32)
        void = land.void(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1))
        edges = (window.row0 == bounds.row0, window.row1 == bounds.row1, window.col0 == bounds.col0,
                 window.col1 == bounds.col1)  # fmt: skip
        closed = None if void is None else void.astype(np.uint8)
        found = rise(heights, row - window.row0, col - window.col0, edges, MOST_POSTS, closed, first_only)
        if found.end != CUT_OFF or window.rows * window.cols > 4 * MOST_POSTS:
            return Around(window, heights, found)
        around *= 2


def _lowest(land: Land, row: int, col: int) -> tuple[int, int]:
    """Down the steepest way to a post that has none lower beside it."""
    at = row, col
    while (lower := _steepest(land, at)) is not None:
        at = lower
    return at


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
    with world.lock:
        row = min(max(round(land.grid.row_of(y)), land.bounds.row0), land.bounds.row1 - 1)
        col = min(max(round(land.grid.col_of(x)), land.bounds.col0), land.bounds.col1 - 1)
        lowest = _lowest(land, row, col)
    around = _rising(world, land, *lowest)
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
        if own.end != 0:
            words = f"no hollow was found around the spot within {MOST_POSTS:,} posts"
        raise NotFound(words)
    brim, posts = found[0]
    lowest = posts[around.heights[posts[:, 0], posts[:, 1]].argmin()]
    return Hollow(around.window, around.heights, posts, (int(lowest[0]), int(lowest[1])), brim, found[1:])


def _place(land: Land, window: Window, post: tuple[int, int] | None) -> list[float] | None:
    if post is None:
        return None
    return [land.grid.x_of(post[1] + window.col0), land.grid.y_of(post[0] + window.row0)]


def told(world: OpenWorld, land: Land, hollow: Hollow) -> dict[str, Any]:
    """A hollow as the API tells it: its figures at the brim."""
    cell, brim = land.grid.spacing**2, hollow.brim
    curve = curve_of(hollow.ground, brim.level, cell)
    runs: list[list[float]] = []
    if brim.beyond is not None:
        to = _place(land, hollow.window, brim.beyond)
        assert to is not None
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


def way_down(world: OpenWorld, land: Land, x: float, y: float) -> dict[str, Any]:
    """The way of water from a spot: the steepest, over shallow brims, to the sea, a pool, a hollow or the edge."""
    land.need(x, y, "the spot")
    grid, bounds = land.grid, land.bounds
    row = min(max(round(grid.row_of(y)), bounds.row0), bounds.row1 - 1)
    col = min(max(round(grid.col_of(x)), bounds.col0), bounds.col1 - 1)
    with world.lock:
        pools = [pool_extent(world, land, key, pool) for key, pool in pools_of(world, land)]
    way, ends = [(row, col)], ""
    while not ends and len(way) < LONGEST_WAY:
        with world.lock:
            ends = _fallen(world, land, pools, way)
        if ends:
            break
        around = _rising(world, land, *way[-1], first_only=True)
        first = around.risen.brims[0] if around.risen.brims else None
        floor = float(around.heights[way[-1][0] - around.window.row0, way[-1][1] - around.window.col0])
        if first is None or first.level - floor > SHALLOW_M:
            ends = "hollow"
        else:
            over = _over(around, first)
            way += [(r + around.window.row0, c + around.window.col0) for r, c in over]
            if first.beyond is None:
                ends = "edge"
    line = [[grid.x_of(c), grid.y_of(r)] for r, c in way]
    return {"line": _thinned(line), "ends": ends or "hollow"}


def _fallen(world: OpenWorld, land: Land, pools: list[Extent], way: list[tuple[int, int]]) -> str:
    """Lengthens a way down to the next post that has none lower beside it; where the way ends before, in what."""
    while len(way) < LONGEST_WAY:
        if ends := _end_at(world, land, pools, way[-1]):
            return ends
        if (lower := _steepest(land, way[-1])) is None:
            return ""
        way.append(lower)
    return ""


def _end_at(world: OpenWorld, land: Land, pools: list[Extent], post: tuple[int, int]) -> str:
    window = Window(post[0], post[1], post[0] + 1, post[1] + 1)
    if sea_over(world, land, window)[0, 0] > land.read(HEIGHT, window)[0, 0]:
        return "sea"
    for extent in pools:
        r, c = post[0] - extent.window.row0, post[1] - extent.window.col0
        if 0 <= r < extent.wet.shape[0] and 0 <= c < extent.wet.shape[1] and extent.wet[r, c]:
            return "pool"
    return ""


def _steepest(land: Land, post: tuple[int, int]) -> tuple[int, int] | None:
    """The steepest of the eight posts around one; None where none is lower."""
    window = land.clip(Window(post[0], post[1], post[0] + 1, post[1] + 1).pad(1))
    heights = land.read(HEIGHT, window)
    r, c = post[0] - window.row0, post[1] - window.col0
    best, most = None, 0.0
    for dr, dc in zip(DR.tolist(), DC.tolist(), strict=True):
        p, q = r + dr, c + dc
        if 0 <= p < heights.shape[0] and 0 <= q < heights.shape[1]:
            fall = float(heights[r, c] - heights[p, q]) / (math.sqrt(2) if dr and dc else 1.0)
            if fall > most:
                best, most = (post[0] + dr, post[1] + dc), fall
    return best


def _over(around: Around, brim: Brim) -> list[tuple[int, int]]:
    """The way that the water took from the floor to a brim and over it."""
    cols = around.heights.shape[1]
    order = {int(r) * cols + int(c): at for at, (r, c) in enumerate(around.risen.posts[: brim.count])}
    at, back = brim.spill[0] * cols + brim.spill[1], []
    while at >= 0 and at in order:
        back.append((at // cols, at % cols))
        at = int(around.risen.came[order[at]])
    way = back[::-1][1:]
    return [*way, brim.beyond] if brim.beyond is not None else way or [brim.spill]


def _thinned(line: list[list[float]]) -> list[list[float]]:
    """Without the points that lie straight between their neighbours."""
    out = line[:1]
    for before, at, after in zip(line, line[1:], line[2:], strict=False):
        ahead = (after[0] - at[0], after[1] - at[1])
        if (at[0] - before[0], at[1] - before[1]) != ahead:
            out.append(at)
    return out + line[-1:] if len(line) > 1 else out


class PutPool(Command):
    """Set a pool where a hollow is: by its level, its greatest depth, or a share of the way from floor to brim.

    `above_brim` says what is done when it would stand above the brim: it floods what lies beyond, or the rim is raised.
    """

    do: Literal["put_pool"] = "put_pool"
    name: Name
    tract: TractId | None = None
    x: Annotated[float, Field(ge=-1e6, le=1e6)]
    y: Annotated[float, Field(ge=-1e6, le=1e6)]
    level_m: Elevation | None = None
    depth_m: Annotated[float | None, Field(gt=0, le=10_000)] = None
    share_of_brim: Annotated[float | None, Field(ge=0, le=1)] = None
    liquid: LiquidName = "water"
    plot: Key | None = None
    above_brim: Literal["flood", "raise_rim"] | None = None


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


def _planned(world: OpenWorld, key: str, command: PutPool) -> Pool | Rim:
    """The pool that is meant, or, where its rim is to be raised, the ground for that. Raises as `put_pool`."""
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
    at = (command.x, command.y) if hollow is None else tuple(_place(land, hollow.window, hollow.floor) or ())
    home = land.part_at(at[0], at[1]) or land.parts[0]
    brims = [] if hollow is None else [hollow.brim.level, *(brim.level for brim, _ in hollow.parents)]
    above = not brims or level > max(brims)
    pool = Pool(name=command.name, x=at[0] - home.x, y=at[1] - home.y, level_m=level, liquid=command.liquid,
                plot=command.plot, runs_over=above, tract=home.tract.row.id)  # fmt: skip
    if command.plot is not None or not above or command.above_brim == "flood":
        return pool
    rim = None if hollow is None else _rim(land, hollow, level)
    if command.above_brim is None:
        raise _asked(world, land, key, pool, max(brims, default=floor), rim)
    if rim is None:
        raise Conflict("there is no rim to be raised: no hollow lies around the spot")
    return land, pool.model_copy(update={"runs_over": False}), *rim


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
    world: OpenWorld, land: Land, key: str, pool: Pool, brim: float, rim: tuple[Window, FloatArray] | None
) -> AboveBrim:
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
    words = f"{pool.name} at {pool.level_m:g} m would stand above its brim at {brim:.2f} m: say above_brim, one of " + (
        ", ".join(choices)
    )
    return AboveBrim(words, {"choices": choices})
