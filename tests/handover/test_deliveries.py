"""Deliveries, each format by a reader that is not ours.

Sources: rasterio and its GDAL for GeoTIFF and ASCII grids, Pillow for PNG, NumPy, trimesh for glTF, OBJ and STL, the
Khronos glTF validator from its npm package, jsonschema-rs for JSON Schema, pyarrow for Parquet, pypdf for PDF.
"""

from __future__ import annotations

import csv
import io
import json
import math
import subprocess
import sys
import zipfile
from pathlib import Path
from typing import Any, get_args
from xml.etree import ElementTree

import numpy as np
import pytest
import trimesh
from fastapi.testclient import TestClient
from jsonschema_rs import validator_for
from PIL import Image
from pyarrow import parquet
from pypdf import PdfReader
from rasterio.io import MemoryFile
from shapely.geometry import Point, Polygon

from fernfield.core.grid import Window
from fernfield.work.delivery.making import FORMATS
from fernfield.work.handover.deliveries import SHIPPED, FormatKey
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.studio import Studio
from tests.conftest import ended

SPEC = {"name": "W", "width_m": 150, "depth_m": 100, "spacing_m": 1, "elevation_m": 5}
ROWS, COLS = 101, 151
POST = (140.0, 90.0)
"""A raised post in the north-east. [m]"""
VALIDATE = """
const { validateBytes } = require("gltf-validator");
const { readFileSync } = require("fs");
validateBytes(new Uint8Array(readFileSync(process.argv[1]))).then((told) =>
  console.log(JSON.stringify(told.issues.messages.filter((one) => one.severity < 2))));
"""


@pytest.fixture
def base(client: TestClient) -> str:
    """Uneven land of one tract with a peak at `POST`, a barn, willows and a lamp."""
    made = client.post("/api/worlds", json=SPEC).json()
    tract, base = made["tracts"][0]["id"], f"/api/worlds/{made['id']}"
    world = _studio(client).world(made["id"])
    path = [[10, 10, 0], [140, 70, 2]]
    rough = {"tool": "roughen", "radius_m": 60, "softness": 0.5, "strength": 6, "path": path}
    peak = {"tool": "raise", "radius_m": 2, "softness": 1, "strength": 40, "path": [[*POST, 0], [*POST, 1]]}
    sow = {
        "tool": "sow",
        "radius_m": 20,
        "softness": 0,
        "strength": 100,
        "path": [[40, 40, 0], [60, 40, 3]],
        "mix": "mix",
    }
    for stroke in (rough, peak, sow):
        assert client.post(f"/api/tracts/{tract}/strokes", json=stroke).status_code == 200
    piece = {"sort": "piece", "name": "Barn", "kit": "stone_barn", "x": 100, "y": 30, "turn_deg": 30}
    assert client.post(f"{base}/things", json=piece).status_code == 201
    client.post(
        f"{base}/lamps", json={"name": "Lamp", "x": 20, "y": 80, "over_m": 3, "colour": "#ff8000", "cone_deg": 90}
    )
    assert world.revision >= 5
    return base


def _studio(client: TestClient) -> Studio:
    return client.app.state.studio  # type: ignore[attr-defined, no-any-return]


def ground(client: TestClient, base: str) -> Any:
    world = _studio(client).world(base.rpartition("/")[2])
    return np.asarray(world.first_tract.cache.read(HEIGHT, Window(0, 0, ROWS, COLS)))


def made(client: TestClient, base: str, key: str = "own", **delivery: Any) -> tuple[zipfile.ZipFile, dict[str, Any]]:
    """The package of a delivery, and its manifest."""
    if delivery:
        said = {"name": "Own", **delivery}
        assert client.put(f"{base}/deliveries/{key}", json=said).status_code in (200, 201)
    job = ended(_studio(client).jobs.get(client.post(f"{base}/deliveries/{key}/make").json()["job"]))
    assert job.state == "done", job.message
    archive = zipfile.ZipFile(io.BytesIO(client.get((job.result or {})["file"]).content))
    return archive, json.loads(archive.read("manifest.json"))


