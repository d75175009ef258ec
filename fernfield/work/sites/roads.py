"""Roads as a world keeps them: the ground under them lies in a sheet of its own, and comes back when they go."""

from __future__ import annotations

import math
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator, Mapping
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from shapely.geometry import LineString
from typing_extensions import TypedDict

from fernfield.core.checks.sites import RoadFound
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.lines import along, places_on
from fernfield.core.sites.roads import (
    LEFT_OVER,
    ROUNDED_M,
    Bed,
    built,
    climb,
    covered,
    grades,
    profile,
    stretches_that_differ,
    through,
)
from fernfield.core.sites.shipped import KIT
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.declared import Lies, Names, WorkedOut
from fernfield.work.kernel.posts.lands import Land, Part
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import PLACES
from fernfield.work.kernel.rows import Collection, Key, Moves, Name, Spot, TractId, Works
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.parts.rows import Parted
from fernfield.work.sites.earthworks import apart_of, in_a_sheet
from fernfield.work.sites.images import with_images
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Wall

Spots = NDArray[np.float64]
WADED_M, BANK_M = 0.3, 5.0
"""Water that is anywhere so deep is bridged, with so much of its bank at either side (our choice)."""
SPAN_SPOTS = 8
"""A deck bends after so many spots."""
SHEET, SHEET_NAME = "roads", "Roads"
"""What roads cut and fill is kept apart from all other ground under this key."""
MOST_POINTS = 400
MOST_SPOTS = 40_000


class Road(Parted):
    """Collection "roads": a road through points, the ground under it shaped so that it is nowhere steeper than it may
    be. [m, %]

    widths : the width at each point, where not all have the same
    shoulder_m : over so much beside it the ground is led to the land; fall_percent : from its middle to its edges
    cover : what it is made of; bridge : the piece of the kit that carries it over water, where the ground under it
    stays; heights : of its middle, a post apart, as it was built; spans : those that are bridged, from one number to
    another; order : later ones were led to those before them
    """

    name: Annotated[Name, Say("Name")]
    points: Annotated[tuple[Spot, ...], Field(min_length=2, max_length=MOST_POINTS), Lies("path"), UNASKED]
    width_m: Annotated[float, Field(ge=0.5, le=60), Say("Width", "m")] = 4.0
    widths: Annotated[tuple[Annotated[float, Field(ge=0.5, le=60)], ...], Field(max_length=MOST_POINTS), UNASKED] = ()
    steepest_percent: Annotated[float, Field(ge=0.5, le=60), Say("Steepest", "%")] = 12.0
    shoulder_m: Annotated[float, Field(ge=0, le=60), Say("Shoulder", "m")] = 3.0
    fall_percent: Annotated[float, Field(ge=0, le=10), Say("Fall to its edges", "%", under="More")] = 2.0
    cover: Annotated[Key | None, Names("covers"), UNASKED] = None
    heights: Annotated[tuple[float, ...], Field(max_length=MOST_SPOTS), WorkedOut, UNASKED] = ()
    bridge: Annotated[Key | None, Names("kit", gone="clear", always=KIT), UNASKED] = None
    spans: Annotated[tuple[tuple[int, int], ...], Field(max_length=100), WorkedOut, UNASKED] = ()
    order: Annotated[int, Field(ge=0), WorkedOut, UNASKED] = 0
    tract: Annotated[TractId | None, UNASKED] = None

    @model_validator(mode="after")
    def _fits(self) -> Road:
        if self.widths and len(self.widths) != len(self.points):
            raise InvalidInput(f"widths must be one for each of {len(self.points)} points, not {len(self.widths)}",
                               "widths")  # fmt: skip
        if len({(x, y) for x, y in self.points}) < 2:
            raise InvalidInput("a road needs two points that are not in one place", "points")
        return self


def _works(world: OpenWorld, moves: Moves) -> Works | None:
    return road_works(world, moves)


