"""The load gauge against counts made plainly, and plants that stand wrong: found, and put right by one command."""

from __future__ import annotations

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.errors import Conflict
from fernfield.core.growth.load import CORNER_BYTES, INSTANCE_BYTES, MACHINES, Drawn, load
from fernfield.work.growth.findings import MendPlants, mend_plants
from fernfield.work.growth.listing import listed
from fernfield.work.growth.load import TARGET, gauge, switch_of
from fernfield.work.growth.rows import KINDS, MIXES
from fernfield.work.growth.shaping import triangles_of
from fernfield.work.growth.standing import standing_plants
from fernfield.work.growth.touching import ChangePlants, NewPlant, PlantChange, PutPlants, change_plants, put_plants
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import LINES, Line
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.water.rows import WATER
from tests.conftest import draw, found_in


@pytest.fixture
def wooded(world: OpenWorld) -> OpenWorld:
    draw(world, "sow", mix="mix", strength=900, path=[(0, 150, 0), (300, 150, 1)], radius_m=90, softness=0)
    return world


def test_a_load_is_the_sum_of_what_is_drawn() -> None:
    found = load([Drawn("a", 0, 100, 500), Drawn("a", 2, 900, 16), Drawn("b", 0, 0.2, 80)])
    assert (found.instances, found.triangles, found.calls) == (1000, 100 * 500 + 900 * 16, 2)
    assert found.memory_mib == pytest.approx((1000 * INSTANCE_BYTES + 516 * 3 * CORNER_BYTES) / 2**20, abs=0.001)
    assert found.shares(MACHINES["hand"])["instances"] == 0.25


def test_the_gauge_counts_what_stands_near_and_far(wooded: OpenWorld) -> None:
    land = wooded.first_land
    every = standing_plants(wooded, land, land.bounds)
    counts = {p.part.kind: len(p.plants) for p in every}
    found = gauge(wooded, land)
    for kind, count in counts.items():
        assert found["kinds"][kind] == pytest.approx(count, rel=0.08)
    tree = wooded.row(KINDS, "tree")
    assert found["load"]["triangles"] > 0.9 * counts["tree"] * triangles_of(wooded, tree, 0)
    # From a corner, by the distances of the kinds: against every plant's own distance.
    near = gauge(wooded, land, (0.0, 150.0))
    plain = 0.0
    for p in every:
        kind = wooded.row(KINDS, p.part.kind)
        away = np.hypot(p.plants.x, p.plants.y - 150)
        limits = (0, kind.simpler_m, kind.card_m, kind.gone_m)
        plain += sum(
            ((away >= limits[d]) & (away < limits[d + 1])).sum() * triangles_of(wooded, kind, d) for d in range(3)
        )  # fmt: skip
    assert near["load"]["triangles"] == pytest.approx(plain, rel=0.1)
    assert near["load"]["triangles"] < 0.6 * found["load"]["triangles"]


def test_a_change_is_in_the_gauge_before_it_is_made(wooded: OpenWorld) -> None:
    land, at = wooded.first_land, wooded.revision
    before = gauge(wooded, land)
    mix = wooded.row(MIXES, "mix").model_copy(update={"density_per_ha": 2450.0})
    would = gauge(wooded, land, changed={"mix": mix})
    assert would["count"] == pytest.approx(10 * before["count"], rel=0.02)
    assert (wooded.revision, gauge(wooded, land)) == (at, before)
    wooded.edit(patch(TARGET, "world", machine="hand"))
    assert gauge(wooded, land, changed={"mix": mix})["shares"]["instances"] > 1


def test_how_tall_a_plant_is_where_its_detail_changes(world: OpenWorld) -> None:
    """By hand: 7 m at 60 m, 1,080 pixels for 50°: 7 / 60 * 540 / tan 25° = 135."""
    tree = world.row(KINDS, "tree")
    pixels = switch_of(tree).sizes
    assert pixels["simpler"] == pytest.approx(135.1, abs=0.1)
    assert pixels["simpler"] > pixels["card"] > pixels["gone"]
    assert [f.words for f in found_in(world) if f.check == "switches of detail"] == []
    world.edit(patch(KINDS, "tree", simpler_m=20.0, card_m=40.0))
    words = [f.words + " " + f.remedy for f in found_in(world) if f.check == "switches of detail"]
    assert words == [
        "Tree becomes simpler at 20 m, where it is 405 pixels tall: the change is seen. Let it do so from 34 m on.",
        "Tree becomes a card at 40 m, where it is 203 pixels tall: the change is seen. Let it do so from 90 m on.",
    ]
    world.edit(patch(KINDS, "tree", simpler_m=34.0, card_m=91.0))
    assert [f.words for f in found_in(world) if f.check == "switches of detail"] == []


def words_of(world: OpenWorld) -> str:
    return " ".join(finding.words for finding in found_in(world) if finding.check == "growth")


def plants(world: OpenWorld) -> list[dict[str, object]]:
    return listed(world, world.first_land, (0, 0, 300, 300), 0, 10_000)["plants"]


def test_what_stands_wrong_is_found_and_mended(wooded: OpenWorld) -> None:
    tract = wooded.first_tract
    assert words_of(wooded) == ""
    some = [str(plant["id"]) for plant in plants(wooded) if plant["kind"] == "tree"][:3]
    change_plants(wooded, ChangePlants(ids=some, change=PlantChange(raise_by_m=2)))
    assert "3 plants float over the ground; the first, Tree," in words_of(wooded)
    at = wooded.revision
    mend_plants(wooded, tract, MendPlants(trouble="floating"))
    assert wooded.revision == at + 1
    assert words_of(wooded) == ""
    put_plants(wooded, (0, 0), PutPlants(plants=[NewPlant(mix="mix", kind="tree", x=5, y=5, over_m=-5)]))
    assert "1 plant is more than half in the ground" in words_of(wooded)
    mend_plants(wooded, tract, MendPlants(trouble="buried"))
    with pytest.raises(Conflict, match="nothing was done"):
        mend_plants(wooded, tract, MendPlants(trouble="buried"))


