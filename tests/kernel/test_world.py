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
from fernfield.core.grid import TILE, Window
from fernfield.work.cover.rows import COVERS, CoverRule
from fernfield.work.cover.shares import cover_shares
from fernfield.work.ground.areas import reset
from fernfield.work.ground.commands import ClearSheet, MoveLand, PutSheet, Reset
from fernfield.work.ground.moving import move_land
from fernfield.work.ground.rows import Sheet
from fernfield.work.ground.sheet_edits import empty_sheet, put_sheet
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.standing import standing_plants
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import Together, patch, put, remove
from fernfield.work.kernel.events import Event, Moved, Revised
from fernfield.work.kernel.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, SYMMETRY, Plot, Symmetry
from fernfield.work.seen.spot import spot
from fernfield.work.sites.rows import THINGS, Thing, things_of
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
    high = spot(world, world.first_tract, 100, 100)["elevation_m"]
    draw(world, "flatten", path=[(100, 100, 0), (160, 100, 3)], strength=60, softness=0.2)
    assert spot(world, world.first_tract, 150, 100)["elevation_m"] == pytest.approx(high, abs=0.02)
    draw(world, "flatten", path=[(100, 100, 0), (100, 100, 3)], strength=60, target_m=2.5)
    assert spot(world, world.first_tract, 100, 100)["elevation_m"] == 2.5


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
            place = Thing(sort="start", name="S", x=rng.uniform(0, 300), y=rng.uniform(0, 300))
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
    assert spot(world, world.first_tract, 100, 100)["elevation_m"] == pytest.approx(11, abs=0.02)


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
    monkeypatch.setattr("fernfield.work.kernel.ledger.PATIENCE_S", 0.05)
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


def shares_at(world: OpenWorld, x: float, y: float) -> dict[str, float]:
    return spot(world, world.first_tract, x, y)["covers"]  # type: ignore[no-any-return]


def test_painting_shows_a_cover_and_taking_it_away_shows_what_was_under_it(world: OpenWorld) -> None:
    here = {"path": [(100, 100, 0), (100, 100, 1)], "softness": 0}
    draw(world, "paint", cover="earth", strength=60, **here)
    assert shares_at(world, 100, 100)["Earth"] == pytest.approx(0.6, abs=0.01)
    draw(world, "paint", cover="path", strength=200, **here)
    assert shares_at(world, 100, 100)["Path"] == 1
    draw(world, "take_away", cover="path", strength=200, **here)
    assert shares_at(world, 100, 100)["Earth"] == pytest.approx(0.6, abs=0.01)
    draw(world, "paint", cover="grass", strength=200, **here)
    assert shares_at(world, 100, 100)["Grass"] == 1
    total = cover_shares(world, world.first_tract, Window(150, 60, 260, 160)).sum(axis=0)
    assert np.allclose(total, 1, atol=1e-6)


def test_painting_a_lower_cover_uncovers_it(world: OpenWorld) -> None:
    here = {"path": [(100, 100, 0), (100, 100, 1)], "softness": 0, "strength": 150}
    draw(world, "paint", cover="path", **here)
    draw(world, "paint", cover="earth", **here)
    assert shares_at(world, 100, 100)["Earth"] == 1


def test_rock_follows_the_slope_when_the_ground_changes(world: OpenWorld) -> None:
    assert shares_at(world, 118, 100)["Rock"] == 0
    draw(world, path=[(100, 100, 0), (100, 100, 2)], strength=15, softness=0.3)
    steep = spot(world, world.first_tract, 117, 100)
    assert steep["slope_deg"] > 60
    assert steep["covers"]["Rock"] == 1
    rock = world.row(COVERS, "rock")
    world.edit(put(COVERS, "rock", rock.model_copy(update={"rule": CoverRule(above_deg=90, blend_deg=0)})))
    assert shares_at(world, 117, 100)["Rock"] == 0


def test_plants_stand_on_the_ground_after_it_has_moved(world: OpenWorld) -> None:
    tract = world.first_tract
    draw(world, "sow", mix="mix", strength=300, path=[(100, 100, 0), (140, 100, 1)])
    before = standing_plants(world, tract, tract.grid.window)
    assert sum(len(p.plants) for p in before) > 20
    draw(world, "raise", path=[(90, 100, 0), (140, 104, 1)], radius_m=30, strength=12)
    after = standing_plants(world, tract, tract.grid.window)
    for old, new in zip(before, after, strict=True):
        assert (old.plants.x == new.plants.x).all()
        for x, y, z in zip(new.plants.x, new.plants.y, new.z, strict=True):
            assert z == pytest.approx(spot(world, tract, float(x), float(y))["elevation_m"], abs=1e-3)
        upright = new.kind.habit == "upright"
        assert (np.abs(new.lean_east).max() < 1e-6) == upright


def test_what_is_sown_follows_the_mix(world: OpenWorld) -> None:
    tract = world.first_tract
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)

    def count() -> int:
        return sum(len(p.plants) for p in standing_plants(world, tract, tract.grid.window))

    first = count()
    mix = world.row(MIXES, "mix")
    denser = tuple(k.model_copy(update={"density_per_ha": k.density_per_ha * 2}) for k in mix.kinds)
    world.edit(put(MIXES, "mix", mix.model_copy(update={"kinds": denser})))
    assert count() == pytest.approx(2 * first, rel=0.15)
    draw(world, "thin", mix="mix", strength=1000, path=[(0, 100, 0), (300, 100, 2)], radius_m=80, softness=0)
    assert count() == 0
    world.undo()
    world.undo()
    assert count() == first


def test_the_first_start_is_the_default_and_there_is_never_more_than_one(world: OpenWorld) -> None:
    def place(key: str, **fields: object) -> None:
        thing = Thing(**{"sort": "start", "name": key, "x": 10, "y": 10, **fields})  # type: ignore[arg-type]
        world.edit(put(THINGS, key, thing))

    place("a")
    place("b")
    assert [t.default for _, t in things_of(world)] == [True, False]
    place("b", default=True, x=20)
    assert [t.default for _, t in things_of(world)] == [False, True]
    world.undo()
    assert [t.default for _, t in things_of(world)] == [True, False]
    world.edit(remove(THINGS, "a"))
    with pytest.raises(NotFound, match="there is no 'a' among the things of this world; there is b"):
        world.edit(remove(THINGS, "a"))


def test_edits_that_do_not_fit_are_refused_and_change_nothing(world: OpenWorld) -> None:
    thing = Thing(sort="start", name="x", x=999, y=0)
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
    assert "water/sea does not fit: sea_level_m" in again.unread["water", "sea"].why
    assert sea_level(again) == 0
    assert [f.check for f in found_in(again)].count("unread row") == 1
    again.edit(put(WATER, "sea", Water(sea_level_m=3)))
    assert not again.unread
    again.undo()
    assert ("water", "sea") in again.unread


def test_a_cache_that_drops_tiles_loses_nothing(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fernfield.work.kernel.tiles.MOST_TILES", 3)
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
    barn = Thing(sort="piece", kit="stone_barn", name="Barn", x=40, y=50)
    start = Thing(sort="start", name="North", x=60, y=250, turn_deg=180)
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
