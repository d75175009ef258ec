"""Land from a seed: previews, jobs, sheets of their own, and what a region has no room for."""

from __future__ import annotations

import io
import itertools
import time
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image

from fernfield.core.errors import Cancelled, Conflict
from fernfield.core.ground.frost import steepest
from fernfield.core.water.drainage import DC, DR, OUT, catchments, drain
from fernfield.work.ground.commands import MakeLand, PutSheet
from fernfield.work.ground.rows import Landscape, Recipe, Sheet, Weathering, sheets_of
from fernfield.work.ground.sheet_edits import put_sheet
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.jobs import Job
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS, Plot
from fernfield.work.studio import Studio
from tests.conftest import draw, ended, everything, ground
from tests.waits import done


def recipe(*names: str, **fields: Any) -> Recipe:
    scapes = tuple(Landscape(name=name, patch_m=100) for name in names)
    return Recipe(landscapes=scapes, **{"seed": 5, "blend_m": 30.0, **fields})


def make(studio: Studio, world: OpenWorld, what: Recipe, key: str = "land") -> Job:
    return ended(studio.start_making(world.first_tract.row.id, MakeLand(key=key, name="Made", recipe=what)))


def test_made_land_lies_in_a_sheet_of_its_own_and_is_undone(studio: Studio, world: OpenWorld) -> None:
    state = everything(world)
    job = make(studio, world, recipe("fells", height_m=120, base_m=3.0))
    assert job.state == "done", job.message
    land = ground(world)
    assert 30 < np.ptp(land) < 200
    assert [key for key, _ in sheets_of(world)] == ["land"]
    assert world.rows["recipes"]["land"].model_dump()["seed"] == 5
    hidden = sheets_of(world)[0][1].model_copy(update={"hidden": True})
    put_sheet(world, PutSheet(key="land", sheet=hidden))
    assert (ground(world) == 10).all()
    world.undo()
    assert np.array_equal(ground(world), land)
    world.undo()
    assert everything(world) == state


@pytest.mark.parametrize("concavity", [0.35, 0.5])
def test_streams_that_ran_for_long_leave_valleys_that_drain(studio: Studio, world: OpenWorld, concavity: float) -> None:
    """Four million years of uplift against incision: no hollow is left, and slope goes with catchment as was asked.

    The slope-area relation S = k A^-theta of a steady state (Whipple and Tucker 1999, doi:10.1029/1999JB900120).
    """
    weather = Weathering(streams_ka=4_000, uplift_mm=0.2, erodes=50, concavity=concavity)
    job = make(studio, world, recipe("fells", height_m=60, base_m=3.0, feather_m=0, weathering=weather))
    assert job.state == "done", job.message
    land = ground(world)
    drainage = drain(land)
    assert np.array_equal(drainage.filled, land)
    area = catchments(drainage)
    row, col = np.nonzero((area > 60) & (drainage.to != OUT))
    way = drainage.to[row, col]
    fall = (land[row, col] - land[row + DR[way], col + DC[way]]) / np.hypot(DR[way], DC[way])
    large = area[row, col]
    edges = np.quantile(large, np.linspace(0, 1, 13))
    parts = [(large >= a) & (large <= b) for a, b in itertools.pairwise(edges)]
    logs = np.log([(np.median(large[part]), np.median(fall[part])) for part in parts])
    assert -np.polyfit(logs[:, 0], logs[:, 1], 1)[0] == pytest.approx(concavity, abs=0.02)


def test_the_same_recipe_gives_the_same_land_and_another_seed_another(studio: Studio, world: OpenWorld) -> None:
    lands = []
    for seed in (5, 5, 6):
        make(studio, world, recipe("moor", "crags", seed=seed))
        lands.append(ground(world))
        world.undo()
    assert np.array_equal(lands[0], lands[1])
    assert not np.allclose(lands[0], lands[2], atol=1)


def test_made_anew_it_leaves_what_was_shaped_by_hand_on_other_sheets(studio: Studio, world: OpenWorld) -> None:
    make(studio, world, recipe("downs"))
    put_sheet(world, PutSheet(key="hand", sheet=Sheet(name="Hand")))
    before = ground(world).astype(float)
    draw(world, "raise", sheet="hand")
    by_hand = ground(world) - before
    make(studio, world, recipe("downs", seed=9))
    put_sheet(world, PutSheet(key="hand", sheet=Sheet(name="Hand", hidden=True)))
    without = ground(world).astype(float)
    world.undo()
    assert np.allclose(ground(world) - without, by_hand, atol=1e-3)
    assert not np.allclose(without, before, atol=1)
    assert world.store.revisions(world.id)[2].words.startswith("Made anew the land Made from seed 9: downs")
    locked = dict(sheets_of(world))["land"].model_copy(update={"locked": True})
    put_sheet(world, PutSheet(key="land", sheet=locked))
    job = make(studio, world, recipe("downs", seed=10))
    assert job.state == "failed"
    assert "is locked" in job.message


def test_a_plot_blends_into_the_land_around_it(studio: Studio, world: OpenWorld) -> None:
    square = ((80.0, 80.0), (220.0, 80.0), (220.0, 220.0), (80.0, 220.0))
    world.edit(put(PLOTS, "p", Plot(name="P", points=square)))
    make(studio, world, recipe("crags", plot="p", feather_m=25, base_m=30.0))
    land = ground(world)
    outside = np.ones(land.shape, bool)
    outside[300 - 220 : 300 - 79, 80:221] = False
    assert (land[outside] == 10).all()
    assert np.abs(land[300 - 80, 80:221] - 10).max() < 0.01
    assert land[150, 150] > 20


