"""Surfaces of triangles, Wavefront OBJ and glTF 2.0 [1]_, sampled from above.

References
----------
.. [1] Khronos Group, glTF 2.0 Specification (2021); y points up, units are metres
"""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import FormatError
from fernfield.core.grid import FloatArray
from fernfield.core.intake.surface import own_spacing, seen_from_above
from fernfield.formats.gltf import Accessor, Gltf, document_of, kind_of_gltf
from fernfield.formats.limits import Step, check_dimensions
from fernfield.formats.source import ROWS_AT_ONCE, Said, Source

MOST_BYTES = 512 << 20
"""A surface is read whole. A larger file is refused."""

FARTHEST_M = 1e7
LEAST_EXTENT_M = 1e-3

Triangles = tuple[NDArray[np.float64], NDArray[np.int64]]


def looks_like_gltf(head: bytes) -> bool:
    return head.startswith(b"glTF") or (head.lstrip()[:1] == b"{" and b'"asset"' in head)


def looks_like_obj(head: bytes) -> bool:
    """Lines of OBJ keywords only, as far as the head goes."""
    lines = [line.strip() for line in head.split(b"\n")[:-1] or [head]]
    words = [line for line in lines if line and not line.startswith(b"#")]
    keyword = re.compile(rb"(v|vn|vt|vp|f|o|g|s|l|p|mtllib|usemtl)\b")
    return bool(words) and all(keyword.match(line) for line in words) and any(w[:2] == b"v " for w in words)


def open_gltf(path: Path, said: Said) -> Source:
    """Read a glTF file, binary or text. Files that it points to are not followed: everything must be inside."""
    check_size(path)
    body = path.read_bytes()
    check_inside(body)
    return _sampled(path, kind_of_gltf(body), "glTF surface", "y", said)


def open_obj(path: Path, said: Said) -> Source:
    """Read a Wavefront OBJ file. Materials are not looked for."""
    return _sampled(path, "obj", f"OBJ surface, {said.up} up", said.up, said)


SIZES = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
PARTS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
"""Bytes of a component, and components of an element, of a glTF accessor. ([1]_, 3.6.2.2)"""


def check_size(path: Path, most: int = MOST_BYTES) -> None:
    """Raises FormatError for a file that is too large to be read whole."""
    if path.stat().st_size > most:
        raise FormatError(f"a surface may have at most {most >> 20} MiB", "file")


def check_inside(body: bytes, pictures: bool = False) -> Gltf:
    """The document of a glTF. Raises FormatError unless everything is in the file, and is no more than the file holds;
    `pictures`: also those of its materials."""
    found = document_of(body)
    parts = found.parts
    views = [view.byteLength for view in parts.bufferViews or []]
    for accessor in parts.accessors or []:
        _check_accessor(accessor, views, len(body))
    for link in [*(parts.buffers or []), *((parts.images or []) if pictures else [])]:
        if not link.uri.startswith("data:"):
            words = f"the glTF keeps a part in another file ({link.uri[:60]}): save it as one file, binary or embedded"
            raise FormatError(words, "file")
    return found


def _check_accessor(accessor: Accessor, views: list[int], size: int) -> None:
    view, one = accessor.bufferView, SIZES.get(accessor.componentType, 0) * PARTS.get(accessor.type, 0)
    if view is None or accessor.sparse is not None:
        raise FormatError("the glTF leaves out points that it counts (sparse): save it with all of them", "file")
    if not one or view >= len(views):
        raise FormatError("the glTF is damaged: it counts elements of a kind, or in a place, that there is not", "file")
    if accessor.count * one > min(views[view], size):
        raise FormatError(f"the glTF is damaged: it counts {accessor.count:,} elements, more than it holds", "file")


NOT_OF_THE_SHAPE = re.compile(rb"^(?![ \t]*[vf][ \t]).*\n?|(?<=[0-9])/[^ \t\r\n]*", re.MULTILINE)
"""Lines of an OBJ that are neither points nor faces, and what a face says besides its points."""


def _shape_alone(body: bytes) -> bytes:
    """The points and faces of an OBJ: a piece for each of its materials would cost as much as all of its points."""
    return NOT_OF_THE_SHAPE.sub(b"", body.replace(b"\\\n", b"").replace(b"\\\r\n", b""))


def _triangles(path: Path, kind: str, up: str) -> Triangles:
    """Points with x east, y north and z up, and the triangles between them."""
    import trimesh

    check_size(path)
    body = path.read_bytes()
    try:
        loaded: Any = trimesh.load(
            io.BytesIO(_shape_alone(body) if kind == "obj" else body),
            file_type=kind, process=False, skip_materials=True, force="scene",
        )  # fmt: skip
        mesh = loaded.to_mesh()
        points, triangles = np.asarray(mesh.vertices, np.float64), np.asarray(mesh.faces, np.int64)
    except Exception as error:  # whatever a damaged file makes of the library
        raise FormatError(f"the surface is damaged: {str(error)[:200] or type(error).__name__}", "file") from error
    if len(points) < 3 or len(triangles) < 1 or triangles.ndim != 2 or triangles.shape[1] != 3:
        raise FormatError(f"the surface must have triangles; it has {len(points)} points and no faces", "file")
    if triangles.min() < 0 or triangles.max() >= len(points):
        raise FormatError(f"the surface has a triangle with a point that there is not, of {len(points)}", "file")
    if not np.isfinite(points).all():
        raise FormatError("the points of the surface must be finite numbers", "file")
    if np.abs(points).max() > FARTHEST_M:
        raise FormatError(f"the points of the surface must lie within {FARTHEST_M:g} m of its origin", "file")
    if up == "y":
        points = np.column_stack([points[:, 0], -points[:, 2], points[:, 1]])
    return points, triangles


def _sampled(path: Path, kind: str, words: str, up: str, said: Said) -> Source:
    if up not in ("y", "z"):
        raise FormatError(f"up must be y or z, not {up!r}", "up")
    points, triangles = _triangles(path, kind, up)
    used = points[np.unique(triangles)]
    low, high = used.min(axis=0), used.max(axis=0)
    if (high - low)[:2].min() < LEAST_EXTENT_M:
        raise FormatError(f"the surface must be {LEAST_EXTENT_M:g} m wide and deep at least, seen from above", "file")
    spacing = said.spacing_m or own_spacing(used)
    rows = math.floor((high[1] - low[1]) / spacing + 1e-6) + 1
    cols = math.floor((high[0] - low[0]) / spacing + 1e-6) + 1
    check_dimensions(rows, cols)

    def bands(step: Step) -> Iterator[FloatArray]:
        # The whole surface for each band would cost rows / band times too much: only what reaches into it.
        north = points[:, 1] - low[1]
        tops, bottoms = north[triangles].max(axis=1), north[triangles].min(axis=1)
        for first in range(0, rows, ROWS_AT_ONCE):
            count = min(ROWS_AT_ONCE, rows - first)
            south = (rows - first - count) * spacing
            mine = (tops >= south - spacing) & (bottoms <= south + count * spacing)
            moved = points - np.array([low[0], low[1] + south, 0])
            yield seen_from_above(moved, triangles[mine], count, cols, spacing)
            step((first + count) / rows)

    return Source(
        kind=words, rows=rows, cols=cols, sample="f32", metres=True, spacing_m=(spacing, spacing), bands=bands,
        about=f"{len(triangles):,} triangles",
    )  # fmt: skip
