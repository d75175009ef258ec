"""Elevation files of every format: the same real land from each, the right way up, and hostile ones refused."""

from __future__ import annotations

import json
import resource
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import matplotlib.cbook
import numpy as np
import pytest
import rasterio
import tifffile
import trimesh
from PIL import Image
from rasterio.transform import Affine, from_origin
from scipy import ndimage

from fernfield.core.errors import FormatError, InvalidInput
from fernfield.core.grid import FloatArray
from fernfield.core.intake.steps import unstepped
from fernfield.core.pushpull import filled_strips, pulled, tight
from fernfield.formats.asc import asc_lines
from fernfield.formats.source import Said
from fernfield.formats.tiff import metres_of_degrees
from fernfield.work.worlds.intake import Placing, coarse, read_samples
from tests.core.real_land import heights_png, jacksboro
from tests.files import read_heights

SPACING = 30.0


def marked() -> FloatArray:
    """Real land with a mark in its north-west corner and another halfway down the east edge."""
    land = jacksboro()[:120, :150].copy()
    land[0, 0] = 2500
    land[60, -1] = 2400
    return land


def surface(land: FloatArray, up: str) -> trimesh.Trimesh:
    """The land as triangles, by numbers of its own: x east, and y north or up."""
    rows, cols = land.shape
    ys, xs = np.mgrid[0:rows, 0:cols]
    east, north, z = xs.ravel() * SPACING, (rows - 1 - ys.ravel()) * SPACING, land.ravel().astype(float)
    points = np.column_stack([east, north, z] if up == "z" else [east, z, -north])
    i = (ys[:-1, :-1] * cols + xs[:-1, :-1]).ravel()
    faces = np.concatenate([np.column_stack([i, i + cols, i + 1]), np.column_stack([i + 1, i + cols, i + cols + 1])])
    return trimesh.Trimesh(points, faces, process=False)


def write_geotiff(path: Path, land: FloatArray, **fields: Any) -> None:
    """By rasterio, which is GDAL's writer."""
    rows, cols = land.shape
    profile = {
        "driver": "GTiff", "height": rows, "width": cols, "count": 1, "dtype": land.dtype.name, "crs": "EPSG:32616",
        "transform": from_origin(700_000, 4_000_000, SPACING, SPACING), **fields,
    }  # fmt: skip
    with rasterio.open(path, "w", **profile) as file:
        file.write(land, 1)


def raw(land: FloatArray, dtype: str) -> Callable[[Path], Any]:
    return lambda path: path.write_bytes(land.astype(dtype).tobytes())


def said(rows: int, cols: int, sample: str, order: str) -> Said:
    return Said("raw", rows, cols, sample, order)


LAND = marked()
WHOLE = {"spacing_m": SPACING}
RANGE = {**WHOLE, "lowest_m": 0.0, "highest_m": 6553.5}
"""A step of 16 bits is a tenth of a metre."""

