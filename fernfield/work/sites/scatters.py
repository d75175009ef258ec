"""Scatters: pieces that a rule places. Kept, they follow it; what a hand has moved stays where it was put."""

from __future__ import annotations

import hashlib
import itertools
import math
from collections.abc import Sequence
from typing import Annotated, Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field, StringConstraints, model_validator

from fernfield.core.cover import rules as core
from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.light.relief import gradients
from fernfield.core.sites import scatter as places
from fernfield.core.sites.arranging import bearings, rounded
from fernfield.core.sites.kit import Entry
from fernfield.core.sites.placing import (
    FITS,
    IN_ANOTHER,
    Pose,
    ends_of,
    frames_of,
    laid,
    outlines_many,
    settled,
)
from fernfield.core.travel.walkers import WALKER
from fernfield.core.travel.ways import FREE, ways_from
from fernfield.work.asking.conditions import Conditions
from fernfield.work.asking.fields import Asked, Asking, heights_around
from fernfield.work.kernel.declared import Lies, Names
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import (
    Bearing,
    Change,
    Collection,
    Coordinate,
    Key,
    Look,
    Moves,
    Name,
    Plan,
    Spot,
    TractId,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.parts.rows import Parted
from fernfield.work.passing.raster import passable_in
from fernfield.work.plots.areas import Area, plot_corners, share_of, window_of
from fernfield.work.plots.rows import LINES, PLOTS
from fernfield.work.sites.groups import groups_over
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.proposing import (
    PROPOSED,
    Found,
    ProposedThing,
    Weighed,
    place_all,
    proposed_of,
    refuse,
    standing_around,
    thing_of,
)
from fernfield.work.sites.roads import road_posts
from fernfield.work.sites.rows import THINGS, Piece, Size, Thing, default_start
from fernfield.work.sites.standing import Stood, piece_obstacles, water_at

MOST_SCATTERED = 10_000
MOST_POSTS = 4_097**2
"""Posts that a scatter may look through."""
MORE = 3
"""So many times as many places as are wanted are tried at first."""
EDGE_POSTS = 3


class Scatter(Parted):
    """Collection "scatters": pieces placed by a rule. [m, °]

    of : what, by weights; count, or per_ha : how many
    plot, box, outline, covered_by : where; the whole tract when none is said
    where : all over it, only along its edge (`edge_m` wide), only further inside, or along a `line` (`edge_m` to each
    side)
    apart_m : between the middles of two of them; others_m : from the outlines of what stands already
    facing : by chance, as `turn_deg` says, downhill, uphill, towards a point, along the edge or line
    reach : only where somebody gets to on foot from the default start
    kept_as : the `rule` by which its pieces were placed last
    """

    name: Annotated[Name, Say("Name")]
    of: Annotated[tuple[Weighed, ...], Field(min_length=1, max_length=32), UNASKED]
    count: Annotated[int | None, Field(ge=1, le=MOST_SCATTERED), Say("How many", left_out="by density")] = None
    per_ha: Annotated[float | None, Field(gt=0, le=5_000), Say("Density", "/ha", left_out="by number")] = None
    seed: Annotated[int, Field(ge=0, le=2**31 - 1), Say("Seed", under="More")] = 1
    plot: Annotated[Key | None, Names(PLOTS.name), UNASKED] = None
    box: Annotated[tuple[Coordinate, Coordinate, Coordinate, Coordinate] | None, Lies("box"), UNASKED] = None
    outline: Annotated[tuple[Spot, ...] | None, Field(min_length=3, max_length=2000), Lies("outline"), UNASKED] = None
    covered_by: Annotated[Key | None, Names("covers"), UNASKED] = None
    where: Annotated[
        Literal["all", "edge", "inner", "line"],
        Say(
            "Where",
            called={
                "all": "all over the area",
                "edge": "along its edge",
                "inner": "only inside",
                "line": "along a line",
            },
        ),
    ] = "all"
    edge_m: Annotated[float, Field(ge=0.5, le=500), Say("Edge", "m", when="where=edge inner line")] = 5.0
    line: Annotated[Key | None, Names(LINES.name), UNASKED] = None
    apart_m: Annotated[float, Field(ge=0, le=500), Say("Between two", "m")] = 2.0
    others_m: Annotated[float, Field(ge=0, le=500), Say("From others", "m", under="More")] = 0.5
    size_from: Annotated[Size, Say("Size, from", "×", under="Size")] = 1.0
    size_to: Annotated[Size, Say("Size, to", "×", under="Size")] = 1.0
    facing: Annotated[
        Literal["any", "kept", "downhill", "uphill", "towards", "along"],
        Say(
            "Facing",
            called={
                "any": "by chance",
                "kept": "as turned",
                "towards": "towards a point",
                "along": "along the edge or line",
            },
        ),
    ] = "any"
    turn_deg: Annotated[Bearing, Lies("bearing"), Say("Turn", "°", when="facing=kept")] = 0.0
    turn_any_deg: Annotated[
        float, Field(ge=0, le=180), Say("Give or take", "°", when="facing=kept downhill uphill towards along")
    ] = 0.0
    towards_x: Annotated[Coordinate, Lies("east"), Say("Point east", "m", when="facing=towards", under="Point")] = 0.0
    towards_y: Annotated[Coordinate, Lies("north"), Say("Point north", "m", when="facing=towards", under="Point")] = 0.0
    tilt_any_deg: Annotated[float, Field(ge=0, le=45), Say("Tilt by chance", "°", under="Size")] = 0.0
    any_look: Annotated[bool, Say("Any look", under="Looks")] = True
    any_tint: Annotated[bool, Say("Any tint", under="Looks")] = False
    reach: Annotated[bool, Say("Only where a walker gets to", under="More")] = False
    conditions: Annotated[Conditions, UNASKED] = ()
    kept_as: Annotated[str | None, StringConstraints(max_length=16), UNASKED] = None
    tract: Annotated[TractId | None, UNASKED] = None

    @property
    def rule(self) -> str:
        """What names its rule: another one is named otherwise."""
        said = self.model_dump_json(exclude={"name", "kept_as", "tract"})
        return hashlib.sha1(said.encode(), usedforsecurity=False).hexdigest()[:10]

    @property
    def area(self) -> Area:
        return Area(plot=self.plot, box=self.box, outline=self.outline, cover=self.covered_by)

    @model_validator(mode="after")
    def _fits(self) -> Scatter:
        if (self.count is None) == (self.per_ha is None):
            raise InvalidInput("say how many: count or per_ha, one of them", "count")
        if self.size_from > self.size_to:
            raise InvalidInput(
                f"size_from must be at most size_to, not {self.size_from:g} and {self.size_to:g}", "size_from"
            )
        if self.where == "line" and self.line is None:
            raise InvalidInput("line is needed: which one they stand along", "line")
        kits = [one.kit for one in self.of]
        if len(set(kits)) < len(kits):
            raise InvalidInput(f"an entry stands twice in `of`: {', '.join(kits)}", "of")
        _ = self.area
        return self


def _plan(change: Change[Scatter], look: Look) -> Plan:
    return plainly(SCATTERS, change)


SCATTERS = Collection(
    "scatters", Scatter, "scatter", in_tract=True, most=100, plan=_plan, order=lambda pair: (pair[1].name, pair[0])
)


def scattered(world: OpenWorld, key: str, row: Scatter, seed: int | None = None) -> tuple[Land, Found]:
    """What a scatter comes to now. Hold the lock. Raises InvalidInput, NotFound, Conflict."""
    land = world.land_from(world.of_tract(row.tract))
    return land, _scattered(world, land, key, row, row.seed if seed is None else seed)


def _scattered(world: OpenWorld, land: Land, key: str, row: Scatter, seed: int) -> Found:
    kit = kit_of(world)
    gone = [one.kit for one in row.of if one.kit not in kit]
    if gone:
        raise Conflict(f"the scatter {row.name} names {', '.join(gone)}, which is not in the kit any more")
    window = window_of(world, land, row.area)
    if window.rows * window.cols > MOST_POSTS:
        raise Conflict(f"a scatter looks through at most {MOST_POSTS:,} posts, not {window.rows * window.cols:,}")
    grid, spacing = land.grid, land.grid.spacing
    inside = share_of(world, land, row.area, window, 0.0)
    void = land.void(np.arange(window.row0, window.row1), np.arange(window.col0, window.col1))
    if void is not None:
        inside = np.where(void, np.float32(0), inside)
    roads = road_posts(world, land, window)
    if roads is not None:
        inside = np.where(roads, np.float32(0), inside)
    area = float(inside.sum(dtype=np.float64)) * spacing**2
    wanted = row.count if row.count is not None else round((row.per_ha or 0) * area / 10_000)
    found = Found(wanted=min(wanted, MOST_SCATTERED))
    if not found.wanted:
        return found
    asked_for, along = _asked_for(world, land, row, window, inside)
    reached = _reached(world, land, window) if row.reach else None
    stays = _stays(world, key)
    entries = [kit[one.kit] for one in row.of]
    side = places.cell_side(max(area, spacing**2), found.wanted)
    west, south = grid.x_of(window.col0) + land.origin[0], grid.y_of(window.row1 - 1) + land.origin[1]
    east, north = grid.x_of(window.col1 - 1) + land.origin[0], grid.y_of(window.row0) + land.origin[1]
    rounds: list[places.Candidates] = []
    found.wanted = max(0, found.wanted - len(stays.by_hand))
    for level in range(places.ROUNDS):
        candidates = places.candidates(seed, side / 2**level, level, (west, south, east, north))
        rounds.append(_met(candidates, land, window, asked_for, reached, stays.cells, found))
        every = _together(rounds)
        things = _settled(world, land, row, entries, every, along, window, key, found)
        if len(things) >= found.wanted or level == places.ROUNDS - 1:
            found.things = things
            return found
        # Reasons are counted anew with the places of the next round.
        found.refused = []
        for why in [why for why in found.why if why.startswith(("it would", "too near"))]:
            del found.why[why]
    return found


class _Stays:
    """What of a scatter a hand has moved: it stays, and nothing else comes in its place."""

    def __init__(self) -> None:
        self.by_hand: list[str] = []
        self.others: list[str] = []
        self.cells: set[str] = set()


def _stays(world: OpenWorld, key: str) -> _Stays:
    out = _Stays()
    for own, thing in world.rows[THINGS.name].items():
        if not isinstance(thing, Piece) or thing.scatter != key:
            continue
        if thing.by_hand or thing.locked or any(group.locked for _, group in groups_over(world, thing.group)):
            out.by_hand.append(own)
            out.cells.add(thing.cell or "")
        else:
            out.others.append(own)
    return out


def _asked_for(
    world: OpenWorld, land: Land, row: Scatter, window: Window, inside: FloatArray
) -> tuple[FloatArray, NDArray[np.float64] | None]:
    """How far every post of a window meets what is asked, 0 to 1; and the bearing along the edge or line there. [°]"""
    spacing = land.grid.spacing
    out = inside.astype(np.float32, copy=True)
    along: NDArray[np.float64] | None = None
    if row.where == "line" and row.line is not None:
        points = plot_corners(world, land, world.row(LINES, row.line))
        near, along = _beside_line(land, window, points)
        out *= near <= row.edge_m
    elif row.where in ("edge", "inner") or row.facing == "along":
        # What lies beyond the window is outside: its rim is an edge.
        padded = np.pad((inside > 0.5).astype(np.uint8), 1)
        deep = cv2.distanceTransform(padded, cv2.DIST_L2, cv2.DIST_MASK_PRECISE)[1:-1, 1:-1] * np.float32(spacing)
        if row.where == "edge":
            out *= deep <= row.edge_m
        elif row.where == "inner":
            out *= deep > row.edge_m
        smooth = cv2.GaussianBlur(deep, (0, 0), EDGE_POSTS)
        south, east = np.gradient(smooth)
        # Along is a quarter turn to the right of the way in.
        along = (np.degrees(np.arctan2(east, -south)) + 90) % 360
    if row.conditions:
        asked = Asked(world, land, window, 1)
        asking = Asking(asked)
        heights = heights_around(asked)
        rule = core.Rule(1, 1.0, tuple(asking.condition(one) for one in row.conditions))
        out *= core.mixed(heights, spacing, [rule], asking.fields, 2)[1]
    return out, along


def _beside_line(
    land: Land, window: Window, points: Sequence[tuple[float, float]]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How far every post lies from a line [m], and the way that it runs where it is nearest [°]."""
    grid = land.grid
    x = grid.x_of(window.col0) + np.arange(window.cols) * grid.spacing
    y = grid.y_of(window.row0) - np.arange(window.rows) * grid.spacing
    near, way = np.full((window.rows, window.cols), np.inf), np.zeros((window.rows, window.cols))
    for (ax, ay), (bx, by) in itertools.pairwise(points):
        ex, ey = bx - ax, by - ay
        long = max(ex * ex + ey * ey, 1e-12)
        t = np.clip(((x[None] - ax) * ex + (y[:, None] - ay) * ey) / long, 0, 1)
        away = np.hypot(x[None] - ax - t * ex, y[:, None] - ay - t * ey)
        nearer = away < near
        near[nearer] = away[nearer]
        way[nearer] = math.degrees(math.atan2(ex, ey)) % 360
    return near, way


def _reached(world: OpenWorld, land: Land, window: Window) -> NDArray[np.bool_]:
    """Which posts of a window somebody gets to on foot from the default start; none where there is no start."""
    bounds = land.bounds
    try:
        part, start = default_start(world, land)
    except NotFound:
        raise Conflict("nobody gets anywhere: this land has no default start") from None
    leave = passable_in(world, land, bounds, WALKER, without=piece_obstacles)
    row = min(max(round(land.grid.row_of(start.y + part.y)) - bounds.row0, 0), bounds.rows - 1)
    col = min(max(round(land.grid.col_of(start.x + part.x)) - bounds.col0, 0), bounds.cols - 1)
    ways = ways_from(np.full((bounds.rows, bounds.cols), FREE, np.uint8), row, col, leave)
    return (ways.least >= 0)[window.inside(bounds)]


def _met(
    every: places.Candidates, land: Land, window: Window, asked_for: FloatArray,
    reached: NDArray[np.bool_] | None, taken: set[str], found: Found,
) -> places.Candidates:  # fmt: skip
    """Those whose post meets what is asked, by what each draws."""
    rows, cols = _posts(every, land, window, asked_for.shape)
    met = every.draws[:, places.SHARE] < asked_for[rows, cols]
    outside = int((~met).sum())
    if outside:
        found.why["the ground is not what is asked for"] += outside
    if reached is not None:
        cut = met & ~reached[rows, cols]
        if cut.any():
            found.why["no walker gets there"] += int(cut.sum())
        met &= reached[rows, cols]
    if taken:
        met &= np.array([cell_name(cell) not in taken for cell in every.cell.tolist()])
    return every.those(met)


def _posts(
    every: places.Candidates, land: Land, window: Window, shape: tuple[int, ...]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    grid = land.grid
    rows = np.rint(grid.row_of(every.y - land.origin[1])).astype(np.int64) - window.row0
    cols = np.rint(grid.col_of(every.x - land.origin[0])).astype(np.int64) - window.col0
    return rows.clip(0, shape[0] - 1), cols.clip(0, shape[1] - 1)


def cell_name(cell: Sequence[int]) -> str:
    return ".".join(map(str, cell))


def _together(rounds: Sequence[places.Candidates]) -> places.Candidates:
    parts = [(one.x, one.y, one.draws, one.cell) for one in rounds]
    x, y, draws, cell = (np.concatenate([part[k] for part in parts]) for k in range(4))
    return places.Candidates(x, y, draws, cell)


def _settled(
    world: OpenWorld, land: Land, row: Scatter, entries: Sequence[Entry], every: places.Candidates,
    along: NDArray[np.float64] | None, window: Window, key: str, found: Found,
) -> list[ProposedThing]:  # fmt: skip
    """The places that keep their distance, in their order, as far as so many are wanted."""
    total, tried = len(every), min(len(every), MORE * found.wanted + 16)
    while True:
        some = every.those(np.arange(total) < tried)
        tries = _tried(world, land, row, entries, some, along, window, key, found)
        if len(tries.things) >= found.wanted or tried >= total:
            found.why.update(tries.why)
            found.refused = tries.refused
            return tries.things
        tried = min(total, tried * 3)


def _tried(
    world: OpenWorld, land: Land, row: Scatter, entries: Sequence[Entry], some: places.Candidates,
    along: NDArray[np.float64] | None, window: Window, key: str, found: Found,
) -> Found:  # fmt: skip
    """Those of some that find a place, and why the others do not."""
    left = Found()
    if not len(some):
        return left
    x, y = rounded(some.x) - land.origin[0], rounded(some.y) - land.origin[1]
    kind = places.chosen(some.draws[:, places.KIND], [one.weight for one in row.of])
    turn = _turns(land, row, some, x, y, along, window)
    size = rounded(row.size_from + (row.size_to - row.size_from) * some.draws[:, places.SIZE])
    tilt = rounded(row.tilt_any_deg * (2 * some.draws[:, places.TILT] - 1))
    z, east, north = _feet(world, land, entries, kind, x, y, turn, size)
    own = outlines_many(entries, kind, x, y, frames_of(turn, tilt, size, east, north))
    stays = _stays(world, key)
    others, names = standing_around(world, land, own, set(stays.others), row.others_m)
    overlaps = np.array([entry.overlaps for entry in entries])[kind]
    verdict, by = settled(own, others, row.apart_m, row.others_m, overlaps, found.wanted)
    for at in range(len(some)):
        if verdict[at] == FITS:
            entry = entries[kind[at]]
            pose = Pose(float(x[at]), float(y[at]), float(z[at]), float(turn[at]), float(tilt[at]), float(size[at]),
                        float(east[at]), float(north[at]))  # fmt: skip
            look = entry.looks[int(some.draws[at, places.LOOK] * len(entry.looks))].name if row.any_look else None
            tints = [None, *entry.tints]
            tint = tints[int(some.draws[at, places.TINT] * len(tints))] if row.any_tint else None
            stood = Stood("", at, PROPOSED, entry, pose, look, tint)
            left.things.append(proposed_of(land, stood, 0.0, None, cell_name(some.cell[at].tolist())))
        elif by[at] != -2:
            if verdict[at] == IN_ANOTHER:
                in_whom = int(by[at])
                name = names[in_whom] if in_whom < len(names) else entries[kind[in_whom - len(names)]].label
                refuse(left, float(x[at]), float(y[at]), f"it would stand in {name}, or too near to it")
            else:
                refuse(left, float(x[at]), float(y[at]), "too near to another of them")
    return left


def _turns(
    land: Land, row: Scatter, some: places.Candidates, x: NDArray[np.float64], y: NDArray[np.float64],
    along: NDArray[np.float64] | None, window: Window,
) -> NDArray[np.float64]:  # fmt: skip
    draw = some.draws[:, places.TURN]
    if row.facing == "any":
        return bearings(360 * draw)
    if row.facing == "kept":
        base = np.full(len(x), row.turn_deg)
    elif row.facing == "towards":
        base = np.degrees(np.arctan2(row.towards_x - x, row.towards_y - y))
    elif row.facing == "along" and along is not None:
        rows, cols = _posts(some, land, window, along.shape)
        base = along[rows, cols]
    else:
        wide = land.clip(window.pad(1))
        east, north = gradients(np.asarray(land.read(HEIGHT, wide), np.float32), land.grid.spacing)
        rows, cols = _posts(some, land, wide, east.shape)
        up = np.degrees(np.arctan2(east[rows, cols], north[rows, cols]))
        base = up + (180.0 if row.facing == "downhill" else 0.0)
    return bearings(base + row.turn_any_deg * (2 * draw - 1))


def _feet(
    world: OpenWorld, land: Land, entries: Sequence[Entry], kind: NDArray[np.int64], x: NDArray[np.float64],
    y: NDArray[np.float64], turn: NDArray[np.float64], size: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
    """Where the feet of many pieces come to stand, and how each leans."""
    z = np.asarray(land.elevations(x.tolist(), y.tolist()), np.float64)
    east, north = np.zeros(len(x)), np.zeros(len(x))
    bounds, grid = land.bounds, land.grid
    low = grid.x_of(bounds.col0), grid.y_of(bounds.row1 - 1)
    high = grid.x_of(bounds.col1 - 1), grid.y_of(bounds.row0)
    for number, entry in enumerate(entries):
        own = np.flatnonzero(kind == number)
        if not len(own):
            continue
        if entry.meets == "lies":
            halves = [(entry.size[0] / 2 * s, entry.size[1] / 2 * s) for s in size[own].tolist()]
            ends = np.concatenate([
                ends_of(float(x[i]), float(y[i]), float(turn[i]), half) for i, half in zip(own, halves, strict=True)
            ]).clip(low, high)  # fmt: skip
            heights = np.asarray(land.elevations(ends[:, 0].tolist(), ends[:, 1].tolist()), np.float64).reshape(-1, 4)
            for i, half, four in zip(own, halves, heights.tolist(), strict=True):
                z[i], east[i], north[i] = laid(four, half, float(turn[i]))
        elif entry.meets == "floats":
            z[own] = [max(float(z[i]), water_at(world, land, float(x[i]), float(y[i]))) for i in own]
        z[own] -= entry.sinks_m * size[own]
    return z, east, north


def keep_scatter(world: OpenWorld, key: str) -> tuple[Found, Outcome]:
    """Put what a scatter comes to now in the place of what it put before; what a hand has moved stays. One revision."""
    with world.lock:
        world.check_open()
        row = world.row(SCATTERS, key)
        land, found = scattered(world, key, row)
        rows, gone = as_rows(world, land, key, row, found)
        also: Moves = {(SCATTERS.name, key): row.model_copy(update={"kept_as": row.rule})}
        outcome = place_all(world, rows, f"Scattered {len(rows)} of {row.name}", key, gone, also)
    return found, outcome


def as_rows(
    world: OpenWorld, land: Land, key: str, row: Scatter, found: Found
) -> tuple[list[tuple[str, Thing]], list[str]]:  # fmt: skip
    """What a scatter comes to as rows, and the keys of those that go. A place that stays keeps its name."""
    kit, placed = kit_of(world), world.rows[THINGS.name]
    keys = [
        hashlib.sha1(f"{key}/{one['cell']}".encode(), usedforsecurity=False).hexdigest()[:14] for one in found.things
    ]
    named = {placed[own].title for own in keys if own in placed}
    free = (name for k in itertools.count(1) if (name := f"{row.name[:70]} {k}") not in named)
    rows: list[tuple[str, Thing]] = []
    for own, one in zip(keys, found.things, strict=True):
        name = placed[own].title if own in placed else next(free)
        rows.append((own, thing_of(world, land, one, name, kit[one["kit"]], scatter=key)))
    every = set(keys)
    return rows, [one for one in _stays(world, key).others if one not in every]


def follows(world: OpenWorld, key: str, row: Scatter) -> int:
    """How many pieces of a scatter do not stand as its rule says now: they would come, go, or stand otherwise."""
    land, found = scattered(world, key, row)
    parts = {part.tract.row.id: (part.x, part.y) for part in land.parts}
    stays = _stays(world, key)
    own = [world.rows[THINGS.name][one] for one in stays.others]
    stand = {thing.cell: thing for thing in own if isinstance(thing, Piece)}
    if not stand and not stays.by_hand:
        return 0
    off = 0
    for one in found.things:
        thing = stand.pop(one["cell"], None)
        corner = parts[one["tract"]]
        if thing is None:
            off += 1
            continue
        away = math.hypot(thing.x + corner[0] - one["x"], thing.y + corner[1] - one["y"])
        said = one["kit"], one["turn_deg"], one["size"]
        off += away > 0.01 or (thing.kit, thing.turn_deg, thing.size) != said
    return off + len(stand)
