"""Guises: covers and pieces change all at once, in an area or everywhere, and can be set back."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core.cover.areas import exchanged
from fernfield.core.errors import Conflict
from fernfield.core.grid import Window
from fernfield.work.cover.areas import FillCover, fill_cover
from fernfield.work.cover.guises import GUISES, Guise
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.shares import cover_shares
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.sites.rows import THINGS, Piece
from fernfield.work.worlds.guises import SetGuise, set_guise
from tests.conftest import everything
from tests.cover.test_cover_areas import MASKS, WEIGHTS, under_base
from tests.cover.test_rules import ruled
from tests.cover.test_veil import NEAR, shares_of


@given(MASKS, arrays(np.int64, 4, elements=st.integers(0, 3)), WEIGHTS)
@settings(max_examples=150, deadline=None)
def test_an_exchange_hands_over_every_share_at_once(masks: np.ndarray, to: np.ndarray, weights: np.ndarray) -> None:
    """Against its definition in plain NumPy; two covers may change places."""
    before, after = shares_of(masks), shares_of(exchanged(under_base(masks), to, weights)[1:])
    wanted = before.copy()
    for cover, other in enumerate(to):
        if cover != other:
            wanted[cover] -= before[cover] * weights
            wanted[other] += before[cover] * weights
    assert np.abs(after - wanted).max() <= 4 * NEAR
    assert np.array_equal(after[:, weights == 0], before[:, weights == 0])


def winter(**more: Any) -> Guise:
    covers = [{"from": "grass", "to": "rock"}, {"from": "earth", "to": "path"}]
    pieces = [{"from": "stone_barn", "to": "peat_stack"}]
    return Guise.model_validate({"name": "Winter", "covers": covers, "pieces": pieces, **more})


@pytest.fixture
def dressed(world: OpenWorld) -> OpenWorld:
    world.edit(patch(COVERS, "rock", rule=None))
    fill_cover(world, world.first_tract, FillCover(cover="earth", box=(100, 100, 200, 200)))
    for key, x in (("barn", 50.0), ("other", 250.0)):
        world.edit(put(THINGS, key, Piece(kit="stone_barn", name=key, x=x, y=150)))
    world.edit(put(GUISES, "winter", winter()))
    return world


def shares(world: OpenWorld) -> np.ndarray:
    return cover_shares(world, world.first_land, world.first_land.grid.window)


def test_a_guise_is_one_revision_and_goes_back(dressed: OpenWorld) -> None:
    before, at, start = shares(dressed), dressed.revision, everything(dressed)
    set_guise(dressed, dressed.first_tract, SetGuise(guise="winter"))
    assert dressed.revision == at + 1
    after = shares(dressed)
    assert np.abs(after[3] - before[0]).max() < 1e-4
    assert np.abs(after[2] - before[1]).max() < 1e-4
    assert {dressed.row(THINGS, key).kit for key in ("barn", "other")} == {"peat_stack"}
    set_guise(dressed, dressed.first_tract, SetGuise(guise="winter", back=True))
    assert np.abs(shares(dressed) - before).max() < 1e-4
    assert {dressed.row(THINGS, key).kit for key in ("barn", "other")} == {"stone_barn"}
    dressed.undo()
    dressed.undo()
    assert everything(dressed) == start


def test_a_guise_in_an_area_leaves_the_rest(dressed: OpenWorld) -> None:
    ruled(dressed, {"cover": "earth", "conditions": [{"what": "elevation", "to": 5}]})
    before = shares(dressed)
    set_guise(dressed, dressed.first_tract, SetGuise(guise="winter", box=(0, 0, 150, 300)))
    after = shares(dressed)
    assert np.array_equal(after[:, :, 152:], before[:, :, 152:])
    assert (after[3, :, :95] > 0.999).all()
    assert (dressed.row(THINGS, "barn").kit, dressed.row(THINGS, "other").kit) == ("peat_stack", "stone_barn")


def test_what_rules_show_changes_its_guise_too(dressed: OpenWorld) -> None:
    ruled(dressed, {"cover": "earth", "amount": 0.5})
    set_guise(dressed, dressed.first_tract, SetGuise(guise="winter"))
    assert shares(dressed)[:, 20, 20] == pytest.approx([0, 0, 0.5, 0.5], abs=1e-4)


def test_a_guise_is_seen_before_it_is_set(dressed: OpenWorld) -> None:
    window = Window(10, 10, 74, 74)
    plain, seen = (
        plan_pixels(dressed, dressed.first_land, 0, window, Show(contour_m=0, guise=guise)).astype(int)
        for guise in (None, "winter")
    )
    at = dressed.revision
    set_guise(dressed, dressed.first_tract, SetGuise(guise="winter"))
    made = plan_pixels(dressed, dressed.first_land, 0, window, Show(contour_m=0)).astype(int)
    assert dressed.revision == at + 1
    assert np.abs(made - seen).max() <= 2
    assert np.abs(made - plain).max() > 20


def test_a_guise_of_a_cover_that_is_hidden_is_not_set(dressed: OpenWorld) -> None:
    dressed.edit(patch(COVERS, "path", hidden=True))
    with pytest.raises(Conflict, match="path, which is gone or hidden"):
        set_guise(dressed, dressed.first_tract, SetGuise(guise="winter"))


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ({"covers": [], "pieces": []}, "at least"),
        ({"covers": [{"from": "grass", "to": "grass"}]}, "must be two"),
        ({"covers": [{"from": "grass", "to": "rock"}, {"from": "earth", "to": "rock"}]}, "could not be set back"),
        ({"covers": [{"from": "grass", "to": "tar"}]}, "tar"),
        ({"pieces": [{"from": "stone_barn", "to": "castle"}]}, "castle"),
    ],
)
def test_a_guise_that_cannot_be_is_refused(client: TestClient, said: dict[str, Any], words: str) -> None:
    made = client.post("/api/worlds", json={"name": "G", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url = f"/api/worlds/{made['id']}/guises"
    good = winter().model_dump(mode="json")
    answer = client.post(url, json={**good, **said})
    assert answer.status_code in (404, 422)
    assert words in answer.text
    key = client.post(url, json=good).json()["key"]
    land = f"/api/tracts/{made['tracts'][0]['id']}"
    assert client.post(f"{land}/guise", json={"guise": key}).status_code == 200
    assert client.post(f"{land}/guise", json={"guise": "gone"}).status_code == 404
