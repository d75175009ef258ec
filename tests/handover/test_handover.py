"""The package opens in Pillow, NumPy and a GeoJSON library, and its numbers are the world's."""

import csv
import hashlib
import io
import json
import zipfile
from pathlib import Path
from typing import Any

import geojson
import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from shapely.geometry import box, shape

from fernfield.core.errors import Cancelled
from fernfield.web.rooms.worlds.icons import plan_icon
from fernfield.work.cover.shares import cover_shares
from fernfield.work.growth.standing import standing_plants
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.rows import ONLY
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.rows import THINGS, Piece, Start
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, Water
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.rows import ABOUT, ICON
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw, ended, ground


def hand_over(studio: Studio, world: OpenWorld) -> tuple[zipfile.ZipFile, dict[str, Any]]:
    job = ended(studio.start_handover(world.id))
    assert job.state == "done", job.message
    package = zipfile.ZipFile(studio.package(world.id)[2])
    return package, json.loads(package.read("manifest.json"))


@pytest.fixture
def worked(world: OpenWorld) -> OpenWorld:
    draw(world, strength=17)
    draw(world, "paint", cover="earth", strength=150)
    draw(world, "sow", mix="mix", strength=300, path=[(60, 200, 0), (240, 210, 1)], radius_m=40)
    world.edit(put(THINGS, "s", Start(name="South", x=250, y=45, turn_deg=30, team=1)))
    world.edit(put(THINGS, "p", Piece(kit="spring_head", name="Spring", x=90, y=80, over_m=0.5)))
    return world


def test_the_numbers_in_the_package_are_the_worlds(studio: Studio, worked: OpenWorld) -> None:
    package, manifest = hand_over(studio, worked)
    assert package.testzip() is None
    assert manifest["revision"] == worked.revision
    assert manifest["units"]["length"] == "metre"
    for entry in manifest["files"]:
        assert hashlib.sha256(package.read(entry["path"])).hexdigest() == entry["sha256"]
    assert {e["path"] for e in manifest["files"]} | {"manifest.json"} == set(package.namelist())
    tract = manifest["tracts"][0]
    assert (tract["rows"], tract["cols"], tract["spacing_m"]) == (301, 301, 1)

    # Heights, in Pillow and NumPy.
    scale = tract["heights"]
    grey = np.asarray(Image.open(io.BytesIO(package.read(scale["file"]))))
    assert grey.dtype == np.uint16
    span = scale["highest_m"] - scale["lowest_m"]
    land = scale["lowest_m"] + grey / 65_535 * span
    assert np.abs(land - ground(worked)).max() <= span / 65_535 / 2 + 1e-5

    # Covers: bytes that add up to 255 and are the shares.
    pictures = [np.asarray(Image.open(io.BytesIO(package.read(c["file"])))) for c in tract["covers"]]
    shares = cover_shares(worked, worked.first_land, worked.first_tract.grid.window)
    assert (np.sum(pictures, axis=0, dtype=int) == 255).all()
    assert np.abs(np.stack(pictures) / 255 - shares).max() <= 1 / 255
    assert pictures[1].max() > 200

    # Growth, in the csv module: every plant, on the ground.
    rows = list(csv.DictReader(io.StringIO(package.read(tract["growth"]["file"]).decode())))
    plants = standing_plants(worked, worked.first_land, worked.first_tract.grid.window)
    assert len(rows) == sum(len(p.plants) for p in plants) > 50
    for row in rows[::17]:
        z = worked.first_tract.elevation(float(row["x_m"]), float(row["y_m"]))
        assert float(row["z_m"]) + float(row["sink_m"]) == pytest.approx(z, abs=2e-3)

    # Sites, in a GeoJSON library and shapely.
    sites = geojson.loads(package.read(tract["sites"]["file"]))
    assert sites.is_valid
    extent = box(0, 0, 300, 300)
    by_id = {f["id"]: f for f in sites["features"]}
    assert all(extent.contains(shape(f["geometry"])) for f in sites["features"])
    start = {"sort": "start", "turn_deg": 30, "team": 1, "default": True}
    assert start.items() <= by_id["s"]["properties"].items()
    assert by_id["p"]["geometry"]["coordinates"][2] == pytest.approx(10.4)
    assert by_id["p"]["properties"]["resource"] is True


def test_the_same_world_gives_the_same_bytes(studio: Studio, worked: OpenWorld) -> None:
    hand_over(studio, worked)
    first = studio.package(worked.id)[2].read_bytes()
    hand_over(studio, worked)
    assert studio.package(worked.id)[2].read_bytes() == first


def test_level_ground_can_be_handed_over(studio: Studio, world: OpenWorld) -> None:
    package, manifest = hand_over(studio, world)
    heights = manifest["tracts"][0]["heights"]
    assert heights["lowest_m"] == 10 < heights["highest_m"]
    assert not np.asarray(Image.open(io.BytesIO(package.read(heights["file"])))).any()


