"""What is joined is one ground: the same land as one tract, and as four that are joined, agree post by post."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from contextlib import closing
from typing import Any

import numpy as np
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from PIL import Image

from fernfield.core.grid import Window
from fernfield.core.overview import RULES
from fernfield.core.travel.walker import Intent
from fernfield.web.kernel.pictures import plan_rgb
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import Reset
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT, Light
from fernfield.work.plots.rows import PLOTS, SYMMETRY, Plot, Symmetry
from fernfield.work.seen.overlaid import labels
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.sections import line_section, section
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import levels, spot
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from fernfield.work.trial.walks import Walk
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import ended

SIDE = 512
"""Metres along a side of each of the four; together 1,025 posts square."""

Edits = list[tuple[dict[str, Any], float, float, float, float]]
"""What a stroke is, and its two ends. [m]"""


def one_of(studio: Studio, side: float) -> OpenWorld:
    spec = WorldSpec(name="Land", width_m=side, depth_m=side, spacing_m=1, elevation_m=10, sea_level_m=8)
    return studio.world(studio.create(spec))


def four_of(studio: Studio, side: float) -> OpenWorld:
    """Four tracts, joined at their edges: south-west first."""
    world = one_of(studio, side)
    ids = [world.first_tract.row.id]
    for name, x, y in (("SE", side, 0), ("NW", 0, side), ("NE", side, side)):
        ids.append(
            studio.add_tract(
                world.id, TractSpec(name=name, x=x, y=y, width_m=side, depth_m=side, spacing_m=1, elevation_m=10)
            )[0]
        )
    for a, b in ((0, 1), (2, 3), (0, 2), (1, 3)):
        join(world, JoinTracts(first=ids[a], second=ids[b], blend_m=0))
    return world


def whole_of(world: OpenWorld) -> Land:
    return world.land(world.first_tract.row.id)


def heights_of(land: Land) -> np.ndarray:
    return land.read(HEIGHT, land.bounds)


def stroke_on(world: OpenWorld, path: list[tuple[float, float, float]], **fields: Any) -> None:
    """A stroke in the world's metres, on the tract where it begins."""
    part = whole_of(world).part_at(path[0][0], path[0][1])
    assert part is not None
    own = [(x - part.x, y - part.y, t) for x, y, t in path]
    world.stroke(part.tract.row.id, Stroke(**{"radius_m": 60, "softness": 0.7, "strength": 20, **fields, "path": own}))


EDITS = (
    {"tool": "raise", "strength": 25}, {"tool": "lower", "strength": 12}, {"tool": "flatten", "strength": 8},
    {"tool": "smooth", "strength": 90}, {"tool": "roughen", "strength": 4},
    {"tool": "open", "radius_m": 9, "strength": 900}, {"tool": "grade", "width_m": 9},
    {"tool": "flatten", "by": "fill"},
    {"tool": "paint", "cover": "path", "strength": 200}, {"tool": "paint", "cover": "earth", "strength": 90},
    {"tool": "sow", "mix": "mix", "strength": 200}, {"tool": "thin", "mix": "mix", "strength": 60},
)  # fmt: skip

FULL = 2.0 * SIDE
PLACE = st.floats(20, FULL - 20).map(lambda v: round(v * 8) / 8)


@settings(max_examples=8, deadline=None, derandomize=True, phases=(Phase.explicit, Phase.generate))
@given(
    edits=st.lists(st.tuples(st.sampled_from(EDITS), PLACE, PLACE, PLACE, PLACE), min_size=3, max_size=7),
    sun=st.sampled_from((12.0, 32.0)),
)
def test_one_tract_and_four_that_are_joined_agree(
    edits: Edits, sun: float, tmp_path_factory: pytest.TempPathFactory
) -> None:
    with closing(Studio(tmp_path_factory.mktemp("land"))) as studio:
        _agree(one_of(studio, FULL), four_of(studio, SIDE), edits, sun)


