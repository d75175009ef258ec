"""Scatters by their rule beside SciPy and Shapely; what a hand moved stays; rounds are fair."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from scipy.spatial import cKDTree
from scipy.stats import chisquare
from shapely import STRtree
from shapely.geometry import LineString, Point, Polygon
from shapely.ops import unary_union

from fernfield.core.errors import Conflict
from fernfield.core.sites.placing import footprint_of
from fernfield.core.sites.scatter import candidates, chosen, drawn_in
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import LINES, PLOTS, SYMMETRY, Line, Plot, Symmetry
from fernfield.work.sites.arranging import Arrange, arrange
from fernfield.work.sites.findings import scatters_off
from fernfield.work.sites.groups import GROUPS, Group
from fernfield.work.sites.proposing import LayThings, propose
from fernfield.work.sites.rounds import round_of
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.sites.scatters import SCATTERS, Scatter, keep_scatter, scattered
from fernfield.work.sites.standing import stood_in
from tests.conftest import draw

FIELD = [(20.0, 20.0), (280.0, 30.0), (250.0, 270.0), (60.0, 240.0)]
SURE = 1e-4
"""A fair draw is less likely than this to be called unfair; seeds are fixed, so it is or is not for good."""


def rule(**said: Any) -> Scatter:
    first = {"name": "Stones", "of": [{"kit": "cairn"}], "count": 100, "apart_m": 3.0}
    return Scatter.model_validate({**first, **said})


def spots(world: OpenWorld, row: Scatter, seed: int | None = None) -> np.ndarray:
    return np.array([(one["x"], one["y"]) for one in scattered(world, "s", row, seed)[1].things])


def test_the_same_wherever_one_begins_to_look() -> None:
    whole = candidates(7, 3.7, 1, (-50, -50, 80, 60))
    parts = [candidates(7, 3.7, 1, box) for box in ((-50, -50, 13.3, 60), (13.3, -50, 80, 7), (13.3, 7, 80, 60))]
    found = {tuple(cell): (x, y, *draws) for part in parts for cell, x, y, draws in zip(
        part.cell.tolist(), part.x.tolist(), part.y.tolist(), part.draws.tolist(), strict=True)}  # fmt: skip
    assert len(found) == len(whole) == sum(map(len, parts))
    for cell, x, y, draws in zip(whole.cell.tolist(), whole.x, whole.y, whole.draws.tolist(), strict=True):
        assert found[tuple(cell)] == (x, y, *draws)


def test_weights_and_rounds_are_fair() -> None:
    """Chi-squared (SciPy): draws by weights, and each of ten candidate places as often as any other."""
    weights = (5.0, 3.0, 1.0, 1.0)
    draws = candidates(3, 1.0, 0, (0, 0, 100, 100)).draws
    counts = np.bincount(chosen(draws[:, 1], weights), minlength=4)
    assert chisquare(counts, np.array(weights) / 10 * len(draws)).pvalue > SURE
    keys = [f"place-{k}" for k in range(10)]
    drawn = [drawn_in(seed, keys, "caches", 3) for seed in range(4_000)]
    assert {len(one) for one in drawn} == {3}
    each = [sum(key in one for one in drawn) for key in keys]
    assert chisquare(each, [1_200] * 10).pvalue > SURE
    assert drawn_in(5, keys[::-1], "caches", 3) == drawn_in(5, keys, "caches", 3) != drawn_in(5, keys, "others", 3)


def test_distances_area_edge_and_line_by_other_libraries(world: OpenWorld) -> None:
    world.edit(put(PLOTS, "field", Plot(name="Field", points=tuple(FIELD))))
    world.edit(put(LINES, "way", Line(name="Way", points=((30, 60), (150, 100), (240, 220)))))
    field, way = Polygon(FIELD), LineString([(30, 60), (150, 100), (240, 220)])
    cases: tuple[tuple[dict[str, Any], Any], ...] = (
        ({}, lambda p: field.buffer(0.8).contains(p)),
        ({"where": "edge", "edge_m": 12}, lambda p: field.exterior.distance(p) < 13.5),
        ({"where": "inner", "edge_m": 30}, lambda p: field.exterior.distance(p) > 28.5 and field.contains(p)),
        ({"where": "line", "line": "way", "edge_m": 6}, lambda p: way.distance(p) < 7),
    )
    for said, holds in cases:
        found = spots(world, rule(plot="field", count=60, **said))
        assert len(found) == 60, said
        assert all(holds(Point(*spot)) for spot in found), said
        nearest, _ = cKDTree(found).query(found, k=2)
        assert nearest[:, 1].min() >= 3.0
    assert np.array_equal(spots(world, rule(plot="field")), spots(world, rule(plot="field")))
    assert not np.array_equal(spots(world, rule(), seed=2), spots(world, rule(), seed=3))


def test_ten_thousand_turned_and_tilted_never_stand_in_each_other(world: OpenWorld) -> None:
    """By Shapely: the footprints of all that were scattered, on land that is not level, and of what stood before."""
    draw(world, path=[(100, 100, 0), (200, 220, 3)], radius_m=60)
    world.edit(put(THINGS, "barn", Piece(kit="stone_barn", name="Barn", x=150, y=150, turn_deg=33)))
    of = [
        {"kit": "hurdle", "weight": 3},
        {"kit": "tool_cache", "weight": 2},
        {"kit": "hand_cart"},
        {"kit": "peat_stack"},
    ]
    row = rule(of=of, count=10_000, apart_m=0, others_m=0.3, tilt_any_deg=20, size_from=0.3, size_to=0.9)
    land, found = scattered(world, "s", row)
    assert len(found.things) > 6_000
    world.edit(put(SCATTERS, "s", row))
    keep_scatter(world, "s")
    with world.lock:
        stood = stood_in(world, land, (0, 0, 300, 300))
    shapes = [unary_union([Polygon(one) for one in footprint_of(piece.entry, piece.pose)]) for piece in stood]
    inside = [
        (i, k) for i, k in STRtree(shapes).query(shapes, predicate="overlaps").T.tolist()
        if i < k and shapes[i].intersection(shapes[k]).area > 1e-9
    ]  # fmt: skip
    assert inside == []
    assert sum(found.why.values()) > 0
    assert any("Stone barn" in why or "Barn" in why for why in found.why)


def test_conditions_reach_and_facing(world: OpenWorld) -> None:
    draw(world, path=[(150, 150, 0), (150, 150, 2)], radius_m=60, strength=12, softness=0.6)
    world.edit(put(THINGS, "s", Start(name="S", x=20, y=20)))
    low = spots(world, rule(conditions=[{"what": "elevation", "to": 12.0}, {"what": "start_distance", "from": 40.0}]))
    assert len(low) == 100
    assert max(world.first_tract.elevation(*spot) for spot in low.tolist()) < 12.6
    assert np.hypot(*(low - 20).T).min() > 39
    # The top of a mound with walls is not reached on foot.
    world.stroke(world.first_tract.row.id, _wall())
    _, found = scattered(world, "s", rule(reach=True, count=400, apart_m=1))
    away = [np.hypot(one["x"] - 150, one["y"] - 150) for one in found.things]
    assert min(away) > 18
    assert found.why["no walker gets there"] > 0
    _, down = scattered(world, "s", rule(facing="downhill", conditions=[{"what": "slope", "from": 8.0}]))
    for one in down.things[:40]:
        turn = np.radians(one["turn_deg"])
        step = world.first_tract.elevation(one["x"] + np.sin(turn), one["y"] + np.cos(turn))
        assert step < world.first_tract.elevation(one["x"], one["y"])
    world.edit(put(SCATTERS, "walled", rule(count=1, reach=True)))


def _wall() -> Any:
    from fernfield.work.strokes import Stroke

    return Stroke(tool="raise", radius_m=20, softness=0.05, strength=30, path=[(150, 150, 0), (150, 150, 1)])  # type: ignore[arg-type]


def test_under_a_symmetry_a_scatter_and_its_images_come_and_go_together(world: OpenWorld) -> None:
    world.edit(put(SYMMETRY, "world", Symmetry(kind="mirror", x=150, y=150)))
    for count in (20, 8):
        world.edit(put(SCATTERS, "s", rule(count=count, box=(20.0, 20.0, 130.0, 280.0))))
        keep_scatter(world, "s")
        placed = [(round(thing.x, 3), round(thing.y, 3)) for _, thing in world.each(THINGS)]
        assert len(placed) == 2 * count
        assert sorted(placed) == sorted((round(300 - x, 3), y) for x, y in placed)
        assert scatters_off(world) == []


def test_kept_it_follows_the_land_and_what_a_hand_moved_stays(world: OpenWorld) -> None:
    world.edit(put(SCATTERS, "s", rule(count=30, conditions=[{"what": "elevation", "to": 14.0}])))
    keep_scatter(world, "s")
    keys = [key for key, _ in world.each(THINGS)]
    assert len(keys) == 30
    arrange(world, keys[:1], Arrange(x=3, y=3, locked=False))
    moved = world.row(THINGS, keys[0])
    assert (moved.x, moved.by_hand) == (3, True)  # type: ignore[attr-defined]
    arrange(world, keys[1:], Arrange(hidden=True))
    before, at = dict(world.each(THINGS)), world.revision
    # Far away nothing follows; where the land rises they follow with the stroke, and go back with it.
    world.edit(put(PLOTS, "field", Plot(name="Field", points=tuple(FIELD))))
    assert world.revision == at + 1
    drawn = draw(world, radius_m=90, path=[(150, 150, 0), (160, 150, 2)])
    assert drawn.revision == world.revision == at + 3
    now = dict(world.each(THINGS))
    assert len(now) == 30
    assert now[keys[0]] == moved
    assert all(world.first_tract.elevation(t.x, t.y) < 14.5 for t in now.values())
    assert scatters_off(world) == []
    # Those whose places are still good are the same rows, with all that was said of them.
    same = set(now) & set(keys)
    assert 10 < len(same) < 30
    assert all(now[key] == before[key] for key in same)
    assert world.undo().words.startswith(f"Undid r{at + 2}")
    assert (dict(world.each(THINGS)), world.first_tract.elevation(150, 150)) == (before, 10)
    assert world.redo().words.startswith(f"Redid r{at + 2}")
    assert dict(world.each(THINGS)) == now
    with pytest.raises(Conflict, match="nothing to redo"):
        world.redo()
    # A rule that is still tried is not taken by a stroke.
    world.edit(put(SCATTERS, "s", rule(count=40, conditions=[{"what": "elevation", "to": 14.0}])))
    draw(world, radius_m=90, path=[(50, 150, 0), (60, 150, 2)])
    assert dict(world.each(THINGS)) == now
    # So many do not follow at once: a check finds them.
    world.edit(put(SCATTERS, "s", rule(count=2_500, conditions=[{"what": "elevation", "to": 14.0}], apart_m=0)))
    keep_scatter(world, "s")
    assert scatters_off(world) == []
    draw(world, radius_m=90, path=[(250, 150, 0), (240, 150, 2)])
    ((_, _, off),) = scatters_off(world)
    assert off > 0
    # Without the scatter its pieces stay as they are.
    from fernfield.work.kernel.commands import remove

    world.edit(remove(SCATTERS, "s"))
    assert {t.scatter for t in dict(world.each(THINGS)).values()} == {None}  # type: ignore[attr-defined]


def test_a_pattern_says_what_does_not_fit_and_why(world: OpenWorld) -> None:
    world.edit(put(THINGS, "barn", Piece(kit="stone_barn", name="Long barn", x=100, y=100)))
    land = world.first_land
    row = LayThings.model_validate(
        {"of": [{"kit": "cairn"}], "by": "line", "points": [[40, 100], [340, 100]], "spacing_m": 20}
    )
    found = propose(world, land, row)
    assert dict(found.why) == {"it would stand in Long barn": 1, "the land ends": 2}
    assert {one["x"] for one in found.things} == {40, 60, 80, *range(120, 301, 20)}
    on = LayThings.model_validate({"of": [{"kit": "cairn"}], "by": "spots", "spots": [[100, 100]], "on_top": True})
    (top,) = propose(world, land, on).things
    assert (top["on"], top["z"] > 15) == ("barn", True)
    over = LayThings.model_validate(
        {"of": [{"kit": "lamp_post"}], "by": "spots", "spots": [[20, 20]], "over_sea_m": 25}
    )
    assert propose(world, land, over).things[0]["z"] == pytest.approx(25 - 0.05)


def test_a_round_has_so_many_of_a_group(world: OpenWorld) -> None:
    world.edit(put(GROUPS, "g", Group(name="Caches", draws=2)))
    for k in range(5):
        world.edit(put(THINGS, f"c{k}", Piece(kit="tool_cache", name="C", x=10 + 10 * k, y=10, group="g")))
    told = round_of(world, 8)
    (group,) = told["groups"]
    assert (group["of"], group["draws"], group["chance"], len(group["things"])) == (5, 2, 0.4, 2)
    assert sorted([*group["things"], *told["left_out"]]) == [f"c{k}" for k in range(5)]
    assert round_of(world, 8) == told


def test_a_scatter_whose_entry_has_gone_says_so(world: OpenWorld) -> None:
    world.rows["scatters"]["s"] = rule(of=[{"kit": "cairn"}]).model_copy(update={"of": ()})
    gone = rule()
    gone = gone.model_copy(update={"of": (gone.of[0].model_copy(update={"kit": "tower"}),)})
    with pytest.raises(Conflict, match="tower, which is not in the kit"):
        scattered(world, "s", gone)