def body(package: tuple[zipfile.ZipFile, dict[str, Any]], key: str, number: int = 0) -> bytes:
    return package[0].read(package[1][key][number]["file"])


def test_every_grid_is_read_elsewhere_as_it_is_here(client: TestClient, base: str) -> None:
    keys = [key for key in FORMATS if key.startswith("heights")]
    package, true = made(client, base, formats=keys), ground(client, base)
    told = package[1]["heights_png"][0]
    low, step = told["lowest_m"], (told["highest_m"] - told["lowest_m"]) / 65_535
    found = {
        "heights_png": np.asarray(Image.open(io.BytesIO(body(package, "heights_png")))) * step + low,
        "heights_raw": np.frombuffer(body(package, "heights_raw"), "<u2").reshape(ROWS, COLS) * step + low,
        "heights_npy": np.load(io.BytesIO(body(package, "heights_npy"))),
    }
    for key, ending in (("heights_tif16", "tif"), ("heights_tif32", "tif"), ("heights_asc", "asc")):
        with MemoryFile(body(package, key), ext=f".{ending}") as file, file.open() as data:
            # Samples lie at posts: GDAL's corner is half a post out.
            assert data.transform * (0.5, 0.5) == pytest.approx((0, ROWS - 1)), key
            assert data.res == (1, 1)
            if ending == "tif":
                # A system of its own, in metres, with samples at points, in tiles.
                place = 'UNIT["metre",1,' in data.crs.to_wkt(), data.crs.to_epsg(), data.tags()["AREA_OR_POINT"]
                assert (*place, data.profile["tiled"]) == (True, None, "Point", True), key
            values = data.read(1).astype(float)
            found[key] = values * data.scales[0] + data.offsets[0]
            # The raised post is where it was raised.
            assert data.index(*POST) == np.unravel_index(np.argmax(values), values.shape), key
    for key, values in found.items():
        exact = key in ("heights_npy", "heights_tif32", "heights_asc")
        assert np.abs(values - true).max() <= (0 if exact else step / 2 + 1e-6), key


def test_a_large_geotiff_has_overviews_of_its_own_posts() -> None:
    from fernfield.formats.geotiff import geotiff

    values = np.random.default_rng(1).normal(0, 9, (700, 900)).astype(np.float32)
    with MemoryFile(geotiff(values, 0.5, 10, 20)) as file, file.open() as data:
        assert (data.overviews(1), data.nodata != data.nodata) == ([2, 4], True)
        assert np.array_equal(data.read(1, out_shape=(350, 450)), values[::2, ::2])


def test_chunks_share_their_edges_and_keep_one_range(client: TestClient, base: str) -> None:
    package = made(client, base, formats=["heights_raw"], chunk=65, lowest_m=-100, highest_m=400)
    told = {(one["row"], one["col"]): one for one in package[1]["heights_raw"]}
    assert sorted(told) == [(r, c) for r in range(2) for c in range(3)]
    read = {at: np.frombuffer(package[0].read(one["file"]), "<u2").reshape(65, 65) for at, one in told.items()}
    assert np.array_equal(read[0, 0][:, -1], read[0, 1][:, 0])
    assert np.array_equal(read[0, 1][-1], read[1, 1][0])
    assert (told[1, 2]["rows"], told[1, 2]["cols"], told[1, 2]["west_m"], told[1, 2]["north_m"]) == (37, 23, 128, 36)
    near = read[1, 2][:37, :23].astype(float) * 500 / 65_535 - 100
    assert np.abs(near - ground(client, base)[64:, 128:]).max() < 500 / 65_535


