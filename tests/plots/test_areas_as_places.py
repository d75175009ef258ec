"""Where: outlines that cross themselves are refused in words, what a cover covers is a place, recipes go with crops."""

from __future__ import annotations

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.drawing.contours import INTERVALS, interval_for
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.work.ground.rows import RECIPES, Landscape, Recipe
from fernfield.work.kernel.commands import Command, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import Area, share_of, window_of
from fernfield.work.plots.outlines import check_outline, holds_point
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.studio import Studio
from fernfield.work.worlds.tracts import CropTract
from tests.conftest import draw, ended

BOW = [(0.0, 0.0), (100.0, 100.0), (100.0, 0.0), (0.0, 100.0)]


def test_an_outline_that_crosses_itself_is_refused_with_the_place() -> None:
    with pytest.raises(InvalidInput, match="must not cross itself: this one does near E 50 N 50"):
        check_outline(BOW, "outline")
    with pytest.raises(InvalidInput, match="lie in one line"):
        check_outline([(0, 0), (50, 50), (100, 100)], "outline")
    check_outline([(0, 0), (100, 0), (50, 90)], "outline")
    assert holds_point([(0, 0), (100, 0), (50, 90)], 50, 0)
    assert not holds_point([(0, 0), (100, 0), (50, 90)], 5, 80)


def test_the_page_and_scripts_are_told_so(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()
    answer = client.post(f"/api/worlds/{made['id']}/plots", json={"name": "Bow", "points": BOW})
    assert answer.status_code == 422
    assert answer.json()["errors"][0]["field"] == "points"
    tract = made["tracts"][0]["id"]
    answer = client.post(f"/api/tracts/{tract}/reset", json={"to": "base", "outline": BOW})
    assert answer.status_code == 422
    assert "cross itself" in answer.json()["detail"]


def test_an_area_is_one_way_only() -> None:
    with pytest.raises(ValueError, match="a plot or a box, not both"):
        Area(plot="p", box=(0, 0, 10, 10))


def test_what_a_cover_covers_is_a_place(world: OpenWorld) -> None:
    draw(world, "paint", cover="path", path=[(80, 80, 0), (80, 80, 1)], radius_m=20, softness=0.0, strength=900)
    tract = world.first_tract
    share = share_of(world, world.first_land, Area(cover="path"), Window(200, 60, 241, 101), 0)
    assert share[20, 20] > 0.99
    assert share[0, 0] == 0
    # A disc of 20 m: as much ground as its formula says.
    assert float(share.sum()) == pytest.approx(np.pi * 20**2, rel=0.05)
    assert window_of(world, world.first_land, Area(cover="path")) == tract.grid.window


def test_crop_moves_a_recipes_box_and_a_plot_alike(studio: Studio, world: OpenWorld) -> None:
    world.edit(put(PLOTS, "p", Plot(name="P", points=((110, 60), (200, 60), (200, 140)))))
    recipe = Recipe(landscapes=(Landscape(name="moor"),), box=(110, 60, 200, 140))
    with world.lock:
        world.ledger.change_rows(Command(), "Made land", {("recipes", "land"): recipe})
    ended(studio.start_crop(world.first_tract.row.id, CropTract(x0=100, y0=50, x1=300, y1=250, fill="level")))
    assert dict(world.each(RECIPES))["land"].box == (10, 10, 100, 90)
    assert dict(world.each(PLOTS))["p"].points[0] == (10, 10)
    world.undo()
    assert dict(world.each(RECIPES))["land"].box == (110, 60, 200, 140)


def test_the_interval_of_contours_follows_zoom_and_relief() -> None:
    flat, mountain = interval_for(1.0, 0, 12, 1024), interval_for(1.0, 0, 700, 1024)
    assert flat < mountain
    assert interval_for(8.0, 0, 700, 1024) > mountain
    assert {flat, mountain} <= set(INTERVALS)
    # At a pixel of one metre, contours on the mean flank lie far enough apart to be told from each other.
    assert mountain / (700 / (1024 / 3)) >= 10
