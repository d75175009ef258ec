"""Growth that a guise changes, and covers that kinds of growth like."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from fernfield.core.errors import NotFound
from fernfield.work.cover.areas import FillCover, fill_cover
from fernfield.work.cover.guises import GUISES, Guise
from fernfield.work.cover.rows import COVERS
from fernfield.work.growth.rows import KINDS, MIXES, Kind
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.worlds.guises import SetGuise, set_guise
from tests.conftest import draw, everything

SOWN = {"mix": "mix", "strength": 900, "path": [(0, 60, 0), (300, 60, 1)], "radius_m": 60, "softness": 0}
BARE = Kind(name="Bare tree", form="snag", tall_m=6, crown_m=1.5, trunk_m=0.2, colour="#556655", variant="bare")


@pytest.fixture
def wooded(world: OpenWorld) -> OpenWorld:
    world.edit(put(KINDS, "bare-tree", BARE))
    world.edit(
        put(GUISES, "winter", Guise.model_validate({"name": "Winter", "kinds": [{"from": "tree", "to": "bare-tree"}]}))
    )
    draw(world, "sow", **SOWN)
    draw(world, "clear", **{**SOWN, "path": [(40, 60, 0), (80, 60, 1)], "radius_m": 15}, kinds=["boulder"])
    return world


def standing(world: OpenWorld) -> dict[str, set[tuple[float, float]]]:
    found: dict[str, set[tuple[float, float]]] = {}
    for p in standing_plants(world, world.first_land, world.first_tract.grid.window):
        found.setdefault(p.part.kind, set()).update(zip(p.plants.x.tolist(), p.plants.y.tolist(), strict=True))
    return found


def test_a_guise_exchanges_kinds_where_they_stand_and_gives_them_back(wooded: OpenWorld) -> None:
    before, start = standing(wooded), everything(wooded)
    at = wooded.revision
    set_guise(wooded, wooded.first_tract, SetGuise(guise="winter", box=(0, 0, 150, 300)))
    assert wooded.revision == at + 1
    after = standing(wooded)
    # Every plant stands where it did; the trees of the western half are of the other kind.
    assert after["boulder"] == before["boulder"]
    assert after["tree"] | after["bare-tree"] == before["tree"]
    assert all(x > 149 for x, _ in after["tree"])
    assert all(x < 151 for x, _ in after["bare-tree"])
    names = [mix.name for _, mix in wooded.each(MIXES)]
    assert names == ["Trees and stones", "Trees and stones, Winter"] or sorted(names) == sorted(set(names))
    # Again, elsewhere: no third mix. And back: what was sown is of the first mix again.
    set_guise(wooded, wooded.first_tract, SetGuise(guise="winter"))
    assert set(standing(wooded)) == {"bare-tree", "boulder"}
    assert len(wooded.each(MIXES)) == 2
    set_guise(wooded, wooded.first_tract, SetGuise(guise="winter", back=True))
    assert standing(wooded) == before
    for _ in range(3):
        wooded.undo()
    assert everything(wooded) == start


def test_a_guise_of_kinds_is_seen_before_it_is_set(wooded: OpenWorld) -> None:
    land = wooded.first_land
    part = land.bounds
    plain = plan_pixels(wooded, land, 0, part, Show())
    seen = plan_pixels(wooded, land, 0, part, Show(guise="winter"))
    assert (plain != seen).any()
    set_guise(wooded, wooded.first_tract, SetGuise(guise="winter"))
    assert np.abs(plan_pixels(wooded, land, 0, part, Show()).astype(int) - seen).max() <= 2


def test_kinds_that_have_gone_are_named(wooded: OpenWorld) -> None:
    said: dict[str, Any] = {"name": "Odd", "kinds": [{"from": "tree", "to": "oak"}]}
    with pytest.raises(NotFound, match="oak"):
        wooded.edit(put(GUISES, "odd", Guise.model_validate(said)))
    from fernfield.work.growth.removing import remove_kind

    remove_kind(wooded, "bare-tree")
    assert all("bare-tree" not in (pair.from_, pair.to) for _, guise in wooded.each(GUISES) for pair in guise.kinds)


def test_a_kind_that_likes_a_cover_stands_on_it_alone(wooded: OpenWorld) -> None:
    before = standing(wooded)
    fill_cover(wooded, wooded.first_tract, FillCover(cover="earth", box=(100, 0, 200, 120)))
    wooded.edit(patch(COVERS, "earth", likes=["tree"]))
    after = standing(wooded)
    assert after["boulder"] == before["boulder"]
    assert 0 < len(after["tree"]) < len(before["tree"])
    assert all(99 < x < 201 for x, _ in after["tree"])
    assert after["tree"] < before["tree"]
    wooded.edit(patch(COVERS, "earth", likes=[]))
    assert standing(wooded) == before
    with pytest.raises(NotFound, match="oak"):
        wooded.edit(patch(COVERS, "earth", likes=["oak"]))
