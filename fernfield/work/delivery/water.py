"""Water on a piece of land: its level, where it stands, and which way streams run."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray
from fernfield.core.water.channel import covered
from fernfield.formats.geotiff import geotiff
from fernfield.work.delivery.pieces import Format, PieceOfLand
from fernfield.work.water.laying import streams_of

STILL = 128
"""Grey of a stream map where nothing runs that way."""


def _level(piece: PieceOfLand) -> FloatArray:
    """The surface of what stands and runs at the posts that are taken, NaN where the ground is dry. [m]"""
    ground, (rows, cols) = piece.heights(), piece.shape
    with piece.world.lock:
        level = piece.world.surface(piece.land, piece.window, piece.step)[:rows, :cols]
    return np.where(level > ground, level, np.nan).astype(np.float32)


def _tif(piece: PieceOfLand) -> Iterator[bytes]:
    yield geotiff(_level(piece), piece.spacing_m, piece.west_m, piece.north_m)


def _mask(piece: PieceOfLand) -> Iterator[bytes]:
    yield piece.picture(np.where(np.isnan(_level(piece)), 0, 255).astype(np.uint8))


def _flow(piece: PieceOfLand) -> Iterator[bytes]:
    """Red and green: how far east and north a stream runs there; blue: how much of the post it covers."""
    rows, cols = piece.shape
    out = np.zeros((rows, cols, 3), np.uint8)
    out[..., :2] = STILL
    with piece.world.lock:
        for _, _, one in streams_of(piece.world, piece.land):
            near = one.near(piece.window, one.shore(), piece.step)
            if near is None:
                continue
            course = one.course
            down, right = np.gradient(course.row), np.gradient(course.col)
            long = np.maximum(np.hypot(down, right), 1e-9)
            share = np.rint(255 * covered(near, course.half / one.spacing))
            here = share > out[..., 2]
            for channel, way in ((0, right / long), (1, -down / long)):
                toward = np.rint(STILL + 127 * np.clip(near.of(way), -1, 1))
                out[..., channel] = np.where(here, toward, out[..., channel])
            out[..., 2] = np.where(here, share, out[..., 2])
    yield piece.picture(out)


def _flow_says(piece: PieceOfLand) -> dict[str, Any]:
    return {"rule": "east = (red - 128) / 127, north = (green - 128) / 127, covered = blue / 255"}


WATER = (
    Format("water_tif32", "Level of the water as 32-bit GeoTIFF", "tif", _tif, says=lambda piece: {"dry": "NaN"},
           bytes_each=0.3),
    Format("water_png", "Where water stands as 8-bit PNG", "png", _mask, says=lambda piece: {"rule": "255 is wet"},
           bytes_each=0.02),
    Format("flow_png", "Which way streams run as PNG", "png", _flow, says=_flow_says, bytes_each=0.05,
           loses=lambda piece: "how fast they run is not said"),
)  # fmt: skip
