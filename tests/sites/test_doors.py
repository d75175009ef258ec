"""Doors, throws and starts in the air; and what has its images for the other teams: roads, doors and cues too."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError
from scipy.integrate import solve_ivp

from fernfield.core.errors import InvalidInput
from fernfield.core.sites.throwing import GRAVITY, thrown
from fernfield.core.travel.walker import Intent
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY, Symmetry
from fernfield.work.sites.play.cues import CUES
from fernfield.work.sites.play.doors import DOORS, place_led_to
from fernfield.work.sites.play.findings import doors_found, images_found, play_of
from fernfield.work.sites.roads import ROADS, Road
from fernfield.work.sites.rows import THINGS, facing_of
from fernfield.work.trial.walks import Walk
from tests.conftest import draw, found_in


@given(st.floats(1, 500), st.floats(-80, 80), st.floats(10, 85))
def test_a_throw_ends_where_it_should(far: float, up: float, steep: float) -> None:
    if up >= far * math.tan(math.radians(steep)) - 0.1:
        with pytest.raises(InvalidInput, match="steeper than"):
            thrown(far, up + 0.1, min(steep, math.degrees(math.atan2(up, far))))
        return
    found = thrown(far, up, steep)
    slope = math.radians(steep)
    begin = [0.0, 0.0, found.speed * math.cos(slope), found.speed * math.sin(slope)]
    flown = solve_ivp(lambda _, s: [s[2], s[3], 0, -GRAVITY], (0, found.seconds), begin, rtol=1e-9, atol=1e-9,
                      dense_output=True)  # fmt: skip
    assert flown.y[:2, -1] == pytest.approx([far, up], rel=1e-5, abs=1e-4)
    some = flown.sol(np.linspace(0, found.seconds, 40))
    assert found.heights(some[0]) == pytest.approx(some[1], rel=1e-5, abs=1e-3)
    assert found.highest >= some[1].max() - 1e-3
    # R = v² sin 2θ / g over level ground, as textbooks of mechanics have it (from memory).
    level = thrown(far, 0, steep)
    assert level.speed**2 * math.sin(2 * slope) / GRAVITY == pytest.approx(far)


def way(**said: Any) -> Any:
    return DOORS.checked({"name": "Way", "x": 50, "y": 150, **said})


def test_doors_lead_somewhere_and_throws_meet_nothing(world: OpenWorld) -> None:
    launch = {"sort": "launch", "leads": [(150, 150)]}
    world.edit(put(DOORS, "l", way(**launch)))
    assert doors_found(world) == []
    told = DOORS.tell(world, "l", world.row(DOORS, "l"))
    assert (told["curve"][0][:2], told["curve"][-1][:2]) == ([50, 150], [150, 150])
    # A hill grows into the curve, a steeper one goes over it; a tower then stands in that.
    draw(world, path=[(100, 150, 0), (101, 150, 3)], radius_m=30, strength=15, softness=1.0)
    (found,) = doors_found(world)
    assert "meets the ground after" in found.words
    world.edit(put(DOORS, "l", way(**launch, steep_deg=80)))
    assert doors_found(world) == []
    kiln = {"sort": "piece", "kit": "windpump", "name": "Tower", "x": 145, "y": 150, "size": 4}
    world.edit(put(THINGS, "k", THINGS.checked(kiln)))
    (found,) = doors_found(world)
    assert "meets Tower after" in found.words
    for said, words in (
        ({"sort": "launch", "leads": [(150, 150)], "steep_deg": 5}, "meets the ground"),
        ({"sort": "door", "leads": []}, "leads nowhere"),
        ({"sort": "launch", "leads": []}, "leads nowhere"),
        ({"sort": "door", "leads": [(-50, 3)]}, "beyond the land"),
    ):
        world.edit(put(DOORS, "l", way(**said)))
        assert [words in one.words for one in doors_found(world)] == [True], words
    world.edit(put(DOORS, "l", way(sort="door", thing="k")))
    assert place_led_to(world, world.row(DOORS, "l")) == (world.first_tract.row.id, 145, 150)
    with pytest.raises(ValidationError, match="a metre"):
        way(sort="launch", leads=[(50, 150)])


def test_a_start_faces_a_thing_and_one_to_gather_is_none(world: OpenWorld) -> None:
    world.edit(put(THINGS, "k", THINGS.checked({"sort": "piece", "kit": "cairn", "name": "C", "x": 80, "y": 80})))
    begin = {"sort": "start", "name": "S", "x": 50, "y": 50, "faces": "k", "over_m": 200, "speed_ms": 30}
    world.edit(put(THINGS, "s", THINGS.checked(begin)))
    row: Any = world.row(THINGS, "s")
    assert facing_of(world, row) == pytest.approx(45)
    assert THINGS.tell(world, "s", row)["turn_deg"] == pytest.approx(45)
    before = play_of(world).stated.starts
    world.edit(put(THINGS, "h", THINGS.checked({**begin, "name": "H", "holding": True})))
    assert play_of(world).stated.starts == before


def test_roads_doors_and_cues_have_their_images(world: OpenWorld) -> None:
    world.edit(put(SYMMETRY, "world", Symmetry(kind="turn", x=150, y=150, times=2)))
    draw(world, path=[(60, 60, 0), (90, 90, 3)], radius_m=40)
    world.edit(put(ROADS, "r", Road(name="R", points=((20, 50), (120, 60), (149, 149)))))
    image = world.row(ROADS, "r--1")
    assert image.points == ((280, 250), (180, 240), (151, 151))
    world.edit(put(DOORS, "d", way(sort="door", leads=[(40, 60)], turn_deg=90, team=1)))
    other = world.row(DOORS, "d--1")
    assert (other.x, other.y, other.leads, other.turn_deg, other.team) == (250, 150, ((260, 240),), 270, 2)
    world.edit(put(THINGS, "bell", THINGS.checked({"sort": "piece", "kit": "cairn", "name": "B", "x": 30, "y": 220})))
    enters = {"sort": "enters", "where": {"thing": "bell"}, "who": {"team": 1}}
    cue = {"name": "Ring", "when": [enters], "then": [{"sort": "end", "team": 1}]}
    world.edit(put(CUES, "c", CUES.checked(cue)))
    mine: Any = world.row(CUES, "c--1")
    assert (mine.name, mine.when[0].where.thing, mine.when[0].who.team, mine.then[0].team) == (
        "Ring 2",
        "bell--1",
        2,
        2,
    )
    # What names nothing that lies anywhere has no image.
    world.edit(put(CUES, "t", CUES.checked({**cue, "when": [{"sort": "after", "seconds": 5}]})))
    assert world.get(CUES, "t--1") is None
    # What was there before the symmetry, or beside it, is found.
    assert images_found(world) == []
    world.edit(put(SYMMETRY, "world", Symmetry(kind="turn", x=150, y=150, times=4)))
    assert {one.name for one in images_found(world)} >= {"B", "R", "Way"}
    assert [one for one in found_in(world) if one.check == "images"]


def test_one_goes_through_doors_is_thrown_and_comes_in_by_air(world: OpenWorld) -> None:
    world.edit(put(DOORS, "d", way(sort="door", leads=[(250, 50)], turn_deg=90, back=True, reach_m=2)))
    walk = Walk(world, world.first_land, 40, 150, 90)
    ahead = Intent(ahead=1, facing=90)
    walk.advance(ahead, 60 * 4)
    assert walk.walker.x > 250
    assert walk.walker.y == pytest.approx(50, abs=0.01)
    # Back only when one has left it and comes again.
    walk.advance(Intent(ahead=-1, facing=90), 60 * 3)
    assert walk.walker.x == pytest.approx(50, abs=12)
    world.edit(put(DOORS, "d", way(sort="launch", leads=[(150, 150)], steep_deg=60)))
    walk = Walk(world, world.first_land, 40, 150, 90)
    heights = [walk.advance(ahead, 6).z for _ in range(110)]
    assert max(heights) == pytest.approx(10 + thrown(100, 0, 60).highest, abs=0.5)
    assert walk.walker.x > 150
    assert walk.walker.z == pytest.approx(10, abs=0.01)
    air = Walk(world, world.first_land, 20, 20, 0, over_m=50, speed_ms=20)
    air.advance(Intent(facing=0), 60 * 6)
    # It falls for sqrt(2 h / g) s, and goes on ahead as long.
    assert air.walker.y == pytest.approx(20 + 20 * math.sqrt(100 / 9.81), abs=0.6)
    assert air.walker.z == pytest.approx(10, abs=0.01)