def pictures(package: tuple[zipfile.ZipFile, dict[str, Any]], key: str) -> dict[str, Any]:
    """The pictures of a format by their layers, as Pillow reads them."""
    return {
        one.get("layer", ""): np.asarray(Image.open(io.BytesIO(package[0].read(one["file"])))).astype(int)
        for one in package[1][key]
    }


def test_covers_are_the_same_however_they_are_packed(client: TestClient, base: str) -> None:
    for number in range(9):
        client.post(f"{base}/covers", json={"name": f"C{number}", "colour": "#102030"})
    tract = client.get(base).json()["tracts"][0]["id"]
    covers = [one["key"] for one in client.get(f"{base}/covers").json()]
    for number, key in enumerate(covers[1:]):
        # Each lets what lies under it through, so that many meet.
        veil = {"tool": "veil", "cover": key, "share": 0.2, "radius_m": 40, "softness": 1, "strength": 100,
                "path": [[60 + number, 50, 0], [66 + number, 50, 1]]}  # fmt: skip
        assert client.post(f"/api/tracts/{tract}/strokes", json=veil).status_code == 200
    package = made(client, base, formats=[key for key in FORMATS if key.startswith("covers")])
    each = pictures(package, "covers_png")
    planes = np.stack(list(each.values()))
    assert list(each) == package[1]["covers_packed"][0]["covers"] == covers
    assert (planes.sum(axis=0) == 255).all()
    assert ((planes > 0).sum(axis=0) > 8).any()
    packed = np.concatenate([one.transpose(2, 0, 1) for one in pictures(package, "covers_packed").values()])
    assert np.array_equal(packed[: len(planes)], planes)
    assert not packed[len(planes) :].any()
    first = pictures(package, "covers_index")
    assert np.array_equal(first["index"], planes.argmax(axis=0))
    assert np.array_equal(first["share"], planes.max(axis=0))
    eight = pictures(package, "covers_eight")
    index, share = (np.concatenate([eight[f"{of}-0-3"], eight[f"{of}-4-7"]], axis=2) for of in ("index", "share"))
    back = np.zeros_like(planes)
    np.add.at(back, (index, *np.ogrid[:ROWS, :COLS, :8][:2]), share)
    assert np.array_equal(back, np.where(np.argsort(np.argsort(-planes, axis=0, kind="stable"), axis=0) < 8, planes, 0))


def test_water_lies_where_it_stands_and_streams_run_down(client: TestClient, base: str) -> None:
    true = ground(client, base)
    sea = float(np.quantile(true, 0.1))
    client.patch(f"{base}/water", json={"sea_level_m": sea})
    laid = client.put(f"{base}/streams/beck", json={"name": "Beck", "points": [[75, 95], [75, 5]], "width_m": 4})
    assert laid.status_code in (200, 201), laid.text
    package, true = made(client, base, formats=["water_tif32", "water_png", "flow_png"]), ground(client, base)
    with MemoryFile(body(package, "water_tif32"), ext=".tif") as file, file.open() as data:
        level = data.read(1)
    wet = pictures(package, "water_png")[""] == 255
    assert np.array_equal(wet, ~np.isnan(level))
    assert (level[wet] > true[wet]).all()
    flow = pictures(package, "flow_png")[""]
    runs = flow[..., 2] == 255
    assert 100 < runs.sum() < 2_000
    # Three metres on the water is no higher, anywhere, and it runs south altogether.
    rows, cols = np.nonzero(runs)
    way = (flow[runs][:, :2] - 128) / 127
    on = np.rint(rows - 3 * way[:, 1]).astype(int).clip(0, ROWS - 1), np.rint(cols + 3 * way[:, 0]).astype(int)
    assert np.nanmax(level[on] - level[runs]) < 0.01
    assert way[:, 1].mean() < -0.5
    assert (flow[~(flow[..., 2] > 0)][:, :2] == 128).all()


