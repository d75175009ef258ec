"""The levels that are stored: those of the tiles after whatever was done, in one transaction with them."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from scipy import ndimage
from sqlalchemy import text

from fernfield.core.brush.pace import Sample
from fernfield.core.grid import Window
from fernfield.core.overview import HIGHEST, LOWEST, MEAN, SIDE, halved, level_of, whole_level
from fernfield.formats.tileblob import decode_tile
from fernfield.store.overviews import OverviewStore
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import ClearSheet, PutSheet, Reset
from fernfield.work.ground.rows import Sheet
from fernfield.work.ground.sheet_edits import empty_sheet, put_sheet
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.overviews import rules_of
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import levels
from fernfield.work.strokes import Stroke, StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.tracts import CropTract, RespaceTract, TractSpec
from tests.conftest import ended
from tests.store.test_store import older_database

WIDE, DEEP = 1100, 600
PLAIN = WorldSpec(name="Far", width_m=WIDE, depth_m=DEEP, spacing_m=1, elevation_m=10.3)


def made_anew(tract: Tract, layer: str) -> dict[tuple[str, int], np.ndarray]:
    """Every level of a layer from all its posts."""
    posts = tract.cache.read(layer, tract.grid.window)
    found = {}
    for rule in rules_of(layer):
        cells = level_of(posts, rule, rule.first)
        for level in range(rule.first, tract.overviews.top(rule) + 1):
            found[rule.name, level] = cells
            cells = halved(cells, rule)
    return found


def stored(world: OpenWorld, tract: Tract, layer: str) -> dict[tuple[str, int], np.ndarray]:
    """The same as the database has it; where it has nothing, as the tract began."""
    found = {}
    for rule in rules_of(layer):
        for level in range(rule.first, tract.overviews.top(rule) + 1):
            whole = whole_level(tract.grid.rows, tract.grid.cols, level)
            found[rule.name, level] = np.full(whole.shape, tract.cache.fill(layer), tract.cache.layers(layer).dtype)
    for at, blob in OverviewStore(world.store.engine).every(tract.row.id):
        if at.layer == layer:
            values = decode_tile(blob)
            where = Window(0, 0, *values.shape).shifted(at.tile_row * SIDE, at.tile_col * SIDE)
            found[at.rule, at.level][where.inside(Window(0, 0, 0, 0))] = values
    return found


def agree(world: OpenWorld) -> None:
    """What is stored of every tract equals what is made anew, to the last bit, and so does what is read."""
    for tract in world.tracts.values():
        assert tract.overviews.ready
        for layer in {HEIGHT, *(place[0] for place in tract.cache.ranges if world.house.layers(place[0]).seen)}:
            anew, kept = made_anew(tract, layer), stored(world, tract, layer)
            assert anew.keys() == kept.keys()
            for (name, level), cells in anew.items():
                assert kept[name, level].tobytes() == cells.tobytes(), (layer, name, level)
                rule = next(rule for rule in rules_of(layer) if rule.name == name)
                read = tract.overviews.cells(layer, rule, level, tract.overviews.whole(level))
                assert read.tobytes() == cells.tobytes(), (layer, name, level)


PLACES = st.tuples(st.integers(0, WIDE), st.integers(0, DEEP))
STEPS = st.one_of(
    st.tuples(st.sampled_from(["raise", "smooth", "open", "paint", "sow", "cancel", "two at once"]), PLACES, PLACES),
    st.tuples(st.sampled_from(["undo", "redo", "reset", "sheet", "clear"]), PLACES, PLACES),
)
MORE: dict[str, dict[str, Any]] = {"paint": {"cover": "earth"}, "sow": {"mix": "mix"}, "open": {"radius_m": 8.0}}


def stroke(tool: str, a: tuple[int, int], b: tuple[int, int], **fields: Any) -> Stroke:
    values = {"radius_m": 45, "softness": 0.5, "strength": 60, **MORE.get(tool, {}), **fields}
    return Stroke(tool=tool, path=[(*a, 0.0), (*b, 0.5)], **values)


def do(world: OpenWorld, name: str, a: tuple[int, int], b: tuple[int, int]) -> None:
    tract = world.first_tract
    match name:
        case "undo" | "redo":
            if world.can_undo if name == "undo" else world.can_redo:
                (world.undo if name == "undo" else world.redo)()
        case "reset":
            box = (min(a[0], b[0]), min(a[1], b[1]), max(a[0], b[0]) + 2, max(a[1], b[1]) + 2)
            x0, y0, x1, y1 = (min(v, m) for v, m in zip(box, (WIDE, DEEP) * 2, strict=True))
            if x1 - x0 > 2 and y1 - y0 > 2:
                reset(world, tract, Reset(box=(x0, y0, x1, y1), to="elevation", elevation_m=33.3), None)
        case "sheet":
            put_sheet(world, PutSheet(key="s", sheet=Sheet(name="S", hidden=a[0] % 2 == 0)))
        case "clear":
            if "s" in world.rows["sheets"]:
                empty_sheet(world, ClearSheet(key="s"))
        case "cancel" | "two at once":
            under_way(world, name, a, b)
        case _:
            sheets = world.rows["sheets"]
            sheet = "s" if name == "raise" and "s" in sheets and not sheets["s"].hidden else None  # type: ignore[attr-defined]
            world.stroke(tract.row.id, stroke(name, a, b, sheet=sheet) if sheet else stroke(name, a, b))


def under_way(world: OpenWorld, name: str, a: tuple[int, int], b: tuple[int, int]) -> None:
    """A stroke is drawn and taken back; or while it is drawn, somebody else's beside it is kept."""
    tract = world.first_tract
    run = world.begin_stroke(tract.row.id, StrokeStart(tool="raise", radius_m=60, softness=0.5, strength=80))
    way = [(a[0] + (b[0] - a[0]) * t / 8, a[1] + (b[1] - a[1]) * t / 8) for t in range(9)]
    assert not world.extend_stroke(run, [Sample(x, y, t / 20) for t, (x, y) in enumerate(way)]).empty
    with world.lock:
        for level in (2, 4):
            whole = tract.overviews.whole(level)
            read = tract.overviews.cells(HEIGHT, MEAN, level, whole)
            posts = tract.cache.read(HEIGHT, tract.grid.window)
            assert read.tobytes() == level_of(posts, MEAN, level).tobytes()
    if name == "two at once":
        world.stroke(tract.row.id, stroke("paint", b, a))
        other = (a[0] + 300) % WIDE, (a[1] + 280) % DEEP
        wanted = {(tract.row.id, (HEIGHT, *tile)) for tile in tract.grid.around(*other, 60).tiles()}
        if not wanted & set(world.holds):
            world.stroke(tract.row.id, stroke("raise", other, other))
    world.abandon_stroke(run)


