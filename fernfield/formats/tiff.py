"""TIFF and GeoTIFF [1]_ of whole numbers or floats, read segment by segment.

Of a georeference the spacing, the units and which way is north are taken; where on Earth
the land lies is only said in words, since a tract begins at its own corner.

References
----------
.. [1] OGC 19-008r4, GeoTIFF Standard 1.1 (2019)
"""

from __future__ import annotations

import logging
import math
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.raw import mapped_bands
from fernfield.formats.source import Said, Source, as_heights, sample_name

MOST_SEGMENT_BYTES = 512 << 20
"""A strip or tile is unpacked whole. One that is larger than this is refused."""

KINDS = ("u1", "i1", "u2", "i2", "u4", "i4", "f2", "f4", "f8")
PACKINGS = {
    1: "none", 5: "LZW", 8: "deflate", 32773: "PackBits", 32946: "deflate", 34887: "LERC", 34925: "LZMA",
    34712: "JPEG 2000", 33003: "JPEG 2000", 33005: "JPEG 2000", 34933: "PNG", 50000: "Zstandard",
}  # fmt: skip
"""What samples may be packed by (tag 259). Pictures that lose something, JPEG above all, are no elevations."""

SAYS_ITS_SIZE = (34887, 34712, 33003, 33005, 34933)
"""Packings that hold a size of their own, whatever the TIFF says: it is looked at."""

METRES = {9001: 1.0, 9002: 0.3048, 9003: 1200 / 3937}
"""EPSG codes of units of length: metre, foot, US survey foot. [m]"""

LEAST_SPACING, MOST_SPACING = 1e-9, 1e6
"""Of samples, as the file says it."""

PLACING_TAGS = {"ModelPixelScale": 33550, "ModelTiepoint": 33922, "ModelTransformation": 34264}
GDAL_NODATA = 42113
GEOGRAPHIC = 2
"""GTModelTypeGeoKey: degrees of latitude and longitude."""


# What it finds in a damaged file is told to whoever sent it, once.
logging.getLogger("tifffile").setLevel(logging.CRITICAL)


def looks_like_tiff(head: bytes) -> bool:
    return head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")


@dataclass(frozen=True, slots=True)
class _Place:
    """Spacing between rows and between columns [m], whether rows run north, and words."""

    spacing_m: tuple[float, float] | None
    south_up: bool
    about: str


def open_tiff(path: Path, said: Said) -> Source:
    """Look into a TIFF. Raises FormatError for one that is damaged, no single grid of numbers, or too large."""
    import tifffile

    try:
        with tifffile.TiffFile(path) as file:
            page: Any = file.pages[0]
            rows, cols, samples = int(page.imagelength), int(page.imagewidth), int(page.samplesperpixel)
            check_dimensions(rows, cols)
            dtype = page.dtype
            if samples != 1 or dtype is None or dtype.str[1:] not in KINDS:
                kind = "unknown numbers" if dtype is None else str(dtype)
                raise FormatError(f"the TIFF must hold one grid of numbers, not {samples} of {kind}", "file")
            if int(page.compression) not in PACKINGS:
                allowed = ", ".join(sorted({name for name in PACKINGS.values() if name != "none"}))
                words = f"the TIFF is packed by {str(page.compression)[:40]} (damaged, or another packing)"
                raise FormatError(f"{words}: save it unpacked, or packed by one of {allowed}", "file")
            keys = _georeference(page)
            place = _place(keys, rows)
            lift = METRES.get(int(keys.get("VerticalUnitsGeoKey", 9001)), 1.0)
            nodata = said.nodata
            if GDAL_NODATA in page.tags:
                nodata = _number(page.tags[GDAL_NODATA].value, nodata)
            if not page.is_tiled and int(page.rowsperstrip) < 1:
                raise FormatError("the TIFF is damaged: its strips have no rows", "file")
            tile = (int(page.tilelength), int(page.tilewidth)) if page.is_tiled else (int(page.rowsperstrip), cols)
            plain = page.is_contiguous and page.compression == 1 and not page.is_tiled
            if not plain and min(tile[0], rows) * tile[1] * dtype.itemsize > MOST_SEGMENT_BYTES:
                words = f"a strip of the TIFF has {tile[0]} rows: save it in tiles, or in strips of fewer rows"
                raise FormatError(words, "file")
            order = np.dtype(file.byteorder + dtype.str[1:])
            start = int(page.dataoffsets[0]) if plain else 0
            if plain and not 0 < start <= path.stat().st_size - rows * cols * dtype.itemsize:
                raise FormatError("the TIFF is damaged or cut short: it ends inside its samples", "file")
    except FormatError:
        raise
    except Exception as error:  # whatever a damaged file makes of the library
        raise FormatError(f"the TIFF is damaged: {str(error)[:200] or type(error).__name__}", "file") from error

    def bands(step: Step) -> Iterator[FloatArray]:
        found = mapped_bands(path, start, order, rows, cols, nodata, step) if plain else _segments(path, nodata, step)
        for band in found:
            yield band if lift == 1 else (band * lift).astype(np.float32)

    return Source(
        kind=("GeoTIFF" if place.spacing_m or place.about else "TIFF") + f", {dtype}",
        rows=rows,
        cols=cols,
        sample=sample_name(dtype),
        metres=True,
        spacing_m=place.spacing_m,
        south_up=place.south_up,
        about=place.about,
        bands=bands,
    )