def test_light_comes_from_where_the_manifest_says(client: TestClient, base: str) -> None:
    client.patch(f"{base}/light", json={"sun_bearing_deg": 90, "sun_height_deg": 20})
    package = made(client, base, formats=["light_png", "sky_png"])
    (told, _), light = package[1]["light_png"], pictures(package, "light_png")
    assert (told["bearing_deg"], told["height_deg"]) == (90, 20)
    row, col = ROWS - 1 - int(POST[1]), int(POST[0])
    # The peak of 40 m throws its shadow west: 40 m by the tangent of 20°, 110 m.
    assert (light["lit"][row, col + 4], light["lit"][row, col - 30]) == (255, 0)
    assert light["sky"][row, col] > light["sky"][row, col - 2]
    assert Image.open(io.BytesIO(body(package, "sky_png"))).mode == "RGB"


def test_who_gets_where_and_what_stands_in_the_way(client: TestClient, base: str, tmp_path: Path) -> None:
    package, true = made(client, base, formats=["passable_png", "walkable_glb", "blocks_glb"]), ground(client, base)
    ways = pictures(package, "passable_png")
    assert set(ways) == {one["key"] for one in client.get(f"{base}/walkers").json()}
    bits = {way: 1 << k for k, way in enumerate(package[1]["passable_png"][0]["bits"])}
    row, col = ROWS - 1 - int(POST[1]), int(POST[0])
    # Nobody climbs the peak: from its west not east, from its south not north; away from it, as one likes.
    person = ways["person"]
    assert (person[row, col - 2] & bits["east"], person[row + 2, col] & bits["north"]) == (0, 0)
    assert (person[row, col - 4] & bits["west"], person[row + 4, col] & bits["south"]) == (bits["west"], bits["south"])
    assert not ways["boat"].any()
    barn = Polygon([[100 + x, 30 + y] for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1))])
    for key in ("walkable_glb", "blocks_glb"):
        assert complaints(body(package, key), tmp_path) == []
    floor = _scene(body(package, "walkable_glb"), "glb").geometry["walkable"]
    east, south = np.rint(floor.vertices[:, 0]).astype(int), np.rint(-floor.vertices[:, 2]).astype(int)
    assert np.abs(floor.vertices[:, 1] - true[ROWS - 1 - south, east]).max() < 5e-4
    assert floor.face_normals[:, 1].min() > 0
    assert not any(barn.contains(Point(x, y)) for x, y in zip(east, south, strict=True))
    assert len(floor.faces) > ROWS * COLS
    blocks = _scene(body(package, "blocks_glb"), "glb").geometry
    solid = trimesh.load(io.BytesIO(body(package, "blocks_glb")), file_type="glb").geometry["Barn"]
    solid.merge_vertices(merge_norm=True)
    assert solid.is_watertight
    assert np.abs(solid.centroid[[0, 2]] - (100, -30)).max() < 1
    assert len(blocks) > 1


def test_growth_is_the_same_in_each_of_its_tables(client: TestClient, base: str) -> None:
    package = made(client, base, formats=["growth_csv", "growth_geojson", "growth_parquet"])
    lines = list(csv.DictReader(io.StringIO(body(package, "growth_csv").decode())))
    table = parquet.read_table(io.BytesIO(body(package, "growth_parquet"))).to_pylist()
    shapes = json.loads(body(package, "growth_geojson"))["features"]
    assert len(lines) == len(table) == len(shapes) > 20
    for line, row, shape in zip(lines, table, shapes, strict=True):
        assert line == {name: str(value) for name, value in row.items()}
        place = [row.pop(name) for name in ("x_m", "y_m", "z_m")]
        assert (shape["geometry"]["coordinates"], shape["properties"]) == (place, row)


