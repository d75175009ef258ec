"""Ground cover: where covers, conditions and patches put it; windows; what is drawn of it; how it is handed over."""

from __future__ import annotations

import io
import json
import math
import zipfile
from pathlib import Path

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image
from pydantic import ValidationError

from fernfield.core.errors import NotFound
from fernfield.core.grid import Window
from fernfield.core.growth.sward import TUFT_TRIANGLES, patched, tufts_drawn
from fernfield.work.cover.rows import covers_of
from fernfield.work.cover.shares import cover_shares
from fernfield.work.growth.load import gauge
from fernfield.work.growth.swards import SWARDS, Sward, sward_bytes, sward_share
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.rows import WATER
from tests.conftest import draw


def grass(**said: object) -> Sward:
    return Sward.model_validate({"name": "Grass", "patchy": 0, **said})


def test_it_grows_where_its_covers_and_conditions_are(grassed: OpenWorld) -> None:
    draw(grassed, "paint", cover="rock", path=[(100, 150, 0), (200, 150, 4)], radius_m=40, strength=300, softness=0.5)
    land = grassed.first_land
    order = [key for key, _ in covers_of(grassed)]
    shares = cover_shares(grassed, land, land.bounds)
    rock = sward_share(grassed, land, grass(covers=["rock"]), land.bounds)
    assert np.allclose(rock, shares[order.index("rock")], atol=1e-6)
    assert (sward_share(grassed, land, grass(covers=order), land.bounds) > 0.999).all()
    assert (sward_share(grassed, land, grass(), land.bounds) == 1).all()
    high = grass(conditions=[{"what": "elevation", "from": 20}])
    heights = land.read("height", land.bounds)
    assert np.array_equal(sward_share(grassed, land, high, land.bounds) > 0.5, heights > 20)
    # Under the sea only what grows there.
    sea = float(np.median(heights))
    grassed.edit(patch(WATER, "sea", sea_level_m=sea))
    dry = sward_share(grassed, land, grass(), land.bounds) > 0
    assert np.array_equal(dry, heights >= np.float32(sea - 0.1))
    assert sward_share(grassed, land, grass(in_water=True), land.bounds).all()


@pytest.mark.usefixtures("grassed")
@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(0, 300), st.integers(0, 300), st.integers(1, 90), st.integers(1, 90))
def test_a_window_has_what_the_whole_has(row: int, col: int, rows: int, cols: int) -> None:
    world, whole = known()
    land = world.first_land
    window = land.clip(Window(row, col, row + rows, col + cols))
    if not window.empty:
        own = whole[window.row0 : window.row1, window.col0 : window.col1]
        assert np.array_equal(sward_bytes(world, land, window)[0], own)


KNOWN: list[tuple[OpenWorld, np.ndarray]] = []


def known() -> tuple[OpenWorld, np.ndarray]:
    return KNOWN[0]


@pytest.fixture
def grassed(world: OpenWorld) -> OpenWorld:
    draw(world, "raise", path=[(120, 150, 0), (180, 150, 3)], radius_m=90, strength=12, softness=1)
    asks = [{"what": "slope", "to": 30, "soft": 8}, {"what": "shade", "to": 60, "soft": 30}]
    world.edit(put(SWARDS, "grass", grass(patchy=0.7, patch_m=9, covers=["grass"], conditions=asks)))
    KNOWN[:] = [(world, sward_bytes(world, world.first_land, world.first_land.bounds)[0])]
    return world


def test_patches_thin_half_of_it() -> None:
    rng = np.random.default_rng(4)
    noise = rng.normal(0, 0.3, 200_000).astype(np.float32)
    share = patched(np.full_like(noise, 0.8), noise, 0.5, 0.0)
    # Half is in patches at 0.8, half between them at 0.4.
    assert share.mean() == pytest.approx(0.6, abs=0.005)
    assert (share.min(), share.max()) == (pytest.approx(0.4), pytest.approx(0.8))


def test_what_is_drawn_is_counted_in_the_gauge(grassed: OpenWorld) -> None:
    full = np.ones((201, 201), np.float32)
    assert tufts_drawn(full, 1.0, 9, 40) == pytest.approx(9 * math.pi * 1600, rel=1e-9)
    half = full.copy()
    half[:, :100] = 0
    assert tufts_drawn(half, 1.0, 9, 40) == pytest.approx(9 * math.pi * 1600, rel=1e-9)
    assert tufts_drawn(np.zeros_like(full), 1.0, 9, 40) == 0
    small = np.ones((21, 21), np.float32)
    assert tufts_drawn(small, 1.0, 9, 40) == pytest.approx(9 * 21 * 21)
    grassed.edit(put(SWARDS, "grass", grass(per_m2=9, reach_m=30, covers=[], conditions=[])))
    for spot in (None, (150.0, 150.0)):
        found = gauge(grassed, grassed.first_land, spot)
        assert found["tufts"]["grass"] == pytest.approx(9 * math.pi * 900, rel=0.01)
        assert found["load"]["triangles"] == pytest.approx(found["tufts"]["grass"] * TUFT_TRIANGLES, rel=0.01)
        assert found["count"] == 0


def test_it_is_handed_over_as_a_picture_of_its_density(grassed: OpenWorld, tmp_path: Path) -> None:
    package = tmp_path / "package.zip"
    write_package(grassed, package, lambda done, words: None)
    with zipfile.ZipFile(package) as zipped:
        told = json.loads(zipped.read("manifest.json"))
        file = told["tracts"][0]["swards"][0]["file"]
        picture = np.asarray(Image.open(io.BytesIO(zipped.read(file))))
    assert told["swards"][0]["per_m2"] == 8
    assert np.array_equal(picture, known()[1])


def test_what_is_wrong_is_refused(grassed: OpenWorld) -> None:
    with pytest.raises(NotFound, match="moss"):
        grassed.edit(put(SWARDS, "other", grass(covers=["moss"])))
    with pytest.raises(ValidationError, match="least height"):
        grass(tall_min_m=1.0, tall_max_m=0.5)
    with pytest.raises(ValidationError, match="contradicts itself"):
        grass(conditions=[{"what": "slope", "to": 5}, {"what": "slope", "from": 20}])
    grassed.edit(remove(SWARDS, "grass"))
    assert sward_bytes(grassed, grassed.first_land, grassed.first_land.bounds).shape[0] == 0


def test_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "W", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    swards, tract = f"/api/worlds/{world['id']}/swards", world["tracts"][0]["id"]
    assert client.put(f"{swards}/g", json={"name": "G", "patchy": 0, "per_m2": 500}).status_code == 422
    assert client.put(f"{swards}/g", json={"name": "G", "patchy": 0}).status_code in (200, 201)
    window = {"row0": 0, "col0": 0, "row1": 65, "col1": 65, "step": 4}
    found = client.get(f"/api/tracts/{tract}/swards", params=window)
    assert (found.headers["x-shape"], found.headers["x-swards"]) == ("1,17,17", "g")
    assert set(found.content) <= {0, 255}
    assert client.delete(f"{swards}/g").status_code == 200
    assert client.get(f"/api/tracts/{tract}/swards", params=window).headers["x-shape"] == "0,17,17"
