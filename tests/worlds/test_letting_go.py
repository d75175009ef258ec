"""Worlds that nobody looks at are let go of; the list of worlds opens none."""

from __future__ import annotations

from weakref import ref

import pytest
from fastapi.testclient import TestClient

from fernfield.core.errors import Conflict
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.studio import MOST_OPEN, Studio
from fernfield.work.worlds.beginnings import WorldSpec
from fernfield.work.worlds.rows import name_of
from tests.conftest import draw, ground


def made(studio: Studio, count: int) -> list[str]:
    return [
        studio.create(WorldSpec(name=f"World {n}", width_m=32, depth_m=32, spacing_m=1, elevation_m=n))
        for n in range(count)
    ]


def test_what_nobody_holds_goes_and_comes_back_as_it_was(studio: Studio) -> None:
    ids = made(studio, MOST_OPEN + 4)
    first = studio.world(ids[0])
    draw(first, path=[(16, 16, 0)], radius_m=5, strength=3)
    was, gone, held = ground(first), ref(first), studio.world(ids[1])
    del first
    assert gone() is not None
    for world_id in ids[2:]:
        studio.world(world_id)
    assert gone() is None
    # One that somebody works on is the same for whoever asks for it.
    assert studio.world(ids[1]) is held
    again = studio.world(ids[0])
    assert (ground(again) == was).all()
    assert again.can_undo
    again.undo()
    assert (ground(again) == 0).all()


def test_the_list_opens_no_world(client: TestClient) -> None:
    studio: Studio = client.app.state.studio  # type: ignore[attr-defined]
    ids = made(studio, 3)
    opened = studio.world(ids[1])
    draw(opened, path=[(16, 16, 0)], radius_m=5, strength=3)
    before = {world_id for world_id in ids if studio._open.get(world_id) is not None}
    listed = client.get("/api/worlds").json()
    assert client.get("/").status_code == 200
    assert {world_id for world_id in ids if studio._open.get(world_id) is not None} == before == {ids[1]}
    assert [(one["id"], one["name"], one["revision"]) for one in listed] == [
        (ids[1], "World 1", 1), (ids[2], "World 2", 0), (ids[0], "World 0", 0),
    ]  # fmt: skip
    assert all(len(one["tracts"]) == 1 for one in listed)


def test_a_world_of_the_list_can_only_be_looked_at(studio: Studio) -> None:
    made(studio, 1)
    worlds, shut = studio.listed()
    assert ([name_of(world) for world in worlds], shut) == (["World 0"], [])
    with pytest.raises(Conflict, match="looked at"):
        _edit(worlds[0])


def _edit(world: OpenWorld) -> None:
    draw(world, path=[(16, 16, 0)], radius_m=5, strength=3)