def _agree(one: OpenWorld, four: OpenWorld, edits: Edits, sun: float) -> None:
    # A hill across the middle, so that something lies on every edge.
    everything = [({"tool": "raise", "strength": 30, "radius_m": 120}, 430.0, 470.0, 600.0, 560.0), *edits]
    for fields, x0, y0, x1, y1 in everything:
        path = [(x0, y0, 0.0), ((x0 + x1) / 2, y1, 0.6), (x1, y1, 1.0)]
        for world in (one, four):
            stroke_on(world, path, **fields)
    for world in (one, four):
        world.edit(put(LIGHT, "world", Light(sun_bearing_deg=300, sun_height_deg=sun)))
    a, b = whole_of(one), whole_of(four)
    assert a.grid == b.grid
    assert a.bounds == b.bounds
    assert heights_of(a).tobytes() == heights_of(b).tobytes()
    shows = (Show(), Show(overlays=tuple(one.house.overlays)), Show(contour_m="auto", growth=False))
    for step in (8, 16, 32):
        for rule in RULES.values():
            far = [land.seen(HEIGHT, Window(0, 0, *land.grid.window.shape), step, rule).tobytes() for land in (a, b)]
            assert far[0] == far[1], (step, rule.name)
    middle = SIDE - 150
    for show in shows:
        for level, part in ((0, Window(middle, middle, middle + 300, middle + 300)), (1, Window(100, 100, 400, 400)),
                            (3, Window(0, 0, 129, 129)),
                            (5, Window(0, 0, 33, 33)), (-1, Window(1000, 1000, 1100, 1100))):  # fmt: skip
            pictures = [plan_pixels(w, land, level, part, show) for w, land in ((one, a), (four, b))]
            assert pictures[0].tobytes() == pictures[1].tobytes(), (level, show)
    across = [(300.0, 500.0), (512.0, 512.0), (700.0, 530.0)]
    for ask in (
        lambda w, land: spot(w, land, 512.0, 512.0),
        lambda w, land: spot(w, land, 512.4, 300.2),
        lambda w, land: section(w, land, 512.3, 0.0, FULL),
        lambda w, land: line_section(w, land, across, (50.0, 300.0)),
        lambda w, land: levels(w, land, land.bounds),
        lambda w, land: labels(w, land, 0, Window(300, 300, 700, 700), 2.0),
    ):
        assert ask(one, a) == ask(four, b)
    plants = [
        [(p.mix, p.part.kind, p.plants.x.tobytes(), p.plants.y.tobytes(), p.z.tobytes(), p.lean_east.tobytes())
         for p in standing_plants(w, land, Window(350, 350, 700, 700))]
        for w, land in ((one, a), (four, b))
    ]  # fmt: skip
    assert plants[0] == plants[1]
    walks = [Walk(w, land, 470.0, 505.0, 80.0) for w, land in ((one, a), (four, b))]
    for walk in walks:
        walk.advance(Intent(ahead=1.0, facing=80.0, run=True), 600)
    assert walks[0].state() == walks[1].state()


