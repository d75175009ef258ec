"""Shapes that people bring: read as another library wrote them, made simpler, refused by name when they are wrong."""

from __future__ import annotations

import base64
import json
import zipfile
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import trimesh
from fastapi.testclient import TestClient
from trimesh.visual import TextureVisuals
from trimesh.visual.material import PBRMaterial

from fernfield.core.errors import FormatError
from fernfield.core.growth.shapes import LEAF
from fernfield.core.growth.shapes.brought import CARD_TRIANGLES, SIMPLER_TRIANGLES, fitted
from fernfield.formats.model import MOST_TRIANGLES, read_model
from fernfield.work.bringing.models import add_model
from fernfield.work.growth.rows import KINDS
from fernfield.work.growth.shaping import formed, shape_of
from fernfield.work.handover.package import write_package
from fernfield.work.kernel.commands import patch
from fernfield.work.kernel.world import OpenWorld


def palm(finer: int = 3) -> trimesh.Scene:
    """A brown stem with a green ball on it, y up: 6 m tall, 1.5 m around its foot, its foot at y = 2."""
    stem = trimesh.creation.cylinder(0.2, 4, transform=trimesh.transformations.rotation_matrix(np.pi / 2, (1, 0, 0)))
    stem.apply_translation((5, 4, 0))
    ball = trimesh.creation.icosphere(subdivisions=finer, radius=1.5)
    ball.apply_translation((5, 6.5, 0))
    stem.visual = TextureVisuals(material=PBRMaterial(name="bark", baseColorFactor=[90, 60, 30, 255]))
    ball.visual = TextureVisuals(material=PBRMaterial(name="leaf", baseColorFactor=[40, 150, 40, 255]))
    return trimesh.Scene([stem, ball])


def glb(scene: trimesh.Scene) -> bytes:
    return bytes(scene.export(file_type="glb"))


def text_of(body: bytes) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(body[20 : 20 + int.from_bytes(body[12:16], "little")])
    return found


def embedded(body: bytes, **other: Any) -> bytes:
    """The same as text, with its points inside."""
    told = text_of(body)
    start = 20 + int.from_bytes(body[12:16], "little") + 8
    told["buffers"][0]["uri"] = "data:application/octet-stream;base64," + base64.b64encode(body[start:]).decode()
    return json.dumps({**told, **other}).encode()


@pytest.mark.parametrize("how", ["binary", "text"])
def test_a_shape_is_read_as_trimesh_wrote_it(how: str) -> None:
    scene = palm()
    shape = read_model(glb(scene) if how == "binary" else embedded(glb(scene)))
    assert shape.triangles == sum(len(mesh.faces) for mesh in scene.geometry.values())
    assert (shape.tall, shape.wide) == (pytest.approx(6, abs=1e-4), pytest.approx(1.5, abs=0.02))
    assert shape.at[:, 2].min() == pytest.approx(0, abs=1e-5)
    assert np.abs(shape.at[:, :2].max(axis=0) + shape.at[:, :2].min(axis=0)).max() < 1e-4
    # Colours of glTF are linear: 150 of 255 is 0.588, which is 0.790 in sRGB (IEC 61966-2-1).
    top = shape.colour[shape.at[:, 2].argmax()]
    assert top[1] == pytest.approx(0.790, abs=0.003)


def test_a_shape_takes_a_kinds_measures_and_gets_simpler_with_distance() -> None:
    shape = read_model(glb(palm(4)))
    counts = []
    for detail, most in enumerate((shape.triangles, SIMPLER_TRIANGLES, CARD_TRIANGLES)):
        mesh, ink = fitted(shape, 9.0, 2.5, detail)
        counts.append(mesh.triangles)
        assert mesh.triangles <= most
        assert mesh.at[:, 2].max() == pytest.approx(9, rel=0.12)
        assert np.hypot(mesh.at[:, 0], mesh.at[:, 1]).max() == pytest.approx(2.5, rel=0.15)
        assert len(ink) == len(mesh.at)
        assert np.allclose(np.linalg.norm(mesh.normal, axis=1), 1, atol=1e-3)
        if detail < 2:
            green = mesh.of == LEAF
            assert mesh.at[green, 2].min() > mesh.at[~green, 2].min()
    assert counts[0] > counts[1] > counts[2] >= 8


def test_a_flat_shape_is_made_simpler_too() -> None:
    sheet = trimesh.creation.box((4, 3, 0.0)).subdivide().subdivide().subdivide()
    shape = read_model(glb(trimesh.Scene([sheet])))
    for detail in (1, 2):
        assert 0 < fitted(shape, 3, 2, detail)[0].triangles <= (SIMPLER_TRIANGLES, CARD_TRIANGLES)[detail - 1]


