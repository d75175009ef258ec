"""What entries of the kit are made of: boxes, drums, roofs and the like, each a function and a line in `FORMS`; and
what follows from them: triangles at three details, the outline on the ground, what blocks."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.mesh import Mesh, chance, flat, joined
from fernfield.core.sites.kit import OVERHEAD_M, Blocks, Corners, Entry, Part, Solid

Points = NDArray[np.float64]
SIDES = (6, 8, 14)
"""Of what is round, by detail."""
UPRIGHT_DEG = 1e-6
GREY = "#8a8676"


def _fan(ring: Points) -> Points:
    """Triangles of a convex ring, shape (n, 3, 3)."""
    return np.asarray(np.stack([np.broadcast_to(ring[0], ring[1:-1].shape), ring[1:-1], ring[2:]], axis=1))


def _between(low: Points, high: Points) -> Points:
    """Triangles from a ring to the one above it; both counter-clockwise, with as many points."""
    after, above = np.roll(low, -1, axis=0), np.roll(high, -1, axis=0)
    made = np.concatenate([np.stack([low, after, above], axis=1), np.stack([low, above, high], axis=1)])
    area = np.linalg.norm(np.cross(made[:, 1] - made[:, 0], made[:, 2] - made[:, 0]), axis=1)
    return np.asarray(made[area > 1e-9])


def _prism(rings: list[Points]) -> Points:
    """A solid over rings one above the other, with a floor and a lid."""
    sides = [_between(a, b) for a, b in itertools.pairwise(rings)]
    ends = [_fan(rings[0][::-1]), *([_fan(rings[-1])] if np.ptp(rings[-1][:, :2]) > 1e-9 else [])]
    return np.concatenate([*sides, *ends])


def _rect(width: float, depth: float, z: float, middle: tuple[float, float] = (0.0, 0.0)) -> Points:
    w, d = width / 2, depth / 2
    return np.asarray(np.array([(-w, -d, z), (w, -d, z), (w, d, z), (-w, d, z)]) + np.array([*middle, 0.0]))


def _ring(width: float, depth: float, z: float, sides: int) -> Points:
    """Of a figure with so many sides that fills a rectangle."""
    turn = 2 * math.pi * (np.arange(sides) + 0.5) / sides
    x, y = np.cos(turn), np.sin(turn)
    return np.stack([x / x.max() * width / 2, y / y.max() * depth / 2, np.full(sides, z)], axis=1)


def box(part: Part, detail: int) -> Points:
    width, depth, height = part.size
    return _prism([_rect(width, depth, 0.0), _rect(width * part.taper, depth * part.taper, height)])


def drum(part: Part, detail: int) -> Points:
    """Round; a cone where it tapers to nothing."""
    width, depth, height = part.size
    sides = SIDES[detail]
    return _prism([_ring(width, depth, 0.0, sides), _ring(width * part.taper, depth * part.taper, height, sides)])


def gable(part: Part, detail: int) -> Points:
    """A pitched roof with its gables; the ridge runs along the depth."""
    width, depth, height = part.size
    w, d = width / 2, depth / 2
    ring = np.array([(w, 0.0), (0.0, height), (-w, 0.0)])
    south, north = (np.column_stack([ring[:, 0], np.full(3, y), ring[:, 1]]) for y in (-d, d))
    return np.concatenate([_between(north, south), _fan(south), _fan(north[::-1])])


def ramp(part: Part, detail: int) -> Points:
    """Rises along the depth, from nothing to its height."""
    width, depth, height = part.size
    w, d = width / 2, depth / 2
    side = np.array([(-d, 0.0), (d, 0.0), (d, height)])
    west, east = (np.column_stack([np.full(3, x), side]) for x in (-w, w))
    return np.concatenate([_between(west, east), _fan(east), _fan(west[::-1])])


STEP_M = 0.2


def stair(part: Part, detail: int) -> Points:
    """Steps of 0.2 m at most, up along the depth; from far away a ramp."""
    width, depth, height = part.size
    if detail == 0:
        return ramp(part, detail)
    count = max(1, math.ceil(height / STEP_M))
    run = depth / count
    steps = [
        _prism([_rect(width, run, z, (0.0, -depth / 2 + run * (k + 0.5))) for z in (0.0, height * (k + 1) / count)])
        for k in range(count)
    ]
    return np.concatenate(steps)


def arch(part: Part, detail: int) -> Points:
    """A wall with a round opening through its depth: half as wide as it is, three quarters as high."""
    width, depth, height = part.size
    opening = width * (part.taper if part.taper < 1 else 0.5)
    rise, pier = min(opening / 2, height * 0.75), (width - opening) / 2
    springs = max(height * 0.75 - rise, 0.0)
    sides = [_prism([_rect(pier, depth, z, (s * (opening + pier) / 2, 0.0)) for z in (0.0, height)]) for s in (-1, 1)]
    steps = (3, 4, 8)[detail]
    turn = np.linspace(0, math.pi, steps + 1)
    under = np.stack([np.cos(turn) * opening / 2, springs + np.sin(turn) * rise], axis=1)
    over = []
    for a, b in itertools.pairwise(under):
        face = np.array([(a[0], a[1]), (a[0], height), (b[0], height), (b[0], b[1])])
        south, north = (np.column_stack([face[:, 0], np.full(4, y), face[:, 1]]) for y in (-depth / 2, depth / 2))
        over += [_between(north, south), _fan(south), _fan(north[::-1])]
    return np.concatenate([*sides, *over])


def heap(part: Part, detail: int) -> Points:
    """A rounded mound with an uneven skin."""
    width, depth, height = part.size
    sides = SIDES[detail] + 2
    rings: list[Points] = []
    for number, (wide, high) in enumerate(((1.0, 0.0), (0.86, 0.45), (0.52, 0.82), (0.0, 1.0))):
        ring = _ring(width * wide, depth * wide, height * high, sides)
        if 0 < number < 3:
            ring[:, :2] *= (1 - 0.12 * chance(number * 7 + sides, sides))[:, None]
        rings.append(ring)
    return _prism(rings)


def bowl(part: Part, detail: int) -> Points:
    """A ring of stone around a basin."""
    width, depth, height = part.size
    sides = SIDES[detail]
    rim = 0.72
    outer, top = _ring(width, depth, 0.0, sides), _ring(width * 0.96, depth * 0.96, height, sides)
    inner, floor = (
        _ring(width * rim, depth * rim, height, sides),
        _ring(width * rim * 0.9, depth * rim * 0.9, height * 0.45, sides),
    )
    return np.concatenate(
        [_fan(outer[::-1]), _between(outer, top), _between(top, inner), _between(inner, floor), _fan(floor)]
    )


def rubble(part: Part, detail: int) -> Points:
    """Stones laid in courses: a box whose faces are uneven."""
    width, depth, height = part.size
    if detail == 0:
        return box(part, detail)
    along = max(2, round(max(width, depth) / (1.6 if detail == 1 else 0.8)))
    wide = width >= depth
    made = []
    for k in range(along):
        share = 1 / along
        draw = chance(k * 13 + 5, 3)
        # No stone reaches past the wall's own measures.
        w, d = (width * share, depth * (1 - 0.12 * draw[0])) if wide else (width * (1 - 0.12 * draw[0]), depth * share)
        h = height * (1 - 0.07 * draw[1])
        off = ((k + 0.5) * share - 0.5) * (width if wide else depth)
        made.append(_prism([_rect(w, d, z, (off, 0.0) if wide else (0.0, off)) for z in (0.0, h)]))
    made.append(_prism([_rect(width * 0.98, depth * 0.8, z) for z in (0.0, height * 0.8)]))
    tallest = (width / along, depth * 0.88) if wide else (width * 0.88, depth / along)
    first = ((0.5 / along - 0.5) * width, 0.0) if wide else (0.0, (0.5 / along - 0.5) * depth)
    made.append(_prism([_rect(*tallest, z, first) for z in (0.0, height)]))
    return np.concatenate(made)


FORMS: dict[str, Callable[[Part, int], Points]] = {
    "box": box, "drum": drum, "gable": gable, "ramp": ramp, "stair": stair, "arch": arch, "heap": heap, "bowl": bowl,
    "rubble": rubble,
}  # fmt: skip


def _turned(points: Points, part: Part) -> Points:
    """Points of a part in the entry's frame."""
    x, y, z = np.moveaxis(points, -1, 0)
    for degrees, axis in ((part.roll_deg, "roll"), (part.pitch_deg, "pitch"), (part.turn_deg, "turn")):
        if not degrees:
            continue
        cos, sin = math.cos(math.radians(degrees)), math.sin(math.radians(degrees))
        if axis == "roll":
            x, z = x * cos + z * sin, z * cos - x * sin
        elif axis == "pitch":
            y, z = y * cos + z * sin, z * cos - y * sin
        else:
            x, y = x * cos + y * sin, y * cos - x * sin
    return np.asarray(np.stack([x, y, z], axis=-1) + np.asarray(part.at))


