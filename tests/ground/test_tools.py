"""Strokes in the open world: forms, limits, symmetry, whole paths, and the invariants of each tool."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import Conflict, InvalidInput, NotFound
from fernfield.core.ground.openings import OPENING
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.work.ground.rows import LIMITS, Limits
from fernfield.work.kernel.commands import put, remove
from fernfield.work.kernel.world import OpenWorld, Outcome
from fernfield.work.plots.rows import PLOTS, SYMMETRY, Plot, Symmetry
from fernfield.work.seen.sections import section
from fernfield.work.sites.rows import THINGS, Start, things_of
from fernfield.work.strokes import Stroke, StrokeStart
from fernfield.work.studio import Studio
from fernfield.work.water.rows import sea_level
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, ground

ACROSS = [(60.0, 150.0, 0.0), (240.0, 150.0, 1.5)]


def hilly(world: OpenWorld) -> np.ndarray:
    """Rough land to work on."""
    draw(world, "roughen", radius_m=260, softness=0.2, strength=60, path=[(150, 150, 0), (150, 150, 1)], height_m=30.0,
         feature_m=60.0)  # fmt: skip
    return ground(world)


@pytest.mark.parametrize(("by", "sign"), [("fill", 1), ("cut", -1)])
@pytest.mark.parametrize("tool", ["flatten", "grade"])
def test_by_fill_only_nothing_sinks_and_by_cut_only_nothing_rises(
    world: OpenWorld, tool: str, by: str, sign: int
) -> None:
    before = hilly(world)
    own: dict[str, Any] = {"target_m": 12.0} if tool == "flatten" else {"from_m": 10.0, "to_m": 14.0, "width_m": 20.0}
    if tool == "flatten":
        own |= {"radius_m": 40, "strength": 30}
    outcome = draw(world, tool, path=ACROSS, by=by, **own)
    rise = (ground(world).astype(float) - before) * sign
    assert rise.min() == 0
    assert rise.max() > 1
    volume = outcome.fill_m3 if by == "fill" else outcome.cut_m3
    assert volume == pytest.approx(float(rise.sum()), rel=1e-6)
    assert (outcome.cut_m3 if by == "fill" else outcome.fill_m3) == 0


def test_flatten_takes_the_mean_under_the_brush(world: OpenWorld) -> None:
    draw(world, "raise", path=[(150, 150, 0), (150, 150, 1)], radius_m=30, softness=0.0, strength=8)
    # Half the brush lies on the raised disc.
    draw(world, "flatten", path=[(150, 150, 0), (150, 150, 3)], radius_m=60, softness=0.0, strength=60,
         target_from="mean")  # fmt: skip
    level = float(ground(world)[150, 150])
    assert level == pytest.approx(10 + 8 * 0.25, abs=0.1)
    assert ground(world)[150, 195] == pytest.approx(level)


def test_a_grade_over_the_land_measures_what_it_says(world: OpenWorld) -> None:
    hilly(world)
    away = 180.0
    draw(world, "grade", path=ACROSS, from_m=10.0, to_m=10.0 + 0.08 * away, width_m=12.0)
    tract = world.first_tract
    z = [tract.elevation(x, 150.0) for x in np.linspace(64, 236, 44)]
    percent = np.diff(z) / 4 * 100
    assert np.abs(percent - 8).max() < 0.1
    words = world.store.revisions(world.id)[0].words
    assert words.startswith("Grade, 180 m at 8.0 %")
    # Left out, the ends are the ground where the path begins and ends.
    began, ended = tract.elevation(60, 60), tract.elevation(200, 80)
    draw(world, "grade", path=[(60, 60, 0), (200, 80, 1)], width_m=10.0)
    assert tract.elevation(61, 60) == pytest.approx(began, abs=0.2)
    assert tract.elevation(130, 70) == pytest.approx((began + ended) / 2, abs=0.2)


def test_a_grade_is_laid_anew_while_it_is_dragged_and_only_its_end_stays(world: OpenWorld) -> None:
    before = hilly(world)
    tract = world.first_tract
    start = StrokeStart(tool="grade", width_m=10.0, from_m=20.0, to_m=20.0)
    run = world.begin_stroke(tract.row.id, start)
    world.extend_stroke(run, [Sample(50, 50, 0), Sample(250, 60, 0.2)])
    assert tract.elevation(150, 55) == pytest.approx(20, abs=1e-4)
    facts = run.progress()
    assert facts["length_m"] == pytest.approx(math.hypot(200, 10), abs=0.5)
    assert facts["cut_m3"] + facts["fill_m3"] > 100
    run._laid_at = 0
    world.extend_stroke(run, [Sample(60, 250, 1.0)])
    outcome = world.finish_stroke(run)
    # With the way "path" the hand went there and back; what is laid follows the whole of it.
    assert outcome.cut_m3 + outcome.fill_m3 == pytest.approx(
        float(np.abs(ground(world).astype(float) - before).sum()), rel=1e-5
    )
    run = world.begin_stroke(tract.row.id, StrokeStart(tool="grade", width_m=10.0, way="ends"))
    world.extend_stroke(run, [Sample(50, 50, 0), Sample(250, 60, 0.2)])
    world.abandon_stroke(run)
    world.undo()
    assert np.array_equal(ground(world), before)


def shape_at(studio: Studio, x: float, y: float, tool: str, **own: Any) -> np.ndarray:
    spec = WorldSpec(name="s", width_m=500, depth_m=500, spacing_m=1, elevation_m=0)
    world = studio.world(studio.create(spec))
    if tool not in ("raise", "grade", "imprint"):
        draw(world, "raise", path=[(x - 10, y, 0), (x + 10, y + 5, 1)], radius_m=25, strength=14)
    draw(world, tool, path=[(x - 25, y - 12, 0), (x, y + 8, 0.4), (x + 28, y + 10, 1)], **own)
    row, col = 500 - round(y), round(x)
    return ground(world)[row - 70 : row + 70, col - 70 : col + 70]


@pytest.mark.parametrize(
    ("tool", "own"),
    [
        ("raise", {"shape": "square", "turn_deg": 30.0}),
        ("raise", {"shape": "bar", "turn_by": "path"}),
        ("raise", {"tip": "cracks", "turn_by": "random"}),
        ("smooth", {"strength": 400, "detail_m": 12.0}),
        ("smooth", {"strength": 400, "keep_edges_deg": 25.0}),
        ("flatten", {"by": "cut", "target_m": 4.0}),
        ("weather", {"strength": 60, "kind": "frost", "repose_deg": 12.0}),
        ("grade", {"from_m": 0.0, "to_m": 9.0, "width_m": 7.0}),
        ("imprint", {"size_m": 60.0, "turn_deg": 20.0}),
    ],
)
def test_the_same_stroke_shifted_by_any_offset_gives_the_same_shape(
    studio: Studio, tool: str, own: dict[str, Any]
) -> None:
    """Also where tiles meet, at 256: no crease."""
    first = shape_at(studio, 150, 150, tool, **own)
    assert np.abs(first).max() > 1
    for x, y in ((256, 245), (187, 244)):
        assert np.allclose(shape_at(studio, x, y, tool, **own), first, atol=2e-3)


def test_roughen_twice_over_one_place_in_a_stroke_is_roughen_once(world: OpenWorld) -> None:
    own: dict[str, Any] = {"radius_m": 50, "softness": 0.0, "strength": 40, "height_m": 3.0}
    draw(world, "roughen", path=[(150, 150, 0), (150, 150, 0.5)], **own)
    once = ground(world)
    world.undo()
    draw(world, "roughen", path=[(150, 150, 0), (152, 150, 2), (149, 150, 4), (150, 150, 6)], **own)
    inside = np.s_[120:181, 120:181]
    assert np.allclose(ground(world)[inside], once[inside], atol=1e-3)
    assert np.abs(once - 10).max() <= 3


def triangle(world: OpenWorld) -> None:
    points = ((100.0, 100.0), (200.0, 100.0), (150.0, 210.0))
    world.edit(put(PLOTS, "tri", Plot(name="Triangle", points=points)))


@pytest.mark.parametrize("outside", [False, True])
def test_a_stroke_keeps_to_plots(world: OpenWorld, outside: bool) -> None:
    triangle(world)
    draw(world, path=ACROSS, radius_m=120, softness=0.0, keep_to={"plots": ["tri"], "outside": outside})
    moved = ground(world) != 10
    assert moved[300 - 140, 150] == (not outside)
    assert moved[300 - 150, 60] == outside
    with pytest.raises(NotFound, match="'nowhere' among the plots"):
        draw(world, keep_to={"plots": ["nowhere"]})


def test_a_stroke_keeps_to_elevations_slopes_and_water_as_they_were(world: OpenWorld) -> None:
    before = hilly(world)
    # A stroke that raises what it may work on stays on it, though that rises out of the limits meanwhile.
    draw(world, path=ACROSS, radius_m=150, softness=0.0, strength=30, keep_to={"from_m": 8.0, "to_m": 12.0})
    moved = ground(world) != before
    assert not moved[(before < 8) | (before > 12)].any()
    assert (ground(world) - before)[moved].max() > 20
    world.undo()
    draw(world, "lower", path=ACROSS, radius_m=150, softness=0.0, keep_to={"water": "dry", "to_deg": 20.0})
    moved = ground(world) != before
    assert not moved[before < sea_level(world)].any()
    assert 0.02 < moved.mean() < 0.9
    world.undo()
    draw(world, "flatten", path=ACROSS, radius_m=150, target_m=0.0, keep_to={"from_deg": 30.0})
    assert 0.02 < (ground(world) != before).mean() < 0.6


def test_covers_and_growth_keep_to_plots_and_take_tips(world: OpenWorld) -> None:
    triangle(world)
    draw(world, "paint", cover="earth", path=ACROSS, radius_m=100, strength=500, keep_to={"plots": ["tri"]})
    mask = world.first_tract.cache.read("cover:earth", world.first_tract.grid.window)
    assert mask[300 - 140, 150] > 0
    assert mask[300 - 150, 60] == 0
    draw(world, "sow", mix="mix", path=[(60, 60, 0), (60, 60, 1)], radius_m=30, strength=500, tip="furrows")
    growth = world.first_tract.cache.read("growth:mix", world.first_tract.grid.window)[220:260, 40:80]
    # Furrows: along a line across them it goes up and down several times.
    line = growth[20].astype(int)
    assert (np.diff(np.sign(np.diff(line))) < 0).sum() >= 3


@pytest.mark.parametrize(
    ("tool", "own"),
    [
        ("raise", {"tip": "ridge", "turn_deg": 25.0}),
        ("raise", {"shape": "bar", "turn_by": "path"}),
        ("roughen", {"strength": 40, "height_m": 5.0}),
        ("flatten", {"target_m": 14.0}),
        ("imprint", {"image": "ridge", "size_m": 60.0, "turn_deg": 30.0}),
        ("grade", {"from_m": 12.0, "to_m": 20.0}),
    ],
)
@pytest.mark.parametrize(
    "symmetry",
    [
        Symmetry(kind="mirror", x=150, y=150, bearing_deg=0),
        Symmetry(kind="mirror", x=150, y=150, bearing_deg=45),
        Symmetry(kind="turn", x=150, y=150, times=2),
        Symmetry(kind="turn", x=150, y=150, times=4),
    ],
)
def test_all_strokes_follow_a_symmetry(world: OpenWorld, tool: str, own: dict[str, Any], symmetry: Symmetry) -> None:
    world.edit(put(SYMMETRY, "world", symmetry))
    draw(world, tool, path=[(40, 90, 0), (70, 125, 1)], **({"radius_m": 22} if "size_m" not in own and tool != "grade"
         else {}), **own)  # fmt: skip
    land = ground(world)
    copies = {
        ("mirror", 0.0): lambda a: a[:, ::-1],
        ("mirror", 45.0): lambda a: a[::-1, ::-1].T,
        ("turn", 2): lambda a: a[::-1, ::-1],
        ("turn", 4): np.rot90,
    }
    copy = copies["mirror", symmetry.bearing_deg] if symmetry.kind == "mirror" else copies["turn", symmetry.times]
    assert np.abs(land - 10).max() > 1
    # Row 0 is north and the middle is a post: the copies fall on posts.
    assert np.abs(land - copy(land)).max() < 2e-3


def test_pieces_and_starts_follow_a_symmetry_whichever_of_them_is_moved(world: OpenWorld) -> None:
    world.edit(put(SYMMETRY, "world", Symmetry(kind="turn", x=150, y=150, times=2)))
    world.edit(put(THINGS, "a", Start(name="Yard", x=50, y=60, turn_deg=30, team=1)))
    found = dict(things_of(world))
    assert set(found) == {"a", "a--1"}
    assert (found["a--1"].x, found["a--1"].y, found["a--1"].turn_deg, found["a--1"].team) == (250, 240, 210, 2)
    assert found["a"].default
    assert not found["a--1"].default
    moved = found["a--1"].model_copy(update={"x": 200.0, "y": 200.0})
    world.edit(put(THINGS, "a--1", moved))
    assert (dict(things_of(world))["a"].x, dict(things_of(world))["a"].y) == (100, 100)
    assert dict(things_of(world))["a"].name == "Yard"

    world.edit(remove(THINGS, "a"))
    assert not things_of(world)
    world.undo()
    assert len(things_of(world)) == 2


def test_no_tool_goes_past_the_stated_elevations_of_the_world(world: OpenWorld) -> None:
    world.edit(put(LIMITS, "world", Limits(lowest_m=6, highest_m=14)))
    for tool in ("raise", "lower"):
        draw(world, tool, path=ACROSS, radius_m=40, strength=60)
    draw(world, "imprint", image="hummock", size_m=100.0, height_m=500.0, path=[(150, 80, 0)])
    draw(world, "grade", path=[(40, 250, 0), (260, 250, 1)], from_m=0.0, to_m=40.0)
    assert ground(world).min() == 6
    assert ground(world).max() == 14
    with pytest.raises(ValidationError, match="lowest_m must be below highest_m, not 9 and 3"):
        Limits(lowest_m=9, highest_m=3)


def test_a_pen_pressed_half_as_hard_does_half_as_much(world: OpenWorld) -> None:
    outcomes = [
        draw(world, path=[(x, 150, 0, press), (x, 150, 1, press)], radius_m=20) for x, press in ((80, 1.0), (220, 0.5))
    ]
    assert outcomes[1].fill_m3 == pytest.approx(outcomes[0].fill_m3 / 2, rel=1e-4)


def test_openings_are_marked_and_closed(world: OpenWorld) -> None:
    draw(world, "open", path=[(150, 150, 0), (150, 150, 1)], radius_m=6, softness=0.0, strength=500)
    cache, window = world.first_tract.cache, world.first_tract.grid.window
    holes = cache.read(OPENING, window) >= 32_768
    assert holes.sum() == pytest.approx(math.pi * 36, rel=0.1)
    assert (ground(world) == 10).all()
    draw(world, "close", path=[(150, 150, 0), (150, 150, 1)], radius_m=12, strength=500)
    assert not (cache.read(OPENING, window) >= 32_768).any()


def refused(**fields: Any) -> str:
    with pytest.raises((ValidationError, InvalidInput)) as caught:
        Stroke.model_validate({"radius_m": 5, "softness": 0.5, "strength": 5, "path": [(1, 1, 0)], **fields})
    return str(caught.value)


def test_a_stroke_that_does_not_fit_is_refused_with_what_is_allowed() -> None:
    assert "detail_m goes with smooth, not with raise" in refused(tool="raise", detail_m=3)
    assert "height_m goes with roughen or imprint, not with flatten" in refused(tool="flatten", height_m=3)
    assert "by must be both or cut or fill, not 'dig'" in refused(tool="flatten", by="dig")
    assert "octaves must be a whole number 1 to 12, not 40" in refused(tool="roughen", octaves=40)
    assert "octaves" in refused(tool="roughen", octaves=2.5)
    assert "height_m must be 0.01 to 1000 m, not -3.0" in refused(tool="roughen", height_m=-3)
    assert "Input should be 'round', 'square' or 'bar'" in refused(tool="raise", shape="star")
    assert "sheet goes with" in refused(tool="paint", cover="earth", sheet="one")
    assert "extra" in refused(tool="raise", colour="red").lower()
    assert "less than or equal to 90" in refused(tool="raise", keep_to={"from_deg": 91})
    assert "valid string" in refused(tool=["raise"])
    assert "from_m must not be above to_m, not 20 and 5" in refused(tool="raise", keep_to={"from_m": 20, "to_m": 5})
    # What lays a whole path needs no brush.
    assert Stroke.model_validate({"tool": "grade", "path": [(1, 1, 0), (9, 9, 1)]}).own["width_m"] == 8
    with pytest.raises(ValidationError, match="radius_m"):
        Stroke.model_validate({"tool": "raise", "path": [(1, 1, 0)]})


def test_unknown_pictures_and_sheets_are_named(world: OpenWorld) -> None:
    with pytest.raises(NotFound, match="no picture 'mine'; there is hummock"):
        draw(world, "raise", tip="mine")
    with pytest.raises(NotFound, match="no picture 'mine'"):
        draw(world, "imprint", image="mine")
    with pytest.raises(NotFound, match="no sheet 'one'"):
        draw(world, "raise", sheet="one")


def test_every_tool_works_in_the_open_world_and_is_undone(world: OpenWorld) -> None:
    hilly(world)
    before = ground(world)
    for name, tool in GROUND_TOOLS.items():
        if tool.sign:
            continue
        strength = 200 if tool.unit == "%/s" else 8
        own = {} if tool.lay else {"radius_m": 30, "strength": strength}
        outcome: Outcome = draw(world, name, path=ACROSS, **own)
        assert not outcome.window.empty, name
        moved = np.argwhere(ground(world) != before)
        assert moved.min(axis=0)[0] >= outcome.window.row0, name
        assert moved.max(axis=0)[1] < outcome.window.col1, name
        ghost = section(world, world.first_land, 150.0, 0.0, 300.0)
        assert ghost["before"] is not None, name
        world.undo()
        assert np.array_equal(ground(world), before), name


def test_a_hidden_ghost_and_conflict_leave_nothing_half_done(world: OpenWorld) -> None:
    run = world.begin_stroke(world.first_tract.row.id, StrokeStart(tool="raise", radius_m=20, softness=0.5, strength=9))
    world.extend_stroke(run, [Sample(150, 150, 0), Sample(160, 150, 0.3), Sample(170, 150, 0.6)])
    assert run.progress()["fill_m3"] > 100
    world.abandon_stroke(run)
    assert (ground(world) == 10).all()
    with pytest.raises(Conflict, match="already ended"):
        world.finish_stroke(run)