def _seen(row: Road) -> tuple[str, float, float, float, float]:
    xs, ys = [x for x, _ in row.points], [y for _, y in row.points]
    far = max((row.width_m, *row.widths)) + row.shoulder_m + max(max(xs) - min(xs), max(ys) - min(ys)) / 4
    return row.tract or "", min(xs) - far, min(ys) - far, max(xs) + far, max(ys) + far


class RoadTold(Road):
    """With its key, without how it was built."""

    key: str
    heights: Annotated[tuple[float, ...], Field(exclude=True)] = ()
    order: Annotated[int, Field(exclude=True)] = 0


def _shown(world: OpenWorld, key: str, row: Road) -> Annotated[dict[str, Any], RoadTold]:
    return {"key": key, **row.model_dump(mode="json", exclude={"heights", "order"})}


ROADS: Collection[Road] = Collection(
    "roads", Road, "road", in_tract=True, most=500, seen=_seen, ground=_works, packed=True, stays=True, shown=_shown,
    order=lambda pair: (pair[1].name, pair[0]), plan=lambda change, look: with_images(ROADS, change, look),
)  # fmt: skip


_KNOWN: OrderedDict[tuple[int, float], tuple[Road, Spots, Spots]] = OrderedDict()
_LOCK = threading.Lock()
MOST_KNOWN = 512


def _curve(row: Road, step: float) -> tuple[Spots, Spots]:
    """The spots of a road in its tract, shape (n, 2), and half its width at each. [m]"""
    place = id(row), step
    with _LOCK:
        known = _KNOWN.get(place)
        if known is not None and known[0] is row:
            return known[1:]
    points = np.array(row.points, np.float64)
    spots = through(points, step)
    if len(spots) > MOST_SPOTS:
        raise InvalidInput(f"a road has at most {MOST_SPOTS:,} posts, not {len(spots):,}", "points")
    widths = np.full(len(spots), row.width_m)
    if row.widths:
        # Each point is a spot of the curve.
        at = [int(np.argmin(np.hypot(*(spots - one).T))) for one in points]
        widths = np.interp(np.arange(len(spots)), np.maximum.accumulate(at), row.widths)
    with _LOCK:
        _KNOWN[place] = row, spots, widths / 2
        while len(_KNOWN) > MOST_KNOWN:
            _KNOWN.popitem(last=False)
    return spots, widths / 2


def _line(land: Land, part: Part, row: Road) -> tuple[Spots, Spots, Spots]:
    """The spots of a road in the posts of a land, and half its width at each. [m]"""
    spots, half = _curve(row, land.grid.spacing)
    x, y = spots[:, 0] + part.x, spots[:, 1] + part.y
    return np.asarray(land.grid.row_of(y)), np.asarray(land.grid.col_of(x)), half


def bed_of(land: Land, part: Part, row: Road) -> Bed | None:
    """A road as it was built; None where it was not."""
    line_row, line_col, half = _line(land, part, row)
    if len(row.heights) != len(line_row):
        return None
    for first, last in row.spans:
        # What is bridged reaches no ground.
        half = half.copy()
        half[first + 2 : last - 1] = -row.shoulder_m - 1
    return Bed(line_row, line_col, np.array(row.heights), half, row.shoulder_m, row.fall_percent / 100)


def _geometry(row: Road) -> tuple[object, ...]:
    return (
        row.points,
        row.width_m,
        row.widths,
        row.steepest_percent,
        row.shoulder_m,
        row.fall_percent,
        row.tract,
        row.bridge,
    )


