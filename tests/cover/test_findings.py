"""What the checks find of covers: flecks with a mend, too many meeting, rules for what has gone, tiles too small."""

from __future__ import annotations

import numpy as np
import pytest
from fastapi.testclient import TestClient
from scipy import ndimage

from fernfield.core.cover.flecks import NOTHING, flecks
from fernfield.core.errors import Conflict
from fernfield.work.cover.areas import FillCover, MendFlecks, fill_cover, mend_flecks
from fernfield.work.cover.rows import COVERS, Cover
from fernfield.work.cover.sums import foremost_in
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.world import OpenWorld
from tests.conftest import draw, everything, found_in
from tests.cover.test_rules import ruled


def test_flecks_are_patches_with_one_other_cover_all_around() -> None:
    """Against SciPy's labels: every small patch off the border whose ring is of one cover, and nothing else."""
    rng = np.random.default_rng(5)
    front = (ndimage.gaussian_filter(rng.normal(size=(90, 110)), 1.4) > 0.09).astype(np.int16)
    front[:, 60:] += 2 * (ndimage.gaussian_filter(rng.normal(size=(90, 50)), 2) > 0.12).astype(np.int16)
    found, to = flecks(front, 9)
    expected = set()
    for cover in np.unique(front):
        labels, count = ndimage.label(front == cover)
        for k in range(1, count + 1):
            inside = labels == k
            rows, cols = np.nonzero(inside)
            edge = rows.min() == 0 or cols.min() == 0 or rows.max() == 89 or cols.max() == 109
            ring = ndimage.binary_dilation(inside, np.ones((3, 3))) & ~inside
            if inside.sum() <= 9 and not edge and len(np.unique(front[ring])) == 1:
                expected.add((int(cover), int(front[ring][0]), int(rows[0]), int(cols[0]), int(inside.sum())))
    assert {(f.cover, f.around, f.row, f.col, f.posts) for f in found} == expected
    assert len(expected) > 8
    assert (to != NOTHING).sum() == sum(f.posts for f in found)


@pytest.fixture
def flecked(world: OpenWorld) -> OpenWorld:
    """A field of path with three little holes in it, one of them across a join of tiles, and one large."""
    world.edit(patch(COVERS, "rock", rule=None))
    fill_cover(world, world.first_tract, FillCover(cover="path", box=(50, 20, 280, 200)))
    for x, y in ((100, 100), (256, 60), (150, 150)):
        box = (x - 1.2, y - 0.2, x + 0.2, y + 0.2)
        fill_cover(world, world.first_tract, FillCover(cover="grass", box=box))
    fill_cover(world, world.first_tract, FillCover(cover="grass", box=(200, 100, 210, 110)))
    return world


def test_flecks_are_found_and_mended_in_one_revision(flecked: OpenWorld) -> None:
    found = [f for f in found_in(flecked) if f.check == "flecks"]
    assert len(found) == 1
    assert found[0].words.startswith("3 flecks")
    assert found[0].mend is not None
    before, at = everything(flecked), flecked.revision
    made = mend_flecks(flecked, flecked.first_tract, MendFlecks())
    assert (made.left, flecked.revision) == (0, at + 1)
    assert made.posts == 6
    front = foremost_in(flecked, flecked.first_land, flecked.first_land.grid.window)
    # The large one is meant so.
    assert front[300 - 105, 205] == 0
    assert front[300 - 100, 100] == 2
    assert not [f for f in found_in(flecked) if f.check == "flecks"]
    with pytest.raises(Conflict, match="no flecks"):
        mend_flecks(flecked, flecked.first_tract, MendFlecks())
    flecked.undo()
    assert everything(flecked) == before


def test_mending_leaves_what_the_rules_show_to_the_rules(flecked: OpenWorld) -> None:
    ruled(flecked, {"cover": "rock", "conditions": [{"what": "noise", "from": 0.3, "size_m": 9}]})
    assert mend_flecks(flecked, flecked.first_tract, MendFlecks()).posts == 6
    ruled(flecked, {"cover": "earth"})
    front = foremost_in(flecked, flecked.first_land, flecked.first_land.grid.window)
    assert (front[280:300, 285:300] == 1).all()


def test_what_rules_scatter_is_no_fleck(world: OpenWorld) -> None:
    world.edit(patch(COVERS, "rock", rule=None))
    ruled(world, {"cover": "rock", "conditions": [{"what": "noise", "from": 0.5, "size_m": 4}]})
    assert not [f for f in found_in(world) if f.check == "flecks"]


def test_small_tiles_are_told(world: OpenWorld) -> None:
    world.edit(patch(COVERS, "grass", texture="turf", tile_m=0.5))
    told = [f for f in found_in(world) if f.check == "repetition"]
    assert len(told) == 1
    assert "500 times in 250 m" in told[0].words
    world.edit(patch(COVERS, "grass", tile_m=2.0))
    assert not [f for f in found_in(world) if f.check == "repetition"]


def test_more_covers_than_are_drawn_at_one_place_are_told(world: OpenWorld) -> None:
    for k in range(8):
        world.edit(put(COVERS, f"c{k}", Cover(name=f"C {k}", colour="#445566")))
    for k in range(8):
        draw(world, "veil", cover=f"c{k}", share=0.2, path=[(100, 100, 0), (100, 100, 1)], softness=0)
    told = [f for f in found_in(world) if f.check == "covers meeting"]
    assert len(told) == 1
    assert told[0].words.startswith("9 covers meet")
    assert told[0].x == pytest.approx(100, abs=21)


def test_flecks_by_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "F", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url = f"/api/tracts/{made['tracts'][0]['id']}/covers"
    client.post(f"{url}/fill", json={"cover": "path", "box": [10, 10, 50, 50]})
    client.post(f"{url}/fill", json={"cover": "grass", "box": [29.8, 29.8, 30.2, 30.2]})
    told = [f for f in client.get(f"/api/worlds/{made['id']}/findings").json() if f["check"] == "flecks"]
    mend = told[0]["mend"]
    answer = client.post(f"/api{mend['path']}", json=mend["body"])
    assert answer.json()["left"] == 0
    assert answer.json()["posts"] == 1
    assert client.post(f"{url}/flecks", json={}).status_code == 409
    assert client.post(f"{url}/flecks", json={"least_m2": 0}).status_code == 422
