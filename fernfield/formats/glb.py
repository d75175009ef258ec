"""A binary glTF 2.0 [1]_ written: meshes, textures, instances by EXT_mesh_gpu_instancing, lamps by KHR_lights_punctual.

References
----------
.. [1] Khronos Group, glTF 2.0 Specification (2021)
"""

from __future__ import annotations

import json
import math
import struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.light.lamps import Source

FLOAT, UINT = 5126, 5125
ARRAY, ELEMENTS = 34962, 34963
KINDS = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}
INSTANCED, LIGHTS = "EXT_mesh_gpu_instancing", "KHR_lights_punctual"


class Glb:
    """A document that grows. Metres, x east, y up, z south."""

    def __init__(self, made_by: str) -> None:
        self._body = bytearray()
        self._said: dict[str, list[Any]] = {}
        self._uses: set[str] = set()
        self._lights: list[dict[str, Any]] = []
        self._made_by = made_by

    def _add(self, of: str, one: dict[str, Any]) -> int:
        self._said.setdefault(of, []).append(one)
        return len(self._said[of]) - 1

    def _view(self, data: bytes, target: int | None = None) -> int:
        self._body += b"\0" * (-len(self._body) % 4)
        view = {"buffer": 0, "byteOffset": len(self._body), "byteLength": len(data)}
        self._body += data
        return self._add("bufferViews", view | ({} if target is None else {"target": target}))

    def _numbers(self, values: NDArray[Any], target: int | None = None, bounds: bool = False) -> int:
        if values.dtype.kind == "f":
            values = np.ascontiguousarray(values, "<f4")
        else:
            values = np.ascontiguousarray(values, "<u4")
        wide = 1 if values.ndim == 1 else values.shape[1]
        said: dict[str, Any] = {
            "bufferView": self._view(values.tobytes(), target),
            "componentType": FLOAT if values.dtype.kind == "f" else UINT, "count": len(values), "type": KINDS[wide],
        }  # fmt: skip
        if bounds:
            said |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
        return self._add("accessors", said)

    def texture(self, picture: bytes, kind: str) -> int:
        """A picture, by its number. kind : "image/png" or "image/jpeg" """
        image = self._add("images", {"bufferView": self._view(picture), "mimeType": kind})
        if "samplers" not in self._said:
            # Past its edge a picture goes on as it ends: chunks show no seam.
            self._add("samplers", {"wrapS": 33071, "wrapT": 33071, "magFilter": 9729, "minFilter": 9987})
        return self._add("textures", {"source": image, "sampler": 0})

    def material(self, name: str, texture: int | None = None, *, both_sides: bool = False) -> int:
        rough: dict[str, Any] = {"metallicFactor": 0.0, "roughnessFactor": 1.0}
        if texture is not None:
            rough["baseColorTexture"] = {"index": texture}
        return self._add(
            "materials", {"name": name, "pbrMetallicRoughness": rough} | ({"doubleSided": True} if both_sides else {})
        )

    def mesh(
        self, name: str, material: int, at: NDArray[Any], normal: NDArray[Any], *, uv: NDArray[Any] | None = None,
        colour: NDArray[Any] | None = None, faces: NDArray[Any] | None = None,
    ) -> int:  # fmt: skip
        """Triangles: corners shape (n, 3) [m] with unit normals, where each is in the picture, or its linear colour."""
        said = {"POSITION": self._numbers(at, ARRAY, bounds=True), "NORMAL": self._numbers(normal, ARRAY)}
        if uv is not None:
            said["TEXCOORD_0"] = self._numbers(uv, ARRAY)
        if colour is not None:
            said["COLOR_0"] = self._numbers(colour, ARRAY)
        one: dict[str, Any] = {"attributes": said, "material": material, "mode": 4}
        if faces is not None:
            one["indices"] = self._numbers(faces.ravel(), ELEMENTS)
        return self._add("meshes", {"name": name, "primitives": [one]})

    def node(self, name: str, mesh: int | None = None, **said: Any) -> int:
        """Something in the scene; `extras` lead back to what it is of."""
        return self._add("nodes", {"name": name} | ({} if mesh is None else {"mesh": mesh}) | said)

    def instances(
        self, name: str, mesh: int, at: NDArray[Any], turned: NDArray[Any], size: NDArray[Any], extras: dict[str, Any]
    ) -> int:
        """One mesh at many places: shape (n, 3) [m], unit quaternions (n, 4) as x, y, z, w, and sizes (n, 3)."""
        self._uses.add(INSTANCED)
        said = {
            "TRANSLATION": self._numbers(at), "ROTATION": self._numbers(turned), "SCALE": self._numbers(size),
        }  # fmt: skip
        return self.node(name, mesh, extensions={INSTANCED: {"attributes": said}}, extras=extras)

    def lamp(self, name: str, source: Source) -> int:
        """A lamp that shines all around, or straight down into a cone."""
        self._uses.add(LIGHTS)
        most = max(source.candela)
        said: dict[str, Any] = {
            "name": name, "intensity": most, "color": [part / most for part in source.candela], "range": source.reach,
        }  # fmt: skip
        # A spot is half a sphere wide at most.
        spot = source.cone < 180
        if spot:
            said |= {"type": "spot", "spot": {"innerConeAngle": 0.0, "outerConeAngle": math.radians(source.cone / 2)}}
        self._lights.append({"type": "point"} | said)
        # It shines along -z of its node: turned down.
        turned = [-math.sqrt(0.5), 0.0, 0.0, math.sqrt(0.5)] if spot else [0.0, 0.0, 0.0, 1.0]
        at = [source.x, source.z, -source.y]
        return self.node(
            name, translation=at, rotation=turned, extensions={LIGHTS: {"light": len(self._lights) - 1}}
        )  # fmt: skip

    def body(self, extras: dict[str, Any]) -> bytes:
        """The whole file."""
        said: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": self._made_by, "extras": extras},
            **self._said,
        }  # fmt: skip
        if self._said.get("nodes"):
            said |= {"scene": 0, "scenes": [{"nodes": list(range(len(self._said["nodes"])))}]}
        if self._body:
            said["buffers"] = [{"byteLength": len(self._body) + -len(self._body) % 4}]
        if self._uses:
            said["extensionsUsed"] = sorted(self._uses)
        if INSTANCED in self._uses:
            said["extensionsRequired"] = [INSTANCED]
        if self._lights:
            said["extensions"] = {LIGHTS: {"lights": self._lights}}
        text = json.dumps(said, separators=(",", ":"), ensure_ascii=False).encode()
        text += b" " * (-len(text) % 4)
        body = bytes(self._body) + b"\0" * (-len(self._body) % 4)
        chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
        if body:
            chunks += struct.pack("<II", len(body), 0x004E4942) + body
        return struct.pack("<III", 0x46546C67, 2, 12 + len(chunks)) + chunks
