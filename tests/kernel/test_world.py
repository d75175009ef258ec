"""The open world: strokes, undo to the last byte, restarts, and strokes that meet."""

import random
from contextlib import suppress
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.grid import TILE
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import ClearSheet, MoveLand, PutSheet, Reset
from fernfield.work.ground.moving import move_land
from fernfield.work.ground.rows import Sheet
from fernfield.work.ground.sheet_edits import empty_sheet, put_sheet
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import Together, patch, put, remove
from fernfield.work.kernel.events import Event, Moved, Revised
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, SYMMETRY, Plot, Symmetry
from fernfield.work.seen.spot import spot
from fernfield.work.sites.rows import THINGS, Piece, Start, things_of
from fernfield.work.strokes import Stroke, StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, Water, sea_level
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.rows import ABOUT, name_of
from tests.conftest import draw, everything, found_in, ground


def test_a_stroke_over_four_tiles_leaves_no_crease_and_tells_its_volume(world: OpenWorld) -> None:
    outcome = draw(world)
    land = ground(world)
    assert outcome.revision == 1
    assert outcome.fill_m3 == pytest.approx(float((land.astype(float) - 10).sum()), rel=1e-6)
    assert outcome.cut_m3 == 0
    window = outcome.window
    assert window.row0 < TILE < window.row1
    assert window.col0 < TILE < window.col1
    outside = np.ones_like(land, bool)
    outside[window.row0 : window.row1, window.col0 : window.col1] = False
    assert (land[outside] == 10).all()
    # The steepest step over the tiles' border is no steeper than elsewhere.
    step = np.abs(np.diff(land, axis=1))
    assert step[:, TILE - 1].max() <= step.max() + 1e-6
    assert np.abs(np.diff(step, axis=1)).max() < 0.1


def test_the_same_stroke_elsewhere_gives_the_same_shape(studio: Studio) -> None:
    """Shifted by whole posts over tile borders: equal to float32 rounding."""
    shapes = []
    for shift in (0, 37, 150):
        spec = WorldSpec(name="s", width_m=400, depth_m=400, spacing_m=1, elevation_m=0)
        world = studio.world(studio.create(spec))
        path = [(100 + shift, 100 + shift, 0), (130 + shift, 120 + shift, 1)]
        for tool in ("raise", "smooth"):
            draw(world, tool, path=path, strength=8 if tool == "raise" else 300)
        land = ground(world)
        row, col = 400 - 100 - shift, 100 + shift
        shapes.append(land[row - 50 : row + 30, col - 30 : col + 60])
    for other in shapes[1:]:
        assert np.allclose(other, shapes[0], atol=1e-4)


def test_flatten_takes_the_elevation_where_the_stroke_began(world: OpenWorld) -> None:
    draw(world, "raise", path=[(100, 100, 0), (100, 100, 1)], strength=6)
    high = spot(world, world.first_land, 100, 100)["elevation_m"]
    draw(world, "flatten", path=[(100, 100, 0), (160, 100, 3)], strength=60, softness=0.2)
    assert spot(world, world.first_land, 150, 100)["elevation_m"] == pytest.approx(high, abs=0.02)
    draw(world, "flatten", path=[(100, 100, 0), (100, 100, 3)], strength=60, target_m=2.5)
    assert spot(world, world.first_land, 100, 100)["elevation_m"] == 2.5


TOOLS = (
    {"tool": "raise"},
    {"tool": "lower"},
    {"tool": "smooth", "strength": 300},
    {"tool": "flatten", "target_m": 12.0},
    {"tool": "paint", "cover": "earth", "strength": 200},
    {"tool": "paint", "cover": "grass", "strength": 200},
    {"tool": "take_away", "cover": "earth", "strength": 100},
    {"tool": "sow", "mix": "mix", "strength": 200},
    {"tool": "thin", "mix": "mix", "strength": 100},
    {"tool": "roughen", "height_m": 2.0, "feature_m": 12.0, "sheet": "one"},
    {"tool": "weather", "strength": 50, "kind": "frost", "repose_deg": 10.0},
    {"tool": "weather", "strength": 80},
    {"tool": "grade", "to_m": 14.0, "width_m": 6.0},
    {"tool": "imprint", "image": "crater", "size_m": 50.0, "sheet": "one"},
    {"tool": "raise", "shape": "bar", "turn_by": "path", "tip": "ridge", "keep_to": {"from_m": 5.0, "plots": ["p"]}},
    {"tool": "lower", "sheet": "one"},
    {"tool": "open", "strength": 900},
)


