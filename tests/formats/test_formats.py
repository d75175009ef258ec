"""Elevation files in and out, hostile ones refused; tiles as bytes."""

import io
import struct
import tempfile
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from fernfield.core.errors import Cancelled, FormatError
from fernfield.formats.asc import asc_lines
from fernfield.formats.png import heights_png_parts
from fernfield.formats.pngbands import PngBands, png_parts
from fernfield.formats.rowfiles import rows_geojson
from fernfield.formats.tables import growth_rows
from fernfield.formats.tileblob import decode_tile, encode_tile
from fernfield.work.worlds.intake import Placing
from tests.core.real_land import heights_png, jacksboro
from tests.files import read_heights

SCALE = Placing(spacing_m=1, lowest_m=0, highest_m=100)


def saved(tmp_path: Path, content: bytes, name: str = "file") -> Path:
    path = tmp_path / name
    path.write_bytes(content)
    return path


def test_an_ascii_grid_goes_in_and_out_unchanged(tmp_path: Path) -> None:
    """Real land, with fractions that only the shortest exact form of a float32 keeps."""
    heights = jacksboro() / np.float32(3)
    text = b"".join(asc_lines(iter(np.array_split(heights, 5)), *heights.shape, 90.0))
    found, plan = read_heights(saved(tmp_path, text))
    assert plan.spacing_m == 90
    assert found.tobytes() == heights.tobytes()
    again = b"".join(asc_lines(iter([found]), *heights.shape, 90.0))
    assert again == text


def test_a_16_bit_png_keeps_elevations_to_half_a_step(tmp_path: Path) -> None:
    heights = jacksboro()
    low, high = float(heights.min()), float(heights.max())
    path = saved(tmp_path, heights_png(heights, low, high))
    back, _ = read_heights(path, placing=Placing(spacing_m=1, lowest_m=low, highest_m=high))
    step = (high - low) / 65_535
    assert np.abs(back - heights).max() <= step / 2 + 1e-4
    # An independent reader sees the same samples, north up.
    grey = np.asarray(Image.open(path))
    assert grey.dtype == np.uint16
    assert grey[0, 0] == round((float(heights[0, 0]) - low) / step)


def test_heights_written_by_bands_are_what_pillow_reads(tmp_path: Path) -> None:
    heights = jacksboro()
    low, high = float(heights.min()), float(heights.max())
    path = tmp_path / "bands.png"
    path.write_bytes(b"".join(heights_png_parts(np.array_split(heights, 7), *heights.shape, low, high)))
    grey = np.asarray(Image.open(path))
    assert grey.dtype == np.uint16
    step = (high - low) / 65_535
    assert np.abs(low + grey * step - heights).max() <= step / 2 + 1e-4
    scale = Placing(spacing_m=1, lowest_m=low, highest_m=high)
    theirs = saved(tmp_path, heights_png(heights, low, high))
    assert read_heights(path, placing=scale)[0].tobytes() == read_heights(theirs, placing=scale)[0].tobytes()


@given(st.integers(1, 30), st.integers(1, 30), st.sampled_from([np.uint8, np.uint16]), st.integers(1, 5))
@settings(max_examples=40, deadline=None)
def test_any_picture_by_bands_comes_back(rows: int, cols: int, dtype: type, parts: int) -> None:
    samples = np.random.default_rng(rows * 99 + cols).integers(
        0, np.iinfo(dtype).max, (rows, cols), dtype, endpoint=True
    )
    text = b"".join(png_parts(np.array_split(samples, parts), rows, cols, dtype))
    assert (np.asarray(Image.open(io.BytesIO(text))) == samples).all()


def test_bands_that_do_not_make_the_picture_are_refused() -> None:
    picture = PngBands(4, 3, np.uint8)
    picture.add(np.zeros((2, 3), np.uint8))
    with pytest.raises(ValueError, match="4 rows were announced, 2 came"):
        picture.end()
    for shape in ((1, 4), (3, 3)):
        with pytest.raises(ValueError, match="4 rows of 3 samples"):
            picture.add(np.zeros(shape, np.uint8))


