"""Tracts that touch: which can be joined, joining them, and what lies beside a stroke."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import Field
from typing_extensions import TypedDict

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Grid, Window
from fernfield.core.ground.join import narrowing, raised_corner, seam_of
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land, alone
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import JOINS, Join, Tract, TractPlace
from fernfield.work.kernel.rows import Key, Moves, TractId
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.kernel.writing.aside import Asides, overtaken
from fernfield.work.kernel.writing.drawing import Put, draw, plainly
from fernfield.work.kernel.writing.ledger import Ended, said
from fernfield.work.kernel.writing.sweep import Sweep

NEAR = 0.01
"""Edges that are less than this part of a spacing apart touch."""


class JoinTracts(Command):
    """Bring the edges of two tracts that touch to one line, blended over `blend_m` on either side. [m]"""

    do: Literal["join"] = "join"
    first: TractId
    second: TractId
    blend_m: Annotated[float, Field(ge=0, le=2_000)] = 40.0
    sheet: Key | None = None


class PartTracts(Command):
    """Two tracts are joined no longer; their ground stays."""

    do: str = "part"
    key: str


@dataclass(frozen=True, slots=True)
class Touch:
    """Two tracts that touch: the second lies on the `side` of the first, along so many metres.

    why_not : what keeps them from being joined, in words; empty when nothing does
    """

    first: str
    second: str
    side: Literal["east", "north"]
    along_m: float
    why_not: str


def key_of(first: str, second: str) -> str:
    return f"{first}-{second}"


def touching(world: OpenWorld) -> list[Touch]:
    """Every pair of open tracts whose edges touch."""
    places = [(key, place, world.tract(key).grid) for key, place in world.places() if place.kind == "open"]
    found = []
    for a, at, own in places:
        for b, beside, other in places:
            if a == b:
                continue
            near = NEAR * min(own.spacing, other.spacing)
            if abs(at.x + own.width - beside.x) <= near:
                along = min(at.y + own.depth, beside.y + other.depth) - max(at.y, beside.y)
                side: Literal["east", "north"] = "east"
            elif abs(at.y + own.depth - beside.y) <= near:
                along = min(at.x + own.width, beside.x + other.width) - max(at.x, beside.x)
                side = "north"
            else:
                continue
            if along > near:
                found.append(Touch(a, b, side, along, _why_not(at, own, beside, other, side, near)))
    return found


def _why_not(at: TractPlace, own: Grid, beside: TractPlace, other: Grid, side: str, near: float) -> str:
    if abs(own.spacing - other.spacing) > 1e-9 * own.spacing:
        return f"the spacing differs: {at.name} has {own.spacing:g} m, {beside.name} {other.spacing:g} m"
    mine, theirs = (own.rows, other.rows) if side == "east" else (own.cols, other.cols)
    if mine != theirs:
        return f"the posts along the edge differ: {at.name} has {mine}, {beside.name} {theirs}"
    shift = beside.y - at.y if side == "east" else beside.x - at.x
    if abs(shift) > near:
        return f"{beside.name} is shifted by {shift:g} m along the edge: the posts must stand in one line"
    return ""


def _strips(first: Tract, second: Tract, side: str, deep: int) -> tuple[Window, Window]:
    """The posts along the two edges, `deep` inland."""
    a, b = first.grid, second.grid
    if side == "east":
        one, two = min(deep, a.cols), min(deep, b.cols)
        return Window(0, a.cols - one, a.rows, a.cols), Window(0, 0, b.rows, two)
    one, two = min(deep, a.rows), min(deep, b.rows)
    return Window(0, 0, one, a.cols), Window(b.rows - two, 0, b.rows, b.cols)


def _inland(values: FloatArray, side: str, first: bool) -> FloatArray:
    """A strip turned so that column 0 is the edge and rows run along it; the same call turns it back."""
    if side == "east":
        return values[:, ::-1] if first else values
    return values.T if first else values[::-1].T


def _back(values: FloatArray, side: str, first: bool) -> FloatArray:
    if side == "east":
        return values[:, ::-1] if first else values
    return values.T if first else values.T[::-1]


def join(world: OpenWorld, command: JoinTracts) -> Outcome:
    """Bring two edges to one line. Raises Conflict when they do not touch, or their posts differ."""

    def begin() -> Sweep:
        found = [t for t in touching(world) if {t.first, t.second} == {command.first, command.second}]
        one, two = world.place_of(command.first), world.place_of(command.second)
        if not found:
            raise Conflict(f"{one.name} and {two.name} do not touch: move one so that their edges meet")
        touch = found[0]
        if touch.why_not:
            raise Conflict(f"{one.name} and {two.name} cannot be joined: {touch.why_not}")
        row = Join(first=touch.first, second=touch.second, side=touch.side, blend_m=command.blend_m)
        there = Asides(world)
        puts = _blend(world, there, row)
        moves: Moves = {("joins", key_of(row.first, row.second)): row}
        ended = Ended(f"Joined {one.name} and {two.name}", said(command), moves)
        return draw(world, puts, command.sheet, lambda: ended, still=lambda: not overtaken(world, there.seen))

    return world.sweep(begin)


def _blend(world: OpenWorld, there: Asides, row: Join) -> list[Put]:
    """Bring the corners at both ends to one height, then the two edges to one line; read from the tiles `there`."""
    one, two = world.tract(row.first), world.tract(row.second)
    posts = row.blend_m / one.grid.spacing
    at, grid = world.place_of(row.first), one.grid
    # The ends as rows (or columns) of a strip run: from the north, or from the west.
    if row.side == "east":
        ends = [(at.x + grid.width, at.y + grid.depth), (at.x + grid.width, at.y)]
    else:
        ends = [(at.x, at.y + grid.depth), (at.x + grid.width, at.y + grid.depth)]
    puts, crossed = [], []
    for x, y in ends:
        meeting = _meeting(world, row, x, y)
        crossed.append(len(meeting) > 2)
        if len(meeting) > 2:
            puts += _level_corner(there, meeting, posts)

    def edge(tract: Tract, window: Window) -> FloatArray:
        """Two posts inland, with what the corners are lifted by."""
        values = there[tract.row.id].read(HEIGHT, window)
        for put in puts:
            if put.land.id == tract.row.id and not (part := window.meet(put.window)).empty:
                box = part.inside(window)
                values[box] = put.look(_as_it_is, part)(values[box])
        return _inland(values, row.side, tract is one)

    narrow = [edge(tract, window) for tract, window in zip((one, two), _strips(one, two, row.side, 2), strict=True)]
    windows = _strips(one, two, row.side, max(2, int(np.ceil(posts)) + 1))
    room = float(min(_deep(window, row.side) for window in windows) - 1)
    seam = seam_of(narrow[0], narrow[1], narrowing(len(narrow[0]), min(posts, room), crossed[0], crossed[1]))
    for side, (tract, window) in enumerate(zip((one, two), windows, strict=True)):

        def new(part: Window, was: FloatArray, side: int = side, window: Window = window) -> FloatArray:
            along, inland = _place_in(part, window, row.side, side == 0)
            laid = seam.laid(side, np.ascontiguousarray(_inland(was, row.side, side == 0)), along, inland)
            return np.ascontiguousarray(_back(laid, row.side, side == 0))

        puts.append(Put(alone(tract), window, plainly(new)))
    return puts


def _as_it_is(land: Land) -> Land:
    return land


def _deep(window: Window, side: str) -> int:
    return window.cols if side == "east" else window.rows


def _place_in(part: Window, window: Window, side: str, first: bool) -> tuple[int, int]:
    """Where a part of a strip begins once it is turned: along the edge, and inland."""
    if side == "east":
        return part.row0 - window.row0, window.col1 - part.col1 if first else part.col0 - window.col0
    return part.col0 - window.col0, part.row0 - window.row0 if first else window.row1 - part.row1


def _meeting(world: OpenWorld, row: Join, x: float, y: float) -> list[tuple[Tract, int, int]]:
    """The tracts joined to one another that have a corner at a place of the layout, with its row and column. [m]"""
    rows = [row, *(other for _, other in world.each(JOINS))]
    found: dict[str, tuple[Tract, int, int]] = {}
    known = {row.first, row.second}
    while True:
        more = {key for j in rows if {j.first, j.second} & known for key in (j.first, j.second)} - known
        more = {key for key in more if _corner(world, key, x, y) is not None}
        if not more:
            break
        known |= more
    for key in known:
        corner = _corner(world, key, x, y)
        if corner is not None:
            found[key] = (world.tract(key), *corner)
    return list(found.values())


def _corner(world: OpenWorld, key: str, x: float, y: float) -> tuple[int, int] | None:
    """Row and column of a tract's corner at a place of the layout, if it has one there. [m]"""
    place, grid = world.place_of(key), world.tract(key).grid
    near = NEAR * grid.spacing
    cols = {0.0: 0, grid.width: grid.cols - 1}
    rows = {0.0: grid.rows - 1, grid.depth: 0}
    col = next((c for east, c in cols.items() if abs(place.x + east - x) <= near), None)
    line = next((r for north, r in rows.items() if abs(place.y + north - y) <= near), None)
    return None if col is None or line is None else (line, col)