def edit_something(world: OpenWorld, choice: int, rng: random.Random) -> None:
    """One of the edits that are not strokes."""
    sheet = Sheet(name="One", weight=rng.choice([0.3, 1.0]), hidden=rng.random() < 0.3)
    area = {"box": (rng.uniform(0, 140), rng.uniform(0, 140), rng.uniform(150, 300), rng.uniform(150, 300))}
    tract = world.first_tract
    match choice:
        case 0:
            world.edit(put(WATER, "sea", Water(sea_level_m=rng.uniform(-5, 20))))
        case 1:
            place = Start(name="S", x=rng.uniform(0, 300), y=rng.uniform(0, 300))
            world.edit(put(THINGS, f"s{rng.randrange(3)}", place))
        case 2:
            world.edit(patch(ABOUT, "world", name=f"Name {rng.randrange(99)}"))
        case 3:
            put_sheet(world, PutSheet(key="one", sheet=sheet))
        case 4:
            empty_sheet(world, ClearSheet(key="one"))
        case 5:
            reset(world, tract, Reset(to="elevation", elevation_m=rng.uniform(0, 30), feather_m=9, **area), None)
        case 6:
            where = {"x": rng.uniform(50, 250), "y": rng.uniform(50, 250), "turn_deg": rng.uniform(0, 360)}
            move_land(world, tract, MoveLand(**where, **area, growth=True, covers=True, copy_land=rng.random() < 0.5))
        case 7:
            kinds = {"mirror": Symmetry(kind="mirror", x=150, y=150), "off": Symmetry()}
            world.edit(put(SYMMETRY, "world", rng.choice(list(kinds.values()))))


EDITS = 8


@given(st.lists(st.tuples(st.integers(0, len(TOOLS) + EDITS - 1), st.integers(0, 2**31)), min_size=1, max_size=9))
@settings(max_examples=25, deadline=None)
def test_undoing_any_sequence_of_edits_returns_every_byte(
    tmp_path_factory: pytest.TempPathFactory, edits: list[tuple[int, int]]
) -> None:
    studio = Studio(tmp_path_factory.mktemp("undo"))
    try:
        spec = WorldSpec(name="Undo", width_m=300, depth_m=300, spacing_m=1, elevation_m=10)
        world = studio.world(studio.create(spec))
        put_sheet(world, PutSheet(key="one", sheet=Sheet(name="One")))
        corners = ((20.0, 30.0), (280.0, 60.0), (200.0, 270.0))
        world.edit(put(PLOTS, "p", Plot(name="P", points=corners)))
        states = [everything(world)]
        for choice, seed in edits:
            rng = random.Random(seed)
            before = world.revision
            if choice < len(TOOLS):
                path = [(rng.uniform(-10, 310), rng.uniform(-10, 310), t / 4) for t in range(3)]
                own = {**TOOLS[choice], "path": path}
                if TOOLS[choice]["tool"] not in ("grade", "imprint"):
                    own["radius_m"] = rng.uniform(1, 60)
                with suppress(Conflict):  # the sheet may be hidden just then
                    draw(world, **own)
            else:
                edit_something(world, choice - len(TOOLS), rng)
            if world.revision > before:
                states.append(everything(world))
        for state in reversed(states[:-1]):
            world.undo()
            assert everything(world) == state
        for state in states[1:]:
            world.redo()
            assert everything(world) == state
    finally:
        studio.close()


def test_undo_and_redo_still_work_after_a_restart(tmp_path: Path) -> None:
    studio = Studio(tmp_path)
    world = studio.world(studio.create(WorldSpec(name="R", width_m=300, depth_m=300, spacing_m=1)))
    states = [everything(world)]
    for tool in ("raise", "smooth", "lower"):
        draw(world, tool)
        states.append(everything(world))
    world.undo()
    studio.close()
    studio = Studio(tmp_path)
    world = studio.world(world.id)
    assert world.revision == 4
    assert everything(world) == states[2]
    world.undo()
    assert everything(world) == states[1]
    world.redo()
    world.redo()
    assert everything(world) == states[3]
    with pytest.raises(Conflict, match="nothing to redo"):
        world.redo()
    world.undo()
    draw(world, "raise")
    assert not world.can_redo
    studio.close()


def test_the_data_folder_can_be_open_only_once(studio: Studio) -> None:
    with pytest.raises(Conflict, match="in use"):
        Studio(studio.data)