def test_weather_of_a_recipe_brings_its_slopes_to_rest(studio: Studio, world: OpenWorld) -> None:
    make(studio, world, recipe("crags", height_m=60))
    rough = steepest(ground(world), 1.0)
    world.undo()
    weathering = Weathering(drops_per_m2=0.3, passes=2000, repose_deg=35)
    make(studio, world, recipe("crags", height_m=60, weathering=weathering))
    assert rough > 50
    assert steepest(ground(world), 1.0) < 37


def test_a_generation_that_is_stopped_or_fails_leaves_nothing_behind(
    studio: Studio, world: OpenWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    state = everything(world)
    for stop_at in (1, 2, 3, 4):
        count = 0

        def step(self: Job, progress: float, message: str, stop_at: int = stop_at) -> None:
            nonlocal count
            count += 1
            if count >= stop_at:
                raise Cancelled("the job was cancelled")

        with monkeypatch.context() as patch:
            patch.setattr(Job, "step", step)
            job = make(studio, world, recipe("fen"))
        assert job.state == "cancelled"
        assert everything(world) == state
    with monkeypatch.context() as patch:
        patch.setattr(world.store, "write", lambda revision: (_ for _ in ()).throw(OSError("disk full")))
        assert make(studio, world, recipe("fen")).state == "failed"
    assert everything(world) == state
    assert not sheets_of(world)


def test_a_locked_or_full_stack_is_said_plainly(studio: Studio, world: OpenWorld) -> None:
    for number in range(32):
        put_sheet(world, PutSheet(key=f"s{number}", sheet=Sheet(name=f"S{number}")))
    job = make(studio, world, recipe("fen"))
    assert job.state == "failed"
    assert "at most 32 sheets" in job.message
    with pytest.raises(Conflict):
        put_sheet(world, PutSheet(key="more", sheet=Sheet(name="More")))


SPEC = {"name": "W", "width_m": 512, "depth_m": 512, "spacing_m": 2, "elevation_m": 1, "sea_level_m": 0}


def test_generation_over_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json=SPEC).json()
    tract, base = f"/api/tracts/{made['tracts'][0]['id']}", f"/api/worlds/{made['id']}"
    forms = client.get("/api/landforms").json()
    assert len(forms) == 11
    assert all(form["settings"] for form in forms)
    body = {
        "seed": 3,
        "landscapes": [{"name": f["name"], "weight": 1, "patch_m": 400} for f in forms[:5]],
        "blend_m": 60,
        "height_m": 90,
    }
    began = time.monotonic()
    shown = client.post(f"{tract}/generate/preview", json=body)
    assert time.monotonic() - began < 20
    assert shown.status_code == 200, shown.text
    picture = np.asarray(Image.open(io.BytesIO(shown.content)))
    assert picture.shape[0] >= 128
    assert picture.std() > 8
    warned = "5 landscapes of 400 m patches need at least 1200 by 1200 m; the region is 512 by 512 m"
    assert warned in shown.headers["x-warnings"]
    answer = client.post(f"{tract}/generate", json={**body, "name": "Five lands"})
    assert answer.status_code == 202
    assert warned in answer.json()["warnings"]
    done(client, answer)
    assert client.get(f"{base}/sheets").json()[0]["name"] == "Five lands"
    assert client.get(f"{base}/recipes").json()[0]["sheet"] == answer.json()["sheet"]
    # The preview is the land: where it is high the land is high.
    values = np.frombuffer(client.get(f"{tract}/heights?step=2").content, "<f4")
    assert np.isfinite(values).all()
    assert np.ptp(values) > 20
    client.delete(f"{base}/sheets/{answer.json()['sheet']}")
    assert client.get(f"{base}/recipes").json() == []


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"landscapes": []}, "at least 1"),
        ({"landscapes": [{"name": "volcano"}]}, "name must be one of fen, moor"),
        (
            {"landscapes": [{"name": "fen", "settings": {"height": 3}}]},
            "settings of fen are relief_m, creek_m, depth_m",
        ),
        ({"landscapes": [{"name": "fen", "settings": {"depth_m": 99}}]}, "depth_m must be 0 to 20 m, not 99.0"),
        ({"seed": -1}, "must be at least 0"),
        ({"blend_m": "wide"}, "must be a number"),
        ({"colour": "red"}, "not asked for"),
    ],
)
def test_a_recipe_that_cannot_be_is_refused(client: TestClient, change: dict[str, Any], words: str) -> None:
    made = client.post("/api/worlds", json=SPEC).json()
    tract = f"/api/tracts/{made['tracts'][0]['id']}"
    body = {"seed": 1, "landscapes": [{"name": "fen"}], **change}
    for path in ("generate", "generate/preview"):
        answer = client.post(f"{tract}/{path}", json=body)
        assert answer.status_code == 422
        assert words in answer.json()["detail"], answer.text
    assert client.post(f"{tract}/generate", json={**body, "landscapes": [{"name": "fen"}], "seed": 1, "plot": "p"}
                       ).status_code in (404, 422)  # fmt: skip
