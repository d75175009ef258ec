"""The kit: every entry at every detail and look, what it takes up, what blocks, and entries that people make."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
import trimesh
from fastapi.testclient import TestClient
from shapely.geometry import MultiPoint, Point, Polygon
from shapely.ops import unary_union

from fernfield.core.sites.kit import OVERHEAD_M, Part
from fernfield.core.sites.placing import Pose, laid, outlines_many, outlines_of
from fernfield.core.sites.placing import ends_of as ends
from fernfield.core.sites.shipped import KIT, SHIPPED
from fernfield.core.sites.solids import FORMS, entry_shape, hull, shape_of_part
from fernfield.core.travel.passable import obstacle_table
from fernfield.core.travel.walker import Intent, Obstacle, Walker, _nearest, tick
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.kit import kit_of
from tests.core.test_passable import Posts

CLOSED = ("box", "drum", "gable", "ramp", "heap", "bowl")
VOLUMES = {"box": 30.0, "gable": 15.0, "ramp": 15.0}
"""Of 3 × 5 × 2 m: a box is all of it, a prism over a triangle half (textbook geometry)."""


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("detail", [0, 1, 2])
def test_a_form_fills_its_measures_and_is_closed(form: str, detail: int) -> None:
    """By trimesh: as large as is said, faces outwards, without holes where it is one solid."""
    corners = shape_of_part(Part(form, (3.0, 5.0, 2.0)), detail)
    mesh = trimesh.Trimesh(corners.reshape(-1, 3), np.arange(corners.size // 3).reshape(-1, 3))
    mesh.merge_vertices()
    assert np.ptp(mesh.vertices, axis=0) == pytest.approx((3, 5, 2), abs=0.07)
    assert mesh.volume > 0
    if form in CLOSED:
        assert (mesh.is_watertight, mesh.is_winding_consistent) == (True, True)
    if form in VOLUMES:
        assert mesh.volume == pytest.approx(VOLUMES[form], rel=1e-9)


@pytest.mark.parametrize("name", KIT)
def test_an_entry_has_three_details_and_its_looks(name: str) -> None:
    entry = KIT[name]
    counts = list(entry.triangles)
    assert 0 < counts[0] <= counts[1] <= counts[2] <= 600
    shapes = [entry_shape(entry, look.name) for look in entry.looks]
    assert len({shape.tobytes() for shape in shapes}) == len(shapes)
    for shape in shapes:
        assert (shape[:, 6:] >= 0).all()
        assert (shape[:, 6:] <= 1).all()
        assert np.linalg.norm(shape[:, 3:6], axis=1) == pytest.approx(1, abs=1e-4)
    # From far away it is nearly as wide and tall as near by.
    far, near = (entry_shape(entry, detail=detail)[:, :3] for detail in (0, 2))
    assert (np.ptp(far[:, :2], axis=0) >= 0.75 * np.ptp(near[:, :2], axis=0) - 0.8).all()
    assert far[:, 2].max() >= near[:, 2].max() - 1.3


def test_twenty_entries_ship_each_found_by_name_tag_folder_and_size(client: TestClient) -> None:
    assert len(SHIPPED) >= 20
    assert all(len(entry.looks) >= 2 and entry.tags and entry.folder for entry in SHIPPED.values())
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}/kit"

    def found(query: str) -> list[str]:
        return [one["key"] for one in client.get(f"{at}?{query}").json()]

    assert found("find=WALL stone") == ["field_wall"]
    assert "cairn" in found("folder=landmarks")
    assert set(found("find=small resource")) < set(found("find=resource"))
    assert found("find=11x19x8") == ["stone_barn"]
    assert found("find=nothing+like+it") == []


def test_an_outline_is_the_shadow_of_what_is_not_overhead() -> None:
    """By Shapely: convex polygons, counter-clockwise; their union is that of the firm parts under people's heads."""
    for entry in KIT.values():
        polygons = [Polygon(corners) for corners in entry.outline]
        assert all(one.is_valid and one.exterior.is_ccw for one in polygons), entry.name
        points = [shape_of_part(part, 2).reshape(-1, 3) for part in entry.parts if part.firm]
        low = [MultiPoint(one[:, :2]).convex_hull for one in points if one[:, 2].min() < OVERHEAD_M]
        assert unary_union(polygons).symmetric_difference(unary_union(low)).area < 1e-6, entry.name
    rng = np.random.default_rng(4)
    for _ in range(50):
        points = rng.normal(size=(12, 2)).round(1)
        assert Polygon(hull(points)).symmetric_difference(MultiPoint(points).convex_hull).area < 1e-9