def test_a_stroke_that_cannot_be_written_leaves_the_ground_as_it_was(
    world: OpenWorld, studio: Studio, monkeypatch: pytest.MonkeyPatch
) -> None:
    draw(world)
    before = everything(world)

    def full(_revision: object) -> None:
        raise OSError("disk full")

    monkeypatch.setattr(studio.store, "write", full)
    with pytest.raises(OSError, match="disk full"):
        draw(world, "lower")
    with pytest.raises(OSError, match="disk full"):
        world.undo()
    with pytest.raises(OSError, match="disk full"):
        world.edit(patch(ABOUT, "world", name="x"))
    monkeypatch.undo()
    assert everything(world) == before
    assert world.revision == 1
    world.undo()
    assert (ground(world) == 10).all()


# Live strokes

START = StrokeStart(tool="raise", radius_m=20, softness=0.5, strength=10)


def test_a_live_stroke_is_the_stroke_sent_whole(world: OpenWorld, studio: Studio) -> None:
    path = [(50 + 10 * t, 60 + 5 * t * t, t / 10) for t in range(12)]
    run = world.begin_stroke(world.first_tract.row.id, START)
    for point in path:
        world.extend_stroke(run, [Sample(*point)])
    live = world.finish_stroke(run)
    other = studio.world(studio.create(WorldSpec(name="o", width_m=300, depth_m=300, spacing_m=1)))
    whole = other.stroke(other.first_tract.row.id, Stroke(**START.model_dump(), path=path))
    assert ground(world).tobytes() == ground(other).tobytes()
    assert live.fill_m3 == whole.fill_m3


def test_a_stroke_that_goes_on_too_long_is_kept_up_to_there(world: OpenWorld) -> None:
    run = world.begin_stroke(world.first_tract.row.id, START.model_copy(update={"strength": 0.5}))
    world.extend_stroke(run, [Sample(100, 100, 0), Sample(100, 100, 2)])
    with pytest.raises(InvalidInput, match="at most 600 s"):
        world.extend_stroke(run, [Sample(100, 100, 700)])
    assert world.finish_stroke(run).revision == 1
    assert spot(world, world.first_land, 100, 100)["elevation_m"] == pytest.approx(11, abs=0.02)


def test_an_abandoned_stroke_never_was(world: OpenWorld) -> None:
    before = everything(world)
    run = world.begin_stroke(world.first_tract.row.id, START)
    for t in range(8):
        world.extend_stroke(run, [Sample(100, 100, t / 10)])
    assert everything(world) != before
    world.abandon_stroke(run)
    assert everything(world) == before
    assert world.revision == 0


def test_two_strokes_in_one_place_end_as_if_drawn_one_after_the_other(world: OpenWorld, studio: Studio) -> None:
    tract = world.first_tract.row.id
    first = world.begin_stroke(tract, START)
    second = world.begin_stroke(tract, START.model_copy(update={"tool": "flatten", "target_m": 30.0, "strength": 50}))
    for t in range(10):
        # The later one comes first to the place, and gives way when the earlier one wants it.
        world.extend_stroke(second, [Sample(120 + t, 100, t / 10)])
        world.extend_stroke(first, [Sample(100 + t, 100, t / 10)])
    a = world.finish_stroke(first)
    b = world.finish_stroke(second)
    assert (a.revision, b.revision) == (1, 2)
    other = studio.world(studio.create(WorldSpec(name="o", width_m=300, depth_m=300, spacing_m=1)))
    for run in (first, second):
        path = [(s.x, s.y, s.seconds) for s in run.samples]
        other.stroke(other.first_tract.row.id, Stroke(**run.start.model_dump(), path=path))
    assert ground(world).tobytes() == ground(other).tobytes()
    world.undo()
    world.undo()
    assert (ground(world) == 10).all()


def test_strokes_far_apart_do_not_wait_for_each_other(studio: Studio) -> None:
    world = studio.world(studio.create(WorldSpec(name="o", width_m=900, depth_m=300, spacing_m=1)))
    runs = [world.begin_stroke(world.first_tract.row.id, START) for _ in range(2)]
    for t in range(4):
        for run, x in zip(runs, (100, 800), strict=True):
            world.extend_stroke(run, [Sample(x, 100, t / 10)])
    assert world.finish_stroke(runs[1]).revision == 1
    assert world.finish_stroke(runs[0]).revision == 2


