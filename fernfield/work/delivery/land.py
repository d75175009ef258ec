"""The land as surfaces: glTF with its picture, what stands and grows on it and its lamps; OBJ; STL."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from fernfield import __version__
from fernfield.core.colours import linear_of
from fernfield.core.grid import FloatArray, Window
from fernfield.core.growth.shapes import VARIANTS
from fernfield.core.light.lamps import Source
from fernfield.core.light.relief import gradients
from fernfield.core.sites.placing import Pose
from fernfield.core.sites.solids import entry_shape
from fernfield.formats.glb import Glb
from fernfield.formats.surfaces import corners_of, obj_parts, stl_of, triangles_of
from fernfield.work.delivery.pieces import Format, PieceOfLand, png_of
from fernfield.work.growth.shaping import shape_of
from fernfield.work.growth.standing import bed_of, stood
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.light.falling import lamps_near
from fernfield.work.light.moment import lamp_ink
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.sites.standing import Stood, box_of, stood_in

PLAIN = Show(contour_m=0, water=False, growth=False, shadows=False, plain=True)
Y_UP = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0], [0.0, -1.0, 0.0]])
"""East, north, up to east, up, south."""
DETAIL = 1
"""Of what stands and grows: of three, the middle one."""
BASE_M = 5.0
Points = NDArray[np.float64]


def normals_of(piece: PieceOfLand, land: Land) -> FloatArray:
    """Unit normals at the posts of a piece, y up; the same from both pieces at an edge that they share."""
    wide = land.clip(piece.window.pad(piece.step))
    row, col = piece.window.row0 - wide.row0, piece.window.col0 - wide.col0
    with piece.world.lock:
        heights = land.read(HEIGHT, wide)
    east, north = gradients(heights[row % piece.step :: piece.step, col % piece.step :: piece.step], piece.spacing_m)
    row, col = row // piece.step, col // piece.step
    rows, cols = piece.shape
    part = slice(row, row + rows), slice(col, col + cols)
    normal = np.stack([-east[part], np.ones((rows, cols)), north[part]], axis=-1)
    return np.asarray(normal / np.linalg.norm(normal, axis=-1, keepdims=True), np.float32)


def _picture(piece: PieceOfLand, land: Land) -> bytes:
    """The colours of the ground without any light, a pixel for each post that is taken."""
    level, (rows, cols) = int(math.log2(piece.step)), piece.shape
    row, col = piece.window.row0 // piece.step, piece.window.col0 // piece.step
    pixels = plan_pixels(piece.world, land, level, Window(row, col, row + rows, col + cols), PLAIN)[..., :3]
    return png_of(pixels)


def _glb(piece: PieceOfLand) -> Iterator[bytes]:
    land = piece.land
    out = Glb(f"Fern Field {__version__}")
    rows, cols = piece.shape
    ground = out.material("ground", out.texture(_picture(piece, land), "image/png"))
    u, v = np.meshgrid((np.arange(cols) + 0.5) / cols, (np.arange(rows) + 0.5) / rows)
    mesh = out.mesh(
        "ground", ground, corners_of(piece.heights(), piece.spacing_m, piece.west_m, piece.north_m, "y"),
        normals_of(piece, land).reshape(-1, 3), uv=np.stack([u.ravel(), v.ravel()], axis=1),
        faces=triangles_of(rows, cols),
    )  # fmt: skip
    out.node("ground", mesh, extras={"tract": piece.tract.row.id, "row": piece.row, "col": piece.col})
    _put_pieces(out, piece, land)
    _put_growth(out, piece, land)
    _put_lamps(out, piece, land)
    axes = {"x": "east", "y": "up", "z": "south", "unit": "metre", "origin": "south-west post of the tract"}
    yield out.body({"revision": piece.world.revision, "axes": axes})


def _shape(out: Glb, name: str, material: int, corners: FloatArray) -> int:
    normal = corners[:, 3:6] / np.maximum(np.linalg.norm(corners[:, 3:6], axis=1, keepdims=True), 1e-9)
    flat = np.linalg.norm(normal, axis=1) < 0.5
    normal[flat] = (0, 0, 1)
    colour = linear_of(np.clip(corners[:, 6:9], 0, 1))
    return out.mesh(name, material, corners[:, :3] @ Y_UP.T, normal @ Y_UP.T, colour=colour)


def _quaternions(frames: Points) -> Points:
    """Turns (n, 3, 3) of z-up frames as quaternions of y-up ones: x, y, z, w."""
    found = Rotation.from_matrix(Y_UP @ frames @ Y_UP.T).as_quat()
    return np.asarray(found / np.linalg.norm(found, axis=1, keepdims=True))


def lies_on(piece: PieceOfLand, x: Any, y: Any) -> Any:
    """What stands on a piece of land: on its west and north edge, and not on the others but those of the tract."""
    grid, box = piece.tract.grid, piece.window
    east, south = grid.x_of(box.col1 - 1), grid.y_of(box.row1 - 1)
    last_col, last_row = box.col1 == grid.cols, box.row1 == grid.rows
    return (
        (x >= piece.west_m) & ((x < east) | (last_col & (x <= east)))
        & (y <= piece.north_m) & ((y > south) | (last_row & (y >= south)))
    )  # fmt: skip


def _put_pieces(out: Glb, piece: PieceOfLand, land: Land) -> None:
    with piece.world.lock:
        standing = [one for one in stood_in(piece.world, land, box_of(land, piece.window))
                    if lies_on(piece, one.pose.x, one.pose.y)]  # fmt: skip
    if not standing:
        return
    material = out.material("pieces", both_sides=True)
    alike: dict[tuple[str, str | None, str | None], list[Stood]] = defaultdict(list)
    for one in standing:
        alike[one.entry.name, one.look, one.tint].append(one)
    for (key, look, tint), every in sorted(alike.items(), key=lambda pair: str(pair[0])):
        mesh = _shape(out, key, material, entry_shape(every[0].entry, look, DETAIL, tint))
        at = np.array([(one.pose.x, one.pose.y, one.pose.z) for one in every]) @ Y_UP.T
        size = np.array([[one.pose.size] * 3 for one in every])
        turned = _quaternions(np.array([one.pose.frame / one.pose.size for one in every]))
        out.instances(f"pieces: {key}", mesh, at, turned, size, {"kit": key, "things": [one.key for one in every]})


def _put_growth(out: Glb, piece: PieceOfLand, land: Land) -> None:
    # The last posts of a tract own no ground of its own.
    grid = piece.tract.grid
    inner = piece.window.meet(Window(0, 0, grid.rows - 1, grid.cols - 1))
    material: int | None = None
    for found in stood(bed_of(piece.world, land, inner)):
        plants = found.plants
        own = np.flatnonzero(lies_on(piece, plants.x, plants.y))
        for variant in np.unique(plants.variant[own]).tolist():
            material = out.material("growth", both_sides=True) if material is None else material
            some = own[plants.variant[own] == variant]
            kind = found.kind if not variant else found.kind.model_copy(update={"variant": VARIANTS[variant]})
            name = f"growth: {found.part.kind}"
            mesh = _shape(out, found.part.kind, material, shape_of(piece.world, kind, DETAIL))
            at = np.stack([plants.x[some], plants.y[some], found.z[some]], axis=1).astype(np.float64) @ Y_UP.T
            frames = np.array([
                Pose(0, 0, 0, float(plants.turn[k]), 0, 1, float(found.lean_east[k]), float(found.lean_north[k])).frame
                for k in some
            ])  # fmt: skip
            size = np.stack([plants.width[some], plants.height[some], plants.width[some]], axis=1)
            out.instances(name, mesh, at, _quaternions(frames), size, {"mix": found.mix, "kind": found.part.kind})


def _put_lamps(out: Glb, piece: PieceOfLand, land: Land) -> None:
    with piece.world.lock:
        for key, lamp, x, y in lamps_near(piece.world, land, piece.window):
            if lies_on(piece, x, y):
                red, green, blue = (lamp.lumens * part for part in lamp_ink(lamp))
                z = land.elevation(x, y) + lamp.over_m
                out.lamp(key, Source(x, y, z, (red, green, blue), lamp.reach_m, lamp.cone_deg))


def _obj(piece: PieceOfLand) -> Iterator[bytes]:
    return obj_parts(piece.heights(), piece.spacing_m, piece.west_m, piece.north_m, piece.delivery.up)


def _stl(piece: PieceOfLand) -> Iterator[bytes]:
    yield stl_of(piece.heights(), piece.spacing_m, piece.west_m, piece.north_m, piece.delivery.up, BASE_M)


def _axes(up: str) -> dict[str, Any]:
    """A place of the file is this matrix times a place east, north and up."""
    return {"up": up, "matrix": (Y_UP if up == "y" else np.eye(3)).tolist()}


LAND_GLB = Format(
    "land_glb", "Land as glTF, with what stands and grows on it", "glb", _glb,
    loses=lambda piece: "glTF knows no water, no cues and no rules: the rows have them", says=lambda piece: _axes("y"),
    bytes_each=60.0,
)  # fmt: skip
SURFACES = (
    LAND_GLB,
    Format("land_obj", "Ground as Wavefront OBJ", "obj", _obj, loses=lambda piece: "OBJ has the bare ground alone",
           says=lambda piece: _axes(piece.delivery.up), bytes_each=70.0),
    Format("land_stl", "Ground as a body to print (STL)", "stl", _stl,
           loses=lambda piece: "STL has the bare ground alone, on a base, and single precision",
           says=lambda piece: _axes(piece.delivery.up) | {"base_m": BASE_M}, bytes_each=200.0),
)  # fmt: skip