CASES: dict[str, tuple[Callable[[Path], Any], Said, dict[str, Any], float]] = {
    "png 16": (lambda p: p.write_bytes(heights_png(LAND, 0, 6553.5)), Said(), RANGE, 0.051),
    "png 8": (lambda p: Image.fromarray(np.rint(LAND / 10).astype(np.uint8)).save(p, "PNG"), Said(),
              {**WHOLE, "lowest_m": 0, "highest_m": 2550}, 5.001),
    "tiff f32 lzw tiles": (lambda p: tifffile.imwrite(p, LAND, tile=(64, 32), compression="lzw"), Said(), WHOLE, 0),
    "tiff f64 big-endian": (lambda p: tifffile.imwrite(p, LAND.astype(">f8"), byteorder=">"), Said(), WHOLE, 0),
    "tiff i16 deflate predictor": (lambda p: tifffile.imwrite(p, LAND.astype("i2"), compression="zlib", predictor=2,
                                   rowsperstrip=7), Said(), WHOLE, 0),
    "tiff u16 in a range": (lambda p: tifffile.imwrite(p, np.rint(LAND * 10).astype("u2")), Said(), RANGE, 0.001),
    "bigtiff": (lambda p: tifffile.imwrite(p, LAND, bigtiff=True), Said(), WHOLE, 0),
    "geotiff": (lambda p: write_geotiff(p, LAND, compress="deflate", tiled=True, blockxsize=64, blockysize=64),
                Said(), {}, 0),
    "geotiff i16": (lambda p: write_geotiff(p, LAND.astype("i2"), compress="lzw"), Said(), {}, 0),
    "geotiff zstd": (lambda p: write_geotiff(p, LAND, compress="zstd", predictor=3), Said(), {}, 0),
    "asc": (lambda p: p.write_bytes(b"".join(asc_lines(iter([LAND]), *LAND.shape, SPACING))), Said(), {}, 0),
    "npy f32": (lambda p: np.save(p.open("wb"), LAND), Said(), WHOLE, 0),
    "npy f64 fortran": (lambda p: np.save(p.open("wb"), np.asfortranarray(LAND.astype(float))), Said(), WHOLE, 0),
    "npy i32": (lambda p: np.save(p.open("wb"), LAND.astype("i4")), Said(), WHOLE, 0),
    "raw f32 little": (raw(LAND, "<f4"), said(*LAND.shape, "f32", "little"), WHOLE, 0),
    "raw f32 big": (raw(LAND, ">f4"), said(*LAND.shape, "f32", "big"), WHOLE, 0),
    "raw i16 big": (raw(LAND, ">i2"), said(*LAND.shape, "i16", "big"), WHOLE, 0),
    "raw u16 little": (raw(LAND * 10, "<u2"), said(*LAND.shape, "u16", "little"), RANGE, 0.1),
    "obj y up": (lambda p: p.write_text(surface(LAND, "y").export(file_type="obj", digits=6)), Said(), {}, 0.001),
    "obj z up": (lambda p: p.write_text(surface(LAND, "z").export(file_type="obj", digits=6)), Said(up="z"), {}, 0.001),
    "glb": (lambda p: p.write_bytes(surface(LAND, "y").export(file_type="glb")), Said(), {}, 0.001),
    "gltf embedded": (lambda p: p.write_bytes(embedded(surface(LAND, "y"))), Said(), {}, 0.001),
}  # fmt: skip


def embedded(mesh: trimesh.Trimesh) -> bytes:
    """A glTF in text with its points inside."""
    import base64

    files = mesh.export(file_type="gltf")
    tree = json.loads(files["model.gltf"])
    for buffer in tree["buffers"]:
        buffer["uri"] = "data:application/octet-stream;base64," + base64.b64encode(files[buffer["uri"]]).decode()
    return json.dumps(tree).encode()


@pytest.mark.parametrize("name", CASES)
def test_real_land_comes_in_alike_from_every_format(tmp_path: Path, name: str) -> None:
    """matplotlib's sample elevation grid (USGS), written by independent libraries where they write the format."""
    write, how, fields, within = CASES[name]
    path = tmp_path / "file"
    write(path)
    found, plan = read_heights(path, how, Placing(**fields))
    assert found.shape == LAND.shape
    assert plan.spacing_m == pytest.approx(SPACING, rel=1e-9)
    assert np.abs(found - LAND).max() <= within
    assert np.unravel_index(found.argmax(), found.shape) == (0, 0)


def test_what_a_file_is_said_to_be_is_checked(tmp_path: Path) -> None:
    path = tmp_path / "land.png"
    np.save(path.open("wb"), LAND)
    assert read_heights(path, placing=Placing(spacing_m=1))[0].shape == LAND.shape
    with pytest.raises(FormatError, match="said to be PNG"):
        read_heights(path, Said(format="png"))
    with pytest.raises(FormatError, match="format must be one of png, tiff"):
        read_heights(path, Said(format="docx"))


# Georeference


def test_a_geotiff_says_its_spacing_its_units_and_which_way_is_north(tmp_path: Path) -> None:
    path = tmp_path / "g.tif"
    write_geotiff(path, LAND[::-1].copy(), transform=Affine(25, 0, 0, 0, 25, 0))
    found, plan = read_heights(path)
    assert plan.spacing_m == 25
    assert np.array_equal(found, LAND), "rows that run north are turned about"
    # EPSG 2264 is in US survey feet (1200/3937 m, from memory).
    write_geotiff(path, LAND, crs="EPSG:2264", transform=from_origin(0, 0, 100, 100))
    assert read_heights(path)[1].spacing_m == pytest.approx(100 * 1200 / 3937)
    write_geotiff(path, LAND, transform=Affine.rotation(20) * Affine.scale(30, -30))
    with pytest.raises(FormatError, match="askew"):
        read_heights(path)