@pytest.fixture(scope="module")
def lands(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """A small land of four tracts, with a slope across all of them."""
    studio = Studio(tmp_path_factory.mktemp("four"))
    yield studio, four_of(studio, 64)
    studio.close()


def test_a_land_in_a_tracts_own_posts_reads_beyond_it(lands: tuple[Studio, OpenWorld]) -> None:
    _, world = lands
    stroke_on(world, [(60, 60, 0), (70, 70, 1)], tool="raise", radius_m=12)
    whole = heights_of(whole_of(world))
    north_east = list(world.tracts)[3]
    own = world.land_from(north_east)
    assert own.grid == world.tract(north_east).grid
    assert own.origin == (64, 64)
    assert np.array_equal(own.read(HEIGHT, own.grid.window), whole[:65, 64:])
    # Ten posts into each neighbour: south and west of it.
    beyond = Window(20, -10, 75, 30)
    assert np.array_equal(own.read(HEIGHT, beyond), whole[20:75, 54:94])
    for step in (2, 3, 7):
        assert np.array_equal(own.read(HEIGHT, beyond, step), whole[20:75:step, 54:94:step])
    # Past the land the border goes on.
    assert np.array_equal(own.read(HEIGHT, Window(-5, 60, 3, 70))[:5, :5], np.tile(whole[0, 124:129], (5, 1)))


def test_between_tracts_that_leave_a_gap_nothing_is_drawn(studio: Studio) -> None:
    world = one_of(studio, 64)
    apart = TractSpec(name="Apart", x=128, y=64, width_m=64, depth_m=64, spacing_m=1, elevation_m=20)
    studio.add_tract(world.id, apart)
    land = world.country(world.first_tract.row.id)
    assert (land.grid.rows, land.grid.cols) == (129, 193)
    heights = land.read(HEIGHT, land.bounds)
    assert (heights[70, 10], heights[10, 150]) == (10, 20)
    # In the gap the nearest tract goes on.
    assert (heights[10, 10], heights[120, 150]) == (10, 20)
    picture = plan_pixels(world, land, 0, land.bounds, Show())
    assert picture[70, 10, 3] == picture[10, 150, 3] == 255
    assert picture[10, 10, 3] == picture[120, 150, 3] == 0
    # In a picture of its own the gap is paper, and no border is dark.
    rgb = plan_rgb(world, land, 193, (0, 0, 192, 128), Show(contour_m=0))
    assert tuple(rgb[10, 10]) == (247, 244, 234)
    own = world.first_land
    whole = plan_rgb(world, own, 100, (0, 0, 64, 64), Show(contour_m=0)).astype(int)
    assert np.abs(whole[[0, -1]].mean(axis=(1, 2)) - whole[40:60].mean()).max() < 4
    assert np.abs(whole[:, [0, -1]].mean(axis=(0, 2)) - whole[40:60].mean()).max() < 4
    # The histogram counts only what is there.
    counts, posts = levels(world, land, land.bounds)["counts"], 2 * 65 * 65
    assert sum(counts) == posts
    # They are seen together; nobody walks from one to the other.
    assert world.land(world.first_tract.row.id).tract_ids == (world.first_tract.row.id,)
    assert land.part_at(100, 30) is None


def test_what_lies_side_by_side_and_is_not_joined_is_shaded_but_not_worked_on(studio: Studio) -> None:
    world = one_of(studio, 64)
    first = world.first_tract.row.id
    beside = TractSpec(name="Beside", x=64, y=0, width_m=64, depth_m=64, spacing_m=1, elevation_m=10)
    second, _ = studio.add_tract(world.id, beside)
    world.stroke(first, Stroke(tool="raise", radius_m=12, softness=0, strength=30, path=[(60, 32, 0), (62, 32, 1)]))
    east = world.land_from(second)
    assert (east.read(HEIGHT, east.bounds) == 10).all()
    assert east.tract_ids == (second,)
    # The sun stands in the west: the hill's shadow falls on its neighbour.
    world.edit(put(LIGHT, "world", Light(sun_bearing_deg=270, sun_height_deg=20)))
    country = world.country(first)
    lit, alone = (
        plan_pixels(world, land, 0, part, Show(contour_m=0)).astype(int)
        for land, part in ((country, Window(20, 70, 44, 90)), (east, Window(20, 6, 44, 26)))
    )
    assert lit[12, 5, :3].mean() < alone[12, 5, :3].mean() - 20


def test_other_lattices_and_underground_levels_are_no_part_of_what_is_seen(studio: Studio) -> None:
    world = one_of(studio, 64)
    first = world.first_tract.row.id
    others: tuple[dict[str, Any], ...] = ({"spacing_m": 2.0}, {"x": 64.5}, {"kind": "underground"})
    for number, own in enumerate(others):
        said = {"name": f"Other {number}", "x": 64, "width_m": 64, "depth_m": 64, "spacing_m": 1.0, **own}
        studio.add_tract(world.id, TractSpec.model_validate(said))
    assert world.country(first).tract_ids == (first,)
    cellar = list(world.tracts)[3]
    assert world.country(cellar).tract_ids == (cellar,)


def test_a_walker_crosses_a_join_and_meets_what_stands_beyond(lands: tuple[Studio, OpenWorld]) -> None:
    _, world = lands
    east = list(world.tracts)[1]
    world.edit(put(THINGS, "wall", Piece(kit="stone_barn", name="Barn", x=30, y=20, tract=east)))
    walk = Walk(world, whole_of(world), 50.0, 20.0, 90.0)
    walk.advance(Intent(ahead=1.0, facing=90.0), 1_000)
    assert 80 < walk.walker.x < 94
    assert walk.walker.blocked_by == "Barn"
    # Apart from its join it ends at the edge.
    alone = Walk(world, world.land(next(iter(world.tracts))), 20.0, 20.0, 270.0)
    alone.advance(Intent(ahead=1.0, facing=270.0), 1_000)
    assert alone.walker.x == pytest.approx(0, abs=0.5)


def test_a_plot_of_one_tract_bounds_strokes_and_areas_of_the_next(lands: tuple[Studio, OpenWorld]) -> None:
    _, world = lands
    west, east = list(world.tracts)[:2]
    world.edit(put(PLOTS, "over", Plot(name="Over", points=((50, 5), (80, 5), (80, 15), (50, 15)), tract=west)))
    before = heights_of(whole_of(world)).copy()
    path = [(-20.0, 10.0, 0.0), (30.0, 10.0, 1.0)]
    keep = {"plots": ["over"]}
    world.stroke(east, Stroke(tool="raise", radius_m=15, softness=0, strength=5, path=path, keep_to=keep))
    changed = np.argwhere(heights_of(whole_of(world)) != before)
    assert len(changed) > 200
    rows, cols = changed[:, 0], changed[:, 1]
    assert (cols.min(), cols.max()) == (50, 80)
    assert 128 - 15 <= rows.min() <= rows.max() <= 128 - 5
    outcome = reset(world, world.tract(east), Reset(to="elevation", elevation_m=33, plot="over"), None)
    after = heights_of(whole_of(world))
    assert (after[113:124, 50:81] == 33).all()
    assert outcome.revision == world.revision
    world.undo()
    assert (heights_of(whole_of(world))[113:124, 50:81] != 33).any()


def test_the_packages_of_one_tract_and_of_four_hold_the_same_land(studio: Studio) -> None:
    """File by file: elevations, the shares of covers, openings, and every plant, each at its place."""
    found = []
    for world in (one_of(studio, 256), four_of(studio, 128)):
        stroke_on(world, [(60, 60, 0), (190, 180, 1)], tool="raise", radius_m=70)
        stroke_on(world, [(100, 128, 0), (160, 128, 1)], tool="paint", cover="earth", strength=200, radius_m=30)
        stroke_on(world, [(128, 90, 0), (128, 170, 1)], tool="sow", mix="mix", strength=300, radius_m=40)
        stroke_on(world, [(120, 110, 0), (136, 110, 1)], tool="open", radius_m=6, strength=900)
        job = ended(studio.start_handover(world.id))
        assert job.state == "done", job.message
        with zipfile.ZipFile(studio.package(world.id)[2]) as package:
            found.append(_unpacked(package, world))
    one, four = found
    assert one.keys() == four.keys()
    assert len(one["plants"]) > 40
    for name, values in one.items():
        assert np.array_equal(values, four[name]), name


def _unpacked(package: zipfile.ZipFile, world: OpenWorld) -> dict[str, Any]:
    """What a package says of a land, put together from its tracts at their places."""
    land = whole_of(world)
    by_id = {part.tract.row.id: part for part in land.parts}
    found: dict[str, Any] = {"heights": np.full(land.bounds.shape, np.nan), "plants": []}
    for said in json.loads(package.read("manifest.json"))["tracts"]:
        part = by_id[said["id"]]
        box = part.where.inside(land.bounds)
        scale = said["heights"]
        grey = np.asarray(Image.open(io.BytesIO(package.read(scale["file"]))), np.float64)
        elevations = scale["lowest_m"] + grey / 65_535 * (scale["highest_m"] - scale["lowest_m"])
        shared = ~np.isnan(found["heights"][box])
        # The edge that two tracts share is the same in both files.
        assert np.array_equal(found["heights"][box][shared], elevations[shared])
        found["heights"][box] = elevations
        pictures = {f"cover {one['key']}": one["file"] for one in said["covers"]}
        if "openings" in said:
            pictures["openings"] = said["openings"]["file"]
        for name, file in pictures.items():
            whole = found.setdefault(name, np.zeros(land.bounds.shape, np.uint8))
            whole[box] = np.maximum(whole[box], np.asarray(Image.open(io.BytesIO(package.read(file)))))
        for row in csv.reader(io.StringIO(package.read(said["growth"]["file"]).decode())):
            if row[1] != "kind":
                x, y = float(row[2]) + part.x, float(row[3]) + part.y
                found["plants"].append((*row[:2], round(x, 3), round(y, 3), *row[4:]))
    found["plants"].sort()
    return found


def test_what_follows_by_symmetry_stands_in_the_tract_where_its_place_is(studio: Studio) -> None:
    world = four_of(studio, 64)
    west, east = list(world.tracts)[:2]
    world.edit(put(SYMMETRY, ONLY, Symmetry(kind="mirror", x=64, y=64, bearing_deg=0)))
    world.edit(put(THINGS, "s", Start(name="South", x=20, y=30, turn_deg=90, team=1, tract=west)))
    things = dict(world.each(THINGS))
    assert things.keys() == {"s", "s--1"}
    image = things["s--1"]
    # 44 m from the line on either side: at 108 in the world, 44 in the eastern tract.
    assert (image.tract, image.x, image.y, image.turn_deg) == (east, 44, 30, 270)
    # Whichever is moved, the other follows; over the line they change places.
    world.edit(patch(THINGS, "s--1", x=10.0, y=5.0))
    moved = dict(world.each(THINGS))
    assert (moved["s"].tract, moved["s"].x, moved["s"].y) == (west, 54, 5)
    world.edit(remove(THINGS, "s"))
    assert not world.each(THINGS)
    world.undo()
    assert dict(world.each(THINGS)) == moved