def wrong(name: str) -> bytes:
    body = glb(palm(1))
    told = text_of(body)
    if name == "nothing":
        return b""
    if name == "other":
        return b"\x89PNG\r\n\x1a\n" + bytes(60)
    if name == "cut":
        return body[: len(body) // 2]
    if name == "outside":
        return json.dumps({**told, "buffers": [{"uri": "points.bin", "byteLength": 8}]}).encode()
    if name == "picture outside":
        return embedded(body, images=[{"uri": "../../etc/passwd"}])
    if name == "extension":
        return embedded(body, extensionsRequired=["KHR_draco_mesh_compression"])
    if name == "empty":
        return json.dumps({"asset": {"version": "2.0"}, "scenes": [{"nodes": []}], "scene": 0}).encode()
    if name == "many":
        return embedded(body, nodes=[{"mesh": 1}] * 300, scenes=[{"nodes": list(range(300))}])
    if name == "round":
        return embedded(body, nodes=[{"children": [0]}], scenes=[{"nodes": [0]}])
    if name in UNSOUND:
        return embedded(body, **UNSOUND[name][0])
    if name == "count":
        accessors = [{**accessor, "count": 2**31} for accessor in told["accessors"]]
        return embedded(body, accessors=accessors)
    if name == "colour":
        return embedded(body, materials=[{"pbrMetallicRoughness": {"baseColorFactor": "red"}}] * 2)
    assert name == "tiny"
    scene = palm(1)
    scene.apply_scale(1e-4)
    return glb(scene)


CHAIN = [{"mesh": 0, "children": [at + 1]} for at in range(99)] + [{"mesh": 0}]
UNSOUND: dict[str, tuple[dict[str, Any], str]] = {
    "extensions that are a number": ({"extensionsRequired": 5}, "its extensionsRequired cannot be '5'"),
    "a node that is a word": ({"nodes": ["root"]}, r"its nodes\[0\] cannot be 'root'"),
    "a mesh without parts": ({"meshes": [{}]}, r"it has no meshes\[0\] primitives"),
    "a million nodes": ({"nodes": [{}] * 1_000_000}, "at most 5,000 nodes, not 1,000,000"),
    "a million materials": ({"materials": [{}] * 1_000_000}, "at most 10,000 materials, not 1,000,000"),
    "a chain of nodes": ({"nodes": CHAIN}, "at most 64 deep"),
    "many chains of nodes": (
        {"nodes": [{"children": [at + 1]} if (at + 1) % 50 else {} for at in range(1_500)]},
        "taken together, not 38,",
    ),
    "a mesh that is not there": ({"nodes": [{"mesh": 7}]}, "it has no mesh 7"),
}
WRONG = {
    "nothing": "must be glTF", "other": "must be glTF", "cut": "damaged|more than it holds", "outside": "points.bin",
    "picture outside": "etc/passwd", "extension": "KHR_draco_mesh_compression", "empty": "it has none",
    "many": f"at most {MOST_TRIANGLES:,} triangles", "round": "in a ring", "count": "more than it holds",
    "colour": "a colour of it is red", "tiny": "0.01 m tall at least",
    **{name: words for name, (_, words) in UNSOUND.items()},
}  # fmt: skip


@pytest.mark.parametrize("name", WRONG)
def test_a_wrong_shape_is_refused_by_name(name: str) -> None:
    with pytest.raises(FormatError, match=WRONG[name]):
        read_model(wrong(name))


def test_damaged_bytes_never_make_anything_but_a_shape_or_a_message() -> None:
    body, rng = glb(palm(1)), np.random.default_rng(3)
    for _ in range(60):
        damaged = np.frombuffer(body, np.uint8).copy()
        damaged[rng.integers(0, len(damaged), 6)] = rng.integers(0, 256, 6)
        with suppress(FormatError):
            assert np.isfinite(read_model(damaged.tobytes()).at).all()


def test_a_kind_is_drawn_as_what_was_brought_and_handed_over_with_it(world: OpenWorld, tmp_path: Path) -> None:
    body = glb(palm())
    row = add_model(world, "Palm", body)
    before = shape_of(world, world.row(KINDS, "tree"), 0)
    world.edit(patch(KINDS, "tree", model=row.key))
    kind = world.row(KINDS, "tree")
    own = shape_of(world, kind, 0)
    assert (len(own) // 3, row.triangles) == (row.triangles, row.triangles)
    assert own[:, 2].max() == pytest.approx(kind.tall_m, rel=1e-3)
    bare = shape_of(world, kind.model_copy(update={"variant": "bare"}), 0)
    assert 0 < len(bare) < len(own)
    assert np.array_equal(before, formed(kind, 0))
    package = tmp_path / "package.zip"
    write_package(world, package, lambda done, words: None)
    with zipfile.ZipFile(package) as zipped:
        assert zipped.read(f"models/{row.key}.glb") == body
        kinds = json.loads(zipped.read("manifest.json"))["kinds"]
    assert next(one for one in kinds if one["key"] == "tree")["model"] == row.key
    world.undo()
    assert np.array_equal(shape_of(world, world.row(KINDS, "tree"), 0), before)


def test_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "W", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    models = f"/api/worlds/{world}/models"
    made = client.post(models, data={"name": "Palm"}, files={"file": ("palm.glb", glb(palm()))})
    assert made.status_code == 201, made.text
    assert client.get(models).json() == [made.json()]
    refused = client.post(models, data={"name": "Palm"}, files={"file": ("palm.gltf", wrong("outside"))})
    assert (refused.status_code, "points.bin" in refused.text) == (422, True)
    assert len(client.get(models).json()) == 1
    kind = {"name": "Palm", "form": "broadleaf", "tall_m": 6, "crown_m": 1.5, "colour": "#3c6a42", "model": "mnone"}
    none = client.put(f"/api/worlds/{world}/kinds/palm", json=kind)
    assert (none.status_code, "mnone" in none.text) == (404, True)
    kind["model"] = made.json()["key"]
    assert client.put(f"/api/worlds/{world}/kinds/palm", json=kind).status_code in (200, 201)
    shape = client.get(f"/api/worlds/{world}/kinds/palm/shape", params={"detail": 2})
    assert shape.headers["x-shape"] == f"{int(shape.headers['x-shape'].split(',')[0])},11"
    switches = client.get(f"/api/worlds/{world}/kinds/palm/switches").json()
    assert switches["sizes"]["simpler"] == pytest.approx(6 / 60 * 540 / np.tan(np.radians(25)), abs=0.1)
    copied = client.post(f"/api/worlds/{world}/copy", json={"name": "Again"})
    assert copied.status_code in (201, 202), copied.text