def test_water_slopes_pieces_lines_and_starts_are_looked_at(wooded: OpenWorld) -> None:
    tract = wooded.first_tract
    where = plants(wooded)
    trees = [plant for plant in where if plant["kind"] == "tree"]
    count = len(where)
    wooded.edit(patch(WATER, "sea", sea_level_m=wooded.first_land.elevation(150, 150) + 5))
    assert f"{count:,} plants stand under water" in words_of(wooded)
    wooded.edit(patch(KINDS, "tree", in_water=True))
    assert f"{count - len(trees):,} plants stand under water" in words_of(wooded)
    wooded.edit(patch(WATER, "sea", sea_level_m=-50))
    one, other = trees[0], trees[9]
    # What was sown keeps clear of pieces by itself; what a hand has touched stays.
    change_plants(wooded, ChangePlants(ids=[one["id"]], change=PlantChange(size_by=1.01)))
    wooded.edit(put(THINGS, "barn", Piece(kit="stone_barn", name="Barn", x=one["x"], y=one["y"])))
    wooded.edit(put(THINGS, "s", Start(name="S", x=other["x"], y=other["y"], team=1)))
    third = trees[19]
    line = ((third["x"], third["y"]), (float(third["x"]) + 0.1, third["y"]))
    wooded.edit(put(LINES, "way", Line(name="Way", points=line)))
    words = words_of(wooded)
    for part in ("inside a piece", "in the first metres of a start", "on a kept line"):
        assert part in words
    for trouble in ("inside_piece", "at_start", "on_line"):
        mend_plants(wooded, tract, MendPlants(trouble=trouble))  # type: ignore[arg-type]
    assert words_of(wooded) == ""
    assert not {one["id"], other["id"], third["id"]} & {plant["id"] for plant in plants(wooded)}
    draw(wooded, "raise", path=[(200, 150, 0), (200, 150, 3)], radius_m=12, strength=60, softness=0.05)
    assert "stand upright on ground steeper than 55°" in words_of(wooded)


def test_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()
    tract = f"/api/tracts/{world['tracts'][0]['id']}"
    found = client.get(f"{tract}/load", params={"x": 10, "y": 10}).json()
    assert (found["machine"]["name"], found["count"]) == ("modest", 0)
    for nowhere in ({"x": 10}, {"x": -709779, "y": 62}, {"x": 10, "y": 129}):
        assert client.get(f"{tract}/load", params=nowhere).status_code == 422
    assert client.get(f"{tract}/load", params={"mix": "gone", "density_per_ha": 3}).status_code == 404
    assert client.patch(f"/api/worlds/{world['id']}/target", json={"machine": "toaster"}).status_code == 422
    assert client.patch(f"/api/worlds/{world['id']}/target", json={"machine": "strong"}).status_code == 200
    assert client.post(f"{tract}/plants/mend", json={"trouble": "boredom"}).status_code == 422
    assert client.post(f"{tract}/plants/mend", json={"trouble": "floating"}).status_code == 409


def test_plants_that_close_the_only_way_are_found_and_taken_away(world: OpenWorld) -> None:
    """Two starts in basins with one gap between them, and a hedge in the gap: one plant of it has to go."""
    draw(world, "raise", path=[(150, 0, 0), (150, 140, 1.5)], radius_m=6, strength=120, softness=0.05)
    draw(world, "raise", path=[(150, 300, 0), (150, 160, 1.5)], radius_m=6, strength=120, softness=0.05)
    for key, x in (("a", 40.0), ("b", 260.0)):
        world.edit(put(THINGS, key, Start(name=key, x=x, y=150, team=1)))
    assert "the only way" not in words_of(world)
    world.edit(patch(KINDS, "tree", blocks="hull", crown_m=2.0, trunk_m=0.3))
    hedge = [NewPlant(mix="mix", kind="tree", x=150, y=float(y)) for y in range(136, 166, 2)]
    put_plants(world, (0, 0), PutPlants(plants=hedge))
    assert "plants close the only way from a start to another" in words_of(world).replace(
        "1 plant closes", "plants close"
    )
    found = next(f for f in found_in(world) if "the only way" in f.words)
    assert found.grave
    before = len(plants(world))
    mend_plants(world, world.first_tract, MendPlants(trouble="blocking"))
    assert "the only way" not in words_of(world)
    # Not the whole hedge.
    assert 0 < before - len(plants(world)) <= 4
    # Where the ground itself has no way, plants are not to blame.
    world.undo()
    draw(world, "raise", path=[(150, 130, 0), (150, 170, 1.5)], radius_m=12, strength=120, softness=0.05)
    assert "the only way" not in words_of(world)


def test_one_of_several_is_mended_alone(wooded: OpenWorld) -> None:
    some = [str(plant["id"]) for plant in plants(wooded) if plant["kind"] == "tree"][:3]
    change_plants(wooded, ChangePlants(ids=some, change=PlantChange(raise_by_m=2)))
    one = next(f for f in found_in(wooded) if f.check == "growth")
    assert one.mend_one is not None
    mend_plants(wooded, wooded.first_tract, MendPlants.model_validate(one.mend_one.body))
    assert "2 plants float" in words_of(wooded)
    with pytest.raises(Conflict):
        mend_plants(wooded, wooded.first_tract, MendPlants(trouble="floating", id="mix.tree.0.0.999"))
    mend_plants(wooded, wooded.first_tract, MendPlants(trouble="floating"))
    assert words_of(wooded) == ""