@settings(max_examples=8, deadline=None, derandomize=True, phases=(Phase.explicit, Phase.generate))
@given(steps=st.lists(STEPS, min_size=4, max_size=12))
def test_after_any_edits_and_undos_the_levels_are_those_of_the_tiles(
    steps: list[tuple[str, tuple[int, int], tuple[int, int]]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    with closing(Studio(tmp_path_factory.mktemp("far"))) as studio:
        world = studio.world(studio.create(PLAIN))
        for name, a, b in steps:
            do(world, name, a, b)
        agree(world)
        again = OpenWorld(studio.house, studio.store, world.id)
        agree(again)


def test_new_ground_has_its_levels_from_the_beginning(studio: Studio) -> None:
    rng = np.random.default_rng(2)
    land = rng.normal(0, 30, (DEEP + 1, WIDE + 1)).astype(np.float32)
    whole = PLAIN.grid.window
    world = studio.world(studio.create(PLAIN, heights=lambda window: land[window.inside(whole)]))
    assert not world.without_overviews
    agree(world)
    studio.add_tract(
        world.id, TractSpec(name="Rim", x=2000, width_m=300, depth_m=300, spacing_m=1, begin={"ground": "rim"})
    )  # type: ignore[arg-type]
    world.stroke(world.first_tract.row.id, stroke("sow", (500, 300), (900, 200)))
    ended(studio.start_crop(world.first_tract.row.id, CropTract(x0=100, x1=801, y0=40, y1=611)))
    agree(world)
    ended(studio.start_respace(world.first_tract.row.id, RespaceTract(spacing_m=0.5)))
    agree(world)
    made = ended(studio.start_copy(world.id, "Copy")).result
    assert made is not None
    copy = studio.world(made["world"])
    assert not copy.without_overviews
    agree(copy)


@pytest.mark.parametrize("revision", ["0001", "0003"])
def test_a_world_of_an_older_database_gets_its_levels_in_the_background(tmp_path: Path, revision: str) -> None:
    older_database(tmp_path, revision)
    with closing(Studio(tmp_path)) as studio:
        world = studio.world("w1")
        for job in list(studio.jobs._jobs.values()):
            assert ended(job).state == "done"
        agree(world)
        with studio.store.reading() as c:
            assert c.execute(text("SELECT overviews FROM tracts")).scalar() == 1
        assert c is not None


def test_an_edit_while_the_levels_are_made_is_in_them(studio: Studio) -> None:
    world = studio.world(studio.create(PLAIN))
    tract = world.first_tract
    for x in range(100, WIDE, 200):
        world.stroke(tract.row.id, stroke("raise", (x, 100), (x, 500)))
    tract.overviews.ready = False
    edits = iter([(150, 150), (900, 500), (505, 300)])

    def meanwhile(_done: float) -> None:
        for x, y in edits:
            world.stroke(tract.row.id, stroke("lower", (x, y), (x + 40, y)))
            break

    world.make_overviews(tract, meanwhile)
    agree(world)


def test_levels_whose_making_was_stopped_are_made_anew(studio: Studio) -> None:
    world = studio.world(studio.create(PLAIN))
    tract = world.first_tract
    world.stroke(tract.row.id, stroke("raise", (100, 100), (1000, 500)))
    tract.overviews.ready = False

    def stop(_done: float) -> None:
        raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        world.make_overviews(tract, stop)
    assert not tract.overviews.ready
    world.undo()
    world.make_overviews(tract)
    agree(world)


def test_when_writing_fails_neither_tiles_nor_levels_change(studio: Studio) -> None:
    """A trigger stands in for a full disk, at the moment when a level is written."""
    world = studio.world(studio.create(PLAIN))
    tract = world.first_tract.row.id
    world.stroke(tract, stroke("raise", (300, 300), (700, 300)))
    with sqlite3.connect(studio.data / "fernfield.db") as c:
        c.execute(
            "CREATE TRIGGER full BEFORE INSERT ON overviews WHEN NEW.level = 4 BEGIN SELECT RAISE(ABORT, 'disk'); END"
        )
    with pytest.raises(Exception, match="disk"):
        world.stroke(tract, stroke("lower", (300, 300), (700, 300)))
    with pytest.raises(Exception, match="disk"):
        world.undo()
    with sqlite3.connect(studio.data / "fernfield.db") as c:
        c.execute("DROP TRIGGER full")
    assert world.revision == 1
    agree(world)
    world.undo()
    agree(world)


def test_what_is_seen_from_afar_reads_as_much_of_a_large_land_as_of_a_small_one(studio: Studio) -> None:
    """Tiles of posts that are unpacked for the first picture and the histogram of all, by the size of the land."""
    asked = []
    for side in (1024, 4096):
        spec = WorldSpec(name="Wide", width_m=side, depth_m=side, spacing_m=1)
        line = np.sin(np.arange(side + 1, dtype=np.float32) / 40)
        world_id = studio.create(
            spec, heights=lambda w, line=line: line[w.row0 : w.row1, None] * line[None, w.col0 : w.col1] * 50
        )
        world = OpenWorld(studio.house, studio.store, world_id)
        land = world.first_land
        level = {1024: 3, 4096: 5}[side]
        plan_pixels(world, land, level, Window(0, 0, 128, 128), Show())
        levels(world, land, land.bounds)
        asked.append((len(world.first_tract.cache._tiles), len(world.first_tract.overviews._tiles)))
    assert asked[0][0] == asked[1][0] == 0
    assert asked[1][1] <= asked[0][1] * 1.5


def test_a_far_picture_is_drawn_from_the_ground_around_each_post(studio: Studio) -> None:
    """A ridge one post wide between the posts of the picture is there, as high as its share of the ground."""
    world = studio.world(studio.create(PLAIN))
    tract, land = world.first_tract, world.first_land

    def ridge(window: Window) -> np.ndarray:
        return np.full(window.shape, 10.3, np.float32)

    assert np.array_equal(land.seen(HEIGHT, land.bounds, 1), ridge(land.bounds))
    world.stroke(tract.row.id, stroke("raise", (403, 300), (403, 300), radius_m=2.0, softness=0.0, strength=160))
    for step, share in ((8, 0.01), (16, 0.002)):
        window = Window(0, 0, tract.grid.rows, tract.grid.cols)
        mean = land.seen(HEIGHT, window, step)
        assert mean.shape == land.read(HEIGHT, window, step).shape
        lifted = mean[300 // step : 300 // step + 2, 403 // step : 403 // step + 2]
        assert lifted.max() > 10.3 + share
    posts = tract.cache.read(HEIGHT, tract.grid.window)
    for step in (2, 8, 16, 64):
        for rule, furthest in ((HIGHEST, ndimage.maximum_filter), (LOWEST, ndimage.minimum_filter)):
            assert np.array_equal(land.seen(HEIGHT, land.bounds, step, rule), furthest(posts, step + 1)[::step, ::step])
    high, low = land.seen(HEIGHT, land.bounds, 32, HIGHEST), land.seen(HEIGHT, land.bounds, 32, LOWEST)
    top = float(tract.cache.read(HEIGHT, tract.grid.window).max())
    assert high.max() == top > 50
    assert low.max() == np.float32(10.3)


def test_what_is_on_the_disk_while_a_stroke_is_drawn_is_the_world_before_it(studio: Studio, tmp_path: Path) -> None:
    """What a machine that loses power keeps: the database and its log as they are at that moment."""
    world = studio.world(studio.create(PLAIN))
    tract = world.first_tract.row.id
    world.stroke(tract, stroke("raise", (300, 300), (700, 300)))
    run = world.begin_stroke(tract, StrokeStart(tool="lower", radius_m=60, softness=0.5, strength=80))
    world.extend_stroke(run, [Sample(500 + 4 * t, 300, t / 10) for t in range(6)])
    shutil.copytree(studio.data, tmp_path / "copy")
    world.finish_stroke(run)
    with closing(Studio(tmp_path / "copy")) as other:
        agree(other.world(world.id))
        assert other.world(world.id).revision == 1