def road_works(world: OpenWorld, moves: Moves) -> Works | None:
    """What an edit of roads does to the ground: they are built, led anew and taken away. Under the lock.

    Raises InvalidInput where a road cannot be as gentle as it says.
    """
    if any(name == PLACES.name for name, _ in moves):
        # The land itself is laid out anew, and its roads with it.
        return None
    changed: dict[str, Road | None] = {}
    windows: list[tuple[Land, Window]] = []
    more: Moves = {}
    for (name, key), row in moves.items():
        if name != ROADS.name:
            continue
        was, now = world.get(ROADS, key), row if isinstance(row, Road) else None
        # Heights are worked out, and never said.
        if now is not None and (was is None or now.heights != was.heights or _geometry(was) != _geometry(now)):
            now = _led(world, key, now, changed)
        if now is not None and now != row:
            more[name, key] = now
        changed[key] = now
        if was is not None and now is not None and _geometry(was) == _geometry(now) and was.heights == now.heights:
            continue
        windows += _windows(world, was, now)
        more |= _bridges(world, key, was, now)

    def build(land: Land, whole: Window) -> Callable[[FloatArray], FloatArray]:
        beds = [bed for _, _, bed in beds_in(world, land, whole, changed)]
        return lambda ground: built(ground, beds, whole, land.grid.spacing)

    return in_a_sheet(world, (SHEET, SHEET_NAME), windows, build, more)


