"""What a change of a stream comes to: rows, pools, and ground. Streams that touch are worked out together: first which
way each runs, then how wide it gets, then how high it stands."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from fernfield.core.errors import Choice
from fernfield.core.grid import Window
from fernfield.core.water import channel
from fernfield.core.water.channel import Course
from fernfield.core.water.hollow import curve_of
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.coursing import courses_on
from fernfield.work.water.laying import MOST_BANK_M, Laid, laid, lowest_of
from fernfield.work.water.rows import MOST_REACHES, Pool, Reach, Stream
from fernfield.work.water.ways import IntoHollow, Ways

BLOCK = 256


class InHollow(Choice):
    """The way of a stream ends in a hollow; `more["choices"]` says what each way out comes to."""


@dataclass
class Network:
    """What a change of a stream comes to: rows to be put (None: removed), pools with them, and where ground changes.

    row : the stream itself as it is then, also where nothing changes
    """

    row: Stream | None = None
    streams: dict[str, Stream | None] = field(default_factory=dict)
    pools: dict[str, Pool] = field(default_factory=dict)
    windows: list[Window] = field(default_factory=list)
    laid: list[Laid] = field(default_factory=list)


def planned(world: OpenWorld, land: Land, key: str, new: Stream | None) -> Network:
    """All that changes when a stream is put, changed or removed.

    The world is held only while something of it is read: whoever keeps what comes of it sees whether it still is so.
    Raises InHollow where its way ends in a hollow and nothing was said of that, Conflict where it cannot run.
    """
    ways = Ways(world, land, key, new)
    try:
        touched = ways.trace()
    except IntoHollow as hollow:
        cut = planned(world, land, key, hollow.stream.model_copy(update={"in_hollow": "cut"})).streams[key]
        raise _asked(land, hollow, cut) from None
    return _told(ways, courses_on(ways, touched))


def _asked(land: Land, hollow: IntoHollow, cut: Stream | None) -> InHollow:
    """`cut`: the stream as it would be if it were cut through."""
    around, brim = hollow.around, hollow.brim
    posts = around.risen.posts[: brim.count]
    ground = around.heights[posts[:, 0], posts[:, 1]]
    ground = ground[ground < np.float32(brim.level)]
    curve = curve_of(ground, brim.level, land.grid.spacing**2)
    choices = {
        "pool": {"level_m": brim.level, "area_m2": float(curve.areas[-1]), "volume_m3": float(curve.volumes[-1])},
        "cut": {"cut_m3": 0.0 if cut is None else cut.cut_m3, "ends": "" if cut is None else cut.ends},
    }
    deep, name = brim.level - float(ground.min()), hollow.stream.name
    words = f"{name} runs into a hollow that is {deep:.2f} m deep: say in_hollow, one of {', '.join(choices)}"
    return InHollow(words, {"choices": choices})


def _told(ways: Ways, courses: dict[str, Course]) -> Network:
    network, rows = Network(), ways.rows
    if ways.key in ways.was:
        network.windows += _blocks(ways, ways.laid[ways.key])
        if ways.key not in rows:
            network.streams[ways.key] = None
    new: dict[str, Laid] = {}
    for k in sorted(courses):
        path = ways.paths[k]
        row = rows[k].model_copy(update={
            "way": path.way, "course": _reaches(ways, _few(courses[k]), rows[k]),
            "ends": path.ends, "joins": path.joins, "leaves": path.leaves,
        })  # fmt: skip
        home = ways.home(row)
        new[k] = laid(ways.land, row, (home.x, home.y))
        rows[k] = row
        if path.pool is not None:
            network.pools[f"{k}-pool"[:40]] = path.pool
    others = [one for k, one in ways.laid.items() if k not in courses and k in rows and rows[k].carve]
    for k, laid_now in new.items():
        blocks = _blocks(ways, laid_now)
        cut = _cut(ways, laid_now, blocks) if rows[k].carve else 0.0
        row = rows[k].model_copy(update={"cut_m3": round(cut, 2)})
        if k == ways.key:
            network.row = row
        if row == ways.was.get(k):
            continue
        network.streams[k] = row
        network.windows += blocks
        if k in ways.laid:
            network.windows += _blocks(ways, ways.laid[k])
    network.laid = [*others, *(one for k, one in new.items() if rows[k].carve)]
    return network


def _few(course: Course) -> Course:
    """A course in as many reaches as a row may have."""
    thin, off = channel.thinned(course), 1.0
    while len(thin) > MOST_REACHES:
        off *= 2
        thin = channel.thinned(course, 0.2 * off, 0.02 * off)
    return thin


def _reaches(ways: Ways, course: Course, stream: Stream) -> tuple[Reach, ...]:
    home, grid = ways.home(stream), ways.land.grid
    return tuple(
        (round(grid.x_of(c) - home.x, 3), round(grid.y_of(r) - home.y, 3), round(s, 3), round(2 * h, 3),
         round(d, 3), round(b, 4))
        for r, c, s, h, d, b in zip(course.row.tolist(), course.col.tolist(), course.surface.tolist(),
                                    course.half.tolist(), course.depth.tolist(), course.bank.tolist(), strict=True)
    )  # fmt: skip


def _blocks(ways: Ways, one: Laid) -> list[Window]:
    """The blocks of posts that the banks of a stream may reach."""
    land, found = ways.land, set[tuple[int, int]]()
    most = MOST_BANK_M / one.spacing + 2
    for part, r0, r1, c0, c1 in one.boxes:

        def around(wide: float, box: tuple[float, float, float, float] = (r0, r1, c0, c1)) -> Window:
            top, bottom, left, right = box
            return land.clip(Window(math.floor(top - wide), math.floor(left - wide), math.ceil(bottom + wide) + 1,
                                    math.ceil(right + wide) + 1))  # fmt: skip

        far = around(most + float(one.course.half[part].max()) / one.spacing)
        if far.empty:
            continue
        near = around(float(one.banks(float(ways.ground(far).max()), part).max()))
        if not near.empty:
            found |= {(r, c) for r in range(near.row0 // BLOCK, (near.row1 - 1) // BLOCK + 1)
                      for c in range(near.col0 // BLOCK, (near.col1 - 1) // BLOCK + 1)}  # fmt: skip
    blocks = (Window(r * BLOCK, c * BLOCK, (r + 1) * BLOCK, (c + 1) * BLOCK) for r, c in sorted(found))
    return [window for block in blocks if not (window := land.clip(block)).empty]


def _cut(ways: Ways, one: Laid, blocks: list[Window]) -> float:
    """What the bed of a stream takes from the ground. [m³]"""
    cut = 0.0
    for window in blocks:
        ground = ways.ground(window)
        bed = lowest_of([one], window, float(ground.max()))
        if bed is not None:
            cut += float(np.maximum(ground - bed, 0).sum(dtype=np.float64))
    return cut * ways.land.grid.spacing**2