def _level_corner(there: Asides, meeting: list[tuple[Tract, int, int]], posts: float) -> list[Put]:
    """Lift or lower each tract around its corner, so that all corners are one height."""
    heights = [float(there[t.row.id].read(HEIGHT, Window(r, c, r + 1, c + 1))[0, 0]) for t, r, c in meeting]
    mean = float(np.mean(heights))
    puts = []
    for (tract, row, col), height in zip(meeting, heights, strict=True):
        radius = min(posts, tract.grid.rows - 1, tract.grid.cols - 1)
        around = tract.grid.clip(Window(row, col, row + 1, col + 1).pad(int(np.ceil(radius))))

        def lifted(part: Window, was: FloatArray, at: tuple[int, int] = (row, col), lift: float = mean - height,
                   wide: float = radius) -> FloatArray:  # fmt: skip
            return raised_corner(was, at[0] - part.row0, at[1] - part.col0, lift, wide)

        puts.append(Put(alone(tract), around, plainly(lifted)))
    return puts


def part(world: OpenWorld, command: PartTracts) -> Outcome:
    """Take a join away; the ground stays as it is. Raises NotFound."""
    row = world.row(JOINS, command.key)
    one, two = world.place_of(row.first).name, world.place_of(row.second).name
    return world.change_rows(command, f"Parted {one} and {two}", {("joins", command.key): None})


