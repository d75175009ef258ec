"""Shapes of single things, glTF 2.0 [1]_: triangles with the colours of their materials.

References
----------
.. [1] Khronos Group, glTF 2.0 Specification (2021); y points up, units are metres
"""

from __future__ import annotations

import io
import json
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import FormatError
from fernfield.core.growth.shapes.brought import Brought
from fernfield.formats.gltf import Document, kind_of_gltf
from fernfield.formats.mesh import check_inside

MOST_BYTES = 16 << 20
MOST_TRIANGLES = 20_000
LEAST_M, MOST_M = 0.01, 1_000.0
UNDERSTOOD = ("KHR_materials_", "KHR_texture_transform", "KHR_mesh_quantization", "EXT_texture_")
"""Extensions that change nothing of what is read here: the points, the triangles, the colours of materials."""
GREY = (0.62, 0.6, 0.56)


def read_model(body: bytes) -> Brought:
    """A glTF, binary or text, as triangles: x east, y north, z up from the middle of its foot. [m]

    Pictures of its materials are not looked at: each material has its colour, each point its own where it has one.
    Raises FormatError, by name, for a file that is damaged, too large, refers outside itself or needs an extension.
    """
    if len(body) > MOST_BYTES:
        raise FormatError(f"a shape may have at most {MOST_BYTES >> 20} MiB, not {len(body) / 2**20:.1f}", "file")
    kind = kind_of_gltf(body)
    if kind == "gltf" and body.lstrip()[:1] != b"{":
        raise FormatError(f"the shape must be glTF, binary or text; the file begins with {body[:8]!r}", "file")
    told = check_inside(body, pictures=True)
    for name in told.parts.extensionsRequired or []:
        if not name.startswith(UNDERSTOOD):
            raise FormatError(f"the glTF needs {name[:60]}, which is not read here: save it without", "file")
    _check_count(told.parts)
    corners, colour = _corners(_without_pictures(body, kind, told.plain), kind)
    if len(corners) // 3 > MOST_TRIANGLES:
        words = f"a shape may have at most {MOST_TRIANGLES:,} triangles, not {len(corners) // 3:,}"
        raise FormatError(words, "file")
    low, high = corners.min(axis=0), corners.max(axis=0)
    extent = high - low
    if not (extent[1] >= LEAST_M and extent.max() <= MOST_M):
        size = " x ".join(f"{side:g}" for side in extent)
        raise FormatError(f"a shape must be {LEAST_M:g} m tall at least and within {MOST_M:g} m, not {size} m", "file")
    middle = (low + high) / 2
    at = np.column_stack([corners[:, 0] - middle[0], middle[2] - corners[:, 2], corners[:, 1] - low[1]])
    return Brought(at.astype(np.float32), colour)


def from_obj(body: bytes) -> bytes:
    """An OBJ file as binary glTF, as it stands: its own library decides what is up. Raises FormatError.

    Materials of other files are not looked at: points have their own colours, or grey.
    """
    import trimesh

    if len(body) > MOST_BYTES:
        raise FormatError(f"a shape may have at most {MOST_BYTES >> 20} MiB, not {len(body) / 2**20:.1f}", "file")
    if body.count(b"\nf ") + body.startswith(b"f ") > MOST_TRIANGLES:
        raise FormatError(f"a shape may have at most {MOST_TRIANGLES:,} triangles; this has more faces", "file")
    try:
        mesh: Any = trimesh.load(io.BytesIO(body), file_type="obj", process=False, force="mesh", skip_materials=True)
        made = mesh.export(file_type="glb")
    except IndexError as error:
        raise FormatError("the OBJ is damaged: a face of it has a corner that is not there", "file") from error
    except Exception as error:  # whatever a damaged file makes of the library
        raise FormatError(f"the OBJ is damaged: {str(error)[:200] or type(error).__name__}", "file") from error
    if not isinstance(made, bytes) or not len(getattr(mesh, "faces", ())):
        raise FormatError("the shape must have triangles; it has none", "file")
    return made