def _georeference(page: Any) -> dict[str, Any]:
    """The keys of a GeoTIFF, and its scale, tie point and matrix also where no keys go with them."""
    own = {name: page.tags[code].value for name, code in PLACING_TAGS.items() if code in page.tags}
    return {**own, **(page.geotiff_tags or {})}


def _number(text: Any, otherwise: float | None) -> float | None:
    try:
        return float(str(text).strip("\0 "))
    except ValueError:
        return otherwise


def _segments(path: Path, nodata: float | None, step: Step) -> Iterator[FloatArray]:
    """Unpack strip by strip, or row of tiles by row of tiles."""
    import tifffile

    with tifffile.TiffFile(path) as file:
        page: Any = file.pages[0]
        rows, cols = int(page.imagelength), int(page.imagewidth)
        deep, wide = (
            (int(page.tilelength), int(page.tilewidth)) if page.is_tiled else (min(int(page.rowsperstrip), rows), cols)
        )
        across = math.ceil(cols / wide)
        for first in range(0, rows, deep):
            count = min(deep, rows - first)
            band = np.full((count, cols), np.nan, np.float32)
            for number in range(across):
                index = first // deep * across + number
                left = number * wide
                part = _segment(file.filehandle, page, index, deep, wide)
                if part is not None and (part.shape[0] < count or part.shape[1] < min(wide, cols - left)):
                    raise FormatError("the TIFF is damaged: a strip of it is too small", "file")
                if part is not None:
                    right = min(left + wide, cols)
                    band[:, left:right] = as_heights(part[:count, : right - left], nodata)
                step((first + count * (number + 1) / across) / rows)
            yield band


def _segment(handle: Any, page: Any, index: int, deep: int, wide: int) -> np.ndarray | None:
    """One strip or tile, shape (rows, cols), at most `deep` and `wide`; None where the file leaves it out."""
    import tifffile

    try:
        size = int(page.databytecounts[index])
        if size == 0:
            return None
        handle.seek(int(page.dataoffsets[index]))
        packed = handle.read(size)
        if len(packed) < size:
            raise ValueError("it ends inside its samples")
        if int(page.compression) in SAYS_ITS_SIZE:
            holds = np.shape(tifffile.TIFF.DECOMPRESSORS[page.compression](packed))
            if len(holds) < 2 or holds[0] > deep or holds[1] > wide:
                words = f"a strip of it holds {' by '.join(map(str, holds[1::-1]))} samples, not {wide} by {deep}"
                raise ValueError(words)
        found = page.decode(packed, index)[0]
        return None if found is None else np.asarray(found).reshape(found.shape[-3], found.shape[-2])
    except Exception as error:  # whatever damaged samples make of the library
        words = f"the TIFF is damaged or cut short: {str(error)[:200] or type(error).__name__}"
        raise FormatError(words, "file") from error


def _place(tags: dict[str, Any], rows: int) -> _Place:
    """Spacing and place of a GeoTIFF, from its scale and tie point or from its matrix. [1]_"""
    scale, tie, matrix = tags.get("ModelPixelScale"), tags.get("ModelTiepoint"), tags.get("ModelTransformation")
    if matrix is not None:
        flat = np.asarray(matrix, float).reshape(4, 4)
        if abs(flat[0, 1]) > 1e-9 * abs(flat[0, 0]) or abs(flat[1, 0]) > 1e-9 * abs(flat[1, 1]):
            raise FormatError("the GeoTIFF lies askew: turn it to north up first", "file")
        east, north = abs(float(flat[0, 0])), abs(float(flat[1, 1]))
        south_up = float(flat[1, 1]) > 0
        corner = float(flat[0, 3]), float(flat[1, 3])
    elif scale is not None and len(scale) >= 2:
        east, north = abs(float(scale[0])), abs(float(scale[1]))
        south_up = float(scale[1]) < 0
        corner = (float(tie[3]), float(tie[4])) if tie is not None and len(tie) >= 6 else (0.0, 0.0)
    else:
        return _Place(None, False, "")
    if not (LEAST_SPACING <= east <= MOST_SPACING and LEAST_SPACING <= north <= MOST_SPACING):
        allowed = f"{LEAST_SPACING:g} to {MOST_SPACING:g} metres or degrees"
        raise FormatError(f"the spacing in the GeoTIFF must be {allowed}, not {east:g} and {north:g}", "file")
    if int(tags.get("GTModelTypeGeoKey", 1)) == GEOGRAPHIC:
        middle = corner[1] - north * rows / 2
        deep, wide = metres_of_degrees(middle)
        about = f"in degrees, about latitude {middle:.4f}, longitude {corner[0]:.4f}"
        return _Place((north * deep, east * wide), south_up, about)
    unit = METRES.get(int(tags.get("ProjLinearUnitsGeoKey", 9001)), 1.0)
    about = f"north-west corner at {corner[0] * unit:.1f} east, {corner[1] * unit:.1f} north"
    return _Place((north * unit, east * unit), south_up, about)


def metres_of_degrees(latitude: float) -> tuple[float, float]:
    """Length of a degree along the meridian and along the parallel, on the ellipsoid of WGS 84. [m]

    From the radii of curvature with a = 6,378,137 m and 1/f = 298.257223563 (NIMA TR8350.2, 2000).
    """
    a, f = 6_378_137.0, 1 / 298.257223563
    e2 = f * (2 - f)
    sin = math.sin(math.radians(latitude))
    w = math.sqrt(1 - e2 * sin * sin)
    along = math.pi / 180 * a * (1 - e2) / w**3
    across = math.pi / 180 * a / w * math.cos(math.radians(latitude))
    return along, across
