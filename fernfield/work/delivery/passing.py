"""Who gets where on a piece of land, the ground that a person walks on, and what stands in the way."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield import __version__
from fernfield.core.grid import ByteArray
from fernfield.core.travel.walker import Obstacle
from fernfield.core.travel.walkers import WALKER
from fernfield.formats.glb import Glb
from fernfield.formats.surfaces import corners_of, triangles_of
from fernfield.work.delivery.land import Y_UP, lies_on, normals_of
from fernfield.work.delivery.pieces import Format, Layers, PieceOfLand
from fernfield.work.kernel.windows import rows_of
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.passing.raster import passable_in
from fernfield.work.passing.walkers import walkers_of

WAYS = ("north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west")
"""As the directions of `core.travel.passable`: the lowest bit first."""
N, E, S, W = (1 << WAYS.index(way) for way in ("north", "east", "south", "west"))
BAND = 256
ROUND = 12
"""Sides of what is round."""


def ways_out(piece: PieceOfLand, walker: str) -> ByteArray:
    """A bit for each way that a walker goes from each post of a piece to the next, shape (rows, cols)."""
    land, found = piece.land, []
    for part in rows_of(piece.window, BAND):
        open_ = passable_in(piece.world, land, part, walker) > 0
        found.append(np.packbits(open_, axis=0, bitorder="little")[0])
    return np.concatenate(found)


def _names(world: OpenWorld) -> list[str]:
    return list(walkers_of(world))


def _rasters(piece: PieceOfLand) -> Iterator[bytes]:
    with piece.world.lock:
        names = _names(piece.world)
    return (piece.picture(ways_out(piece, name)[:: piece.step, :: piece.step]) for name in names)


def walkable(ways: ByteArray, step: int) -> NDArray[np.bool_]:
    """The squares of posts of which every side is gone both ways; of larger ones each square within them. Shape
    (rows - 1, cols - 1) of every `step`-th post."""
    along = ((ways[:, :-1] & E) > 0) & ((ways[:, 1:] & W) > 0)
    down = ((ways[:-1] & S) > 0) & ((ways[1:] & N) > 0)
    fine = along[:-1] & along[1:] & down[:, :-1] & down[:, 1:]
    rows, cols = fine.shape[0] // step, fine.shape[1] // step
    return np.asarray(fine[: rows * step, : cols * step].reshape(rows, step, cols, step).all(axis=(1, 3)))


def _walked(piece: PieceOfLand) -> Iterator[bytes]:
    out, cols = Glb(f"Fern Field {__version__}"), piece.shape[1]
    cells = walkable(ways_out(piece, WALKER), piece.step)
    faces = triangles_of(cells.shape[0] + 1, cells.shape[1] + 1).reshape(-1, 2, 3)[cells.ravel()].reshape(-1, 3)
    # The last squares may lack posts: triangles are counted in rows of their own length.
    row, col = np.divmod(faces, cells.shape[1] + 1)
    used, corners = np.unique(row * cols + col, return_inverse=True)
    if len(used):
        at = corners_of(piece.heights(), piece.spacing_m, piece.west_m, piece.north_m, "y")[used]
        normal = normals_of(piece, piece.land).reshape(-1, 3)[used]
        out.node("walkable", out.mesh("walkable", out.material("walkable"), at, normal, faces=corners))
    yield out.body({"revision": piece.world.revision, "walker": WALKER})


def _corners(one: Obstacle) -> NDArray[np.float64]:
    """The outline of what stands in the way, counter-clockwise: shape (corners, 2). [m]"""
    if one.corners:
        around = np.array(one.corners)
    elif one.half_width:
        around = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * (one.half_width, one.half_depth)
        turn = math.radians(one.turn_deg)
        # Turned clockwise, as a compass is.
        around = around @ np.array([(math.cos(turn), -math.sin(turn)), (math.sin(turn), math.cos(turn))])
    else:
        angle = np.arange(ROUND) * 2 * np.pi / ROUND
        around = one.radius * np.stack([np.cos(angle), np.sin(angle)], axis=1)
    return np.asarray(around + np.array((one.x, one.y)), np.float64)


def body_of(one: Obstacle) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The body that blocks, as triangles from outside: corners (n, 3) east, north, up [m], and their normals."""
    flat = _corners(one)
    count = len(flat)
    low, high = (np.column_stack([flat, np.full(count, z)]) for z in (one.z0, one.z1))
    after = np.roll(np.arange(count), -1)
    sides = np.stack([low, low[after], high, low[after], high[after], high], axis=1).reshape(-1, 3, 3)
    fan = np.array([(0, k, k + 1) for k in range(1, count - 1)])
    faces = np.concatenate([sides, high[fan], low[fan[:, ::-1]]])
    normal = np.cross(faces[:, 1] - faces[:, 0], faces[:, 2] - faces[:, 0])
    long = np.linalg.norm(normal, axis=1)
    faces, normal = faces[long > 1e-12], normal[long > 1e-12] / long[long > 1e-12, None]
    return faces.reshape(-1, 3), np.repeat(normal, 3, axis=0)


def _blocking(piece: PieceOfLand) -> Iterator[bytes]:
    out, alike = Glb(f"Fern Field {__version__}"), defaultdict(list)
    with piece.world.lock:
        for stands in piece.world.house.obstacles:
            for one in stands(piece.world, piece.land, piece.window):
                if one.z1 > one.z0 and lies_on(piece, one.x, one.y):
                    alike[one.name].append(one)
    material = out.material("blocks") if alike else 0
    for name, every in sorted(alike.items()):
        at, normal = (np.concatenate(part) for part in zip(*(body_of(one) for one in every), strict=True))
        mesh = out.mesh(name, material, at @ Y_UP.T, normal @ Y_UP.T)
        out.node(name, mesh, extras={"count": len(every)})
    yield out.body({"revision": piece.world.revision})


def _says(piece: PieceOfLand) -> dict[str, Any]:
    return {"bits": list(WAYS), "rule": "the lowest bit first: set where a walker goes that way to the next post"}


PASSING = (
    Layers("passable_png", "Who gets where as PNG, one for each walker", "png", _names, _rasters, says=_says,
           loses=lambda piece: "what ways cost is left out: only whether they are gone", bytes_each=0.1),
    Format("walkable_glb", "What a person walks on, as glTF", "glb", _walked, bytes_each=42.0,
           loses=lambda piece: "bridges and stairs of the kit are not part of it"),
    Format("blocks_glb", "What stands in the way, as glTF", "glb", _blocking, bytes_each=4.0,
           loses=lambda piece: f"what is round has {ROUND} sides"),
)  # fmt: skip
