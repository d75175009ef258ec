"""Sheets: the ground is their sum, each can be switched, weighed, merged and carried, and all of it is undone."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from fernfield.core.errors import Conflict, NotFound
from fernfield.core.grid import Window
from fernfield.work.ground.commands import ClearSheet, MergeSheet, PasteSheet, PutSheet, RemoveSheet, Reset
from fernfield.work.ground.rows import Sheet, sheets_of
from fernfield.work.ground.sheet_edits import empty_sheet, merge, paste_sheet, put_sheet, sheet_asc
from fernfield.work.ground.sheeting import UNDER, sheet_layer
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import Studio
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, everything, ground
from tests.files import read_heights


def add(world: OpenWorld, key: str, **fields: object) -> None:
    put_sheet(world, PutSheet(key=key, sheet=Sheet(name=key.capitalize(), **fields)))  # type: ignore[arg-type]


def change(world: OpenWorld, key: str, **fields: object) -> None:
    old = dict(sheets_of(world))[key]
    put_sheet(world, PutSheet(key=key, sheet=old.model_copy(update=fields)))


@pytest.fixture
def stacked(world: OpenWorld) -> OpenWorld:
    """A base with a hump, a sheet with a ridge over it, and one with roughness over both."""
    draw(world, "raise", path=[(100, 150, 0), (200, 150, 1)], radius_m=60)
    add(world, "ridge")
    add(world, "rough")
    draw(world, "raise", path=[(150, 60, 0), (150, 240, 1)], radius_m=30, sheet="ridge")
    draw(world, "roughen", path=[(120, 150, 0), (180, 150, 1)], radius_m=50, strength=40, sheet="rough")
    return world


def held(world: OpenWorld, key: str) -> np.ndarray:
    tract = world.first_tract
    return np.asarray(tract.cache.read(sheet_layer(key), tract.grid.window)).astype(float)


def test_the_ground_is_the_sum_of_base_and_sheets(stacked: OpenWorld) -> None:
    whole = ground(stacked).astype(float)
    ridge, rough = held(stacked, "ridge"), held(stacked, "rough")
    assert ridge.max() > 2
    assert np.abs(rough).max() > 0.5
    change(stacked, "ridge", hidden=True)
    assert np.allclose(ground(stacked), whole - ridge, atol=1e-4)
    change(stacked, "rough", weight=0.25)
    assert np.allclose(ground(stacked), whole - ridge - 0.75 * rough, atol=1e-4)
    change(stacked, "ridge", hidden=False)
    change(stacked, "rough", weight=1.0)
    assert np.allclose(ground(stacked), whole, atol=1e-5)


def test_a_stroke_goes_into_the_chosen_sheet_and_into_no_other(stacked: OpenWorld) -> None:
    others = held(stacked, "rough")
    before = held(stacked, "ridge")
    land = ground(stacked).astype(float)
    draw(stacked, "lower", path=[(120, 120, 0), (180, 130, 1)], sheet="ridge")
    assert np.allclose(held(stacked, "ridge") - before, ground(stacked) - land, atol=1e-4)
    assert np.array_equal(held(stacked, "rough"), others)
    # Into the base, under the sheets: they lie over it unchanged.
    draw(stacked, "raise", path=[(140, 140, 0), (160, 160, 1)])
    assert np.array_equal(held(stacked, "rough"), others)


def test_a_stroke_into_a_weighed_sheet_moves_the_ground_as_drawn(stacked: OpenWorld) -> None:
    change(stacked, "ridge", weight=0.5)
    land = ground(stacked).astype(float)
    outcome = draw(stacked, "raise", path=[(60, 60, 0), (60, 60, 1)], radius_m=25, sheet="ridge")
    assert outcome.fill_m3 == pytest.approx(float((ground(stacked) - land).sum()), rel=1e-5)
    assert (ground(stacked) - land).max() == pytest.approx(10, abs=1e-3)
    change(stacked, "ridge", weight=1.0)
    assert (ground(stacked) - land)[300 - 60, 60] == pytest.approx(20, abs=1e-3)


def test_a_locked_or_hidden_sheet_takes_no_strokes(stacked: OpenWorld) -> None:
    state = everything(stacked)
    for field, words in (("locked", "Ridge is locked"), ("hidden", "Ridge is hidden")):
        change(stacked, "ridge", **{field: True})
        with pytest.raises(Conflict, match=words):
            draw(stacked, sheet="ridge")
        if field == "locked":
            for refused in (ClearSheet(key="ridge"), RemoveSheet(key="ridge")):
                with pytest.raises(Conflict, match=words):
                    empty_sheet(stacked, refused)
        stacked.undo()
        assert everything(stacked) == state


def test_clearing_and_deleting_take_a_sheet_out_of_the_ground(stacked: OpenWorld) -> None:
    state, whole, ridge = everything(stacked), ground(stacked).astype(float), held(stacked, "ridge")
    empty_sheet(stacked, ClearSheet(key="ridge"))
    assert np.allclose(ground(stacked), whole - ridge, atol=1e-4)
    assert not held(stacked, "ridge").any()
    stacked.undo()
    assert everything(stacked) == state
    empty_sheet(stacked, RemoveSheet(key="ridge"))
    assert [key for key, _ in sheets_of(stacked)] == ["rough"]
    empty_sheet(stacked, RemoveSheet(key="rough"))
    # With no sheets left the base is the ground, and nothing is kept beside it.
    assert not stacked.first_tract.cache.read(UNDER, stacked.first_tract.grid.window).any()
    for _ in range(2):
        stacked.undo()
    assert everything(stacked) == state


@pytest.mark.parametrize("into", [None, "rough"])
def test_merging_leaves_the_ground_as_it_is(stacked: OpenWorld, into: str | None) -> None:
    change(stacked, "ridge", weight=0.6)
    if into:
        change(stacked, "rough", weight=0.8)
    state, whole = everything(stacked), ground(stacked)
    outcome = merge(stacked, MergeSheet(key="ridge", into=into))
    assert np.allclose(ground(stacked), whole, atol=1e-5)
    assert outcome.cut_m3 + outcome.fill_m3 < 1
    assert [key for key, _ in sheets_of(stacked)] == ["rough"]
    stacked.undo()
    assert everything(stacked) == state
    with pytest.raises(NotFound, match="no sheet 'nothing'"):
        merge(stacked, MergeSheet(key="ridge", into="nothing"))
    with pytest.raises(Conflict, match="into itself"):
        merge(stacked, MergeSheet(key="ridge", into="ridge"))
    assert everything(stacked) == state


def test_a_hidden_sheet_costs_nothing(stacked: OpenWorld) -> None:
    """Reading the ground reads one layer, however many sheets there are."""
    cache = stacked.first_tract.cache
    change(stacked, "ridge", hidden=True)
    asked: list[str] = []
    tile = cache.tile
    cache.tile = lambda place: asked.append(place[0]) or tile(place)  # type: ignore[method-assign, func-returns-value]
    cache.read("height", Window(100, 100, 200, 200))
    draw(stacked, "raise", path=[(20, 20, 0)], radius_m=5)
    assert "sheet:ridge" not in asked


def test_sheets_are_there_after_a_restart(studio: Studio, tmp_path: Path) -> None:
    world = studio.world(studio.create(WorldSpec(name="R", width_m=300, depth_m=300, spacing_m=1, elevation_m=10)))
    add(world, "ridge", weight=0.7)
    draw(world, "raise", sheet="ridge")
    state = everything(world)
    studio.close()
    again = Studio(studio.data)
    other = again.world(world.id)
    assert everything(other) == state
    other.undo()
    assert (ground(other) == 10).all()
    again.close()


def test_a_reset_goes_into_the_chosen_sheet(stacked: OpenWorld) -> None:
    from fernfield.work.ground.areas import reset

    before = held(stacked, "ridge")
    reset(stacked, stacked.first_tract, Reset(to="elevation", elevation_m=3, box=(40, 40, 90, 80), sheet="ridge"), None)
    assert ground(stacked)[300 - 60, 60] == pytest.approx(3, abs=1e-5)
    assert (held(stacked, "ridge") - before)[300 - 60, 60] == pytest.approx(-7, abs=1e-5)
    change(stacked, "ridge", hidden=True)
    assert ground(stacked)[300 - 60, 60] == pytest.approx(10, abs=1e-5)


def test_a_sheet_is_carried_to_another_world_as_a_file(stacked: OpenWorld, studio: Studio, tmp_path: Path) -> None:
    file = tmp_path / "ridge.asc"
    file.write_bytes(b"".join(sheet_asc(stacked, stacked.first_tract, "ridge")))
    rise, plan = read_heights(file)
    assert np.array_equal(rise, held(stacked, "ridge").astype(np.float32))
    other = studio.world(studio.create(WorldSpec(name="O", width_m=400, depth_m=350, spacing_m=1, elevation_m=30)))
    paste = PasteSheet(key="brought", sheet=Sheet(name="Brought"))
    paste_sheet(other, other.first_tract, paste, rise, plan.spacing_m)
    # South-west corners on each other.
    assert np.allclose(ground(other)[50:, :301], 30 + rise, atol=1e-4)
    assert (ground(other)[:50] == 30).all()
    with pytest.raises(Conflict, match="'brought' already"):
        paste_sheet(other, other.first_tract, paste, rise, plan.spacing_m)
    other.undo()
    assert (ground(other) == 30).all()
    # At another spacing it is read between its posts.
    coarse = studio.world(studio.create(WorldSpec(name="C", width_m=300, depth_m=300, spacing_m=2, elevation_m=0)))
    paste_sheet(coarse, coarse.first_tract, paste, rise, plan.spacing_m)
    assert np.allclose(ground(coarse), rise[::2, ::2], atol=1e-4)