def test_a_scale_without_keys_is_a_spacing_too_and_feet_of_height_become_metres(tmp_path: Path) -> None:
    path = tmp_path / "s.tif"
    scale = [(33550, "d", 3, (12.5, 12.5, 0.0), True), (33922, "d", 6, (0.0, 0.0, 0.0, 5e5, 4e6, 0.0), True)]
    tifffile.imwrite(path, LAND, extratags=scale)
    assert read_heights(path)[1].spacing_m == 12.5
    # A key directory of one key: 4099 (vertical units) is 9002 (foot). (OGC 19-008r4)
    tifffile.imwrite(path, LAND, extratags=[*scale, (34735, "H", 8, (1, 1, 0, 1, 4099, 0, 1, 9002), True)])
    assert np.allclose(read_heights(path)[0], LAND * 0.3048, rtol=1e-6)


def test_degrees_become_metres_and_square_posts(tmp_path: Path) -> None:
    """Lengths of a degree on the ellipsoid: 110,574 m and 111,320 m at the equator, 111,694 and 0 at the pole
    (common tables of WGS 84, from memory)."""
    assert metres_of_degrees(0) == pytest.approx((110_574.3, 111_319.5), abs=0.1)
    assert metres_of_degrees(90) == pytest.approx((111_693.9, 0.0), abs=0.1)
    path = tmp_path / "g.tif"
    second = 1 / 3600
    write_geotiff(path, LAND, crs="EPSG:4326", transform=from_origin(-84.4, 36.5, second, second))
    found, plan = read_heights(path)
    north, east = (second * metres for metres in metres_of_degrees(36.5 - 60 * second))
    assert plan.spacing_m == pytest.approx(east, rel=1e-6)
    assert found.shape == (int(119 * north / east) + 1, 150)
    assert found[0, 0] == 2500
    middle = ndimage.map_coordinates(LAND, [[60 * east / north], [75]], order=1)[0]
    assert found[60, 75] == pytest.approx(middle, abs=0.6), "between the posts as SciPy has it"


def test_nodata_is_filled_when_asked_and_only_then(tmp_path: Path) -> None:
    land = LAND.copy()
    hole = (slice(40, 80), slice(50, 90))
    land[hole] = -9999
    path = tmp_path / "g.tif"
    write_geotiff(path, land, nodata=-9999)
    with pytest.raises(FormatError, match="1600 of 18000 posts have no elevation"):
        read_heights(path)
    found, _ = read_heights(path, placing=Placing(fill="around"))
    known = np.ones(land.shape, bool)
    known[hole] = False
    assert np.array_equal(found[known], LAND[known])
    rim = LAND[39:81, 49:91]
    assert rim.min() <= found[hole].min()
    assert found[hole].max() <= rim.max()
    # No step at the edge of the hole beyond what the land itself has.
    assert np.abs(found[40, 50:90] - found[39, 50:90]).mean() < 2 * np.abs(LAND[40, 50:90] - LAND[39, 50:90]).mean()
    low, _ = read_heights(path, placing=Placing(fill="lowest"))
    assert (low[hole] == LAND[known].min()).all()
    # A file that does not name its nodata: the person does.
    np.save((tmp_path / "n").open("wb"), np.where(known, LAND, np.float32(-32_767)))
    with pytest.raises(FormatError, match="say which sample is nodata"):
        read_heights(tmp_path / "n", placing=Placing(spacing_m=1))
    again, _ = read_heights(tmp_path / "n", Said(nodata=-32_767), Placing(spacing_m=1, fill="around"))
    assert np.array_equal(again, found)


def test_a_large_grid_is_filled_strip_by_strip_as_if_at_once() -> None:
    rng = np.random.default_rng(3)
    land = ndimage.gaussian_filter(rng.normal(0, 900, (700, 333)), 20).astype(np.float32)
    holes = land.copy()
    holes[100:460, 60:300] = np.nan
    holes[rng.random(land.shape) < 0.2] = np.nan
    known = ~np.isnan(holes)
    whole = tight(pulled(np.nan_to_num(holes), known.astype(np.float32)), ~known)
    strips = np.concatenate([values for _, values in filled_strips(lambda a, b: holes[a:b].copy(), 700)])
    assert np.isfinite(strips).all()
    # Odd sizes are halved with the last row alone, so the two agree away from the far corner to the last bit or so.
    assert np.abs(strips - whole)[:640, :256].max() < 1e-3
    assert np.abs(strips - land).mean() < 0.4 * np.abs(land - land.mean()).mean()