@pytest.mark.parametrize("kind", ["png", "asc"])
def test_reading_tells_how_far_it_is_and_stops_when_asked(tmp_path: Path, kind: str) -> None:
    heights = np.random.default_rng(1).normal(0, 9, (900, 800)).astype(np.float32)
    content = heights_png(heights, -60, 60) if kind == "png" else b"".join(asc_lines(iter([heights]), 900, 800, 1.0))
    path = saved(tmp_path, content)
    scale = SCALE if kind == "png" else Placing()
    told: list[float] = []
    read_heights(path, placing=scale, say=lambda done, _words: told.append(done))
    assert len(told) > 4
    assert max(told) <= 1

    def stop(done: float, _words: str) -> None:
        if done > 0.3:
            raise Cancelled("stop")

    with pytest.raises(Cancelled):
        read_heights(path, placing=scale, say=stop)
    assert not path.with_suffix(".samples").exists()


def test_a_grid_from_elsewhere_is_read(tmp_path: Path) -> None:
    """Corner or centre, capitals, wrapped lines, signs and exponents, and a nodata value that is not used."""
    head = b"NCOLS 3\r\nNROWS 2\r\nXLLCORNER 100.5\r\nYLLCORNER -3\r\nCELLSIZE 2.5\r\nNODATA_VALUE -9999\r\n"
    text = head + b"1 2.5\r\n-3e1 4\r\n+5 6\r\n"
    found, plan = read_heights(saved(tmp_path, text))
    assert plan.spacing_m == 2.5
    assert found.tolist() == [[1, 2.5, -30], [4, 5, 6]]