def shape_of_part(part: Part, detail: int) -> Points:
    """Triangles of a part in its entry's frame, shape (n, 3, 3), counter-clockwise seen from outside. [m]"""
    return _turned(FORMS[part.form](part, detail), part)


def _shown(entry: Entry, look: str, detail: int) -> list[Part]:
    return [part for part in entry.parts if part.least <= detail and (not part.looks or look in part.looks)]


def built(entry: Entry, look: str, detail: int) -> Mesh:
    """An entry that is made of parts; `of` is the number of each corner's ink among `entry.inks`."""
    numbers = {name: number for number, name in enumerate(entry.inks)}
    return joined([flat(shape_of_part(part, detail), numbers.get(part.ink, 0)) for part in _shown(entry, look, detail)])


def rgb(text: str) -> tuple[float, float, float]:
    """ "#rrggbb" as numbers from 0 to 1."""
    return int(text[1:3], 16) / 255, int(text[3:5], 16) / 255, int(text[5:7], 16) / 255


TINTED = 0.45
"""So much of its own colour gives way to a tint."""


def entry_shape(entry: Entry, look: str | None = None, detail: int = 2, tint: str | None = None) -> FloatArray:
    """The triangles of an entry, shape (corners, 9): x across, y along its facing, z up from its foot [m], normal, and
    colour from 0 to 1."""
    if entry.own is not None:
        corners = entry.own.copy()
    else:
        own = entry.look(look)
        mesh = built(entry, own.name, detail)
        inks = np.array([rgb(own.inks.get(name, ink)) for name, ink in entry.inks.items()] or [rgb(GREY)], np.float32)
        corners = np.concatenate([mesh.at, mesh.normal, inks[mesh.of]], axis=1)
    if tint is not None:
        corners[:, 6:] += np.float32(TINTED) * (np.array(rgb(tint), np.float32) - corners[:, 6:])
    return corners