def test_a_sheet_as_pdf_has_its_size_its_words_and_a_page_for_each(client: TestClient, base: str) -> None:
    tract = client.get(base).json()["tracts"][0]["id"]
    url = f"/api/lands/{tract}/sheet.pdf?scale=400&paper=A4"
    data = client.get(url).content
    found = PdfReader(io.BytesIO(data))
    # ISO 216: A4 is 210 mm by 297 mm; a point is 1/72 inch.
    sizes = {
        (round(float(p.mediabox.width) / 72 * 25.4, 2), round(float(p.mediabox.height) / 72 * 25.4, 2))
        for p in found.pages
    }
    assert (len(found.pages), sizes) == (4, {(297.0, 210.0)})
    assert {"metres · 1 : 400 · sheet 2 of 4", "north"} <= {
        line.strip() for line in found.pages[1].extract_text().splitlines()
    }
    assert client.get(url).content == data


def _scene(data: bytes, kind: str) -> Any:
    return trimesh.load(io.BytesIO(data), file_type=kind, process=False)


def complaints(data: bytes, folder: Path) -> list[Any]:
    """What the Khronos validator finds wrong."""
    (folder / "land.glb").write_bytes(data)
    node = [str(Path(sys.prefix) / "bin" / "node"), "-e", VALIDATE, str(folder / "land.glb")]
    ran = subprocess.run(node, cwd=Path(sys.prefix) / "js", capture_output=True, text=True, check=True)
    return list(json.loads(ran.stdout))


@pytest.mark.parametrize("chunk", [0, 65])
def test_gltf_is_valid_and_has_the_same_places(client: TestClient, base: str, tmp_path: Path, chunk: int) -> None:
    package, true = made(client, base, formats=["land_glb"], chunk=chunk), ground(client, base)
    corners, barns, plants, lamps = [], 0, 0, 0
    for number in range(len(package[1]["land_glb"])):
        data = body(package, "land_glb", number)
        assert complaints(data, tmp_path) == []
        long = int.from_bytes(data[12:16], "little")
        said = json.loads(data[20 : 20 + long])
        for one in said["nodes"]:
            instanced = one.get("extensions", {}).get("EXT_mesh_gpu_instancing")
            count = said["accessors"][instanced["attributes"]["TRANSLATION"]]["count"] if instanced else 0
            barns += count if one.get("extras", {}).get("kit") == "stone_barn" else 0
            plants += count if "mix" in one.get("extras", {}) else 0
            if "KHR_lights_punctual" in one.get("extensions", {}):
                lamps += 1
                assert one["translation"] == pytest.approx([20, true[20, 20] + 3, -80], abs=1e-3)
                (light,) = said["extensions"]["KHR_lights_punctual"]["lights"]
                # 800 lm into a right cone, 2 pi (1 - cos 45°) sr: so many candela, by CIE's weights of linear sRGB.
                candela = light["intensity"] * float(np.dot((0.2126, 0.7152, 0.0722), light["color"]))
                assert (light["type"], candela) == (
                    "spot",
                    pytest.approx(800 / (2 * math.pi * (1 - math.sqrt(0.5))), rel=1e-3),
                )
                assert light["color"][0] == 1 > light["color"][1] > light["color"][2]
        corners.append(np.asarray(_scene(data, "glb").geometry["ground"].vertices))
    # x east, y up, z south, in metres; every post of the land at least once.
    at = np.concatenate(corners)
    east, south = np.rint(at[:, 0]).astype(int), np.rint(-at[:, 2]).astype(int)
    assert np.abs(at[:, 1] - true[ROWS - 1 - south, east]).max() < 5e-4
    assert len({(x, y) for x, y in zip(east, south, strict=True)}) == ROWS * COLS
    world = _studio(client).world(base.rpartition("/")[2])
    csv = client.get(f"/api/tracts/{world.first_tract.row.id}/plants.csv")
    grown = len(csv.text.splitlines()) - 1 if csv.status_code == 200 else plants
    assert (barns, plants, lamps) == (1, grown, 1)
    assert plants > 20


