"""Pieces as they stand: their feet on the ground, on water or on each other; in a walker's way; as checks see them."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.checks.finding import Hole, Standing
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.openings import HOLE, OPENING
from fernfield.core.light.relief import slope_degrees
from fernfield.core.sites.kit import Entry, Solid
from fernfield.core.sites.placing import Outlines, Pose, ends_of, footprint_of, holds_any, laid, outlines_of
from fernfield.core.sites.walls import Gap, along_wall, length_of
from fernfield.core.travel.walker import Obstacle
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Begins, Shines
from fernfield.work.kernel.rows import Moves
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.assemblies import ASSEMBLIES, MOST_NESTED, Assembly
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import (
    THINGS,
    WALL_MARK,
    Assembled,
    MemberTold,
    Piece,
    Start,
    Thing,
    Wall,
    facing_of,
    things_of,
)

NOT_STOOD_ON_M = 3.0
"""So high over the top of what nobody can stand on its blocking goes on."""
MOST_ON = 12
"""So many things stand on each other at most."""

Box = tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Stood:
    """A piece as it stands, alone or as a member of an assembly: the key of the thing that it is of, its number there,
    its entry and pose in the land's metres, and how it looks."""

    key: str
    number: int
    thing: Thing
    entry: Entry
    pose: Pose
    look: str | None
    tint: str | None

    @property
    def top(self) -> float:
        """The elevation of its highest point. [m]"""
        return self.pose.z + self.entry.size[2] * self.pose.size


@dataclass(frozen=True, slots=True)
class Asked:
    """A piece before it stands: where its foot is, so high over the ground there (or over the piece `on`)."""

    key: str
    number: int
    thing: Thing
    entry: Entry
    x: float
    y: float
    over: float
    turn_deg: float
    tilt_deg: float = 0.0
    size: float = 1.0
    look: str | None = None
    tint: str | None = None
    on: str | None = None
    deck: Deck | None = None


@dataclass(frozen=True, slots=True)
class Deck:
    """The two ends of a deck, how long it is [m], and how far along it a piece of it lies, 0 to 1."""

    x0: float
    y0: float
    x1: float
    y1: float
    length: float
    part: float


NONE: Moves = {}


def members_of(world: OpenWorld, thing: Assembled | Wall, coming: Moves = NONE) -> list[MemberTold]:
    """The pieces of a placed assembly or of a wall, from its place. Entries and assemblies that have gone are left out.

    coming : rows as an edit that is being made will leave them
    """
    if isinstance(thing, Wall):
        return _of_wall(world, thing)
    row = _assembly(world, thing.assembly, coming)
    return [] if row is None else list(_members(world, row, thing.way, 0, coming))


def _of_wall(world: OpenWorld, wall: Wall) -> list[MemberTold]:
    kit = kit_of(world)
    entry = kit.get(wall.kit)
    if entry is None:
        return []
    gates = [Gap(one.at_m, kit[one.kit].size[0], one.kit) for one in wall.gates if one.kit in kit]
    corner = wall.corner if wall.corner in kit else None
    laid = along_wall(wall.points, wall.kit, entry.size[0], closed=wall.closed, corner=corner, gaps=gates)
    found: list[MemberTold] = [
        {"kit": one.kit, "x": round(one.x, 6), "y": round(one.y, 6), "over_m": 0.0, "turn_deg": round(one.turn_deg, 6),
         "size": round(one.size, 6), "look": None, "tint": None}
        for one in laid
    ]  # fmt: skip
    if wall.lies == "level":
        long = length_of(wall.points, wall.closed)
        for told, one in zip(found, laid, strict=True):
            told["part"] = round(one.far / long, 6)
    return found


def _assembly(world: OpenWorld, key: str, coming: Moves) -> Assembly | None:
    at = ASSEMBLIES.name, key
    row = coming[at] if at in coming else world.get(ASSEMBLIES, key)
    return row if isinstance(row, Assembly) else None