HEAD = b"ncols 3\nnrows 2\ncellsize 1\nnodata_value -1\n"


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "empty"),
        (b"GIF89a....", "must be one of"),
        (b"ncols 3\nnrows 2\n1 2 3 4 5 6\n", "must have cellsize"),
        (HEAD + b"1 2 3 4 5\n", "cut short: 5 of 6"),
        (HEAD + b"1 2 3 4 5 6 7\n", "more than the 6"),
        (HEAD + b"1 2 three 4 5 6\n", "not a number"),
        (HEAD + b"1 2 3 4 5 -1\n", "1 of 6 posts have no elevation"),
        (HEAD + b"1 2 3 4 5 nan\n", "1 of 6 posts have no elevation"),
        (HEAD + b"-1 -1 -1 -1 nan -1\n", "no post of the file has an elevation"),
        (HEAD + b"1 2 3 4 5 1e30\n", "must lie within -12000 to 12000 m"),
        (b"ncols 1e9\nnrows 1e9\ncellsize 1\n1 2 3\n", "posts on each side"),
        (b"ncols 8000\nnrows 8000\ncellsize 1\n1 2 3\n", "do not fit in"),
        (b"ncols -3\nnrows 2\ncellsize 1\n1\n", "posts on each side"),
        (b"ncols 3.5\nnrows 2\ncellsize 1\n1\n", "whole numbers"),
        (b"ncols 3\nnrows 2\ncellsize 0\n1 2 3 4 5 6\n", "above 0, not 0"),
        (b"ncols three\nnrows 2\n", "must be a number"),
        (b"ncols 3\nwidth 2\n", "not known"),
        (HEAD + b"\x00\xff" * 50, "not a number"),
    ],
)
def test_a_bad_grid_is_refused_with_what_is_wrong(tmp_path: Path, content: bytes, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        read_heights(saved(tmp_path, content))
    assert not (tmp_path / "file.samples").exists()


def png(width: int, height: int, depth: int = 16, colour: int = 0, data: bytes = b"") -> bytes:
    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    header = struct.pack(">IIBBBBB", width, height, depth, colour, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(data)) + chunk(b"IEND", b"")


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (png(3, 3, 4), "grey of 8 or 16 bits, not 4-bit grey"),
        (png(3, 3, 8, 3), "not 8-bit with a palette"),
        (png(3, 3, 8, 2, b"".join(b"\0" + bytes([1, 2, 3] * 3) for _ in range(3))), "red, green and blue differ"),
        (png(2_000_000_000, 2_000_000_000), "posts on each side"),
        (png(17_000, 17_000), "posts on each side, not 17000 wide"),
        (png(64, 64, data=b"\x00" * 40), "damaged or cut short"),
        (png(64, 64, data=b"\x00" * 64 * 129 + b"more"), "more samples than its header says"),
        (png(64, 64, data=b"\x07" * 64 * 129), "a filter that there is not"),
        (png(64, 64)[:20], "cut short"),
        (png(64, 64)[:40], "damaged or cut short"),
        (png(8, 8, data=b"\x00" * 8 * 17).replace(b"IDAT", b"IDAX"), "damaged"),
        (
            png(8, 8, data=b"\x00" * 8 * 17).replace(b"\x00\x08\x10\x00\x00\x00\x00", b"\x00\x08\x10\x00\x00\x00\x01"),
            "must not be interlaced",
        ),
    ],
)
def test_a_bad_png_is_refused_with_what_is_wrong(tmp_path: Path, content: bytes, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        read_heights(saved(tmp_path, content), placing=SCALE)


def test_a_png_needs_its_scale(tmp_path: Path) -> None:
    good = saved(tmp_path, heights_png(np.eye(4, dtype=np.float32), 0, 1))
    for fields, field in (
        ({"spacing_m": 1, "highest_m": 5}, "lowest_m"),
        ({"spacing_m": 1, "lowest_m": 0}, "highest_m"),
        ({"lowest_m": 0, "highest_m": 5}, "spacing_m"),
    ):
        with pytest.raises(FormatError) as caught:
            read_heights(good, placing=Placing(**fields))
        assert caught.value.field == field
    with pytest.raises(ValueError, match="lowest_m must be below highest_m"):
        Placing(lowest_m=5, highest_m=0)


@given(st.integers(2, 40), st.integers(2, 40), st.sampled_from(["L", "I;16", "LA", "RGB"]), st.integers(0, 2**31))
@settings(max_examples=40, deadline=None)
def test_any_grey_png_is_read_as_pillow_reads_it(rows: int, cols: int, mode: str, seed: int) -> None:
    """Pillow (an independent writer) chooses the filters; both readers must see the same samples."""
    rng = np.random.default_rng(seed)
    deep = mode == "I;16"
    grey = (rng.normal(0, 9, (rows, cols)).cumsum(axis=1) + 120).clip(0, 255)
    samples = (grey * 257 if deep else grey).astype(np.uint16 if deep else np.uint8)
    alpha = np.full(samples.shape, 255, np.uint8)
    layers = {"LA": [samples, alpha], "RGB": [samples] * 3}.get(mode)
    out = io.BytesIO()
    Image.fromarray(samples if layers is None else np.stack(layers, axis=-1)).save(out, "PNG")
    with tempfile.TemporaryDirectory() as folder:
        path = saved(Path(folder), out.getvalue())
        top = 6553.5 if deep else 25.5
        found, _ = read_heights(path, placing=Placing(spacing_m=1, lowest_m=0, highest_m=top))
    assert (np.rint(found * 10) == samples).all()


@given(st.integers(1, 40), st.integers(1, 40), st.sampled_from(["<f4", "<u2", "<u4"]), st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_tiles_come_back_to_the_last_bit(rows: int, cols: int, dtype: str, seed: int) -> None:
    raw = np.random.default_rng(seed).integers(0, 256, rows * cols * np.dtype(dtype).itemsize, np.uint8)
    values = np.frombuffer(raw.tobytes(), dtype).reshape(rows, cols)
    assert decode_tile(encode_tile(values)).tobytes() == values.tobytes()


def test_a_damaged_tile_is_not_taken_for_ground() -> None:
    blob = encode_tile(np.arange(100, dtype=np.float32).reshape(10, 10))
    for bad in (b"", b"xx" + blob[2:], blob[:-9], blob[:8] + b"\x00" * 20, b"F1\x09" + blob[3:]):
        with pytest.raises(FormatError):
            decode_tile(bad)


def test_growth_and_sites_are_what_their_readers_expect() -> None:
    import csv
    import json

    import geojson

    rows = growth_rows([["carr", "alder", 1.5, 2, 3, 1, 90, 0, 0]], header=True)
    assert next(iter(csv.DictReader(io.StringIO(rows.decode()))))["y_m"] == "2"
    row = {"key": "a", "x": 1.0, "y": 2.0, "z": 3.0, "name": 'Gate "x", <b>', "team": None}
    text = rows_geojson([row], {"x": "east", "y": "north"})
    found = geojson.loads(text)
    assert found.is_valid
    assert found["features"][0]["geometry"]["coordinates"] == [1.0, 2.0, 3.0]
    assert json.loads(text)["features"][0]["properties"] == {"name": 'Gate "x", <b>', "team": None}


def test_a_tile_of_a_single_post_can_be_written_to() -> None:
    """The corner tile of 1,025 posts a side: one number, of which no copy would be made by itself."""
    tile = decode_tile(encode_tile(np.full((1, 1), 3.5, np.float32)))
    tile[0, 0] = 4
    assert tile[0, 0] == 4
