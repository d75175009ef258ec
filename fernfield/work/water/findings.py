"""What the checks find of water: pools without depth or that spill, streams that run dry, hang, or end on the dry."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from fernfield.core.checks.finding import Finding, Mend
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.openings import HOLE, OPENING
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.draining import unasked_hollows
from fernfield.work.water.laying import Laid, part_of, stream_over, streams_of
from fernfield.work.water.rows import POOLS, STREAMS, Stream
from fernfield.work.water.standing import home_of, pool_extent, standing

SHALLOW_M = 0.05
"""Water that is nowhere deeper than this does not show (our choice)."""
OFF_M = 0.1
"""A surface so much above the ground beside it hangs; one so far from what it runs into does not meet it."""
BESIDE_POSTS = 1.5


def water_findings(world: OpenWorld) -> Iterator[Finding]:
    """Every pool that is not as it was meant: it holds nothing any more, or runs over without being asked to; and
    openings under water."""
    for key, pool in world.each(POOLS):
        with world.lock:
            tract = home_of(world, pool)
            land = world.land_from(tract.row.id)
            extent = pool_extent(world, land, key, pool)
            deep = pool.level_m - land.elevation(pool.x, pool.y)
        if not extent.wet.any() or deep < SHALLOW_M:
            yield Finding("water", f"{pool.name} has no depth: its level is {pool.level_m:g} m, the ground there "
                          f"{pool.level_m - deep:.2f} m.", "Raise its level, dig its floor, or delete it.", False,
                          pool.x, pool.y, tract.row.id)  # fmt: skip
        elif (extent.runs_off or extent.too_large) and not pool.runs_over:
            where = "off the edge of the land" if extent.runs_off else "over more ground than a pool has"
            yield Finding("water", f"{pool.name} spills: at {pool.level_m:g} m it runs {where}.",
                          "Lower its level, raise its rim, or set it anew so that it floods.", False, pool.x, pool.y,
                          tract.row.id)  # fmt: skip
    yield from _drowned_openings(world)


def _drowned_openings(world: OpenWorld) -> Iterator[Finding]:
    """Every tract in which water stands or runs over an opening: it would run into it."""
    for tract in world.tracts.values():
        with world.lock:
            land = world.land_from(tract.row.id)
            home = part_of(world, land, tract.row.id)
            tiles = [place[1:] for place in tract.cache.ranges
                     if place[0] == OPENING and not tract.cache.blank_tile(place)]  # fmt: skip
        spots: list[tuple[int, int, float]] = []
        for tile in sorted(tiles):
            with world.lock:
                window = tract.grid.tile_window(*tile).shifted(home.row, home.col)
                deep = world.surface(land, window) - land.read(HEIGHT, window)
                drowned = (land.read(OPENING, window) >= HOLE) & (deep > SHALLOW_M)
            spots += [(window.row0 + int(r), window.col0 + int(c), float(deep[r, c])) for r, c in np.argwhere(drowned)]
        if spots:
            row, col, deep_m = max(spots, key=lambda spot: spot[2])
            yield Finding("water", f"Water stands {deep_m:.2f} m deep over an opening, on {len(spots)} posts: it would "
                          "run in.", "Close the opening, or keep the water out with a rim.", False,
                          land.grid.x_of(col) - home.x, land.grid.y_of(row) - home.y, tract.row.id)  # fmt: skip


def stream_findings(world: OpenWorld) -> Iterator[Finding]:
    """Every stream that is not as it was laid: the ground, or what it ends in, has moved since."""
    for key, stream in world.each(STREAMS):
        with world.lock:
            land = world.land_from(world.first_tract.row.id if stream.tract is None else stream.tract)
            home = part_of(world, land, stream.tract)
            found = [(k, one) for k, _, one in streams_of(world, land)]
            own = dict(found).get(key)
            own = None if own is None else Laid(own.course.evenly(), own.spacing)
            said = [] if own is None else list(_wrong(world, land, stream, own, [one for k, one in found if k != key]))
        mend = Mend("Lay it anew", f"/worlds/{world.id}/streams/{key}/relay", {})
        for words, spot in said:
            assert own is not None
            x, y = land.grid.x_of(float(own.course.col[spot])), land.grid.y_of(float(own.course.row[spot]))
            remedy = "Lay it anew, or put the ground back as it was."
            yield Finding("streams", f"{stream.name} {words}", remedy, False, x - home.x, y - home.y,
                          home.tract.row.id, mend)  # fmt: skip


def hollow_findings(world: OpenWorld) -> Iterator[Finding]:
    """Hollows of each land that water would fill, but nobody asked for: the largest, and how many there are."""
    done: set[str] = set()
    for tract_id in world.tracts:
        with world.lock:
            land = world.land_from(tract_id)
            place = world.place_of(tract_id)
        if tract_id in done or place.kind == "underground":
            continue
        done |= set(land.tract_ids)
        found = unasked_hollows(world, land)
        if not found:
            continue
        one, x, y = found[0]
        home = land.part_at(x, y) or land.parts[0]
        more = f", and {len(found) - 1} more" if len(found) > 1 else ""
        yield Finding("hollows", f"A hollow {one.deep:.1f} m deep holds no water{more}: rain would fill it.",
                      "Make a pool of it, fill it or drain it: click in it on Water.", False, x - home.x, y - home.y,
                      home.tract.row.id)  # fmt: skip


def _wrong(world: OpenWorld, land: Land, stream: Stream, own: Laid, others: list[Laid]) -> Iterator[tuple[str, int]]:
    """What is wrong with a stream, in words, and at which spot of its course."""
    dry, hangs = _by_spots(world, land, own, others)
    far = own.course.along(own.spacing)
    if dry.any():
        first = int(np.argmax(dry))
        long = float(np.diff(far, append=far[-1])[dry].sum())
        yield f"runs dry for {max(long, own.spacing):.0f} m: the ground has come up through it.", first
    if len(hangs):
        yield f"hangs over lower ground beside it at {len(hangs)} spots.", int(hangs[0])
    last = len(own.course) - 1
    surface = float(own.course.surface[last])
    if stream.ends in ("sea", "pool"):
        row, col = round(float(own.course.row[last])), round(float(own.course.col[last]))
        here = land.clip(Window(row, col, row + 1, col + 1))
        level = float(standing(world, land, here)[0, 0])
        if level <= float(land.read(HEIGHT, here)[0, 0]):
            yield f"ends on dry ground: the {stream.ends} that it ran into is gone.", last
        elif abs(level - surface) > OFF_M:
            yield (
                f"does not meet the {stream.ends}: that stands {abs(level - surface):.2f} m "
                + ("above it." if level > surface else "below it."),
                last,
            )
    elif stream.ends == "hollow":
        yield "ends on dry ground, in a hollow.", last


def _by_spots(
    world: OpenWorld, land: Land, own: Laid, others: list[Laid]
) -> tuple[NDArray[np.bool_], NDArray[np.int64]]:
    """At which spots of a course there is no depth, and beside which the ground is lower than the surface."""
    course, spacing = own.course, own.spacing
    deepest = np.full(len(course), -np.inf)
    hangs: set[int] = set()
    reach = course.half / spacing + BESIDE_POSTS
    for part, r0, r1, c0, c1 in own.boxes:
        wide = float(reach[part].max())
        window = land.clip(Window(math.floor(r0 - wide), math.floor(c0 - wide), math.ceil(r1 + wide) + 1,
                                  math.ceil(c1 + wide) + 1))  # fmt: skip
        near = own.near(window, reach)
        if window.empty or near is None:
            continue
        ground = np.asarray(land.read(HEIGHT, window), np.float32)
        there = np.isfinite(near.away)
        surface, half = near.of(course.surface), near.of(course.half)
        spot = np.rint(near.at).astype(np.int64)
        inside = there & (near.away * spacing <= np.maximum(half / 2, 0.75 * spacing))
        np.maximum.at(deepest, spot[inside], (surface - ground)[inside])
        below = there & (near.away * spacing > half) & (ground < surface - OFF_M - _falls_by(course.surface)[spot])
        if below.any():
            below &= ~_wet(world, land, window, ground, others)
            hangs |= set(spot[below].tolist())
    return (deepest > -np.inf) & (deepest < SHALLOW_M), np.array(sorted(hangs), np.int64)


def _falls_by(surface: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far the surface falls around each spot: beside a fall the ground is lower than the water above it."""
    wide = np.pad(surface, 1, mode="edge")
    return np.asarray(wide[:-2] - wide[2:])


def _wet(world: OpenWorld, land: Land, window: Window, ground: FloatArray, others: list[Laid]) -> NDArray[np.bool_]:
    wet = standing(world, land, window) > ground
    for other in others:
        runs = stream_over(other, window)
        if runs is not None:
            wet |= runs > ground
    return np.asarray(wet)