def _members(
    world: OpenWorld, row: Assembly, way: int, deep: int, coming: Moves = NONE
) -> Iterator[MemberTold]:  # fmt: skip
    for one in row.ways[min(way, len(row.ways) - 1)].members:
        if one.kit is not None:
            yield {"kit": one.kit, "x": one.x, "y": one.y, "over_m": one.over_m, "turn_deg": one.turn_deg,
                   "size": one.size, "look": one.look, "tint": one.tint}  # fmt: skip
            continue
        inner = _assembly(world, one.assembly or "", coming)
        if inner is None or deep >= MOST_NESTED:
            continue
        turn = math.radians(one.turn_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        for part in _members(world, inner, 0, deep + 1, coming):
            x, y = part["x"] * one.size, part["y"] * one.size
            yield {
                **part, "x": one.x + x * cos + y * sin, "y": one.y - x * sin + y * cos,
                "over_m": one.over_m + part["over_m"] * one.size, "turn_deg": (one.turn_deg + part["turn_deg"]) % 360,
                "size": part["size"] * one.size,
            }  # fmt: skip


def asked_of(world: OpenWorld, key: str, thing: Thing, x: float, y: float, coming: Moves = NONE) -> list[Asked]:
    """The pieces that a thing is, with its middle at (x, y)."""
    kit = kit_of(world)
    if isinstance(thing, Piece):
        entry = kit.get(thing.kit)
        return [] if entry is None else [
            Asked(key, 0, thing, entry, x, y, thing.over_m, thing.turn_deg, thing.tilt_deg, thing.size, thing.look,
                  thing.tint, thing.on)
        ]  # fmt: skip
    if not isinstance(thing, Assembled | Wall):
        return []
    size = thing.size if isinstance(thing, Assembled) else 1.0
    leans = isinstance(thing, Wall) and thing.lies == "along"
    turn = math.radians(thing.turn_deg)
    cos, sin = math.cos(turn), math.sin(turn)
    ends = [
        (x + right * cos + ahead * sin, y - right * sin + ahead * cos)
        for right, ahead in ((thing.points[0], thing.points[-1]) if isinstance(thing, Wall) else ())
    ]  # fmt: skip
    found = []
    for number, one in enumerate(members_of(world, thing, coming)):
        entry = kit.get(one["kit"])
        if entry is not None:
            across, ahead = one["x"] * size, one["y"] * size
            if leans and entry.meets == "upright":
                entry = replace(entry, meets="lies")
            found.append(
                Asked(key, number, thing, entry, x + across * cos + ahead * sin, y - across * sin + ahead * cos,
                      thing.over_m + one["over_m"] * size, (thing.turn_deg + one["turn_deg"]) % 360, 0.0,
                      size * one["size"], one["look"], one["tint"], thing.on,
                      Deck(*ends[0], *ends[1], length_of(thing.points, thing.closed), one["part"])
                      if isinstance(thing, Wall) and "part" in one else None)
            )  # fmt: skip
    return found


def stand(world: OpenWorld, land: Land, asked: Sequence[Asked]) -> list[Stood]:
    """Pieces with their feet where they come to stand. Hold the lock."""
    bounds = land.bounds
    grid = land.grid
    west, east = grid.x_of(bounds.col0), grid.x_of(bounds.col1 - 1)
    south, north = grid.y_of(bounds.row1 - 1), grid.y_of(bounds.row0)
    places: list[tuple[float, float]] = []
    for one in asked:
        places.append((one.x, one.y))
        if one.deck is not None:
            places += [(one.deck.x0, one.deck.y0), (one.deck.x1, one.deck.y1)]
        elif one.entry.meets == "lies":
            half = one.entry.size[0] / 2 * one.size, one.entry.size[1] / 2 * one.size
            places += [(x, y) for x, y in ends_of(one.x, one.y, one.turn_deg, half).tolist()]
    heights = iter(
        land.elevations([min(max(x, west), east) for x, _ in places], [min(max(y, south), north) for _, y in places])
        .tolist()
    )  # fmt: skip
    found: list[Stood] = []
    for one in asked:
        entry, foot, lean = one.entry, next(heights), (0.0, 0.0)
        if one.deck is not None:
            first, last = next(heights), next(heights)
            foot, rise = first + (last - first) * one.deck.part, (last - first) / one.deck.length / 2
            _, *leans = laid([rise, -rise, 0.0, 0.0], (0.5, 0.5), one.turn_deg)
            lean = leans[0], leans[1]
        elif entry.meets == "lies":
            half = entry.size[0] / 2 * one.size, entry.size[1] / 2 * one.size
            foot, *leans = laid([next(heights) for _ in range(4)], half, one.turn_deg)
            lean = leans[0], leans[1]
        foot += one.over
        if entry.meets == "floats":
            foot = max(foot, water_at(world, land, one.x, one.y) + one.over)
        elif entry.meets == "hangs":
            foot -= entry.size[2] * one.size
        foot -= entry.sinks_m * one.size
        if one.on is not None and (top := _top_under(world, land, one)) is not None:
            foot, lean = top + one.over, (0.0, 0.0)
        pose = Pose(one.x, one.y, foot, one.turn_deg, one.tilt_deg, one.size, *lean)
        found.append(Stood(one.key, one.number, one.thing, entry, pose, one.look, one.tint))
    return found


def water_at(world: OpenWorld, land: Land, x: float, y: float) -> float:
    """The surface of what stands over the ground of a place, far under it where nothing does. [m]"""
    row, col = round(land.grid.row_of(y)), round(land.grid.col_of(x))
    here = land.clip(Window(row, col, row + 1, col + 1))
    return -1e6 if here.empty else float(world.surface(land, here)[0, 0])


def _top_under(world: OpenWorld, land: Land, one: Asked, deep: int = 0) -> float | None:
    """The top of the thing that a piece stands on, at its middle; None where that has gone. [m]"""
    below = world.get(THINGS, one.on or "")
    if below is None or deep > MOST_ON:
        return None
    part = next((part for part in land.parts if part.tract.row.id == world.of_tract(below.tract)), None)
    if part is None:
        return None
    tops = [
        top for stood in stand(world, land, asked_of(world, one.on or "", below, below.x + part.x, below.y + part.y))
        if (top := top_at(stood, one.x, one.y)) is not None
    ]  # fmt: skip
    return max(tops, default=None)


def top_at(stood: Stood, x: float, y: float) -> float | None:
    """The elevation of the highest of a piece's parts over a place; None where none lies there. [m]"""
    right, ahead = stood.pose.local(x, y)
    tops = [solid.z1 for solid in stood.entry.solids if _over(solid, right, ahead)]
    return stood.pose.z + max(tops) * stood.pose.size if tops else None


def is_in(stood: Stood, x: float, y: float, z: float, tall: float) -> bool:
    """Whether a body that stands so high would be in one of a piece's parts. [m]"""
    right, ahead = stood.pose.local(x, y)
    low, size = z - stood.pose.z, stood.pose.size
    return any(
        low < solid.z1 * size and low + tall > solid.z0 * size and _over(solid, right, ahead)
        for solid in stood.entry.solids
    )


def _over(solid: Solid, right: float, ahead: float) -> bool:
    across, along = right - solid.x, ahead - solid.y
    if solid.half[0] > 0:
        turn = math.radians(solid.turn_deg)
        cos, sin = math.cos(turn), math.sin(turn)
        aside, on = across * cos - along * sin, across * sin + along * cos
        return abs(aside) <= solid.half[0] and abs(on) <= solid.half[1]
    return math.hypot(across, along) <= solid.radius


def near(world: OpenWorld, land: Land, box: Box) -> Iterator[tuple[str, Thing, float, float]]:
    """Key, thing and place (in the land's metres) of all that may reach into a box, as far as the largest does."""
    reach = widest(world)
    west, south, east, north = box[0] - reach, box[1] - reach, box[2] + reach, box[3] + reach
    for part in land.parts:
        here = west - part.x, south - part.y, east - part.x, north - part.y
        for key, thing in world.near(THINGS, part.tract.row.id, here):
            yield key, thing, thing.x + part.x, thing.y + part.y


def widest(world: OpenWorld) -> float:
    """No thing of a world reaches further from its middle. [m]"""
    sorts, bulk = world.sorts_of(THINGS)
    kit = kit_of(world)
    reach = 0.0
    for sort in sorts:
        if sort.startswith(WALL_MARK):
            # No entry is wider than what a piece of a wall may be.
            reach = max(reach, float(sort[1:]) + max((one.reach for one in kit.values()), default=0.0))
        elif sort.startswith("+"):
            row = world.get(ASSEMBLIES, sort[1:])
            for way in range(len(row.ways) if row is not None else 0):
                for one in _members(world, row, way, 0) if row is not None else ():
                    entry = kit.get(one["kit"])
                    own = 0.0 if entry is None else entry.reach * one["size"]
                    reach = max(reach, math.hypot(one["x"], one["y"]) + own)
        elif sort in kit:
            reach = max(reach, kit[sort].reach)
    return reach * bulk


def stood_in(world: OpenWorld, land: Land, box: Box) -> list[Stood]:
    """The pieces that reach into a box of a land, as they stand. Hold the lock."""
    asked = [
        one for key, thing, x, y in near(world, land, box) for one in asked_of(world, key, thing, x, y)
        if max(box[0] - one.x, one.x - box[2], box[1] - one.y, one.y - box[3]) <= one.entry.reach * one.size
    ]  # fmt: skip
    return stand(world, land, asked)


def box_of(land: Land, window: Window) -> Box:
    """The place that a window of posts takes up. [m]"""
    grid = land.grid
    return grid.x_of(window.col0), grid.y_of(window.row1), grid.x_of(window.col1), grid.y_of(window.row0)


def obstacles_of(stood: Stood) -> Iterator[Obstacle]:
    """What of a piece stands in a walker's way."""
    yield from _solid_of(stood, stood.entry.solids, 0.0 if stood.entry.stood_on else NOT_STOOD_ON_M)


def _solid_of(stood: Stood, solids: Sequence[Solid], lifted: float) -> Iterator[Obstacle]:
    """Solids of a piece where it stands, so much higher than they are."""
    pose = stood.pose
    frame = pose.frame
    for solid in solids:
        # On a slope each part stands at its own height.
        x, y, z = (frame @ np.array([solid.x, solid.y, 0.0]) + [pose.x, pose.y, pose.z]).tolist()
        z0, z1 = z + solid.z0 * pose.size, z + solid.z1 * pose.size + lifted
        corners: tuple[tuple[float, float], ...] = ()
        if solid.corners:
            turned = np.array(solid.corners) @ frame[:2, :2].T
            corners = tuple((float(a), float(b)) for a, b in turned)
        yield Obstacle(
            stood.thing.name, x, y, solid.radius * pose.size, z0, z1, solid.half[0] * pose.size,
            solid.half[1] * pose.size, (pose.turn_deg + solid.turn_deg) % 360, corners,
        )  # fmt: skip


def piece_obstacles(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """The pieces in and around a window of posts, as they stand in a walker's way."""
    for stood in stood_in(world, land, box_of(land, window)):
        yield from obstacles_of(stood)


def piece_bodies(world: OpenWorld, land: Land, window: Window) -> Iterator[Obstacle]:
    """The pieces in and around a window of posts, as they throw shadows."""
    for stood in stood_in(world, land, box_of(land, window)):
        yield from _solid_of(stood, stood.entry.bodies, 0.0)


def pieces_in(world: OpenWorld, land: Land) -> Iterator[tuple[str, str, float, float]]:
    """Key, kind and place of all that stands on a land, in its metres."""
    for part in land.parts:
        for key, thing in things_of(world, part.tract.row.id):
            yield key, thing.sort_named, thing.x + part.x, thing.y + part.y


def beginnings(world: OpenWorld, land: Land) -> Iterator[Begins]:
    """The starts of a land at which somebody begins a round. Hold the lock."""
    for part in land.parts:
        for key, thing in things_of(world, part.tract.row.id):
            if isinstance(thing, Start) and not thing.holding:
                yield Begins(key, thing.name, thing.team, thing.default, thing.x + part.x, thing.y + part.y)


# The ground that is taken up


def outlines_in(world: OpenWorld, land: Land, box: Box) -> tuple[Outlines, NDArray[np.float64]]:
    """The footprints of the pieces that reach into a box, and how far growth keeps from each. Hold the lock. [m]"""
    reach = max((entry.margin_m for entry in kit_of(world).values()), default=0.0)
    wide = box[0] - reach, box[1] - reach, box[2] + reach, box[3] + reach
    stood = [one for one in stood_in(world, land, wide) if one.entry.meets != "hangs"]
    return outlines_of([(one.entry, one.pose) for one in stood]), np.array(
        [one.entry.margin_m for one in stood], np.float64
    )


def clear_of_pieces(world: OpenWorld, land: Land, x: FloatArray, y: FloatArray) -> NDArray[np.bool_]:
    """Which places lie clear of what stands there and of what that keeps free."""
    if not len(x) or not world.rows[THINGS.name]:
        return np.ones(len(x), bool)
    box = float(np.min(x)), float(np.min(y)), float(np.max(x)), float(np.max(y))
    outlines, margins = outlines_in(world, land, box)
    return ~holds_any(outlines, margins, np.asarray(x, np.float64), np.asarray(y, np.float64))


def taken_up(world: OpenWorld, land: Land, window: Window, step: int) -> FloatArray | None:
    """1 at every so-many-th post of a window in a footprint or what that keeps free; None where none is."""
    if not world.rows[THINGS.name]:
        return None
    outlines, margins = outlines_in(world, land, box_of(land, window))
    if not len(outlines):
        return None
    grid, spacing = land.grid, land.grid.spacing * step
    rows, cols = -(-window.rows // step), -(-window.cols // step)
    x0, y0 = grid.x_of(window.col0), grid.y_of(window.row0)
    out = np.zeros((rows, cols), np.float32)
    for at in range(len(outlines)):
        reach = outlines.reach[at] + margins[at]
        c0, c1 = (
            max(0, math.floor((outlines.x[at] - reach - x0) / spacing)),
            min(cols, math.ceil((outlines.x[at] + reach - x0) / spacing) + 1),
        )
        r0, r1 = (
            max(0, math.floor((y0 - outlines.y[at] - reach) / spacing)),
            min(rows, math.ceil((y0 - outlines.y[at] + reach) / spacing) + 1),
        )
        if c0 >= c1 or r0 >= r1:
            continue
        north, east = np.mgrid[r0:r1, c0:c1]
        inside = holds_any(outlines, margins, (x0 + east * spacing).ravel(), (y0 - north * spacing).ravel())
        part = out[r0:r1, c0:c1]
        part[inside.reshape(part.shape)] = 1.0
    return out


def lights_in(world: OpenWorld, land: Land, box: Box) -> Iterator[Shines]:
    """The lights of the pieces that stand in a box."""
    if not any(entry.shines for entry in kit_of(world).values()):
        return
    for stood in stood_in(world, land, box):
        shines = stood.entry.shines
        if shines is not None:
            ground = land.elevation(stood.pose.x, stood.pose.y)
            over = stood.pose.z + shines.over_m * stood.pose.size - ground
            yield Shines(stood.pose.x, stood.pose.y, over, shines.lumens, shines.colour)


# As it is told


def told(world: OpenWorld, key: str, thing: Thing) -> dict[str, Any]:
    """A thing with the elevation it stands at. [m]"""
    tract_id = world.of_tract(thing.tract)
    tract = world.any_tract(tract_id)
    out: dict[str, Any] = {
        "key": key, "id": key, **thing.model_dump(mode="json"), "tract": tract_id, "kit": getattr(thing, "kit", None),
        "default": getattr(thing, "default", False), "resource": False,
        "z": round(tract.elevation(thing.x, thing.y) + thing.over_m, 4),
    }  # fmt: skip
    if isinstance(thing, Start):
        # As a page draws it; what was said is kept beside it.
        return {**out, "turn_deg": facing_of(world, thing)} if thing.faces else out
    entry = kit_of(world).get(out["kit"] or "")
    out["resource"] = bool(entry and entry.resource)
    if isinstance(thing, Assembled | Wall):
        out["members"] = members_of(world, thing)
    elif entry is not None and (thing.on is not None or entry.meets != "upright" or entry.sinks_m):
        land = world.land_from(tract_id)
        stood = stand(world, land, asked_of(world, key, thing, thing.x, thing.y))[0]
        out["z"] = round(stood.pose.z, 4)
        below = world.get(THINGS, thing.on or "")
        if below is not None:
            feet = stand(world, land, asked_of(world, thing.on or "", below, below.x, below.y))
            out["top_m"] = round(stood.pose.z - thing.over_m - (feet[0].pose.z if feet else 0.0), 4)
    return out


# As the checks see it


def standing(world: OpenWorld) -> Iterator[Standing]:
    """Everything that stands, as the checks see it."""
    for tract in world.tracts.values():
        with world.lock:
            land = world.land_from(tract.row.id)
            found = [_standing(world, land, thing) for _, thing in things_of(world, tract.row.id)]
        yield from found


def _standing(world: OpenWorld, land: Land, thing: Thing) -> Standing:
    around = land.around(thing.x, thing.y, 2 * land.grid.spacing)
    slope = slope_degrees(land.read(HEIGHT, around), land.grid.spacing)
    ground = land.elevation(thing.x, thing.y)
    depth = max(0.0, water_at(world, land, thing.x, thing.y) - ground - thing.over_m)
    steep = float(slope[slope.shape[0] // 2, slope.shape[1] // 2])
    default = isinstance(thing, Start) and thing.default
    turn = facing_of(world, thing) if isinstance(thing, Start) else thing.turn_deg
    return Standing(thing.name, thing.sort, thing.x, thing.y, depth, steep, default, land.id, turn)


def holes(world: OpenWorld) -> Iterator[Hole]:
    """Every opening, and whether a piece stands over it: posts that are open and touch each other."""
    for tract in world.tracts.values():
        with world.lock:
            found = list(_holes(world, tract))
        yield from found


def _holes(world: OpenWorld, tract: Tract) -> Iterator[Hole]:
    grid, cache = tract.grid, tract.cache
    window = Window(0, 0, 0, 0)
    for place in cache.ranges:
        if place[0] == OPENING and not cache.blank_tile(place):
            window = window.join(grid.tile_window(place[1], place[2]))
    if window.empty:
        return
    open_posts = (cache.read(OPENING, window) >= HOLE).astype(np.uint8)
    count, marks, stats, middles = cv2.connectedComponentsWithStats(open_posts, connectivity=8)
    land = world.land_from(tract.row.id)
    stood = stood_in(world, land, box_of(land, window))
    for number in range(1, count):
        x, y = grid.x_of(window.col0 + middles[number][0]), grid.y_of(window.row0 + middles[number][1])
        rows, cols = np.nonzero(marks == number)
        covered = False
        for one in stood:
            # Over some post of it, within the piece's own circle.
            away = np.hypot(
                (window.col0 + cols) * grid.spacing - one.pose.x,
                (grid.rows - 1 - window.row0 - rows) * grid.spacing - one.pose.y,
            )
            reach = max(one.entry.reach * one.pose.size, grid.spacing)
            covered = covered or bool((away <= reach).any())
        area = float(stats[number][cv2.CC_STAT_AREA]) * grid.spacing**2
        yield Hole(x, y, area, covered, tract.row.id)


def footprints_of(stood: Stood) -> list[NDArray[np.float64]]:
    """The ground that a piece takes up. [m]"""
    return footprint_of(stood.entry, stood.pose)
