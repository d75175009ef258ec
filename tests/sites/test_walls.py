"""Walls and fences: pieces along a line that leave nothing open, with gates and posts, on the ground as it is."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.geometry import LineString
from shapely.ops import unary_union

from fernfield.core.errors import FernError
from fernfield.core.sites.walls import Gap, along_wall, length_of, stretches
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import SYMMETRY, Symmetry
from fernfield.work.sites.arranging import Arrange, arrange
from fernfield.work.sites.joining import Loosen, loosen
from fernfield.work.sites.rows import THINGS, Piece, Wall
from fernfield.work.sites.standing import piece_obstacles, stood_in
from tests.conftest import draw

WIDTH = 6.0
CORNERS = st.lists(st.tuples(st.integers(-60, 60), st.integers(-60, 60)), min_size=2, max_size=6, unique=True)


def reaches(x: float, y: float, turn: float, width: float) -> LineString:
    """What a piece covers along its width."""
    east, north = math.cos(math.radians(turn)) * width / 2, -math.sin(math.radians(turn)) * width / 2
    return LineString([(x - east, y - north), (x + east, y + north)])


@settings(deadline=None, max_examples=60)
@given(CORNERS, st.booleans(), st.lists(st.floats(0, 400), max_size=3))
def test_nothing_is_left_open_but_the_gates(points: list[tuple[int, int]], closed: bool, at: list[float]) -> None:
    gaps = [Gap(one, 3.0, "gate") for one in at]
    laid = along_wall(points, "wall", WIDTH, closed=closed, corner="post", gaps=gaps)
    widths = {"wall": WIDTH, "gate": 3.0}
    parts = {one.kit: [reaches(b.x, b.y, b.turn_deg, widths[b.kit] * b.size) for b in laid if b.kit == one.kit]
             for one in laid if one.kit in widths}  # fmt: skip
    covered = unary_union([part for every in parts.values() for part in every]).buffer(1e-6)
    lines = [LineString(pair) for pair in stretches(points, closed)]
    for line in lines:
        # What is shorter than a part of a piece stays open; and no piece stands out of the line, nor into a gate.
        assert line.difference(covered).length <= 0.15 * WIDTH * (len(at) + 1) + 1e-6
    whole = unary_union([line.buffer(1e-6) for line in lines])
    assert all(whole.covers(part) for every in parts.values() for part in every)
    for gate in parts.get("gate", []):
        beside = [part for part in parts["wall"] if part.intersection(gate.buffer(1e-6)).length > 1e-3]
        # Where the line crosses itself, or comes back on itself, another stretch may lie there.
        assert not beside or not LineString(points).is_simple or closed
    assert len([one for one in laid if one.kit == "post"]) == (len(points) if len(points) > 2 or not closed else 1)
    assert length_of(points, closed) == pytest.approx(sum(line.length for line in lines))


def wall(**also: Any) -> Wall:
    said = {"name": "Wall", "kit": "field_wall", "x": 100, "y": 150, "points": [(0, 0), (60, 0), (60, 40)], **also}
    return Wall.model_validate(said)


def test_it_stands_on_the_ground_moves_with_its_points_and_blocks(world: OpenWorld) -> None:
    draw(world, path=[(120, 150, 0), (130, 150, 2)], radius_m=60, strength=12, softness=1.0)
    world.edit(put(THINGS, "w", wall(corner="lamp_post", gates=[{"at_m": 30, "kit": "gateway"}])))
    land, box = world.first_land, (0.0, 0.0, 299.0, 299.0)
    stood = stood_in(world, land, box)
    kinds = [one.entry.name for one in stood]
    assert (kinds.count("lamp_post"), kinds.count("gateway")) == (3, 1)
    for one in stood:
        if one.entry.meets == "upright":
            assert one.pose.z == pytest.approx(
                land.elevation(one.pose.x, one.pose.y) - one.entry.sinks_m * one.pose.size, abs=1e-3
            )
    assert len(list(piece_obstacles(world, land, land.grid.window))) >= kinds.count("field_wall")
    told = THINGS.tell(world, "w", world.row(THINGS, "w"))
    assert len(told["members"]) == len(stood)
    # Along the slope each of its pieces leans; and all of it goes along with its place and turn.
    world.edit(put(THINGS, "w", wall(lies="along")))
    assert any(max(map(abs, (one.pose.east, one.pose.north))) > 0.01 for one in stood_in(world, land, box))
    before = {(round(one.pose.x, 3), round(one.pose.y, 3)) for one in stood_in(world, land, box)}
    turned = {"turn_by_deg": 90, "about": (100.0, 150.0)}
    arrange(world, ["w"], Arrange.model_validate(turned))
    after = {(round(one.pose.x, 3), round(one.pose.y, 3)) for one in stood_in(world, land, box)}
    assert after == {(round(100 + y - 150, 3), round(150 - (x - 100), 3)) for x, y in before}


def test_a_mirror_turns_right_to_left_and_back(world: OpenWorld) -> None:
    world.edit(put(THINGS, "w", wall(turn_deg=20)))
    before = world.row(THINGS, "w").model_dump_json()
    spots = np.array([(one.pose.x, one.pose.y) for one in stood_in(world, world.first_land, (0, 0, 299, 299))])
    mirror = Arrange(mirror_deg=0, about=(150, 150))
    arrange(world, ["w"], mirror)
    seen = np.array([(one.pose.x, one.pose.y) for one in stood_in(world, world.first_land, (0, 0, 299, 299))])
    assert np.abs(seen - np.column_stack([300 - spots[:, 0], spots[:, 1]])).max() < 1e-3
    arrange(world, ["w"], mirror)
    assert world.row(THINGS, "w").model_dump_json() == before
    # The fair map does the same.
    world.edit(put(SYMMETRY, "world", Symmetry(kind="mirror", x=150, y=150, bearing_deg=90)))
    world.edit(put(THINGS, "w", wall()))
    image = next(row for key, row in world.each(THINGS) if key != "w")
    assert isinstance(image, Wall)
    assert image.points == ((0, 0), (-60, 0), (-60, 40))


def test_it_is_loosened_into_pieces_and_refused_in_words(world: OpenWorld) -> None:
    world.edit(put(THINGS, "w", wall(gates=[{"at_m": 30, "kit": "gateway"}])))
    poses = sorted((one.pose.x, one.pose.y) for one in stood_in(world, world.first_land, (0, 0, 299, 299)))
    loosen(world, Loosen(ids=("w",)))
    assert all(isinstance(row, Piece) for _, row in world.each(THINGS))
    pieces = sorted((row.x, row.y) for _, row in world.each(THINGS))
    assert np.abs(np.array(pieces) - np.array(poses)).max() < 1e-3
    for also, words in (
        ({"points": [(0, 0), (0, 0)]}, "two points that are not in one place"),
        ({"points": [(0, 0), (4000, 0), (0, 4000)]}, "5,000 m long at most"),
        ({"x": 250}, "would leave the land at 310, 150"),
        ({"kit": "nothing"}, "nothing"),
        ({"kit": "stone_barn"}, "wants level ground under it"),
    ):
        with pytest.raises((FernError, ValueError), match=words):
            world.edit(put(THINGS, "x", wall(**also)))
