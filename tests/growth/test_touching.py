"""Single plants under the hand: put, moved, changed, taken away, given back; and kept in few bytes."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st

from fernfield.core.errors import Conflict, FormatError, InvalidInput, NotFound
from fernfield.formats.plantblob import PLANT, decode_plants, encode_plants
from fernfield.work.growth.hand import TOUCHED, hand_of
from fernfield.work.growth.listing import listed
from fernfield.work.growth.removing import remove_kind, remove_mix
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.touching import (
    ChangePlants,
    DropPlants,
    NewPlant,
    PlantChange,
    PutPlants,
    RedressPlants,
    SettlePlants,
    change_plants,
    drop_plants,
    put_plants,
    redress_plants,
    settle_plants,
)
from fernfield.work.kernel.commands import patch
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.spot import spot
from fernfield.work.strokes import Stroke
from fernfield.work.studio import Studio
from tests.conftest import draw, everything
from tests.worlds.test_one_land import four_of


def plants(world: OpenWorld, box: tuple[float, float, float, float] = (0, 0, 300, 300)) -> dict[str, dict[str, Any]]:
    return {plant["id"]: plant for plant in listed(world, world.first_land, box, 0, 100_000)["plants"]}


@pytest.fixture
def wooded(world: OpenWorld) -> OpenWorld:
    draw(world, "sow", mix="mix", strength=300, path=[(50, 100, 0), (250, 100, 1)], radius_m=45)
    return world


def change(world: OpenWorld, ids: list[str], **said: Any) -> dict[str, Any]:
    return change_plants(world, ChangePlants(ids=ids, change=PlantChange(**said)))


def put(world: OpenWorld, kind: str, x: float, y: float = 1.0, **more: Any) -> str:
    new = NewPlant(mix="mix", kind=kind, x=x, y=y, **more)
    return str(put_plants(world, (0, 0), PutPlants(plants=[new]))["ids"][0])


def test_plants_are_put_and_stand_where_they_were_put(world: OpenWorld) -> None:
    new = NewPlant(mix="mix", kind="tree", x=10.5, y=20.25, size_height=2, size_width=1.5, turn_deg=123, over_m=0.5,
                   variant="snowed")  # fmt: skip
    made = put_plants(world, (0, 0), PutPlants(plants=[new, NewPlant(mix="mix", kind="boulder", x=299, y=1)]))
    tree, boulder = (plants(world)[one] for one in made["ids"])
    ground = spot(world, world.first_land, 10.5, 20.25)["elevation_m"]
    assert (tree["x"], tree["y"], tree["z"]) == (10.5, 20.25, pytest.approx(ground + 0.5, abs=0.006))
    assert (tree["size_height"], tree["size_width"], tree["variant"], tree["by_hand"]) == (2, 1.5, "snowed", True)
    assert tree["turn_deg"] == pytest.approx(123, abs=0.006)
    assert boulder["kind"] == "boulder"
    # Land that moves carries it along, at its height over the ground.
    draw(world, "raise", path=[(10, 20, 0), (12, 20, 1)], radius_m=15, strength=6)
    raised = spot(world, world.first_land, 10.5, 20.25)["elevation_m"]
    assert raised > ground + 1
    assert plants(world)[made["ids"][0]]["z"] == pytest.approx(raised + 0.5, abs=0.006)


def test_what_was_moved_stays_whatever_becomes_of_its_mix(wooded: OpenWorld) -> None:
    before = plants(wooded)
    some = [one for one, plant in before.items() if plant["kind"] == "tree"][:5]
    change(wooded, some, dx_m=3, dy_m=-2, size_by=1.5)
    after = plants(wooded)
    assert set(after) == set(before)
    for one in some:
        assert after[one]["x"] == pytest.approx(before[one]["x"] + 3, abs=0.001)
        assert after[one]["y"] == pytest.approx(before[one]["y"] - 2, abs=0.001)
        assert after[one]["size_height"] == pytest.approx(1.5 * before[one]["size_height"], abs=0.001)
        assert after[one]["by_hand"]
    assert {one: p for one, p in after.items() if one not in some} == {o: p for o, p in before.items() if o not in some}
    kept = {one: after[one] for one in some}
    for said in ({"density_per_ha": 400}, {"density_per_ha": 0}, {"seed": 99}, {"between_m": 4, "density_per_ha": 245}):
        wooded.edit(patch(MIXES, "mix", **said))
        now = plants(wooded)
        assert {one: now[one] for one in some} == kept
    draw(wooded, "clear", mix="mix", path=[(0, 100, 0), (300, 100, 1)], radius_m=90, softness=0)
    assert {one: p for one, p in plants(wooded).items() if p["by_hand"]} == kept
    remove_kind(wooded, "boulder")
    remove_mix(wooded, "mix")
    assert {one: p["x"] for one, p in plants(wooded).items()} == {one: p["x"] for one, p in kept.items()}
    remove_kind(wooded, "tree")
    assert plants(wooded) == {}
    wooded.undo()
    assert len(plants(wooded)) == 5


def test_what_was_taken_away_stays_away_and_is_given_back(wooded: OpenWorld) -> None:
    before, start = plants(wooded), everything(wooded)
    some = sorted(before)[::3]
    drop_plants(wooded, DropPlants(ids=some))
    assert set(plants(wooded)) == set(before) - set(some)
    wooded.edit(patch(MIXES, "mix", density_per_ha=300))
    assert not set(plants(wooded)) & set(some)
    with pytest.raises(NotFound, match="there is no plant"):
        change(wooded, some[:1], dx_m=1)
    wooded.edit(patch(MIXES, "mix", density_per_ha=245))
    for _ in range(3):
        wooded.undo()
    assert everything(wooded) == start
    assert plants(wooded) == before


def test_redressing_gives_back_what_was_sown_and_settling_puts_feet_on_the_ground(wooded: OpenWorld) -> None:
    before = plants(wooded)
    some = sorted(before)[:6]
    change(wooded, some, dx_m=1, turn_by_deg=40, raise_by_m=3, variant="dead")
    put = put_plants(wooded, (0, 0), PutPlants(plants=[NewPlant(mix="mix", kind="tree", x=150, y=100, size_height=9)]))[
        "ids"
    ]
    floating = plants(wooded)[some[0]]
    land = wooded.first_land
    assert floating["z"] > spot(wooded, land, floating["x"], floating["y"])["elevation_m"] + 2.5
    settle_plants(wooded, list(wooded.tracts), SettlePlants(ids=some))
    for one in some:
        plant = plants(wooded)[one]
        assert plant["z"] == pytest.approx(spot(wooded, land, plant["x"], plant["y"])["elevation_m"], abs=0.25)
        assert plant["variant"] == "dead"
    redress_plants(wooded, list(wooded.tracts), RedressPlants())
    after = plants(wooded)
    assert {one: after[one] for one in before} == before
    assert 1.0 <= after[put[0]]["size_height"] <= 1.5
    assert (after[put[0]]["x"], after[put[0]]["y"]) == (150, 100)
    with pytest.raises(Conflict, match="nothing to do"):
        redress_plants(wooded, list(wooded.tracts), RedressPlants(ids=some))


def test_copies_turn_and_differ_within_their_ranges(wooded: OpenWorld) -> None:
    some = sorted(plants(wooded))[:40]
    made = change(wooded, some, copied=True, dy_m=20, turn_deg=90, turn_any_deg=10, size_from=2, size_to=3)["ids"]
    copies = [plants(wooded)[one] for one in made]
    assert len(copies) == 40
    assert all(80 <= plant["turn_deg"] <= 100 for plant in copies)
    assert all(1.999 <= plant["size_height"] <= 3.001 for plant in copies)
    assert len({plant["size_height"] for plant in copies}) > 30
    assert all(not plants(wooded)[one]["by_hand"] for one in some)
    # A copy of a copy is one of its own.
    again = change(wooded, made[:1], copied=True, dx_m=1)["ids"]
    assert again != made[:1]
    drop_plants(wooded, DropPlants(ids=made + again))
    assert not [one for one in plants(wooded) if one.startswith("h")]


def test_ids_stay_over_a_restart_and_another_walk_of_the_tiles(
    wooded: OpenWorld, studio: Studio, tmp_path: Path
) -> None:
    some = sorted(plants(wooded))[:3]
    change(wooded, some, dx_m=2)
    put_plants(wooded, (0, 0), PutPlants(plants=[NewPlant(mix="mix", kind="tree", x=64, y=64)]))
    before = plants(wooded)
    halves = {**plants(wooded, (0, 0, 131, 300)), **plants(wooded, (131, 0, 300, 300))}
    assert halves == before
    wooded.store.engine.dispose()
    folder = shutil.copytree(studio.data, tmp_path / "again")
    again = Studio(folder)
    try:
        assert plants(again.world(wooded.id)) == before
    finally:
        again.close()


def test_two_people_who_size_a_mix_and_move_its_plants_end_with_the_same(wooded: OpenWorld) -> None:
    """In either order: what was moved keeps the size that it was moved with, the others have that of the mix."""
    ends = []
    some = [one for one, plant in sorted(plants(wooded).items()) if plant["kind"] == "tree"][:10]
    parts = [{**p.model_dump(mode="json"), **({"size_min": 3, "size_max": 4} if p.kind == "tree" else {})}
             for p in wooded.row(MIXES, "mix").kinds]  # fmt: skip
    for first in ("size", "move"):
        for step in (first, "move" if first == "size" else "size"):
            if step == "size":
                wooded.edit(patch(MIXES, "mix", kinds=parts))
            else:
                change(wooded, some, dx_m=4, size_height=2)
        ends.append({o: (p["x"], p["y"], p["size_height"]) for o, p in plants(wooded).items()})
        wooded.undo()
        wooded.undo()
    assert ends[0] == ends[1]


def test_what_cannot_be_is_refused_and_changes_nothing(wooded: OpenWorld) -> None:
    before, at = everything(wooded), wooded.revision
    some = sorted(plants(wooded))[:2]
    for work, error, words in (
        (lambda: change(wooded, ["carr?"], dx_m=1), InvalidInput, "is no id of a plant"),
        (lambda: change(wooded, ["h00000001"], dx_m=1), NotFound, "there is no plant 'h00000001'"),
        (lambda: change(wooded, ["mix.tree.900.900.1"], dx_m=1), NotFound, "there is no plant"),
        (lambda: change(wooded, ["gone.tree.0.0.1"], dx_m=1), NotFound, "there is no plant"),
        (lambda: change(wooded, some, dx_m=1000), InvalidInput, "2 of 2 plants would come to stand outside"),
        (lambda: change(wooded, some, size_from=2), InvalidInput, "go together"),
        (lambda: put(wooded, "tree", -1), InvalidInput, "must stand in a tract"),
        (lambda: put(wooded, "oak", 1), NotFound, "oak"),
        (lambda: settle_plants(wooded, list(wooded.tracts), SettlePlants()), Conflict, "nothing to do"),
    ):  # fmt: skip
        with pytest.raises(error, match=words):
            work()
    assert (everything(wooded), wooded.revision) == (before, at)


@st.composite
def touched(draw_: st.DrawFn) -> np.ndarray:
    found = np.zeros(draw_(st.integers(0, 40)), PLANT)
    rng = np.random.default_rng(draw_(st.integers(0, 1000)))
    for name, low, high in (("x", 0, 64), ("y", 0, 64), ("over", -300, 300), ("height", 0.01, 60), ("width", 0.01, 60),
                            ("turn", 0, 360), ("tilt", 0, 60), ("tilt_to", 0, 360), ("tint", 0, 1)):  # fmt: skip
        found[name] = rng.uniform(low, high, len(found))
    for name, low, high in (("id", 0, 2**32), ("name", 0, 9), ("sown", 0, 2), ("gone", 0, 2), ("variant", 0, 5),
                            ("i", -(2**20), 2**20), ("j", -(2**20), 2**20), ("number", 0, 60_000)):  # fmt: skip
        found[name] = rng.integers(low, high, len(found))
    return found


@given(touched())
@settings(max_examples=60, deadline=None)
def test_a_patch_is_read_as_it_was_written(plants: np.ndarray) -> None:
    text = encode_plants(plants)
    again = decode_plants(text, len(plants))
    for name, off in (
        ("x", 0.0005),
        ("y", 0.0005),
        ("over", 0.0051),
        ("height", 0.0006),
        ("tint", 0.002),
        ("tilt", 0.12),
    ):
        assert np.abs(again[name] - plants[name]).max(initial=0) <= off + 1e-6
    for name in ("id", "name", "sown", "gone", "variant", "i", "j", "number"):
        assert (again[name] == plants[name]).all()
    # What was stored once is stored the same again.
    assert encode_plants(again) == text
    with pytest.raises(FormatError):
        decode_plants(text, len(plants) + 1)
    with pytest.raises(FormatError):
        decode_plants("not base 85 ~~", 3)


def test_a_plant_that_was_touched_takes_up_few_bytes(wooded: OpenWorld) -> None:
    """At most 32 in the store, with all that its patch needs, where there are many."""
    rng = np.random.default_rng(4)
    new = [
        NewPlant(mix="mix", kind="tree", x=float(x), y=float(y), size_height=float(h), turn_deg=float(t), tint=float(c))
        for x, y, h, t, c in zip(*(rng.uniform(a, b, 5000) for a, b in ((0, 300), (0, 300), (1, 2), (0, 359), (0, 1))),
                                 strict=True)
    ]  # fmt: skip
    put_plants(wooded, (0, 0), PutPlants(plants=new))
    assert len(hand_of(wooded).plants) == 5000
    size = sum(len(key) + len(TOUCHED.dump(row)) for key, row in wooded.each(TOUCHED))
    assert size / 5000 <= 32


def test_plants_on_joined_tracts_move_from_one_to_the_other(studio: Studio) -> None:
    world = four_of(studio, 64)
    west, east = list(world.tracts)[:2]
    land = world.land_from(west)
    (one,) = put_plants(world, (0, 0), PutPlants(plants=[NewPlant(mix="mix", kind="tree", x=60, y=30)]))["ids"]
    assert hand_of(world).tracts == [west]
    change(world, [one], dx_m=10)
    hand = hand_of(world)
    ((own, x),) = [(hand.tracts[t], px) for t, px in zip(hand.tract, hand.plants["x"], strict=True)]
    assert (own, round(float(x), 3)) == (east, 6)
    (found,) = listed(world, land, (0, 0, 128, 128), 0, 10)["plants"]
    assert (found["id"], found["x"]) == (one, 70)
    # What was sown over the edge that two tracts share is known by one name from both.
    world.stroke(
        west, Stroke(tool="sow", mix="mix", radius_m=30, softness=0, strength=900, path=[(64, 64, 0), (64, 64, 1)])
    )
    seen = {plant["id"] for plant in listed(world, land, (0, 0, 128, 128), 0, 1000)["plants"]} - {one}
    assert len(seen) > 4
    drop_plants(world, DropPlants(ids=sorted(seen)))
    assert len(listed(world, land, (0, 0, 128, 128), 0, 1000)["plants"]) == 1
    world.undo()
    assert {plant["id"] for plant in listed(world, land, (0, 0, 128, 128), 0, 1000)["plants"]} == seen | {one}


def test_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "W", "width_m": 128, "depth_m": 128, "spacing_m": 1}).json()
    url = f"/api/tracts/{world['tracts'][0]['id']}/plants"
    made = client.post(url, json={"plants": [{"mix": "mix", "kind": "tree", "x": 5, "y": 6}]})
    assert made.status_code == 201
    (one,) = made.json()["ids"]
    found = client.get(url, params={"x0": 0, "y0": 0, "x1": 128, "y1": 128}).json()
    assert (found["count"], found["plants"][0]["id"], found["next"]) == (1, one, None)
    moved = client.patch(url, json={"ids": [one], "change": {"dx_m": 1, "variant": "bare"}})
    assert moved.status_code == 200
    assert client.post(f"{url}/settle", json={"ids": [one]}).status_code == 200
    assert client.post(f"{url}/redress", json={}).status_code == 200
    assert client.get(url, params={"x0": 6, "y0": 6, "x1": 6, "y1": 5}).status_code == 422
    for bad in (
        {"ids": [], "change": {}},
        {"ids": ["x"], "change": {"size_by": 0}},
        {"ids": ["x"], "change": {"leap": 1}},
    ):
        assert client.patch(url, json=bad).status_code == 422
    gone = client.request("DELETE", url, json={"ids": [one]})
    assert gone.status_code == 200
    assert client.request("DELETE", url, json={"ids": [one]}).status_code == 404
    assert client.get(f"/api/worlds/{world['id']}/mixes/mix/figures").json()["kinds"][0]["kind"] == "tree"
    shape = client.get(f"/api/worlds/{world['id']}/kinds/tree/shape?detail=2&variant=snowed")
    assert int(shape.headers["x-shape"].split(",")[0]) * 44 == len(shape.content)
    assert client.get(f"/api/worlds/{world['id']}/kinds/oak/shape").status_code == 404


def test_what_would_be_too_much_is_refused_with_its_limit(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "L", "width_m": 4096, "depth_m": 4096, "spacing_m": 1}).json()
    url = f"/api/tracts/{world['tracts'][0]['id']}"
    refused = client.get(f"{url}/plants", params={"x0": 0, "y0": 0, "x1": 4096, "y1": 4096})
    assert refused.status_code == 422
    assert "can be listed at once" in refused.text
    refused = client.get(f"{url}/growth", params={"row0": 0, "col0": 0, "row1": 4097, "col1": 4097})
    assert refused.status_code == 422
    assert "at most 1050625 posts" in refused.text


def test_a_patch_holds_so_many_and_says_when_it_is_full(world: OpenWorld) -> None:
    crowd = PutPlants(plants=[NewPlant(mix="mix", kind="tree", x=10, y=10)] * 10_000)
    for _ in range(6):
        put_plants(world, (0, 0), crowd)
    with pytest.raises(InvalidInput, match="at most 65,535 plants that a hand has touched fit on 64 by 64 m"):
        put_plants(world, (0, 0), crowd)
    assert len(hand_of(world).plants) == 60_000