@pytest.mark.parametrize("up", ["z", "y"])
def test_surfaces_are_shut_right_way_round_and_in_place(client: TestClient, base: str, up: str) -> None:
    package, true = made(client, base, formats=["land_obj", "land_stl"], up=up, step=2), ground(client, base)
    high = {"z": 2, "y": 1}[up]
    for key in ("obj", "stl"):
        found = _scene(body(package, f"land_{key}"), key)
        top = found.vertices[np.argmax(found.vertices[:, high])]
        # As the manifest says: its matrix by east, north and up.
        (told,) = package[1][f"land_{key}"]
        assert top == pytest.approx(np.array(told["matrix"]) @ (*POST, true.max()), abs=1e-3)
        assert top[1 if up == "z" else 2] == pytest.approx(POST[1] if up == "z" else -POST[1])
    shut = trimesh.load(io.BytesIO(body(package, "land_stl")), file_type="stl")
    assert shut.is_watertight
    assert shut.volume > 150 * 100 * 5 * 0.9
    open_ = _scene(body(package, "land_obj"), "obj")
    assert open_.face_normals[:, high].min() > 0


def test_rows_keep_to_the_schemas_that_go_along(client: TestClient, base: str) -> None:
    told = json.loads(made(client, base, "server")[0].read("rows_json.json"))
    assert {"things", "lamps", "water"} <= set(told["rows"])
    for name, rows in told["rows"].items():
        check = validator_for(told["schemas"][name])
        for row in rows.values():
            assert check.is_valid(row), (name, row, next(check.iter_errors(row)).message)


def test_the_same_world_gives_the_same_bytes_and_only_some_are_kept(client: TestClient, base: str) -> None:
    first = made(client, base, "engine")[0].fp.getvalue()  # type: ignore[union-attr]
    again = made(client, base, "engine")[0].fp.getvalue()  # type: ignore[union-attr]
    assert first == again
    for elevation in range(6):
        client.post(f"{base}/levels", json={"name": "Quay", "elevation_m": elevation})
        made(client, base, "server")
    kept = client.get(f"{base}/packages").json()
    assert [one["delivery"] for one in kept].count("server") == 5
    assert [one["key"] for one in kept if not one["stale"]] == [kept[0]["key"]]
    engine = next(one["key"] for one in kept if one["delivery"] == "engine")
    since = client.get(f"{base}/packages/{engine}/since").json()
    assert (set(since["rows"]), since["layers"], len(since["words"])) == ({"levels"}, {}, 6)
    part = client.get(f"{base}/packages/{engine}.zip", headers={"range": "bytes=0-3"})
    assert (part.status_code, part.content) == (206, b"PK\x03\x04")
    assert client.get(f"{base}/packages/{engine}/files/manifest.json").json()["delivery"]["chunk"] == 513
    assert [client.get(f"{base}/packages/{key}.zip").status_code for key in ("engine-r999", "nothing-r1")] == [404, 404]
    client.put(f"{base}/deliveries/own", json={"name": "Own", "formats": ["heights_npy"], "keep": 1})
    for _ in range(2):
        made(client, base, "own")
        client.post(f"{base}/levels", json={"name": "Quay", "elevation_m": 9})
    assert [one["delivery"] for one in client.get(f"{base}/packages").json()].count("own") == 1


def test_a_box_of_the_land_by_itself(client: TestClient, base: str) -> None:
    tract, true = client.get(base).json()["tracts"][0]["id"], ground(client, base)
    box = "x0=120&y0=60&x1=150&y1=90"
    with MemoryFile(client.get(f"/api/lands/{tract}/heights.tif?{box}").content) as file, file.open() as data:
        assert np.array_equal(data.read(1), true[10:41, 120:151])
        assert data.xy(0, 0) == (120, 90)
    land = _scene(client.get(f"/api/lands/{tract}/land.glb?{box}&step=2").content, "glb").geometry["ground"]
    assert land.vertices[:, (0, 2)].min(axis=0).tolist() + land.vertices[:, (0, 2)].max(axis=0).tolist() == [
        120,
        -90,
        150,
        -60,
    ]
    assert client.get(f"/api/lands/{tract}/land.glb?x0=90&x1=10").status_code == 422
    assert client.get(f"/api/lands/{tract}/land.glb?step=3").status_code == 422


