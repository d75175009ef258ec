"""A grid of heights as a surface of triangles: Wavefront OBJ, and STL with a base under it, to be printed [1]_.

References
----------
.. [1] 3D Systems, StereoLithography Interface Specification (1989): 80 bytes, a count, 50 bytes for each triangle
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray

UPS = ("z", "y")
Points = NDArray[np.float64]


def corners_of(heights: FloatArray, spacing_m: float, west_m: float, north_m: float, up: str) -> Points:
    """Where the posts are, shape (posts, 3), row by row from the north: east, north, up; or east, up, south. [m]"""
    rows, cols = heights.shape
    east = np.tile(west_m + np.arange(cols) * spacing_m, rows)
    north = np.repeat(north_m - np.arange(rows) * spacing_m, cols)
    high = heights.astype(np.float64).ravel()
    return np.stack((east, high, -north) if up == "y" else (east, north, high), axis=1)


def triangles_of(rows: int, cols: int) -> NDArray[np.uint32]:
    """Two triangles for each square of posts, counter-clockwise from above, shape (triangles, 3)."""
    first = (np.arange(rows - 1)[:, None] * cols + np.arange(cols - 1)[None]).ravel()
    a, b, c, d = first, first + 1, first + cols, first + cols + 1
    return np.stack([np.stack([a, c, b], axis=1), np.stack([b, c, d], axis=1)], axis=1).reshape(-1, 3).astype(np.uint32)


def obj_parts(heights: FloatArray, spacing_m: float, west_m: float, north_m: float, up: str) -> Iterator[bytes]:
    """An OBJ of a surface, in parts."""
    yield f"# Fern Field: metres, {'x east, y up, z south' if up == 'y' else 'x east, y north, z up'}\n".encode()
    at = corners_of(heights, spacing_m, west_m, north_m, up)
    for part in np.array_split(at, max(1, len(at) // 100_000)):
        yield "".join(f"v {x:.10g} {y:.10g} {z:.10g}\n" for x, y, z in part.tolist()).encode()
    faces = triangles_of(*heights.shape) + 1
    for some in np.array_split(faces, max(1, len(faces) // 100_000)):
        yield "".join(f"f {a} {b} {c}\n" for a, b, c in some.tolist()).encode()


def stl_of(heights: FloatArray, spacing_m: float, west_m: float, north_m: float, up: str, base_m: float) -> bytes:
    """A body that is shut: the surface, its sides, and a base so far under the lowest post. [m]"""
    rows, cols = heights.shape
    top = corners_of(heights, spacing_m, west_m, north_m, "z")
    low = top.copy()
    low[:, 2] = float(np.nanmin(heights)) - base_m
    count = rows * cols
    # Around the edge, so that the land lies on the left.
    edge = np.concatenate([
        (rows - 1) * cols + np.arange(cols), (np.arange(rows - 2, -1, -1) * cols + cols - 1),
        np.arange(cols - 2, -1, -1), np.arange(1, rows) * cols,
    ])  # fmt: skip
    a, b = edge[:-1], edge[1:]
    sides = np.concatenate([np.stack([a, a + count, b + count], 1), np.stack([a, b + count, b], 1)])
    faces = triangles_of(rows, cols).astype(np.int64)
    every = np.concatenate([faces, faces[:, ::-1] + count, sides])
    at = np.concatenate([top, low])
    if up == "y":
        at = np.stack([at[:, 0], at[:, 2], -at[:, 1]], axis=1)
    body = np.zeros(len(every), STL)
    body["corners"] = at[every].astype(np.float32)
    across = np.cross(at[every[:, 1]] - at[every[:, 0]], at[every[:, 2]] - at[every[:, 0]])
    body["normal"] = across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-12)
    return b"Fern Field".ljust(80) + np.uint32(len(every)).tobytes() + body.tobytes()


STL: Any = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("about", "<u2")])