def _bridges(world: OpenWorld, key: str, was: Road | None, now: Road | None) -> Moves:
    """What carries a road over water: walls that are decks, a new one for each span."""
    moves: Moves = {}
    if was is not None and (was.spans or now is None):
        moves = {
            (THINGS.name, own): None for own, row in world.each(THINGS) if isinstance(row, Wall) and row.road == key
        }
    if now is None or now.bridge is None:
        return moves
    entry = kit_of(world).get(now.bridge)
    if entry is None or entry.meets == "pad":
        raise InvalidInput(f"{now.bridge} wants level ground under it: it can carry no road", "bridge")
    land, part = _home(world, now)
    spots, _ = _curve(now, land.grid.spacing)
    for number, (first, last) in enumerate(now.spans, 1):
        some = spots[np.unique(np.linspace(first, last, max(2, (last - first) // SPAN_SPOTS + 1)).astype(int))]
        x, y = some[0].round(3).tolist()
        points = [(round(float(px) - x, 3), round(float(py) - y, 3)) for px, py in some]
        moves[THINGS.name, f"{key[-34:]}-b{number}"] = Wall(
            name=f"{now.name[:60]}, bridge {number}", kit=now.bridge, x=x, y=y, points=tuple(points), lies="level",
            road=key, part=now.part, tract=part.tract.row.id,
        )  # fmt: skip
    return moves


def _windows(world: OpenWorld, was: Road | None, now: Road | None) -> list[tuple[Land, Window]]:
    """The ground that changes with a road: what lies beside the stretch that is another, or beside all of it."""
    beds = [(land, bed_of(land, part, one)) for one in (was, now) if one is not None
            for land, part in [_home(world, one)]]  # fmt: skip
    found = [(land, bed) for land, bed in beds if bed is not None]
    if was is not None and now is not None and was.order == now.order and len(found) == 2:
        (land, old), (other, new) = found
        if land.id == other.id:
            found = [(land, bed) for bed in stretches_that_differ(old, new)]
    return [(land, land.clip(bed.window(land.grid.spacing))) for land, bed in found]


def _home(world: OpenWorld, row: Road) -> tuple[Land, Part]:
    tract_id = world.of_tract(row.tract)
    land = world.land_from(tract_id)
    return land, next(part for part in land.parts if part.tract.row.id == tract_id)


def beds_in(
    world: OpenWorld, land: Land, window: Window, changed: Mapping[str, Road | None] | None = None
) -> Iterator[tuple[str, Road, Bed]]:  # fmt: skip
    """The roads that reach into a window, by their keys. changed : as an edit will leave them; None for those that
    go"""
    new = changed or {}
    for part in land.parts:
        rows = {key: row for key, row in world.each_in(ROADS, part.tract.row.id) if key not in new}
        own = part.tract.row.id
        rows |= {key: row for key, row in new.items() if row is not None and world.of_tract(row.tract) == own}
        grid = land.grid
        west, east = grid.x_of(window.col0) - part.x, grid.x_of(window.col1) - part.x
        south, north = grid.y_of(window.row1) - part.y, grid.y_of(window.row0) - part.y
        for key in sorted(rows, key=lambda one: (rows[one].order, one)):
            _, x0, y0, x1, y1 = _seen(rows[key])
            if x0 > east or x1 < west or y0 > north or y1 < south:
                continue
            bed = bed_of(land, part, rows[key])
            if bed is not None and not bed.window(land.grid.spacing).meet(window).empty:
                yield key, rows[key], bed


def _led(world: OpenWorld, key: str, row: Road, changed: Mapping[str, Road | None]) -> Road:
    """A road with the heights that it is built at: level with the roads that it meets, else by the ground.

    changed : roads that change in the same edit, and were led before it
    """
    land, part = _home(world, row)
    line_row, line_col, half = _line(land, part, row)
    grid, bounds = land.grid, land.bounds
    inside = (
        (line_row >= bounds.row0) & (line_row <= bounds.row1 - 1)
        & (line_col >= bounds.col0) & (line_col <= bounds.col1 - 1)
    )  # fmt: skip
    if not inside.all():
        at = int(np.argmin(inside))
        raise InvalidInput(
            f"the road leaves the land at {grid.x_of(float(line_col[at])):.0f}, {grid.y_of(float(line_row[at])):.0f}: "
            "lead it over the land", "points",
        )  # fmt: skip
    itself = LineString(np.column_stack([line_col, line_row]))
    if not itself.is_simple:
        raise InvalidInput("the road crosses itself: make it two roads that meet", "points")
    flat = Bed(line_row, line_col, np.zeros_like(line_row), half, row.shoulder_m, 0.0)
    window = land.clip(flat.window(grid.spacing))
    ground = np.asarray(apart_of(world).without(world, land, window, SHEET), np.float64)
    under = _at(ground, line_row - window.row0, line_col - window.col0)
    far = along(line_row, line_col) * grid.spacing
    others = [bed for other, _, bed in beds_in(world, land, window, changed) if other != key]
    # It begins and ends on the land as others leave it.
    beside = _at(
        np.asarray(built(ground.astype(np.float32), others, window, grid.spacing), np.float64),
        line_row[[0, -1]] - window.row0, line_col[[0, -1]] - window.col0,
    )  # fmt: skip
    fixed = {0: float(beside[0]), len(under) - 1: float(beside[1])}
    for bed in others:
        fixed |= _meetings(line_row, line_col, bed, grid.spacing)
    spans = _spans(world, land, window, ground, (line_row, line_col)) if row.bridge is not None else ()
    for first, last in spans:
        # It goes over the water from bank to bank, as if land were there.
        under[first : last + 1] = np.linspace(under[first], under[last], last + 1 - first)
    smooth = round(ROUNDED_M / max(float(far[-1]) / max(len(far) - 1, 1), 1e-9))
    try:
        z = profile(under, far, row.steepest_percent / 100 * LEFT_OVER, fixed, smooth)
    except InvalidInput as error:
        raise InvalidInput(f"{row.name} cannot be so gentle: {error}", "steepest_percent") from None
    rows = {**dict(world.each(ROADS)), **changed}
    for first, last in spans:
        z[first : last + 1] = np.linspace(z[first], z[last], last + 1 - first)
    # One that is the last already stays so: where it meets others nothing changes but by its own line.
    order = max(row.order, 1 + max((one.order for other, one in rows.items() if one and other != key), default=0))
    return row.model_copy(update={"heights": tuple(z.round(3).tolist()), "spans": spans, "order": order})


def _spans(
    world: OpenWorld, land: Land, window: Window, ground: Spots, line: tuple[Spots, Spots]
) -> tuple[tuple[int, int], ...]:
    """The stretches of a road that water crosses, with dry ground at either end: numbers of spots."""
    surface = np.asarray(world.surface(land, window), np.float64)
    at = line[0] - window.row0, line[1] - window.col0
    depth = _at(surface - ground, *at)
    wet = np.flatnonzero(depth > 0)
    found: list[tuple[int, int]] = []
    around = max(2, round(BANK_M / land.grid.spacing))
    for spot in wet.tolist():
        first, last = max(spot - around, 0), min(spot + around, len(depth) - 1)
        if found and first <= found[-1][1]:
            found[-1] = found[-1][0], last
        else:
            found.append((first, last))
    return tuple((first, last) for first, last in found if depth[first : last + 1].max() > WADED_M)


def _at(values: Spots, row: Spots, col: Spots) -> Spots:
    """Values between posts, by the four around."""
    r0 = np.clip(np.floor(row).astype(int), 0, values.shape[0] - 2)
    c0 = np.clip(np.floor(col).astype(int), 0, values.shape[1] - 2)
    fr, fc = row - r0, col - c0
    north = values[r0, c0] * (1 - fc) + values[r0, c0 + 1] * fc
    south = values[r0 + 1, c0] * (1 - fc) + values[r0 + 1, c0 + 1] * fc
    return np.asarray(north * (1 - fr) + south * fr)


def _meetings(row: Spots, col: Spots, other: Bed, spacing: float) -> dict[int, float]:
    """Where a road comes onto another and leaves it: the numbers of its spots, and how high the other is there. [m]"""
    away, at = places_on(row, col, (other.row, other.col))
    spots = np.arange(len(other.z))
    half, z = np.interp(at, spots, other.half), np.interp(at, spots, other.z)
    # A post further: between two posts the land is a mean of both.
    on = np.flatnonzero(away * spacing <= half + spacing)
    # Between the two it is the other's surface.
    on = on[
        np.concatenate([[True], np.diff(on) > 1])[: len(on)] | np.concatenate([np.diff(on) > 1, [True]])[-len(on) :]
    ]
    level = z - other.fall * np.maximum(np.minimum(away * spacing, half) - spacing, 0)
    return {int(spot): float(level[spot]) for spot in on}


# What it comes to


class RoadFigures(TypedDict):
    """A road as it lies: its length, what one climbs along it, its steepest metre, and what was moved for it."""

    length_m: float
    climb_m: float
    steepest_percent: float
    cut_m3: float
    fill_m3: float


def figures_of(world: OpenWorld, key: str) -> RoadFigures:
    """By the land as it is now. Raises NotFound."""
    with world.lock:
        row = world.row(ROADS, key)
        land, part = _home(world, row)
        return _figures(world, land, part, row)


def _figures(world: OpenWorld, land: Land, part: Part, row: Road) -> RoadFigures:
    spacing = land.grid.spacing
    line_row, line_col, _ = _line(land, part, row)
    far = along(line_row, line_col) * spacing
    bed = bed_of(land, part, row)
    window = land.clip((bed or Bed(line_row, line_col, far, far * 0 + 1, 0, 0)).window(spacing))
    z = _at(np.asarray(land.read(HEIGHT, window), np.float64), line_row - window.row0, line_col - window.col0)
    for first, last in row.spans if bed is not None else ():
        z[first : last + 1] = np.linspace(z[first], z[last], last + 1 - first)
    every = np.arange(0, max(far[-1], 1.0) + 1e-9, max(1.0, spacing))
    sampled = np.interp(every, far, z)
    cut = fill = 0.0
    if bed is not None:
        before = np.asarray(apart_of(world).without(world, land, window, SHEET), np.float64)
        moved = (built(before.astype(np.float32), [bed], window, spacing) - before) * spacing**2
        cut, fill = float(-moved[moved < 0].sum()), float(moved[moved > 0].sum())
    steep = float(np.abs(grades(sampled, every)).max(initial=0.0)) * 100
    return {
        "length_m": round(float(far[-1]), 2), "climb_m": round(climb(sampled), 2),
        "steepest_percent": round(steep, 2), "cut_m3": round(cut, 1), "fill_m3": round(fill, 1),
    }  # fmt: skip


def road_posts(world: OpenWorld, land: Land, window: Window) -> NDArray[np.bool_] | None:
    """Which posts of a window a road lies on; None where there is none."""
    out: NDArray[np.bool_] | None = None
    for _, _, bed in beds_in(world, land, window) if world.rows[ROADS.name] else ():
        own = covered(bed, window, land.grid.spacing)
        out = own if out is None else out | own
    return out


def on_roads(world: OpenWorld, land: Land, x: FloatArray, y: FloatArray) -> NDArray[np.bool_]:
    """Which places lie on a road."""
    out = np.zeros(len(x), bool)
    if not len(x) or not world.rows[ROADS.name]:
        return out
    grid = land.grid
    row, col = np.asarray(grid.row_of(np.asarray(y, float))), np.asarray(grid.col_of(np.asarray(x, float)))
    window = Window(
        math.floor(row.min()), math.floor(col.min()), math.ceil(row.max()) + 2, math.ceil(col.max()) + 2
    )  # fmt: skip
    posts = road_posts(world, land, window)
    if posts is None:
        return out
    at = np.rint(row - window.row0).astype(int), np.rint(col - window.col0).astype(int)
    return np.asarray(posts[at])


# As the checks see it

REACHES_M = 15.0
"""A road leads to what lies so near to its end (our choice)."""
WET_M = 0.05


def build_anew(world: OpenWorld, key: str) -> Outcome:
    """Lead a road over the land as it is now. Raises NotFound, InvalidInput."""
    with world.lock:
        row = world.row(ROADS, key)
        return world.edit(put(ROADS, key, row.model_copy(update={"heights": ()})))


def roads_found(world: OpenWorld) -> Iterator[RoadFound]:
    """Every road as it lies."""
    for key, row in world.each(ROADS):
        with world.lock:
            land, part = _home(world, row)
            told = _figures(world, land, part, row)
            line_row, line_col, _ = _line(land, part, row)
            window = land.clip(Window(int(line_row.min()) - 1, int(line_col.min()) - 1, int(line_row.max()) + 3,
                                      int(line_col.max()) + 3))  # fmt: skip
            at = line_row - window.row0, line_col - window.col0
            depth = _at(np.asarray(world.surface(land, window), np.float64), *at) - _at(
                np.asarray(land.read(HEIGHT, window), np.float64), *at
            )
            loose = tuple(
                (round(x, 2), round(y, 2)) for x, y in (row.points[0], row.points[-1])
                if not _leads(world, land, part, key, x, y)
            )  # fmt: skip
        for first, last in row.spans:
            depth[first : last + 1] = 0
        wet = depth > WET_M
        worst = int(np.argmax(depth)) if wet.any() else len(depth) // 2
        step = told["length_m"] / max(len(depth) - 1, 1)
        x, y = land.grid.x_of(float(line_col[worst])) - part.x, land.grid.y_of(float(line_row[worst])) - part.y
        yield RoadFound(
            key, row.name, part.tract.row.id, told["steepest_percent"], row.steepest_percent, float(wet.sum() * step),
            x, y, loose,
        )  # fmt: skip


def _leads(world: OpenWorld, land: Land, part: Part, key: str, x: float, y: float) -> bool:
    """Whether something lies at the end of a road: what stands there, another road, or the land's end."""
    grid, bounds = land.grid, land.bounds
    row, col = float(grid.row_of(y + part.y)), float(grid.col_of(x + part.x))
    far = REACHES_M / grid.spacing
    if min(row - bounds.row0, bounds.row1 - 1 - row, col - bounds.col0, bounds.col1 - 1 - col) < far:
        return True
    box = x - REACHES_M, y - REACHES_M, x + REACHES_M, y + REACHES_M
    if any(True for _ in world.near(THINGS, part.tract.row.id, box)):
        return True
    around = Window(int(row - far), int(col - far), int(row + far) + 1, int(col + far) + 1)
    return any(
        float(np.hypot(bed.row - row, bed.col - col).min()) <= far
        for other, _, bed in beds_in(world, land, around) if other != key
    )  # fmt: skip