def test_undo_waits_for_a_stroke_in_its_place_and_says_so(world: OpenWorld, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fernfield.work.kernel.writing.ledger.PATIENCE_S", 0.05)
    draw(world)
    run = world.begin_stroke(world.first_tract.row.id, START)
    for t in range(4):
        world.extend_stroke(run, [Sample(250, 45, t / 10)])
    with pytest.raises(Conflict, match="nothing was changed"):
        world.undo()
    world.finish_stroke(run)
    assert world.undo().revision == 3


def test_listeners_hear_what_moved_and_what_was_kept(world: OpenWorld) -> None:
    heard: list[Event] = []
    stop = world.listen(heard.append)
    draw(world)
    stop()
    draw(world)
    assert isinstance(heard[0], Moved)
    assert heard[0].layer == HEIGHT
    assert isinstance(heard[-1], Revised)
    assert heard[-1].number == 1
    assert "fill" in heard[-1].words


# Covers, growth, things


def test_edits_that_do_not_fit_are_refused_and_change_nothing(world: OpenWorld) -> None:
    thing = Start(name="x", x=999, y=0)
    with pytest.raises(InvalidInput, match="inside the tract"):
        world.edit(put(THINGS, "a", thing))
    with pytest.raises(NotFound, match="cover must be one of grass, earth, path, rock, not 'snow'"):
        draw(world, "paint", cover="snow")
    with pytest.raises(Conflict, match="base cover"):
        draw(world, "take_away", cover="grass")
    with pytest.raises(NotFound, match="mix must be one of mix"):
        draw(world, "sow", mix="wood")
    with pytest.raises(NotFound, match="no tract"):
        world.stroke("t0", Stroke(**START.model_dump(), path=[(0, 0, 0)]))
    assert world.revision == 0
    # A stroke wholly outside the tract is no revision.
    assert draw(world, path=[(-500, -500, 0), (-400, -500, 1)]).revision == 0


def test_a_stored_row_that_does_not_fit_is_named(world: OpenWorld, studio: Studio) -> None:
    from sqlalchemy import text

    with studio.store.engine.begin() as c:
        c.execute(text("UPDATE entries SET body = '{\"sea_level_m\": \"high\"}' WHERE collection = 'water'"))
    # It is set aside and named; the rest of the world is there, and the row stays as it is stored.
    again = OpenWorld(HOUSE, studio.store, world.id)
    assert "water/sea does not fit: Sea level must be a number" in again.unread["water", "sea"].why
    assert sea_level(again) == 0
    assert [f.check for f in found_in(again)].count("unread row") == 1
    again.edit(put(WATER, "sea", Water(sea_level_m=3)))
    assert not again.unread
    again.undo()
    assert ("water", "sea") in again.unread


def test_a_cache_that_drops_tiles_loses_nothing(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fernfield.work.kernel.posts.tiles.MOST_TILES", 3)
    world = studio.world(studio.create(WorldSpec(name="big", width_m=1200, depth_m=1200, spacing_m=1)))
    path = [(50, 50, 0), (1150, 1150, 2)]
    run = world.begin_stroke(world.first_tract.row.id, START)
    world.extend_stroke(run, [Sample(*p) for p in path])
    outcome = world.finish_stroke(run)
    land = ground(world)
    assert outcome.fill_m3 == pytest.approx(float((land.astype(float) - 10).sum()), rel=1e-6)
    again = OpenWorld(HOUSE, studio.store, world.id)
    assert ground(again).tobytes() == land.tobytes()


def test_edits_together_are_one_revision_or_none(world: OpenWorld) -> None:
    before = everything(world)
    barn = Piece(kit="stone_barn", name="Barn", x=40, y=50)
    start = Start(name="North", x=60, y=250, turn_deg=180)
    edits = (put(THINGS, "barn", barn), put(THINGS, "n", start), put(WATER, "sea", Water(sea_level_m=4)))
    assert world.edit(Together(edits=edits)).revision == 1
    assert (sea_level(world), len(things_of(world))) == (4, 2)
    assert world.row(THINGS, "n").default
    world.undo()
    assert everything(world) == before
    world.redo()
    outside = put(THINGS, "far", barn.model_copy(update={"x": 9_000.0}))
    with pytest.raises(InvalidInput, match="inside the tract"):
        world.edit(Together(edits=(patch(ABOUT, "world", name="Never"), outside)))
    with pytest.raises(NotFound, match="'gone'"):
        world.edit(Together(edits=(remove(THINGS, "barn"), remove(THINGS, "gone"))))
    assert (name_of(world), world.revision, len(things_of(world))) == ("Test", 3, 2)


def test_an_edit_that_changes_nothing_is_no_revision(world: OpenWorld) -> None:
    heard: list[Event] = []
    world.listen(heard.append)
    same = (patch(ABOUT, "world", name=name_of(world)), put(WATER, "sea", Water(sea_level_m=sea_level(world))))
    assert world.edit(Together(edits=same)).revision == 0
    assert draw(world, "flatten", target_m=10.0).revision == 0
    assert not any(isinstance(event, Revised) for event in heard)
    assert not world.can_undo