# What it takes up, and what of it blocks


def hull(points: Points) -> Corners:
    """The convex hull of points (n, 2), counter-clockwise (Andrew 1979, monotone chains)."""
    # What differs by rounding alone is one place.
    points = np.round(points, 9)
    order = points[np.lexsort((points[:, 1], points[:, 0]))]
    order = order[np.r_[True, np.any(np.diff(order, axis=0) != 0, axis=1)]]

    def chain(some: Points) -> list[Points]:
        found: list[Points] = []
        for point in some:
            while len(found) > 1:
                (ax, ay), (bx, by) = found[-2], found[-1]
                if (bx - ax) * (point[1] - ay) - (by - ay) * (point[0] - ax) > 1e-12:
                    break
                found.pop()
            found.append(point)
        return found

    lower, upper = chain(order), chain(order[::-1])
    return np.array([*lower[:-1], *upper[:-1]])


def _part_points(part: Part) -> Points:
    return shape_of_part(part, 2).reshape(-1, 3)


def footprints(entry: Entry) -> tuple[Corners, ...]:
    """The ground that an entry takes up, as convex polygons: one for each firm part that is not over people's heads.
    Those that lie wholly in another are left out."""
    if entry.own is not None:
        points = entry.points[entry.points[:, 2] < OVERHEAD_M, :2]
        return (hull(points if len(points) >= 3 else entry.points[:, :2]),)
    made = [_part_points(part) for part in entry.parts if part.firm]
    made = [points for points in made if points[:, 2].min() < OVERHEAD_M] or [entry.points]
    found = [hull(points[:, :2]) for points in made]
    kept: list[Corners] = []
    for polygon in sorted(found, key=area_of, reverse=True):
        if not any(_holds(other, polygon) for other in kept):
            kept.append(polygon)
    return tuple(kept)


