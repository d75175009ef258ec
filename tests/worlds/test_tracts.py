"""Several tracts: added, taken away, cropped, respaced, joined, and strokes that run across a join."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp
from scipy import ndimage, signal

from fernfield.core.errors import Cancelled, Conflict, InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground.join import seam_of
from fernfield.store.database import open_database
from fernfield.store.worlds import WorldStore
from fernfield.work.ground.commands import PutSheet
from fernfield.work.ground.rows import Sheet, sheets_of
from fernfield.work.ground.sheet_edits import put_sheet
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.posts.lands import alone
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.posts.tracts import JOINS
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.kernel.writing.drawing import New, draw_ground
from fernfield.work.kernel.writing.ledger import Ended
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.sites.rows import THINGS, Start, things_of
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.joining import JoinTracts, PartTracts, gap_of, join, part, touching
from fernfield.work.worlds.rows import name_of
from fernfield.work.worlds.tracts import (
    CropTract,
    PlaceTract,
    RemoveTract,
    RespaceTract,
    TractSpec,
    loss_of,
    place_tract,
    remove_tract,
)
from tests.conftest import draw, ended, everything, found_in, ground, walk_from_start


def land_of(world: OpenWorld, tract_id: str) -> FloatArray:
    tract = world.tract(tract_id)
    return np.asarray(tract.cache.read(HEIGHT, tract.grid.window))


def rolling(world: OpenWorld, tract_id: str, seed: int = 1, height: float = 6) -> None:
    """Hills over a tract, by strokes."""
    grid = world.tract(tract_id).grid
    rng = np.random.default_rng(seed)
    for k in range(8):
        path = [(float(rng.uniform(0, grid.width)), float(rng.uniform(0, grid.depth)), t) for t in (0, 1)]
        tool = ("raise", "lower")[k % 2]
        world.stroke(tract_id, Stroke(tool=tool, radius_m=60, softness=1, strength=height, path=path))


@pytest.fixture
def pair(studio: Studio, world: OpenWorld) -> tuple[OpenWorld, str, str]:
    """The test world of 300 m square with a second tract of 200 m beside it to the east, both rolling."""
    west = world.first_tract.row.id
    east, _ = studio.add_tract(
        world.id, TractSpec(name="East", x=300, width_m=200, depth_m=300, spacing_m=1, elevation_m=14)
    )
    rolling(world, west, 1)
    rolling(world, east, 2)
    return world, west, east


# Adding and taking away


def test_a_tract_is_added_taken_away_and_comes_back_with_its_ground(studio: Studio, world: OpenWorld) -> None:
    spec = TractSpec(name="Cellar", kind="underground", width_m=64, depth_m=32, spacing_m=0.5, elevation_m=-20)
    cellar, outcome = studio.add_tract(world.id, spec)
    assert outcome.revision == 1
    assert list(world.tracts)[1] == cellar
    assert land_of(world, cellar).shape == (65, 129)
    world.stroke(cellar, Stroke(tool="raise", radius_m=9, softness=0.5, strength=5, path=[(30, 15, 0)]))
    world.edit(put(THINGS, "lamp", Start(name="Way in", x=3, y=3, tract=cellar)))
    world.edit(put(PLOTS, "hall", Plot(name="Hall", points=((0, 0), (9, 0), (9, 9)), tract=cellar)))
    was = land_of(world, cellar)
    remove_tract(world, RemoveTract(key=cellar))
    assert list(world.tracts) == [world.first_tract.row.id]
    assert things_of(world) == []
    assert world.rows["plots"] == {}
    with pytest.raises(NotFound, match="no tract"):
        studio.tract(cellar)
    with pytest.raises(Conflict, match="at least one tract"):
        remove_tract(world, RemoveTract(key=world.first_tract.row.id))
    world.undo()
    assert np.array_equal(land_of(world, cellar), was)
    assert [t.name for _, t in things_of(world, cellar)] == ["Way in"]
    # Also after the application was started again, and looked at as it was.
    data = studio.data
    studio.close()
    again = Studio(data)
    opened = again.world(world.id)
    assert np.array_equal(land_of(opened, cellar), was)
    assert list(again.past(world.id, 0).tracts) == [world.first_tract.row.id]
    for _ in range(4):
        opened.undo()
    assert cellar not in opened.tracts
    again.close()


def test_a_tract_that_never_became_part_of_its_world_goes(studio: Studio, world: OpenWorld) -> None:
    """Work that is killed between its two steps."""
    from fernfield.store.worlds import TractRow

    studio.store.add_tract(TractRow("tstray", world.id, 9, "Stray", 65, 65, 1.0, 0.0), iter(()))
    data = studio.data
    studio.close()
    again = Studio(data)
    assert list(again.world(world.id).tracts) == [world.first_tract.row.id]
    assert [row.id for row in again.store.tracts(world.id)] == [world.first_tract.row.id]
    again.close()


def test_things_and_plots_belong_to_one_tract(pair: tuple[OpenWorld, str, str]) -> None:
    world, west, east = pair
    with pytest.raises(InvalidInput, match="inside the tract \\(0 to 200, 0 to 300\\)"):
        world.edit(put(THINGS, "a", Start(name="A", x=250, y=10, tract=east)))
    world.edit(put(THINGS, "a", Start(name="A", x=250, y=10)))
    assert [k for k, _ in things_of(world, west)] == ["a"]
    with pytest.raises(NotFound, match="no tract"):
        world.edit(put(THINGS, "b", Start(name="B", x=1, y=1, tract="tnone")))


def test_an_underground_tract_is_dry_under_the_sea(studio: Studio, world: OpenWorld) -> None:
    from fernfield.work.plots.keep import KeepTo
    from fernfield.work.seen.sections import section
    from fernfield.work.seen.spot import spot

    spec = {"name": "Gallery", "width_m": 64, "depth_m": 64, "spacing_m": 1, "elevation_m": -30}
    cave, _ = studio.add_tract(world.id, TractSpec(**spec, kind="underground"))
    tract = world.tract(cave)
    world.edit(put(THINGS, "in", Start(name="In", x=30, y=30, tract=cave)))
    assert spot(world, world.land_from(tract.row.id), 30, 30)["water_depth_m"] == 0
    assert spot(world, world.land_from(tract.row.id), 30, 30)["over_sea_m"] == -30
    assert walk_from_start(world, tract).water(30, 30) == 0
    assert section(world, world.land_from(tract.row.id), 30, 0, 64)["sea_level_m"] == -30
    assert "drowned start" not in {f.check for f in found_in(world)}
    assert not any("water" in f.words for f in found_in(world))
    wet = Stroke(tool="raise", radius_m=9, softness=0, strength=5, path=[(30, 30, 0)], keep_to=KeepTo(water="wet"))
    assert world.stroke(cave, wet).fill_m3 == 0
    place_tract(world, PlaceTract(key=cave, kind="open"))
    assert spot(world, world.land_from(tract.row.id), 30, 30)["water_depth_m"] == 30
    assert world.stroke(cave, wet).fill_m3 > 0


# Cropping and extending


def test_cropped_and_extended_land_is_the_same_where_it_was(studio: Studio, world: OpenWorld) -> None:
    tract = world.first_tract
    rolling(world, tract.row.id)
    put_sheet(world, PutSheet(key="ridge", sheet=Sheet(name="Ridge")))
    draw(world, sheet="ridge")
    draw(world, "paint", cover="path", strength=300)
    draw(world, "sow", mix="mix", strength=300)
    world.edit(put(THINGS, "in", Start(name="In", x=200, y=100)))
    world.edit(put(THINGS, "out", Start(name="Out", x=20, y=280)))
    state, was, layers = everything(world), ground(world), {}
    for layer in ("sheet:ridge", "cover:path", "growth:mix", "under"):
        layers[layer] = tract.cache.read(layer, tract.grid.window)
        assert layers[layer].any()
    job = ended(studio.start_crop(tract.row.id, CropTract(x0=100, y0=-40, x1=420, y1=250, fill="level", elevation_m=3)))
    assert job.state == "done", job.message
    new = world.first_tract
    assert (new.grid.width, new.grid.depth) == (320, 290)
    found = ground(world)
    # Row 0 of the new land is the old 250 m north, column 0 the old 100 m east.
    assert np.array_equal(found[:251, :201], was[50:, 100:])
    assert (found[251:] == 3).all()
    assert (found[:, 201:] == 3).all()
    for layer, values in layers.items():
        assert np.array_equal(new.cache.read(layer, new.grid.window)[:251, :201], values[50:, 100:]), layer
        assert not new.cache.read(layer, new.grid.window)[:, 201:].any()
    assert [(t.name, t.x, t.y) for _, t in things_of(world)] == [("In", 100, 140)]
    place = world.place_of(new.row.id)
    assert (place.x, place.y) == (100, -40)
    world.undo()
    assert everything(world) == state
    world.redo()
    assert np.array_equal(ground(world), found)
    # The edge carried on.
    ended(studio.start_crop(world.first_tract.row.id, CropTract(x0=-10, y0=0, x1=320, y1=290)))
    assert np.array_equal(ground(world)[:, :10], np.repeat(found[:, :1], 10, axis=1))


def test_bounds_that_cannot_be_are_refused(studio: Studio, world: OpenWorld) -> None:
    tract = world.first_tract.row.id
    for fields, words in (
        ({"x0": 50, "x1": 50, "y0": 0, "y1": 9}, "x0 < x1"),
        ({"x0": 400, "x1": 500, "y0": 0, "y1": 9}, "some of the old land"),
        ({"x0": 0, "x1": 90_000, "y0": 0, "y1": 300}, "cols must be 2 to 16385"),
    ):
        with pytest.raises(InvalidInput, match=words):
            studio.start_crop(tract, CropTract(**fields))
    with pytest.raises(InvalidInput, match="whole number of spacings"):
        studio.start_respace(tract, RespaceTract(spacing_m=0.7))
    assert world.revision == 0


def test_work_that_is_cancelled_or_overtaken_changes_nothing(studio: Studio, world: OpenWorld) -> None:
    from fernfield.work.worlds.tracts import crop

    tract = world.first_tract
    state = everything(world)

    class Stops(Job):
        def step(self, progress: float, message: str) -> None:
            if progress > 0.04:
                raise Cancelled("stop")

    command = CropTract(x0=0, y0=0, x1=200, y1=200)
    with pytest.raises(Cancelled):
        crop(Stops("j", "crop"), world, studio.store, tract, command)
    assert everything(world) == state

    class Busy(Job):
        def step(self, progress: float, message: str) -> None:
            if world.revision == 0:
                draw(world)

    with pytest.raises(Conflict, match="changed while this was worked out"):
        crop(Busy("j", "crop"), world, studio.store, tract, command)
    assert world.revision == 1
    assert list(world.tracts) == [tract.row.id]


# Spacing


def test_finer_posts_go_through_the_old_ones_and_coarser_ones_do_not_alias(studio: Studio, world: OpenWorld) -> None:
    tract = world.first_tract.row.id
    rolling(world, tract)
    put_sheet(world, PutSheet(key="ridge", sheet=Sheet(name="Ridge", weight=0.5)))
    draw(world, sheet="ridge")
    draw(world, "paint", cover="path", strength=300)
    was = ground(world)
    paint = world.first_tract.cache.read("cover:path", world.first_tract.grid.window)
    job = ended(studio.start_respace(tract, RespaceTract(spacing_m=0.5)))
    assert job.state == "done", job.message
    fine = world.first_tract
    assert (fine.grid.rows, fine.grid.cols) == (601, 601)
    assert np.abs(ground(world)[::2, ::2] - was).max() < 1e-4
    assert np.abs(fine.cache.read("cover:path", fine.grid.window)[::2, ::2].astype(int) - paint).max() <= 1
    hidden = sheets_of(world)[0][1].model_copy(update={"hidden": True})
    put_sheet(world, PutSheet(key="ridge", sheet=hidden))
    assert np.abs(ground(world)[::2, ::2] - was).max() > 1, "sheets are still sheets"
    world.undo()
    world.undo()
    assert np.array_equal(ground(world), was)
    # Coarser: SciPy's own decimation of smooth land (an independent filter) gives nearly the same.
    loss, greatest, mean = loss_of(world, world.first_tract, 4.0)
    ended(studio.start_respace(tract, RespaceTract(spacing_m=4.0)))
    coarse = ground(world)
    smooth = ndimage.gaussian_filter(was.astype(float), 1.6, mode="mirror")[::4, ::4]
    assert np.abs(coarse - smooth).max() < 0.02
    back = ndimage.zoom(coarse, 301 / 76, order=1, grid_mode=False)
    assert np.abs(back - was).max() == pytest.approx(greatest, rel=0.05)
    assert mean < greatest
    assert loss.max() == pytest.approx(greatest)
    assert signal.detrend(loss).shape == loss.shape


# Joining


def joined(a: FloatArray, b: FloatArray, width: float) -> tuple[FloatArray, FloatArray]:
    """Two strips that meet; and every part of them comes to the same by itself."""
    seam = seam_of(a, b, width)
    one, two = seam.laid(0, a), seam.laid(1, b)
    assert np.array_equal(seam.laid(0, a[7:19, 3:11], 7, 3), one[7:19, 3:11])
    assert np.array_equal(seam.laid(1, b[5:, :4], 5), two[5:, :4])
    return one, two


def lay_ground(world: OpenWorld, tract_id: str, window: Window, new: New) -> None:
    """Ground that is put into one tract, whatever it is joined to."""
    land = alone(world.tract(tract_id))
    world.sweep(lambda: draw_ground(world, land, window, None, new, lambda: Ended("Laid", "{}")))


def test_joined_tilted_planes_meet_without_a_step_and_without_a_crease() -> None:
    """Two planes of other height and slope: the second difference across the join stays that of the cubic blend."""
    away = np.arange(60, dtype=np.float32)
    a = np.tile(10 + 0.3 * away, (40, 1)).astype(np.float32)
    b = np.tile(16 - 0.5 * away, (40, 1)).astype(np.float32)
    one, two = joined(a, b, 30.0)
    line = np.concatenate([one[0, ::-1], two[0, 1:]]).astype(float)
    assert one[0, 0] == two[0, 0] == 13
    bend = np.abs(np.diff(line, 2))
    assert bend[58] < 0.06
    assert bend.max() < 0.09, "a crease would be 0.8 at the edge, a step 6"
    assert np.array_equal(one[:, 31:], a[:, 31:])
    assert np.array_equal(two[:, 31:], b[:, 31:])


@given(hnp.arrays(np.float32, (2, 30, 20), elements=st.floats(-50, 50, width=32)), st.floats(0, 19))
@settings(max_examples=40, deadline=None)
def test_any_two_edges_come_to_one_line_and_far_land_stays(values: FloatArray, width: float) -> None:
    one, two = joined(values[0], values[1], width)
    assert np.array_equal(one[:, 0], two[:, 0])
    assert np.allclose(one[:, 0], (values[0, :, 0] + values[1, :, 0]) / 2, atol=1e-4)
    far = int(np.ceil(width)) + 1
    assert np.array_equal(one[:, far:], values[0][:, far:])
    assert np.isfinite(one).all()


def test_tracts_that_differ_are_told_why_they_cannot_be_joined(studio: Studio, world: OpenWorld) -> None:
    def add(**fields: Any) -> str:
        values = {"name": "N", "x": 300, "width_m": 100, "depth_m": 300, "spacing_m": 1, **fields}
        return studio.add_tract(world.id, TractSpec(**values))[0]

    west = world.first_tract.row.id
    for fields, words in (
        ({"spacing_m": 2}, "the spacing differs: Main tract has 1 m, N 2 m"),
        ({"depth_m": 200}, "the posts along the edge differ: Main tract has 301, N 201"),
        ({"y": 20}, "N is shifted by 20 m along the edge"),
    ):
        east = add(**fields)
        assert [t.why_not for t in touching(world)] == [next(t.why_not for t in touching(world))]
        with pytest.raises(Conflict, match=words):
            join(world, JoinTracts(first=west, second=east))
        remove_tract(world, RemoveTract(key=east))
    far = add(x=400)
    assert touching(world) == []
    with pytest.raises(Conflict, match="do not touch"):
        join(world, JoinTracts(first=west, second=far))
    below = add(kind="underground")
    assert touching(world) == []
    assert below in world.tracts


def test_a_join_is_one_revision_and_moving_a_tract_parts_it(pair: tuple[OpenWorld, str, str]) -> None:
    world, west, east = pair
    before = land_of(world, west), land_of(world, east)
    assert gap_of(world, west, east, "east") > 1
    join(world, JoinTracts(first=east, second=west, blend_m=50))
    assert gap_of(world, west, east, "east") == 0
    assert np.array_equal(land_of(world, west)[:, :249], before[0][:, :249])
    assert np.array_equal(land_of(world, east)[:, 51:], before[1][:, 51:])
    both = np.concatenate([land_of(world, west), land_of(world, east)[:, 1:]], axis=1).astype(float)
    bend = np.abs(np.diff(both, 2, axis=1))
    assert bend[:, 299].max() < 1.5 * bend[:, 250:350].max() + 0.05, "no crease"
    assert [f.check for f in found_in(world) if f.check == "join"] == []
    draw(world, tool="raise", path=[(300, 150, 0), (300, 150, 1)])
    world.undo()
    world.undo()
    assert np.array_equal(land_of(world, west), before[0])
    assert np.array_equal(land_of(world, east), before[1])
    world.redo()
    assert [row.blend_m for _, row in world.each(JOINS)] == [50]
    place_tract(world, PlaceTract(key=east, x=310))
    assert world.each(JOINS) == []
    world.undo()
    part(world, PartTracts(key=world.each(JOINS)[0][0]))
    assert world.each(JOINS) == []
    assert gap_of(world, west, east, "east") == 0


def test_four_tracts_meet_in_one_corner(studio: Studio, world: OpenWorld) -> None:
    ids = [world.first_tract.row.id]
    for k, (x, y) in enumerate([(300, 0), (0, 300), (300, 300)]):
        spec = TractSpec(name=f"T{k}", x=x, y=y, width_m=300, depth_m=300, spacing_m=1, elevation_m=20 + 9 * k)
        ids.append(studio.add_tract(world.id, spec)[0])
    for a, b in ((0, 1), (2, 3), (0, 2), (1, 3)):
        join(world, JoinTracts(first=ids[a], second=ids[b], blend_m=60))
    gaps = [gap_of(world, row.first, row.second, row.side) for _, row in world.each(JOINS)]
    assert len(gaps) == 4
    assert max(gaps) < 1e-4


TOOLS: dict[str, dict[str, Any]] = {
    "raise": {}, "lower": {}, "flatten": {"target_m": 13.0}, "smooth": {"strength": 400}, "roughen": {},
    "square and turned": {"tool": "raise", "shape": "square", "turn_deg": 30},
    "kept": {"tool": "raise", "keep_to": {"from_m": 5, "to_m": 16}},
    "grade": {"tool": "grade", "width_m": 20},
    "weather": {"tool": "weather", "strength": 100, "kind": "frost", "repose_deg": 2},
}  # fmt: skip


@pytest.mark.parametrize("name", TOOLS)
def test_a_stroke_runs_across_a_join_as_if_there_were_none(studio: Studio, name: str) -> None:
    """The same stroke on one tract of 500 m and on two of 300 and 200 m that are joined."""
    whole = studio.world(studio.create(WorldSpec(name="W", width_m=500, depth_m=300, spacing_m=1, elevation_m=10)))
    rolling(whole, whole.first_tract.row.id, 5, 9)
    world = studio.world(studio.create(WorldSpec(name="P", width_m=300, depth_m=300, spacing_m=1, elevation_m=10)))
    west = world.first_tract.row.id
    east, _ = studio.add_tract(
        world.id, TractSpec(name="E", x=300, width_m=200, depth_m=300, spacing_m=1, elevation_m=10)
    )
    join(world, JoinTracts(first=west, second=east, blend_m=0))
    # Both begin alike: the whole land's own strokes, each from the tract where it begins.
    land = ground(whole)
    for tract_id, values in ((west, land[:, :301]), (east, land[:, 300:])):
        tract = world.tract(tract_id)

        whole_of_it = tract.grid.window
        lay_ground(world, tract_id, whole_of_it, lambda part, _was, v=values, w=whole_of_it: v[part.inside(w)])
    fields = {"tool": name, "radius_m": 40, "softness": 0.5, "strength": 12, **TOOLS[name]}
    path = [(240, 120, 0), (300, 150, 0.5), (350, 170, 1)]
    whole.stroke(whole.first_tract.row.id, Stroke(**fields, path=path))
    before = world.revision
    world.stroke(west, Stroke(**fields, path=path))
    assert world.revision == before + 1
    one, two = land_of(world, west), land_of(world, east)
    assert np.array_equal(one[:, -1], two[:, 0])
    both = np.concatenate([one, two[:, 1:]], axis=1)
    assert np.abs(ground(whole) - land).max() > 0.03, "the stroke does something"
    assert np.abs(both - ground(whole)).max() < 2e-3
    # From the other side it is the same.
    world.undo()
    world.stroke(east, Stroke(**fields, path=[(x - 300, y, t) for x, y, t in path]))
    again = np.concatenate([land_of(world, west), land_of(world, east)[:, 1:]], axis=1)
    assert np.array_equal(land_of(world, west)[:, -1], land_of(world, east)[:, 0])
    assert np.abs(again - ground(whole)).max() < (2e-3 if name != "roughen" else 60)
    world.undo()
    assert np.array_equal(land_of(world, west), land[:, :301])
    assert np.array_equal(land_of(world, east), land[:, 300:])


def test_paint_and_growth_run_across_too_and_two_hands_do_not_mix(pair: tuple[OpenWorld, str, str]) -> None:
    world, west, east = pair
    join(world, JoinTracts(first=west, second=east))
    path = [(290, 150, 0), (310, 150, 1)]
    world.stroke(west, Stroke(tool="paint", cover="path", radius_m=30, softness=0.4, strength=200, path=path))
    edge = [world.tract(t).cache.read("cover:path", world.tract(t).grid.window) for t in (west, east)]
    assert np.array_equal(edge[0][:, -1], edge[1][:, 0])
    assert edge[1][:, 10].any()
    # A stroke in one tract waits for one in the other that came over the join before it.
    start = Stroke(tool="raise", radius_m=30, softness=0.4, strength=5, path=path)
    from fernfield.core.brush.pace import Sample
    from fernfield.work.strokes import StrokeStart

    begin = StrokeStart(**start.model_dump(exclude={"path", "do"}))
    first, second = world.begin_stroke(west, begin), world.begin_stroke(east, begin)
    world.extend_stroke(first, [Sample(290 + 3 * t, 150, t, 1) for t in range(4)])
    world.extend_stroke(second, [Sample(10 + t, 150, t, 1) for t in range(4)])
    assert second.waits_for is first
    world.finish_stroke(first)
    world.finish_stroke(second)
    assert gap_of(world, west, east, "east") == 0


def test_a_join_that_came_open_is_found(pair: tuple[OpenWorld, str, str], studio: Studio) -> None:
    world, west, east = pair
    join(world, JoinTracts(first=west, second=east))

    # Only an edit that knows of no join can open one.
    lay_ground(world, west, Window(100, 280, 150, 301), lambda _part, was: np.full_like(was, 99))
    found = [f for f in studio.check(world.id) if f.check == "join"]
    assert len(found) == 1
    assert "Main tract and East" in found[0].words
    join(world, JoinTracts(first=west, second=east))
    assert [f for f in studio.check(world.id) if f.check == "join"] == []


# Copy, bin, older databases


def test_a_copy_is_the_same_world_without_its_past(pair: tuple[OpenWorld, str, str], studio: Studio) -> None:
    world, west, east = pair
    join(world, JoinTracts(first=west, second=east))
    world.edit(put(THINGS, "a", Start(name="A", x=50, y=10, tract=east)))
    job = ended(studio.start_copy(world.id, "Twin"))
    twin = studio.world(job.result["world"])  # type: ignore[index]
    assert name_of(twin) == "Twin"
    assert twin.revision == 0
    for old, new in zip(world.tracts, twin.tracts, strict=True):
        assert old != new
        assert np.array_equal(land_of(world, old), land_of(twin, new))
    ours, theirs = list(world.tracts), list(twin.tracts)
    assert [(row.first, row.second) for _, row in twin.each(JOINS)] == [(theirs[0], theirs[1])]
    assert [t.tract for _, t in things_of(twin)] == [theirs[1]]
    draw(twin)
    assert world.tract(ours[0]).cache.read(HEIGHT, world.tract(ours[0]).grid.window).max() < ground(twin).max() + 99
    assert not np.array_equal(ground(world), ground(twin))


def test_a_world_in_the_bin_is_out_of_reach_until_it_is_brought_back(studio: Studio, world: OpenWorld) -> None:
    draw(world)
    was = ground(world)
    studio.delete(world.id)
    assert list(studio.worlds()) == []
    assert [name for _, name in studio.bin()] == ["Test"]
    with pytest.raises(NotFound, match="in the bin: bring it back"):
        studio.world(world.id)
    with pytest.raises(NotFound):
        draw(world)
    back = studio.restore(world.id)
    assert np.array_equal(ground(back), was)
    back.undo()
    with pytest.raises(NotFound, match="not in the bin"):
        studio.destroy(world.id)


def test_tracts_of_a_database_of_0002_become_rows(tmp_path: Path) -> None:
    from tests.store.test_store import older_database

    path = older_database(tmp_path, "0002")
    store = WorldStore(open_database(path))
    world = OpenWorld(HOUSE, store, "w1")
    assert [(k, p.name, p.x, p.kind) for k, p in world.places()] == [("t1", "Main tract", 0.0, "open")]
    assert all(thing.tract == "t1" for _, thing in things_of(world))
    assert store.list_worlds()[0].binned_at is None