# Cropping, turning, smoothing


def test_crop_turn_and_flip_are_what_numpy_makes_of_them(tmp_path: Path) -> None:
    path = tmp_path / "n"
    np.save(path.open("wb"), LAND)
    for turn in (0, 90, 180, 270):
        for flip in (False, True):
            placing = Placing(spacing_m=2, crop=(10, 20, 100, 140), turn_deg=turn, flip=flip)
            found, plan = read_heights(path, placing=placing)
            wanted = LAND[10:100, 20:140]
            wanted = np.rot90(wanted[:, ::-1] if flip else wanted, -turn // 90)
            assert np.array_equal(found, wanted), (turn, flip)
            assert (plan.rows, plan.cols) == wanted.shape
    for crop in ((0, 0, 121, 10), (5, 5, 5, 9), (-1, 0, 9, 9), (0, 0, 1, 9)):
        with pytest.raises(InvalidInput, match="crop must be row0, col0, row1, col1 within 120 rows"):
            read_heights(path, placing=Placing(spacing_m=2, crop=crop))


def test_steps_are_smoothed_by_no_more_than_half_a_step(tmp_path: Path) -> None:
    true = ndimage.gaussian_filter(np.random.default_rng(1).normal(0, 4000, (400, 300)), 30).astype(np.float32)
    true = (true - true.min()) / np.ptp(true) * 255
    steps = np.rint(true).astype(np.uint8)
    path = tmp_path / "p"
    Image.fromarray(steps).save(path, "PNG")
    scale = {"spacing_m": 1, "lowest_m": 0, "highest_m": 510}
    rough, plan = read_heights(path, placing=Placing(**scale))
    soft, _ = read_heights(path, placing=Placing(**scale, smooth_steps=True))
    assert plan.step_m == 2
    assert np.abs(soft - rough).max() <= 1.0
    assert np.array_equal(np.rint(soft / 2), steps), "nothing is lost: rounding gives the file again"
    error = np.sqrt(np.mean((soft - 2 * true) ** 2))
    assert error < 0.6 * np.sqrt(np.mean((rough - 2 * true) ** 2))
    flat = np.abs(np.diff(rough, axis=1)) == 0
    assert (np.abs(np.diff(soft, axis=1))[flat] > 0).mean() > 0.9, "terraces have become slopes"
    # A band at a time is the same as all at once.
    assert np.abs(unstepped(steps.astype(np.float32), 1.0) * 2 - soft).max() < 1e-3


def test_a_preview_is_the_land_itself_only_coarser(tmp_path: Path) -> None:
    land = np.tile(LAND, (6, 5))
    np.save((tmp_path / "n").open("wb"), land)
    samples = read_samples(tmp_path / "n", Said(), tmp_path / "s")
    assert sum(samples.counts) == land.size
    assert (samples.lowest, samples.highest) == (land.min(), land.max())
    heights, metres = coarse(samples, Placing(spacing_m=2, turn_deg=90))
    assert metres == 6
    assert np.array_equal(heights, np.rot90(land, -1)[::3, ::3][:, : heights.shape[1]]) or heights.shape == (250, 240)
    assert set(np.unique(heights)) <= set(np.unique(land))


# Surfaces


def test_a_surface_is_sampled_from_above(tmp_path: Path) -> None:
    """A roof of two planes and a floor under it: the highest counts, and outside there is nothing."""
    roof = [(0, 0, 0), (10, 0, 0), (10, 5, 8), (0, 5, 8), (10, 10, 0), (0, 10, 0)]
    text = "".join(f"v {x} {y} {z}\n" for x, y, z in [*roof, (0, 0, -3), (20, 0, -3), (20, 10, -3), (0, 10, -3)])
    text += "f 1 2 3 4\nf 4 3 5 6\nf 7 8 9 10\n"
    path = tmp_path / "roof.obj"
    path.write_text(text)
    found, plan = read_heights(path, Said(up="z", spacing_m=1.0))
    assert found.shape == (11, 21)
    assert plan.spacing_m == 1
    north = 10 - np.arange(11)
    assert np.allclose(found[:, 4], 8 - np.abs(north - 5) * 1.6, atol=1e-5)
    assert (found[:, 12:] == -3).all()
    path.write_text("v 0 0 0\nv 9 0 0\nv 0 9 5\nf 1 2 3\n")
    half, _ = read_heights(path, Said(up="z", spacing_m=1.0), Placing(fill="lowest"))
    with pytest.raises(FormatError, match="45 of 100 posts have no elevation"):
        read_heights(path, Said(up="z", spacing_m=1.0))
    assert np.allclose(np.diag(half[::-1][:5, :5]), np.arange(5) * 5 / 9, atol=1e-5)


# Hostile and broken files


def bad_tiff(**tags: Any) -> bytes:
    """A little TIFF of 4 x 4 with some of its tags made into lies."""
    fields = {
        256: 4,
        257: 4,
        258: 32,
        259: 1,
        262: 1,
        273: 200,
        277: 1,
        278: 4,
        279: 64,
        339: 3,
        **{int(k): v for k, v in tags.items()},
    }
    entries = b"".join(struct.pack("<HHII", tag, 4, 1, value) for tag, value in sorted(fields.items()))
    head = b"II*\\0".replace(b"\\0", b"\0") + struct.pack("<IH", 8, len(fields)) + entries + struct.pack("<I", 0)
    return head.ljust(200, b"\0") + np.arange(16, dtype="<f4").tobytes()


def npy_head(text: str) -> bytes:
    body = text.encode().ljust(118) + b"\n"
    return b"\x93NUMPY\x01\x00" + struct.pack("<H", len(body)) + body


FLOATS = "{{'descr': '<f4', 'fortran_order': False, 'shape': ({}), }}"
GLB = b"glTF" + struct.pack("<II", 2, 28)
HOSTILE: dict[str, tuple[bytes, Said, str]] = {
    "tiff of lies about size": (bad_tiff(**{"256": 2_000_000_000, "257": 2_000_000_000}), Said(), "posts on each side"),
    "tiff that ends early": (bad_tiff()[:220], Said(), "cut short"),
    "tiff with samples beyond its end": (bad_tiff(**{"273": 10_000_000}), Said(), "cut short"),
    "tiff in colour": (bad_tiff(**{"277": 3}), Said(), "one grid of numbers|damaged"),
    "tiff in an unknown packing": (bad_tiff(**{"259": 4242}), Said(), "damaged"),
    "tiff header alone": (b"II*\0\x08\0\0\0", Said(), "damaged"),
    "tiff that points at itself": (b"II*\0\x04\0\0\0" + b"\xff" * 40, Said(), "damaged"),
    "npy with an object": (npy_head("{'descr': '|O', 'fortran_order': False, 'shape': (4, 4), }") + b"\0" * 200, Said(),
                           "two-dimensional numbers"),
    "npy of a thousand million": (npy_head(FLOATS.format("99999, 99999")), Said(),
                                  "posts on each side"),
    "npy cut short": (npy_head(FLOATS.format("9000, 9000")), Said(), "cut short"),
    "npy that runs something": (npy_head("__import__('os').system('touch /tmp/never')"), Said(), "damaged"),
    "npy in three dimensions": (npy_head(FLOATS.format("4, 4, 4")), Said(),
                                "3-dimensional"),
    "raw of another length": (b"\0" * 99, Said("raw", 5, 10, "u16"), "100 bytes; the file has 99"),
    "raw without rows": (b"\0" * 99, Said("raw", None, 10, "u16"), "rows is needed"),
    "raw without a sample": (b"\0" * 99, Said("raw", 5, 10), "one of u16, i16, f32, not None"),
    "raw that is not asked for": (b"\0" * 800, Said(), "must be one of"),
    "obj without faces": (b"v 0 0 0\nv 1 0 0\nv 0 1 0\n", Said(), "surface"),
    "obj with a point too many": (b"v 0 0 0\nv 1 0 0\nv 0 0 1\nf 1 2 9\n", Said(), "surface"),
    "obj of no extent": (b"v 0 0 0\nv 0 5 0\nv 0 9 0\nf 1 2 3\n", Said(), "wide and deep at least"),
    "obj with infinity": (b"v 0 0 0\nv inf 0 0\nv 0 0 1\nf 1 2 3\n", Said(), "surface|finite"),
    "obj of a billion posts": (b"v 0 0 0\nv 99999 0 0\nv 0 0 99999\nf 1 2 3\n", Said(spacing_m=0.5),
                               "posts on each side"),
    "glb cut short": (GLB + b"\0" * 8, Said(), "damaged"),
    "gltf that reads another file": (json.dumps({"asset": {"version": "2.0"}, "buffers": [
        {"uri": "../../../etc/passwd", "byteLength": 4}]}).encode(), Said(), "in another file"),
    "gltf that is no tree": (b'{"asset": ' + b"[" * 5000, Said(), "damaged"),
    "a page": (b"<!doctype html><html>", Said(), "must be one of"),
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_file_is_refused_with_a_reason_and_leaves_nothing(tmp_path: Path, name: str) -> None:
    content, how, words = HOSTILE[name]
    path = tmp_path / "file"
    path.write_bytes(content)
    with pytest.raises(InvalidInput, match=words):
        read_heights(path, how, Placing(spacing_m=1, lowest_m=0, highest_m=9))
    assert [p.name for p in tmp_path.iterdir()] == ["file"]
    assert not Path("/tmp/never").exists()


def test_samples_that_are_nothing_at_all_are_refused(tmp_path: Path) -> None:
    for values in (np.full((9, 9), np.nan), np.full((9, 9), np.inf)):
        np.save((tmp_path / "n").open("wb"), values)
        with pytest.raises(FormatError, match="no post of the file has an elevation"):
            read_heights(tmp_path / "n", placing=Placing(spacing_m=1, fill="around"))
    write_geotiff(tmp_path / "g", np.full((9, 9), -9999, np.float32), nodata=-9999)
    with pytest.raises(FormatError, match="no post"):
        read_heights(tmp_path / "g", placing=Placing(fill="around"))


BOUNDED = """
import resource, sys
from pathlib import Path
import numpy as np
import imagecodecs, tifffile
from fernfield.formats.source import Said
from fernfield.work.worlds.intake import Placing, heights_of, read_samples
path = Path(sys.argv[1])
now = int(next(line for line in open("/proc/self/status") if line.startswith("VmData")).split()[1]) << 10
resource.setrlimit(resource.RLIMIT_DATA, (now + (200 << 20), now + (200 << 20)))
samples = read_samples(path, Said(), path.with_suffix(".samples"))
placing = Placing(spacing_m=1, lowest_m=0, highest_m=900, turn_deg=90) if path.suffix == ".png" else Placing(
    spacing_m=1, fill="around", turn_deg=180)
with heights_of(samples, placing) as (heights, plan):
    assert heights.shape == (8193, 8193)
    print(float(heights[0, 0]), float(heights[-1, -1]))
"""


@pytest.mark.parametrize("kind", ["tif", "png"])
def test_a_large_file_is_read_with_bounded_memory(tmp_path: Path, kind: str) -> None:
    """8,193 posts a side are 256 MiB as float32; no more than 200 MiB may be taken, with room for the libraries."""
    assert resource.RLIMIT_DATA
    row = np.arange(8193, dtype=np.float32)
    land = (row[:, None] + row[None, :]) / 20
    path = tmp_path / f"large.{kind}"
    if kind == "tif":
        land[4000:4100, 5000:5200] = np.nan
        tifffile.imwrite(path, land, tile=(256, 256), compression="zlib", compressionargs={"level": 1})
    else:
        Image.fromarray(np.rint(land / 900 * 65_535).astype(np.uint16)).save(path, compress_level=1)
    del land
    done = subprocess.run([sys.executable, "-c", BOUNDED, str(path)], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-800:]
    first, last = (float(word) for word in done.stdout.split())
    if kind == "tif":
        assert (first, last) == pytest.approx((8192 / 10, 0.0), abs=1e-3)
    else:
        assert (first, last) == pytest.approx((8192 / 20, 8192 / 20), abs=0.02)


def test_land_under_the_sea_comes_in_too(tmp_path: Path) -> None:
    """matplotlib's topobathy.npz: real land and sea floor, with depths below 0."""
    with matplotlib.cbook.get_sample_data("topobathy.npz") as data:
        topo = np.asarray(data["topo"], np.float32)
    np.save((tmp_path / "n").open("wb"), topo)
    found, _ = read_heights(tmp_path / "n", placing=Placing(spacing_m=1000))
    assert np.array_equal(found, topo)
    assert found.min() < 0 < found.max()