def gap_of(world: OpenWorld, first: str, second: str, side: str) -> float:
    """By how much two edges of as many posts differ at most. [m]"""
    a, b = world.tract(first), world.tract(second)
    windows = _strips(a, b, side, 1)
    with world.lock:
        one = _inland(a.cache.read(HEIGHT, windows[0]), side, True)[:, 0]
        two = _inland(b.cache.read(HEIGHT, windows[1]), side, False)[:, 0]
    return float(np.abs(one - two).max())


class TouchTold(TypedDict):
    """Two tracts that touch, by how much their edges differ [m], and the join, or what keeps them from it."""

    first: str
    second: str
    side: str
    along_m: float
    why_not: str | None
    gap_m: float | None
    joined: str | None
    blend_m: float | None


def layout_json(world: OpenWorld) -> list[TouchTold]:
    """Every touching pair, as the API shows it."""
    rows = dict(world.each(JOINS))
    found: list[TouchTold] = []
    for touch in touching(world):
        row = rows.get(key_of(touch.first, touch.second))
        gap = None if touch.why_not else gap_of(world, touch.first, touch.second, touch.side)
        found.append(
            {
                "first": touch.first, "second": touch.second, "side": touch.side, "along_m": touch.along_m,
                "why_not": touch.why_not or None, "gap_m": gap,
                "joined": None if row is None else key_of(touch.first, touch.second),
                "blend_m": None if row is None else row.blend_m,
            }
        )  # fmt: skip
    return found


def open_joins(world: OpenWorld) -> Iterator[tuple[str, str, float]]:
    """The names of joined tracts, and by how much their edges differ. [m]"""
    for _, row in world.each(JOINS):
        one, two = world.place_of(row.first).name, world.place_of(row.second).name
        yield one, two, gap_of(world, row.first, row.second, row.side)
