"""Heights as grids: pictures, GeoTIFF, ASCII, raw numbers and NumPy's."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any

import numpy as np

from fernfield.formats.asc import asc_lines
from fernfield.formats.geotiff import geotiff
from fernfield.formats.png import grey_of, heights_png_parts
from fernfield.work.delivery.pieces import Format, PieceOfLand
from fernfield.work.ground.packing import RULE


def _png(piece: PieceOfLand) -> Iterator[bytes]:
    heights = piece.squared()
    rows, cols = heights.shape
    return heights_png_parts([heights], rows, cols, piece.span.lowest, piece.span.highest)


def _tif16(piece: PieceOfLand) -> Iterator[bytes]:
    span = piece.span
    grey = grey_of(piece.heights(), span.lowest, span.highest)
    yield geotiff(grey, piece.spacing_m, piece.west_m, piece.north_m, scale=(span.step, span.lowest))


def _tif32(piece: PieceOfLand) -> Iterator[bytes]:
    yield geotiff(piece.heights(), piece.spacing_m, piece.west_m, piece.north_m)


def _asc(piece: PieceOfLand) -> Iterator[bytes]:
    heights = piece.heights()
    rows, cols = heights.shape
    south = piece.north_m - (rows - 1) * piece.spacing_m
    return asc_lines(iter([heights]), rows, cols, piece.spacing_m, piece.west_m, south)


def _raw(piece: PieceOfLand) -> Iterator[bytes]:
    yield grey_of(piece.squared(), piece.span.lowest, piece.span.highest).astype("<u2").tobytes()


def _npy(piece: PieceOfLand) -> Iterator[bytes]:
    out = io.BytesIO()
    np.save(out, piece.heights().astype("<f4"))
    yield out.getvalue()


def _steps(piece: PieceOfLand) -> str:
    span = piece.span
    return f"16 bits over {span.highest - span.lowest:.1f} m: steps of {span.step * 1_000:.2g} mm"


def _spanned(piece: PieceOfLand) -> dict[str, Any]:
    return {"lowest_m": piece.span.lowest, "highest_m": piece.span.highest, "rule": RULE}


HEIGHTS_TIF32 = Format("heights_tif32", "Heights as 32-bit GeoTIFF", "tif", _tif32, bytes_each=4.4)
GRIDS = (
    Format("heights_png", "Heights as 16-bit PNG", "png", _png, loses=_steps, says=_spanned, bytes_each=1.2),
    Format("heights_tif16", "Heights as 16-bit GeoTIFF", "tif", _tif16, loses=_steps, says=_spanned, bytes_each=1.6),
    HEIGHTS_TIF32,
    Format("heights_asc", "Heights as an ESRI ASCII grid", "asc", _asc, bytes_each=9.0),
    Format("heights_raw", "Heights as raw 16-bit numbers", "raw", _raw, loses=_steps,
           says=lambda piece: _spanned(piece) | {"layout": "little-endian unsigned 16 bit, row by row from the north"},
           bytes_each=2.0),
    Format("heights_npy", "Heights as a NumPy array", "npy", _npy),
)  # fmt: skip