def test_many_outlines_are_those_of_each() -> None:
    rng = np.random.default_rng(2)
    entries = [KIT["lime_kiln"], KIT["field_wall"], KIT["cairn"]]
    kind = rng.integers(0, 3, 40)
    x, y, turn, tilt = rng.uniform(0, 90, (4, 40))
    size, lean = rng.uniform(0.5, 2, 40), rng.uniform(-0.3, 0.3, (2, 40))
    poses = [Pose(*map(float, (x[i], y[i], 0, turn[i], tilt[i], size[i], lean[0, i], lean[1, i]))) for i in range(40)]
    one = outlines_of([(entries[k], pose) for k, pose in zip(kind.tolist(), poses, strict=True)])
    frames = np.array([pose.frame[:2, :2] for pose in poses])
    many = outlines_many(entries, kind, x, y, frames)
    for name in ("first", "begin"):
        assert (getattr(one, name) == getattr(many, name)).all()
    assert np.abs(one.corners - many.corners).max() < 1e-9
    assert np.abs(one.reach - many.reach).max() < 1e-9


def test_a_piece_lies_on_a_plane_to_a_millimetre() -> None:
    """On z = 3 + 0.2 x - 0.1 y its foot and its own corners are on that plane, however it is turned."""
    for turn in range(0, 360, 25):
        x, y, half = 7.0, -4.0, (1.5, 3.0)
        z, east, north = laid([3 + 0.2 * a - 0.1 * b for a, b in ends(x, y, turn, half).tolist()], half, turn)
        placed = Pose(x, y, z, turn, 0.0, 1.0, east, north).of(np.array([(1.5, 3, 0), (-1.5, 3, 0), (0, -3, 0)]))
        assert placed[:, 2] == pytest.approx(3 + 0.2 * placed[:, 0] - 0.1 * placed[:, 1], abs=1e-9)


def test_a_polygon_stops_a_walker_where_shapely_says_it_begins() -> None:
    rng = np.random.default_rng(6)
    for _ in range(40):
        corners = hull(rng.normal(size=(7, 2)) * 3)
        polygon, spot = Polygon(corners + np.array([20, -20])), Point(*(rng.uniform(14, 26, 2) * [1, -1]))
        told = Obstacle("hut", 20, -20, 9.0, -1, 3, corners=tuple((float(a), float(b)) for a, b in corners))
        gap, east, north = _nearest(told, spot.x, spot.y)
        inside = polygon.contains(spot)
        assert gap == pytest.approx(-polygon.exterior.distance(spot) if inside else polygon.distance(spot), abs=1e-6)
        # The way out leads to the edge.
        out = Point(spot.x - east * gap, spot.y - north * gap)
        assert polygon.exterior.distance(out) < 1e-6
    posts = Posts(np.zeros((40, 40), np.float32), np.full((40, 40), -9.0, np.float32))
    square = ((-2.0, -2.0), (2.0, -2.0), (2.0, 2.0), (-2.0, 2.0))
    posts.things = [Obstacle("hut", 20, -20, 3.0, -1, 3, corners=square)]
    walker = Walker(20.0, -30.0, 0.0)
    for _ in range(600):
        walker = tick(walker, Intent(ahead=1.0, facing=0.0), posts)
    assert walker.y == pytest.approx(-22.3, abs=0.02)
    assert obstacle_table(posts.things)[0, 9] == 4