def area_of(polygon: Corners) -> float:
    """The area of a polygon. [m²]"""
    x, y = polygon[:, 0], polygon[:, 1]
    return float(abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2)


def _holds(outer: Corners, inner: Corners) -> bool:
    a, b = outer, np.roll(outer, -1, axis=0)
    way = b - a
    left = way[:, None, 0] * (inner[None, :, 1] - a[:, None, 1]) - way[:, None, 1] * (inner[None, :, 0] - a[:, None, 0])
    return bool((left >= -1e-9).all())


def solids_of(entry: Entry, blocks: Blocks | None = None) -> tuple[Solid, ...]:
    """What of an entry stands in a walker's way, as its `blocks` says, or as is said."""
    width, depth, height = entry.size
    (x0, y0, z0), (x1, y1, _) = entry.box
    middle = (x0 + x1) / 2, (y0 + y1) / 2
    match blocks or entry.blocks:
        case "nothing":
            return ()
        case "box":
            return (Solid(*middle, z0, height, math.hypot(width, depth) / 2, (width / 2, depth / 2)),)
        case "cylinder":
            return (Solid(*middle, z0, height, max(width, depth) / 2),)
        case "hull":
            return (_polygon(hull(entry.points[:, :2]), z0, height),)
        case "outline":
            return tuple(_polygon(corners, z0, height) for corners in entry.outline)
    if entry.own is not None:
        return (_polygon(entry.outline[0], z0, height),)
    return tuple(_solid(part) for part in entry.parts if part.firm)


def _solid(part: Part) -> Solid:
    points = _part_points(part)
    z0, z1 = float(points[:, 2].min()), float(points[:, 2].max())
    if abs(part.pitch_deg) < UPRIGHT_DEG and abs(part.roll_deg) < UPRIGHT_DEG:
        width, depth, _ = part.size
        if part.form in ("drum", "heap", "bowl") and width == depth:
            return Solid(part.at[0], part.at[1], z0, z1, width / 2)
        if part.form not in ("drum", "heap", "bowl"):
            return Solid(
                part.at[0], part.at[1], z0, z1, math.hypot(width, depth) / 2, (width / 2, depth / 2), part.turn_deg
            )  # fmt: skip
    return _polygon(hull(points[:, :2]), z0, z1)


def _polygon(corners: Corners, z0: float, z1: float) -> Solid:
    x, y = corners.mean(axis=0).tolist()
    around = corners - [x, y]
    return Solid(
        x, y, z0, z1, float(np.hypot(around[:, 0], around[:, 1]).max()),
        corners=tuple((float(a), float(b)) for a, b in around),
    )  # fmt: skip


# Starts: no entry, but drawn as pieces are

POLE, ARROW_DEG = "#1e2925", 90.0
POLE_M, ARROW_M = 5.0, 2.6


@lru_cache(maxsize=16)
def start_shape(colour: str) -> FloatArray:
    """A pole with an arrow the way it faces, as `entry_shape`."""
    arrow = Part("drum", (1.3, 1.3, ARROW_M), (0.0, 1 - ARROW_M / 2, POLE_M), "arrow", pitch_deg=ARROW_DEG, taper=0.0)
    entry = Entry(
        "start", "Start", parts=(Part("box", (0.24, 0.24, POLE_M)), arrow), inks={"body": POLE, "arrow": colour}
    )
    return entry_shape(entry, detail=1)
