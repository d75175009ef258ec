"""Committing a stroke and opening a world, beside the least that could do it."""

from __future__ import annotations

import itertools
import os
import sqlite3
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

import numpy as np

from fernfield.bench import Plan, Row, row
from fernfield.bench.core import RADIUS, land
from fernfield.core.brush.pace import FINE_STEP_S, Sample
from fernfield.work.kernel.commands import Put, Together, put
from fernfield.work.kernel.many import change_many, look_at_rows, take_rows
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.keep import KeepTo
from fernfield.work.sites.rows import THINGS, named
from fernfield.work.sites.standing import piece_obstacles
from fernfield.work.strokes import Stroke, StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec

START = StrokeStart(tool="raise", radius_m=RADIUS, softness=0.6, strength=5)
SHAPED = StrokeStart(
    tool="raise", radius_m=RADIUS, softness=0.6, strength=5, shape="square", tip="ridge",
    keep_to=KeepTo(from_m=0, to_m=40),
)  # fmt: skip


def rows(plan: Plan) -> Iterator[Row]:
    with tempfile.TemporaryDirectory() as folder:
        studio = Studio(Path(folder) / "data")
        side = plan.large - 1
        spec = WorldSpec(name="Bench", width_m=side, depth_m=side, spacing_m=1)
        heights = land(plan.large)
        world_id = studio.create(spec, heights=lambda window: heights[window.inside(spec.grid.window)])
        yield _commit(studio, world_id, Path(folder), plan)
        yield _dab_in_tract(studio, world_id, START, f"one dab of radius {RADIUS} through the open tract", plan)
        yield _dab_in_tract(studio, world_id, SHAPED, "the same as a square under a tip, kept to 0 to 40 m", plan)
        yield _undo(studio, world_id, Path(folder), plan)
        yield _open(studio, world_id, plan)
        yield _together(studio, plan)
        yield from _crowd(studio, plan)
        studio.close()


def _commit(studio: Studio, world_id: str, folder: Path, plan: Plan) -> Row:
    """A short stroke where four tiles meet, from its first dab to its acknowledgement."""
    world = studio.world(world_id)
    tract = world.first_tract.row.id
    tiles = iter(itertools.count())
    blob = os.urandom(140_000)
    raw = sqlite3.connect(folder / "raw.db", isolation_level=None)
    raw.execute("PRAGMA journal_mode=WAL")
    raw.execute("PRAGMA synchronous=FULL")
    raw.execute("CREATE TABLE t (a INTEGER PRIMARY KEY, b BLOB)")

    def theirs() -> None:
        raw.execute("BEGIN IMMEDIATE")
        for _ in range(4):
            raw.execute("INSERT INTO t VALUES (?, ?)", (next(tiles), blob))
        raw.execute("COMMIT")

    def ours() -> None:
        run = world.begin_stroke(tract, START)
        world.extend_stroke(run, [Sample(512, 512, t / 60) for t in range(3)])
        world.finish_stroke(run)

    found = row(
        "a stroke of 0.1 s over four tiles, drawn and committed", "writing four blobs of 140 kB with sqlite3", "–",
        ours, theirs, plan.runs,
    )  # fmt: skip
    raw.close()
    return found