def test_a_sheet_is_well_formed_at_its_scale_and_says_what_it_is(client: TestClient, base: str) -> None:
    tract = client.get(base).json()["tracts"][0]["id"]
    client.post(f"{base}/things", json={"sort": "start", "name": "Fen & <yard>", "x": 75, "y": 50, "team": 1})
    answer = client.get(f"/api/lands/{tract}/sheet.svg?scale=1000&paper=A4")
    svg = ElementTree.fromstring(answer.content)
    # ISO 216: A4 is 210 mm by 297 mm; 150 m at 1 : 1,000 are 150 mm.
    assert (svg.get("width"), svg.get("height"), answer.headers["X-Pages"]) == ("297mm", "210mm", "1")
    image = svg.find("{*}image")
    assert image is not None
    assert (float(image.get("width", 0)), float(image.get("height", 0))) == (150, 100)
    words = [one.text for one in svg.iter("{http://www.w3.org/2000/svg}text")]
    assert {"Fen & <yard>", "metres · 1 : 1,000"} <= set(words)
    # Half-way along the map lies what lies half-way along the land.
    (dot,) = svg.iter("{http://www.w3.org/2000/svg}circle")
    assert (float(dot.get("cx", 0)), float(dot.get("cy", 0))) == (10 + 75, 24 + 50)
    pages = client.get(f"/api/lands/{tract}/sheet.svg?scale=400&page=2")
    assert pages.headers["X-Pages"] == "4"
    assert client.get(f"/api/lands/{tract}/sheet.svg?scale=400&page=5").status_code == 422


REFUSED: tuple[tuple[dict[str, Any], str], ...] = (
    ({"formats": []}, "at least one format"),
    ({"formats": ["heights_npy"], "lowest_m": 5}, "both a lowest"),
    ({"formats": ["heights_npy"], "lowest_m": 5, "highest_m": 5}, "above the lowest"),
    ({"formats": ["parchment"]}, "heights_npy"),
    ({"formats": ["heights_npy"], "chunk": 100}, "129"),
)


@pytest.mark.parametrize(("said", "words"), REFUSED)
def test_what_cannot_be_a_delivery_is_refused_in_words(
    client: TestClient, base: str, said: dict[str, Any], words: str
) -> None:  # fmt: skip
    answer = client.put(f"{base}/deliveries/own", json={"name": "Own", **said})
    assert (answer.status_code, words in answer.text) == (422, True), answer.text


def test_a_delivery_waits_for_its_findings_and_says_what_is_lost(client: TestClient, base: str) -> None:
    assert {key for one in SHIPPED.values() for key in one.formats} <= set(FORMATS)
    assert set(FORMATS) == set(get_args(FormatKey))
    told = client.get(f"{base}/deliveries/engine/summary").json()
    assert "steps of" in told["files"][0]["loses"]
    client.put(f"{base}/deliveries/own", json={"name": "Own", "formats": ["heights_npy"], "must_be_empty": "all"})
    found = client.get(f"{base}/deliveries/own/summary").json()["kept_from"]
    job = ended(_studio(client).jobs.get(client.post(f"{base}/deliveries/own/make").json()["job"]))
    assert (job.state, found[0] in job.message) == ("failed", True)
    assert client.get(f"{base}/packages").json() == []
    assert client.post(f"{base}/deliveries/nothing/make").status_code == 404
    assert "ships with" in client.put(f"{base}/deliveries/all", json={"name": "Own", "formats": ["heights_npy"]}).text
