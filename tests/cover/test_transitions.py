"""Transitions: steps of the stated widths along a border, that follow it; window by window, and across joins."""

from __future__ import annotations

import random
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.cover.transition import Strip, laid_along, reach
from fernfield.core.grid import Window
from fernfield.work.cover.areas import FillCover, fill_cover
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.shares import cover_shares, share_planes
from fernfield.work.cover.transitions import TRANSITIONS, Transition
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.studio import Studio
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw


@pytest.mark.parametrize("spacing", [0.5, 1.0, 2.0])
def test_steps_have_their_widths_across_a_straight_border(spacing: float) -> None:
    """Half of the strip on either side, the steps in order from the first cover's side; areas by arithmetic."""
    shares = np.zeros((5, 8, 200), np.float32)
    shares[0, :, :100], shares[1, :, 100:] = 1, 1
    strip = Strip(0, 1, ((2, 6.0), (3, 4.0), (4, 8.0)))
    made = laid_along(shares, strip, np.zeros((8, 200), np.float32), spacing)
    assert np.allclose(made.sum(axis=0), 1, atol=1e-6)
    for cover, width in strip.steps:
        assert made[cover, 4].sum() * spacing == pytest.approx(width, rel=1e-4)
    middle = [float((made[cover, 4] * np.arange(200)).sum() / made[cover, 4].sum()) for cover, _ in strip.steps]
    assert middle == sorted(middle)
    # In the middle of the whole strip lies the border, between posts 99 and 100.
    assert (made[0, 4].sum() - 100) * spacing == pytest.approx(-9, abs=1e-3)
    assert reach([strip], spacing) >= 9 / spacing


def beach(**more: Any) -> Transition:
    steps = [{"cover": "path", "width_m": 8}, {"cover": "rock", "width_m": 5}]
    return Transition.model_validate({"name": "Beach", "first": "grass", "second": "earth", "steps": steps, **more})


@pytest.fixture
def shore(world: OpenWorld) -> OpenWorld:
    world.edit(patch(COVERS, "rock", rule=None))
    fill_cover(world, world.first_tract, FillCover(cover="earth", box=(150, 0, 300, 300)))
    draw(world, "paint", cover="earth", path=[(120, 100, 0), (140, 220, 2)], radius_m=30, strength=300, softness=0.2)
    return world


@pytest.mark.parametrize("ragged", [0.0, 0.8])
def test_a_strip_follows_when_the_border_moves(shore: OpenWorld, ragged: float) -> None:
    shore.edit(put(TRANSITIONS, "beach", beach(ragged=ragged, grain_m=8)))
    land = shore.first_land
    before = cover_shares(shore, land, land.grid.window)
    assert (before[2] > 0.9).sum() > 1500
    assert (before[3] > 0.9).sum() > 800
    draw(shore, "paint", cover="earth", path=[(60, 40, 0), (60, 40, 2)], radius_m=40, strength=400, softness=0.2)
    after = cover_shares(shore, land, land.grid.window)
    # An island of earth has a beach of its own, and further off nothing has changed.
    assert (after[2, 240:300, 10:110] > 0.9).sum() > 800
    assert np.array_equal(after[:, :150, 200:], before[:, :150, 200:])
    planes = share_planes(shore, land, land.grid.window)
    assert (planes.astype(int).sum(axis=0) == 255).all()
    rng = random.Random(3)
    for _ in range(12):
        row, col = rng.randrange(0, 280), rng.randrange(0, 280)
        w = land.clip(Window(row, col, row + rng.randrange(1, 70), col + rng.randrange(1, 70)))
        assert np.array_equal(cover_shares(shore, land, w), after[:, w.row0 : w.row1, w.col0 : w.col1])


def test_across_a_join_a_strip_is_that_of_one_land(studio: Studio, shore: OpenWorld) -> None:
    spec = TractSpec(name="South", x=0, y=-100, width_m=300, depth_m=100, spacing_m=1, elevation_m=10)
    south, _ = studio.add_tract(shore.id, spec)
    join(shore, JoinTracts(first=south, second=shore.first_tract.row.id, blend_m=20))
    fill_cover(shore, shore.tract(south), FillCover(cover="earth", box=(170, 0, 300, 100)))
    shore.edit(put(TRANSITIONS, "beach", beach(ragged=0.5)))
    land = shore.land_from(shore.first_tract.row.id)
    whole = cover_shares(shore, land, land.bounds)
    parts = [cover_shares(shore, land, Window(a, 0, b, 301)) for a, b in ((0, 290), (290, 310), (310, 401))]
    assert np.array_equal(np.concatenate(parts, axis=1), whole)
    assert (whole[2, 285:315] > 0.5).sum() > 100


def test_the_plan_shows_the_strip(shore: OpenWorld) -> None:
    show, window = Show(contour_m=0, growth=False, shadows=False), Window(20, 100, 60, 200)
    edges = Window(-20, 250, 330, 330)
    before = plan_pixels(shore, shore.first_land, 0, window, show).astype(int)
    shore.edit(put(TRANSITIONS, "beach", beach()))
    after = plan_pixels(shore, shore.first_land, 0, window, show).astype(int)
    # Also past the land's border, and from further off and closer up.
    for level, part in ((0, edges), (1, Window(-4, -4, 160, 160)), (-1, Window(0, 200, 90, 330))):
        assert plan_pixels(shore, shore.first_land, level, part, show).shape == (*part.shape, 4)
    changed = (np.abs(after - before).max(axis=2) > 6)[20]
    assert 9 <= changed.sum() <= 15
    assert 142 <= 100 + np.argwhere(changed).mean() <= 158


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"second": "grass"}, "two covers"),
        ({"second": "tar"}, "tar"),
        ({"steps": []}, "at least 1"),
        ({"steps": [{"cover": "tar", "width_m": 3}]}, "tar"),
        ({"steps": [{"cover": "path", "width_m": 50}] * 3}, "120 m wide at most"),
        ({"steps": [{"cover": "path", "width_m": 0}]}, "0.25"),
    ],
)
def test_a_transition_that_cannot_be_is_refused(client: TestClient, said: dict[str, Any], words: str) -> None:
    world = client.post("/api/worlds", json={"name": "T", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    good = beach().model_dump(mode="json")
    url = f"/api/worlds/{world}/transitions"
    answer = client.post(url, json={**good, **said})
    assert answer.status_code in (404, 422)
    assert words in answer.text
    assert client.get(url).json() == []
    assert client.post(url, json=good).status_code == 201


def test_a_transition_of_a_cover_that_has_gone_is_not_laid(shore: OpenWorld) -> None:
    shore.edit(put(TRANSITIONS, "beach", beach()))
    shore.edit(patch(COVERS, "path", hidden=True))
    land = shore.first_land
    assert cover_shares(shore, land, land.grid.window)[3].max() == 0