def _undo(studio: Studio, world_id: str, folder: Path, plan: Plan) -> Row:
    """Undo (and redo, in turn) of a stroke over the whole width of the tract with a large brush."""
    world = studio.world(world_id)
    tract = world.first_tract
    wide = tract.grid.width
    path = [(0.0, wide / 2, 0.0), (wide, wide / 2 + 100, 1.0)]
    outcome = world.stroke(tract.row.id, Stroke(tool="raise", radius_m=400, softness=0.6, strength=5, path=path))  # type: ignore[arg-type]
    tiles = len(list(outcome.window.tiles()))
    blob = os.urandom(140_000)
    raw = sqlite3.connect(folder / "undo.db", isolation_level=None)
    raw.execute("PRAGMA journal_mode=WAL")
    raw.execute("PRAGMA synchronous=FULL")
    raw.execute("CREATE TABLE t (a INTEGER PRIMARY KEY, b BLOB)")
    numbers = iter(itertools.count())
    turns = itertools.cycle((world.undo, world.redo))

    def theirs() -> None:
        raw.execute("BEGIN IMMEDIATE")
        for _ in range(tiles):
            raw.execute("INSERT INTO t VALUES (?, ?)", (next(numbers), blob))
        raw.execute("COMMIT")

    found = row(
        f"undo of a stroke of radius 400 over {tiles} tiles", f"writing {tiles} blobs of 140 kB with sqlite3", "–",
        lambda: next(turns)(), theirs, max(4, plan.runs // 4),
    )  # fmt: skip
    raw.close()
    return found


def _dab_in_tract(studio: Studio, world_id: str, start: StrokeStart, words: str, plan: Plan) -> Row:
    """A dab through the open tract: holding tiles, drawing into them, keeping their ranges."""
    world = studio.world(world_id)
    run = world.begin_stroke(world.first_tract.row.id, start)
    times = iter(itertools.count())
    cache = world.first_tract.cache
    window = cache.grid.around(600, 600, RADIUS)

    def ours() -> None:
        world.extend_stroke(run, [Sample(600, 600, next(times) * FINE_STEP_S)])

    found = row(
        words, "reading the same window from the tract", "–",
        ours, lambda: cache.read(HEIGHT, window), plan.runs, inner=50,
    )  # fmt: skip
    world.abandon_stroke(run)
    return found


def _open(studio: Studio, world_id: str, plan: Plan) -> Row:
    """Opening a world and drawing on it needs its rows and the tiles in view, not all of its blobs."""

    def ours() -> None:
        world = OpenWorld(studio.house, studio.store, world_id)
        world.first_tract.cache.read(HEIGHT, world.first_tract.grid.around(500, 500, 256))

    raw = sqlite3.connect(studio.data / "fernfield.db")
    found = row(
        f"open a world of {plan.large:,}² and read 513² posts", "reading all its blobs with sqlite3", "1",
        ours, lambda: raw.execute("SELECT blob FROM tiles").fetchall(), max(5, plan.runs // 3),
    )  # fmt: skip
    raw.close()
    return found


def _together(studio: Studio, plan: Plan) -> Row:
    """200 edits as one revision, each of which asks who the default start is, in a world of 5,000 rows and of none."""
    spec = WorldSpec(name="Rows", width_m=256, depth_m=256, spacing_m=1)
    full, bare = (studio.world(studio.create(spec)) for _ in range(2))
    for first in range(0, 5_000, 1_000):
        full.edit(Together(edits=tuple(_start(f"p{k}", "piece") for k in range(first, first + 1_000))))
    numbers = iter(itertools.count())

    def edit(world: OpenWorld) -> None:
        number = next(numbers)
        world.edit(Together(edits=tuple(_start(f"n{number}-{k}", "start") for k in range(200))))
        world.undo()

    return row(
        "200 edits together among 5,000 rows, and their undo", "the same among none", "2",
        lambda: edit(full), lambda: edit(bare), max(5, plan.runs // 3),
    )  # fmt: skip


def _crowd(studio: Studio, plan: Plan) -> Iterator[Row]:
    """Pieces by the thousand: what is done with some of them costs by those."""
    spec = WorldSpec(name="Crowd", width_m=1_024, depth_m=1_024, spacing_m=1)
    full, bare = (studio.world(studio.create(spec)) for _ in range(2))
    rng = np.random.default_rng(7)
    spots = [(float(x), float(y)) for x, y in rng.uniform(0, 1_024, (19_000, 2))]
    for world, count in ((full, 19_000), (bare, 100)):
        rows = ((f"p{k}", {"sort": "piece", "kit": "beacon", "name": f"B {k}", "x": x, "y": y})
                for k, (x, y) in enumerate(spots[:count]))  # fmt: skip
        take_rows(world, THINGS, look_at_rows(world, THINGS, rows))
    numbers = iter(itertools.count())

    def place(world: OpenWorld) -> None:
        wanted = {"sort": "piece", "kit": "beacon", "x": 500, "y": 500}
        world.edit(put(THINGS, f"n{next(numbers)}", named(world, wanted)))

    yield row("placing a piece among 19,000", "the same among 100", "1.5", lambda: place(full), lambda: place(bare),
              plan.runs)  # fmt: skip
    land = full.first_land
    window = land.around(500, 500, 50)

    def around() -> None:
        with full.lock:
            list(piece_obstacles(full, land, window))

    yield row("what stands in 100 by 100 m among 19,000 pieces", "looking at all of them", "–",
              around, lambda: [thing.x for _, thing in full.each(THINGS)], plan.runs)  # fmt: skip
    keys = [f"p{k}" for k in range(5_000)]
    turns = itertools.cycle((10.0, 20.0))
    yield row(
        "5,000 pieces turned in one revision", "5,000 rows of their size written with sqlite3", "–",
        lambda: change_many(full, THINGS, keys, {"turn_deg": next(turns)}), _written_rows(studio, 5_000),
        max(4, plan.runs // 6),
    )  # fmt: skip


def _written_rows(studio: Studio, count: int) -> Callable[[], None]:
    raw = sqlite3.connect(studio.data / "rows.db")
    raw.execute("CREATE TABLE kept (key TEXT, before TEXT, after TEXT)")
    body = "x" * 180

    def write() -> None:
        with raw:
            raw.executemany("INSERT INTO kept VALUES (?, ?, ?)", ((str(k), body, body) for k in range(count)))

    return write


def _start(key: str, sort: Literal["piece", "start"]) -> Put:
    return put(
        THINGS,
        key,
        THINGS.checked({"sort": sort, **({"kit": "beacon"} if sort == "piece" else {}), "name": "N", "x": 1, "y": 1}),
    )