def test_a_package_older_than_the_world_is_found(studio: Studio, worked: OpenWorld) -> None:
    hand_over(studio, worked)
    assert not [f for f in studio.check(worked.id) if f.check == "package age"]
    worked.edit(put(WATER, "sea", Water(sea_level_m=11)))
    found = {f.check: f for f in studio.check(worked.id)}
    assert f"r{worked.revision - 1}" in found["package age"].words
    hand_over(studio, worked)
    assert len(list((studio.data / "packages").iterdir())) == 1


def test_a_cancelled_handover_leaves_the_last_package(
    studio: Studio, worked: OpenWorld, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand_over(studio, worked)
    before = studio.package(worked.id)
    draw(worked)

    def stop(_progress: float, message: str) -> None:
        if "Growth" in message:
            raise Cancelled("stop")

    with pytest.raises(Cancelled):
        write_package(worked, tmp_path / "x.zip", stop)
    assert not list(tmp_path.glob("x*"))

    held = worked.lock  # a job that is asked to stop while it waits for its turn to read
    job = studio.start_handover(worked.id)
    studio.jobs.cancel(job.id)
    ended(job)
    assert held is worked.lock
    assert job.state in ("cancelled", "done")
    if job.state == "cancelled":
        assert studio.package(worked.id) == before


def test_the_package_is_of_one_revision_while_the_world_goes_on(studio: Studio, worked: OpenWorld) -> None:
    """The job reads a snapshot: strokes drawn meanwhile are wholly in it or not at all."""
    states = {worked.revision: ground(worked)}
    job = studio.start_handover(worked.id)
    while not job.ended:
        states[draw(worked, path=[(100, 100, 0), (200, 200, 0.2)]).revision] = ground(worked)
    manifest = json.loads(zipfile.ZipFile(studio.package(worked.id)[2]).read("manifest.json"))
    heights = manifest["tracts"][0]["heights"]
    land = states[manifest["revision"]]
    assert heights["lowest_m"] == land.min()
    assert heights["highest_m"] == land.max()


def test_jobs_tell_their_progress_as_events(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "E", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    job = client.post(f"/api/worlds/{world}/handover").json()["job"]
    text = client.get(f"/api/jobs/{job}/events").text
    events = [json.loads(line[6:]) for line in text.splitlines() if line.startswith("data: ")]
    assert events[-1]["state"] == "done"
    assert events[-1]["result"]["revision"] == 0
    assert client.delete(f"/api/jobs/{job}").json()["state"] == "done"
    answer = client.get(f"/api/worlds/{world}/handover.zip")
    assert answer.headers["content-type"] == "application/zip"
    assert zipfile.ZipFile(io.BytesIO(answer.content)).testzip() is None
    assert client.get(f"/api/worlds/{world}/handover").json()["stale"] is False


def test_several_tracts_are_handed_over_with_their_layout_and_the_icon(studio: Studio, worked: OpenWorld) -> None:
    spec = TractSpec(name="East", x=300, width_m=100, depth_m=300, spacing_m=1, elevation_m=12)
    east, _ = studio.add_tract(worked.id, spec)
    west = worked.first_tract.row.id
    join(worked, JoinTracts(first=west, second=east, blend_m=20))
    worked.edit(put(THINGS, "e", Start(name="East", x=9, y=9, tract=east)))
    worked.edit(patch(ABOUT, "world", description="Two banks."))
    worked.edit(put(ICON, ONLY, plan_icon(worked, worked.first_tract, None, None, None)))
    package, manifest = hand_over(studio, worked)
    assert [t["name"] for t in manifest["tracts"]] == ["Main tract", "East"]
    assert manifest["tracts"][1]["layout"] == {"x": 300, "y": 0, "kind": "open"}
    assert manifest["joins"] == [{"first": west, "second": east, "side": "east", "blend_m": 20}]
    assert manifest["world"]["description"] == "Two banks."
    # The shared edge is one line in both files, to the step of their 16 bits.
    edges = []
    for tract, col in zip(manifest["tracts"], (-1, 0), strict=True):
        heights = tract["heights"]
        grey = np.asarray(Image.open(io.BytesIO(package.read(heights["file"]))), float)
        edges.append(heights["lowest_m"] + grey[:, col] / 65_535 * (heights["highest_m"] - heights["lowest_m"]))
    assert np.abs(edges[0] - edges[1]).max() < 1e-3
    sites = [geojson.loads(package.read(t["sites"]["file"]))["features"] for t in manifest["tracts"]]
    assert [[f["properties"]["name"] for f in s] for s in sites] == [["Spring", "South"], ["East"]]
    icon = Image.open(io.BytesIO(package.read("icon.png")))
    assert icon.size[0] == icon.size[1] <= 120