def _check_count(told: Document) -> None:
    """Instances of one mesh cost nothing in the file: what the nodes come to is counted before it is made."""
    accessors, meshes = told.accessors or [], told.meshes or []
    try:
        cost = [
            sum(
                accessors[part.attributes.POSITION if part.indices is None else part.indices].count // 3
                for part in mesh.primitives
            )
            for mesh in meshes
        ]
        count = sum(cost[node.mesh] for node in told.nodes or [] if node.mesh is not None)
    except IndexError:
        raise FormatError("the glTF is damaged: it names a mesh or points that it has not", "file") from None
    if count > MOST_TRIANGLES:
        raise FormatError(f"a shape may have at most {MOST_TRIANGLES:,} triangles, not {count:,}", "file")


def _without_pictures(body: bytes, kind: str, told: dict[str, Any]) -> bytes:
    """The same file with the plain colours of its materials only."""
    own = {name: value for name, value in told.items() if name not in ("images", "textures", "samplers", "animations")}
    own["materials"] = [
        {"name": str(at), "pbrMetallicRoughness": {"baseColorFactor": _factor(material)}}
        for at, material in enumerate(told.get("materials") or [])
    ]
    text = json.dumps(own).encode()
    if kind == "gltf":
        return text
    text += b" " * (-len(text) % 4)
    rest = body[20 + int.from_bytes(body[12:16], "little") :]
    size = (20 + len(text) + len(rest)).to_bytes(4, "little")
    return body[:8] + size + len(text).to_bytes(4, "little") + body[16:20] + text + rest


def _factor(material: Any) -> list[float]:
    said = (material.get("pbrMetallicRoughness") or {}) if isinstance(material, dict) else {}
    found = said.get("baseColorFactor") if isinstance(said, dict) else None
    if found is None:
        # White stands for a picture of its own, which is not looked at.
        return [*GREY, 1.0] if isinstance(said, dict) and "baseColorTexture" in said else [1.0, 1.0, 1.0, 1.0]
    if not isinstance(found, list) or len(found) != 4 or not all(isinstance(f, int | float) for f in found):
        raise FormatError(f"the glTF is damaged: a colour of it is {str(found)[:60]}", "file")
    return [min(max(float(f), 0.0), 1.0) for f in found]


def _corners(body: bytes, kind: str) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
    """Corners of triangles, (n, 3), y up, and their colours, (n, 3), as they are seen (sRGB)."""
    import trimesh

    places, colours = [], []
    try:
        scene: Any = trimesh.load(io.BytesIO(body), file_type=kind, process=False, force="scene")
        for name in scene.graph.nodes_geometry:
            turn, of = scene.graph[name]
            mesh = scene.geometry[of]
            if not isinstance(mesh, trimesh.Trimesh):
                continue
            points = trimesh.transformations.transform_points(np.asarray(mesh.vertices, np.float64), turn)
            faces = np.asarray(mesh.faces, np.int64).reshape(-1)
            places.append(points[faces])
            colours.append(_inks(mesh)[faces])
    except Exception as error:  # whatever a damaged file makes of the library
        raise FormatError(f"the shape is damaged: {str(error)[:200] or type(error).__name__}", "file") from error
    if not places or not sum(map(len, places)):
        raise FormatError("the shape must have triangles; it has none", "file")
    at, colour = np.concatenate(places), np.concatenate(colours)
    if not np.isfinite(at).all():
        raise FormatError("the points of the shape must be finite numbers", "file")
    return at, colour.astype(np.float32)


def _inks(mesh: Any) -> NDArray[np.float64]:
    """The colour of every point, 0 to 1."""
    ink = np.ones((len(mesh.vertices), 3))
    material = getattr(mesh.visual, "material", None)
    factor = getattr(material, "baseColorFactor", None)
    if factor is not None:
        linear = np.asarray(factor, np.float64)[:3] / (255 if np.asarray(factor).dtype == np.uint8 else 1)
        ink *= _seen(linear)
    own = mesh.vertex_attributes.get("color") if material is not None else None
    if own is None and mesh.visual.kind == "vertex":
        own = mesh.visual.vertex_colors
    if own is not None and len(own) == len(ink):
        own = np.asarray(own)
        ink *= _seen(own[:, :3] / (np.iinfo(own.dtype).max if own.dtype.kind == "u" else 1))
    elif material is None and own is None:
        ink *= GREY
    return np.clip(ink, 0, 1)


def _seen(linear: NDArray[np.float64]) -> NDArray[np.float64]:
    """Colours of glTF are linear ([1]_, 3.9.2); ours are as they are seen. (IEC 61966-2-1)"""
    linear = np.clip(np.asarray(linear, np.float64), 0, 1)
    return np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