OWN: tuple[tuple[dict[str, Any], int, str], ...] = (
    ({"name": "R", "form": "ramp", "width_m": 3, "depth_m": 9, "height_m": 2}, 200, ""),
    ({"name": "L", "form": "like", "like": "windpump", "tags": "tall, ours", "margin_m": 4}, 200, ""),
    (
        {
            "name": "B",
            "form": "block",
            "fields": [{"name": "hp", "label": "Strength", "low": 1, "high": 9, "first": 5}],
        },
        200,
        "",
    ),
    ({"name": "X", "form": "like"}, 422, "like says which entry"),
    ({"name": "X", "form": "like", "like": "tower"}, 422, "windpump"),
    ({"name": "X", "form": "model", "model": "m1"}, 404, "shape must be"),
    ({"name": "X", "form": "block", "width_m": 0}, 422, "above 0"),
    (
        {"name": "X", "form": "block", "fields": [{"name": "hp", "label": "HP", "low": 1, "high": 9, "first": 50}]},
        422,
        "1 to 9",
    ),
)


@pytest.mark.parametrize(("said", "status", "words"), OWN)
def test_entries_of_ones_own(client: TestClient, said: dict[str, Any], status: int, words: str) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}"
    answer = client.put(f"{at}/kit/own", json=said)
    assert answer.status_code == status, answer.text
    assert words in answer.text
    if status != 200:
        assert len(client.get(f"{at}/kit").json()) == len(KIT)
        return
    (told,) = client.get(f"{at}/kit?find={said['name']}&folder=own").json()
    assert not told["shipped"]
    assert client.get(f"{at}/kit/own/shape").status_code == 200
    placed = client.post(f"{at}/things", json={"sort": "piece", "kit": "own", "x": 50, "y": 50})
    assert placed.status_code == 201, placed.text
    # What is placed names it: it does not go unless that goes too.
    assert client.delete(f"{at}/kit/own").status_code == 409
    assert client.delete(f"{at}/kit/own?on_named=delete").status_code == 200
    assert client.get(f"{at}/things").json() == []
    for how, body in (("PUT", said), ("PATCH", {"name": "Y"}), ("DELETE", None)):
        refused = client.request(how, f"{at}/kit/cairn", json=body)
        assert (refused.status_code, "Cairn ships with" in refused.text) == (409, True), how


OBJ = b"v 0 0 0\nv 2 0 0\nv 0 3 0\nv 0 0 4\nf 1 3 2\nf 1 2 4\nf 1 4 3\nf 2 3 4\n"


def test_a_shape_is_brought_as_obj_and_its_axes_are_said(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}/kit"

    def bring(name: str, body: bytes) -> Any:
        return client.post(f"{at}/model", files={"file": (name, body)}, data={"name": "Tetra"})

    key = bring("t.obj", OBJ).json()["key"]
    sizes = {}
    for up, times in (("y", 1), ("z", 1), ("z", 2)):
        client.put(f"{at}/tetra", json={"name": "Tetra", "form": "model", "model": key, "up": up, "times": times})
        (one,) = client.get(f"{at}?find=tetra").json()
        sizes[up, times] = one["width"], one["depth"], one["height"]
    assert sizes == {("y", 1): (2, 4, 3), ("z", 1): (2, 3, 4), ("z", 2): (4, 6, 8)}
    for name, body, words in (
        ("t.obj", b"v 0 0 0\n", "no"), ("t.obj", OBJ + b"f 1 2 3\n" * 20_001, "20,000"), ("t.glb", b"glTF", "damaged"),
        ("t.obj", b"\x00\xff" * 50, ""), ("t.obj", b"v 0 0 0\nf 1 2 3\n", "a corner that is not there"),
    ):  # fmt: skip
        refused = bring(name, body)
        assert refused.status_code == 422, (name, refused.text)
        assert words in refused.json()["detail"]


def test_a_world_without_changes_makes_its_kit_once(world: OpenWorld) -> None:
    assert kit_of(world) is kit_of(world)
