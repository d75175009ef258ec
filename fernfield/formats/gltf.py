"""What is read of a glTF 2.0 document [1]_: its parts by type, how many of each there may be, and how deep they go.

A document of a few bytes can ask for a million of anything: all bounds stand here, and hold before a file is walked.

References
----------
.. [1] Khronos Group, glTF 2.0 Specification (2021)
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from fernfield.core.errors import FormatError

MOST_PARTS = 10_000
"""Meshes, materials, accessors and views of one file."""
MOST_INSTANCES = 5_000
"""Nodes of one file: each may show a mesh."""
MOST_DEEP = 64
"""Nodes that hang one on another."""
MOST_STEPS = 25_000
"""From all nodes up to where they hang, together: the library that reads them goes each way by itself."""

Index = Annotated[int, Field(ge=0)]
JSON_CHUNK = 20
"""Where the JSON of a binary file begins: a header of twelve bytes, and eight of its chunk. ([1]_, 4.4)"""


class _Part(BaseModel):
    model_config = ConfigDict(extra="ignore", strict=False)


class Linked(_Part):
    uri: str = "data:"


class View(_Part):
    byteLength: Index


class Accessor(_Part):
    """`count` elements of `type`, of components of `componentType` ([1]_, 3.6.2.2)."""

    count: Annotated[int, Field(ge=1)]
    componentType: int
    type: str
    bufferView: Index | None = None
    sparse: Any = None


class Attributes(_Part):
    POSITION: Index


class Primitive(_Part):
    attributes: Attributes
    indices: Index | None = None


class Mesh(_Part):
    primitives: Annotated[list[Primitive], Field(max_length=MOST_PARTS)]


class Node(_Part):
    mesh: Index | None = None
    children: list[Index] = []


class Document(_Part):
    extensionsRequired: list[str] | None = None
    buffers: Annotated[list[Linked], Field(max_length=MOST_PARTS)] | None = None
    images: Annotated[list[Linked], Field(max_length=MOST_PARTS)] | None = None
    bufferViews: Annotated[list[View], Field(max_length=MOST_PARTS)] | None = None
    accessors: Annotated[list[Accessor], Field(max_length=MOST_PARTS)] | None = None
    meshes: Annotated[list[Mesh], Field(max_length=MOST_PARTS)] | None = None
    materials: Annotated[list[dict[str, Any]], Field(max_length=MOST_PARTS)] | None = None
    nodes: Annotated[list[Node], Field(max_length=MOST_INSTANCES)] | None = None


@dataclass(frozen=True)
class Gltf:
    """A document: `plain` as it stands in the file, `parts` what is read of it."""

    plain: dict[str, Any]
    parts: Document


def kind_of_gltf(body: bytes) -> str:
    return "glb" if body[:4] == b"glTF" else "gltf"


def document_of(body: bytes) -> Gltf:
    """The document of a glTF, binary or text. Raises FormatError for one that is damaged, or asks for too much."""
    if kind_of_gltf(body) == "glb":
        body = body[JSON_CHUNK : JSON_CHUNK + int.from_bytes(body[12:16], "little")]
    try:
        plain = json.loads(body)
        parts = Document.model_validate(plain)
    except ValidationError as error:
        raise _wrong(error) from None
    except (ValueError, RecursionError) as error:
        words = "it nests too deeply" if isinstance(error, RecursionError) else str(error)[:200]
        raise FormatError(f"the glTF is damaged: {words}", "file") from None
    _check_tree(parts.nodes or [])
    _check_pieces(parts)
    return Gltf(plain, parts)


def _wrong(error: ValidationError) -> FormatError:
    first = error.errors(include_url=False)[0]
    at = "".join(f"[{part}]" if isinstance(part, int) else f" {part}" for part in first["loc"]).strip() or "document"
    if first["type"] == "too_long":
        most, have = first["ctx"]["max_length"], first["ctx"]["actual_length"]
        return FormatError(f"a glTF may have at most {most:,} {at}, not {have:,}", "file")
    if first["type"] == "missing":
        return FormatError(f"the glTF is damaged: it has no {at}", "file")
    return FormatError(f"the glTF is damaged: its {at} cannot be {str(first['input'])[:60]!r}", "file")


def _check_pieces(parts: Document) -> None:
    """Raises FormatError where nodes name meshes that there are not, or show more pieces of them than are read."""
    pieces = [len(mesh.primitives) for mesh in parts.meshes or []]
    shown = [node.mesh for node in parts.nodes or [] if node.mesh is not None]
    if max(shown, default=-1) >= len(pieces):
        raise FormatError(f"the glTF is damaged: it has no mesh {max(shown)}", "file")
    count = sum(pieces[mesh] for mesh in shown)
    if count > MOST_PARTS:
        raise FormatError(f"a glTF may show at most {MOST_PARTS:,} pieces of meshes, not {count:,}", "file")


def _check_tree(nodes: list[Node]) -> None:
    """Raises FormatError unless the nodes hang together as trees ([1]_, 3.5.2), and none hangs too deep."""
    above = [-1] * len(nodes)
    for at, node in enumerate(nodes):
        for child in node.children:
            if child >= len(nodes):
                raise FormatError(f"the glTF is damaged: it has no node {child}", "file")
            if above[child] >= 0:
                raise FormatError("the glTF is damaged: a node of it has two parents", "file")
            above[child] = at
    steps = 0
    for start in range(len(nodes)):
        at, deep = start, 0
        while at >= 0:
            at, deep, steps = above[at], deep + 1, steps + 1
            if deep > MOST_DEEP:
                words = (
                    f"nodes of a glTF may hang at most {MOST_DEEP} deep one on another; these go deeper, or in a ring"
                )
                raise FormatError(words, "file")
    if steps > MOST_STEPS:
        words = f"nodes of a glTF may hang at most {MOST_STEPS:,} steps deep taken together, not {steps:,}"
        raise FormatError(f"{words}: save it with fewer levels", "file")
