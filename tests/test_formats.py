"""Elevation files in and out, hostile ones refused; tiles as bytes."""

import io
import struct
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from fernfield.core.errors import Cancelled, FormatError
from fernfield.formats.asc import asc_lines, read_asc
from fernfield.formats.elevation import Wanted, read_elevation
from fernfield.formats.png16 import heights_png_parts, read_png
from fernfield.formats.pngbands import PngBands, png_parts
from fernfield.formats.tables import growth_rows, sites_geojson
from fernfield.formats.tileblob import decode_tile, encode_tile
from tests.core.real_land import heights_png, jacksboro

SCALE = Wanted(spacing_m=1, lowest_m=0, highest_m=100)


def saved(tmp_path: Path, content: bytes, name: str = "file") -> Path:
    path = tmp_path / name
    path.write_bytes(content)
    return path


def test_an_ascii_grid_goes_in_and_out_unchanged(tmp_path: Path) -> None:
    """Real land, with fractions that only the shortest exact form of a float32 keeps."""
    heights = jacksboro() / np.float32(3)
    text = b"".join(asc_lines(iter(np.array_split(heights, 5)), *heights.shape, 90.0))
    grid = read_asc(saved(tmp_path, text))
    assert grid.spacing_m == 90
    assert grid.heights.tobytes() == heights.tobytes()
    again = b"".join(asc_lines(iter([grid.heights]), *heights.shape, 90.0))
    assert again == text


def test_a_16_bit_png_keeps_elevations_to_half_a_step(tmp_path: Path) -> None:
    heights = jacksboro()
    low, high = float(heights.min()), float(heights.max())
    path = saved(tmp_path, heights_png(heights, low, high))
    back = read_png(path, low, high)
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
    assert (
        read_png(path, low, high).tobytes()
        == read_png(saved(tmp_path, heights_png(heights, low, high)), low, high).tobytes()
    )


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
    told: list[float] = []
    read_elevation(path, SCALE, told.append)
    assert len(told) > 2
    assert told == sorted(told)
    assert told[-1] == 1

    def stop(done: float) -> None:
        raise Cancelled("stop")

    with pytest.raises(Cancelled):
        read_elevation(path, SCALE, stop)


def test_a_grid_from_elsewhere_is_read(tmp_path: Path) -> None:
    """Corner or centre, capitals, wrapped lines, signs and exponents, and a nodata value that is not used."""
    head = b"NCOLS 3\r\nNROWS 2\r\nXLLCORNER 100.5\r\nYLLCORNER -3\r\nCELLSIZE 2.5\r\nNODATA_VALUE -9999\r\n"
    text = head + b"1 2.5\r\n-3e1 4\r\n+5 6\r\n"
    found = read_elevation(saved(tmp_path, text), Wanted())
    assert found.spacing_m == 2.5
    assert found.heights.tolist() == [[1, 2.5, -30], [4, 5, 6]]


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
        (HEAD + b"1 2 3 4 5 -1\n", "1 of 6 have none"),
        (HEAD + b"1 2 3 4 5 nan\n", "1 of 6 have none"),
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
        read_elevation(saved(tmp_path, content), SCALE)


def png(width: int, height: int, depth: int = 16, colour: int = 0, data: bytes = b"") -> bytes:
    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    header = struct.pack(">IIBBBBB", width, height, depth, colour, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", zlib.compress(data)) + chunk(b"IEND", b"")


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (png(3, 3, 8), "16-bit grey, not 8-bit grey"),
        (png(3, 3, 16, 2), "16-bit grey, not 16-bit colour"),
        (png(2_000_000_000, 2_000_000_000), "posts on each side"),
        (png(9000, 9000), "posts on each side, not 9000 wide"),
        (png(64, 64, data=b"\x00" * 40), "damaged or cut short"),
        (png(64, 64)[:20], "cut short"),
        (png(64, 64)[:40], "damaged or cut short"),
    ],
)
def test_a_bad_png_is_refused_with_what_is_wrong(tmp_path: Path, content: bytes, words: str) -> None:
    with pytest.raises(FormatError, match=words):
        read_elevation(saved(tmp_path, content), SCALE)


def test_a_png_needs_its_scale(tmp_path: Path) -> None:
    good = saved(tmp_path, heights_png(np.eye(4, dtype=np.float32), 0, 1))
    for wanted, field in (
        (Wanted(1, None, 5), "lowest_m"),
        (Wanted(1, 0, None), "highest_m"),
        (Wanted(None, 0, 5), "spacing_m"),
        (Wanted(1, 5, 0), "lowest_m"),
    ):
        with pytest.raises(FormatError) as caught:
            read_elevation(good, wanted)
        assert caught.value.field == field


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

    rows = growth_rows([["alder", 1.5, 2, 3, 1, 90, 0, 0]], header=True)
    assert next(iter(csv.DictReader(io.StringIO(rows.decode()))))["y_m"] == "2"
    text = sites_geojson([{"id": "a", "x": 1.0, "y": 2.0, "z": 3.0, "name": 'Gate "x", <b>', "team": None}])
    found = geojson.loads(text)
    assert found.is_valid
    assert found["features"][0]["geometry"]["coordinates"] == [1.0, 2.0, 3.0]
    assert json.loads(text)["features"][0]["properties"] == {"name": 'Gate "x", <b>', "team": None}


def test_a_tile_of_a_single_post_can_be_written_to() -> None:
    """The corner tile of 1,025 posts a side: one number, of which no copy would be made by itself."""
    tile = decode_tile(encode_tile(np.full((1, 1), 3.5, np.float32)))
    tile[0, 0] = 4
    assert tile[0, 0] == 4
