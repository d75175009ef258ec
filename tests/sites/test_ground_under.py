"""Pads, what keeps clear of pieces, decals, assemblies, findings: what stands and the ground under it."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from PIL import Image
from shapely.affinity import rotate
from shapely.geometry import Polygon, box
from shapely.ops import unary_union

from fernfield.core.grid import Window
from fernfield.core.sites.decals import DECALS, decal, draped, laid_on, lettering
from fernfield.core.sites.pads import Pad, padded
from fernfield.work.kernel.commands import put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.sites.arranging import Arrange, arrange
from fernfield.work.sites.assemblies import ASSEMBLIES, Assembly
from fernfield.work.sites.decals import DECALS_ROWS, Decal, decals_on_tops
from fernfield.work.sites.findings import SettleThings, piece_troubles, settle_things
from fernfield.work.sites.joining import Join, Loosen, join_things, loosen
from fernfield.work.sites.kit import kit_of
from fernfield.work.sites.rows import THINGS, Assembled, Piece
from fernfield.work.sites.standing import clear_of_pieces, stood_in
from tests.conftest import draw, everything, ground

SLOPE = {"tool": "raise", "radius_m": 120, "softness": 1.0, "strength": 12}


@pytest.fixture
def hill(world: OpenWorld) -> OpenWorld:
    draw(world, path=[(150, 150, 0), (150, 150, 2)], **SLOPE)
    return world


def barn(x: float, y: float, **also: Any) -> Piece:
    return Piece(kit="stone_barn", name="Barn", x=x, y=y, **also)


def test_a_pad_is_level_where_it_says_and_led_to_the_land_over_its_shoulder() -> None:
    """A square of 10 m on a plane: level to 2 m around it, the plane from 6 m on, between them a straight line."""
    x, y = np.meshgrid(np.arange(60.0), np.arange(59.0, -1, -1))
    plane = (10 + 0.2 * x).astype(np.float32)
    square = np.array([(25, 25), (35, 25), (35, 35), (25, 35)], np.float64)
    found = padded(plane, [Pad((square,), 16.0, 2.0, 4.0)], 0.0, 59.0, 1.0)
    away = np.hypot(np.maximum(0, abs(x - 30) - 5), np.maximum(0, abs(y - 30) - 5))
    assert (found[away <= 2] == 16).all()
    assert (found[away >= 6] == plane[away >= 6]).all()
    row = 59 - 30
    assert found[row, 39] == pytest.approx((16 + plane[row, 39]) / 2, abs=1e-5)


def test_a_pad_is_made_follows_and_is_gone_to_the_bit(hill: OpenWorld) -> None:
    before = ground(hill)
    made = hill.edit(put(THINGS, "barn", barn(100, 110, turn_deg=20)))
    level = hill.row(THINGS, "barn").level_m  # type: ignore[attr-defined]
    now = ground(hill)
    assert hill.first_tract.elevation(100, 110) == pytest.approx(level, abs=1e-4)
    # Volumes by hand: posts of a square metre each, over the same posts.
    rise = now.astype(np.float64) - before
    assert made.fill_m3 == pytest.approx(rise.clip(0).sum(), rel=1e-6)
    assert made.cut_m3 == pytest.approx(-rise.clip(None, 0).sum(), rel=1e-6)
    # As much is cut as is filled under the barn itself, nearly: its level is the mean.
    assert abs(made.fill_m3 - made.cut_m3) < 0.25 * (made.fill_m3 + made.cut_m3)
    arrange(hill, ["barn"], Arrange(dx_m=60, dy_m=30))
    left, moved = ground(hill), hill.row(THINGS, "barn")
    assert np.array_equal(left[150:215, 60:120], before[150:215, 60:120])
    assert hill.first_tract.elevation(moved.x, moved.y) == pytest.approx(moved.level_m, abs=1e-4)  # type: ignore[attr-defined]
    hill.edit(remove(THINGS, "barn"))
    assert np.array_equal(ground(hill), before)
    for _ in range(3):
        hill.undo()
    assert np.array_equal(ground(hill), before)


def test_two_pads_side_by_side_over_four_tiles_leave_no_crease(hill: OpenWorld) -> None:
    hill.edit(put(THINGS, "a", barn(245, 45)))
    hill.edit(put(THINGS, "b", barn(262, 45)))
    once = ground(hill)
    hill.edit(remove(THINGS, "b"))
    hill.edit(put(THINGS, "b", barn(262, 45)))
    assert np.array_equal(ground(hill), once)
    for key in ("a", "b"):
        assert np.ptp(once[240:270, int(hill.row(THINGS, key).x) - 4 : int(hill.row(THINGS, key).x) + 5][12:18]) < 1e-3


def test_shaped_ground_and_wrong_feet_are_found_and_mended(hill: OpenWorld) -> None:
    assert list(piece_troubles(hill)) == []
    hill.edit(put(THINGS, "barn", barn(100, 110)))
    hill.edit(put(THINGS, "cairn", Piece(kit="cairn", name="Cairn", x=200, y=60, over_m=3)))
    hill.edit(put(THINGS, "deep", Piece(kit="cairn", name="Deep", x=220, y=60, over_m=-3)))
    hill.edit(put(THINGS, "in", Piece(kit="lime_kiln", name="Kiln", x=202, y=60)))
    draw(hill, path=[(100, 110, 0), (104, 110, 1)], radius_m=12)
    found = {one.trouble: (one.count, one.key) for one in piece_troubles(hill)}
    assert found == {"floating": (1, "cairn"), "buried": (1, "deep"), "uneven": (1, "barn"), "inside": (1, "in")}
    for trouble in ("floating", "buried", "uneven"):
        settle_things(hill, SettleThings(trouble=trouble))  # type: ignore[arg-type]
    assert [one.trouble for one in piece_troubles(hill)] == ["inside"]
    hill.undo()
    assert {one.trouble for one in piece_troubles(hill)} == {"inside", "uneven"}


def test_nothing_that_is_sown_grows_in_a_footprint(world: OpenWorld) -> None:
    world.edit(put(THINGS, "barn", barn(100, 110, turn_deg=45)))
    x, y = (part.ravel().astype(np.float32) for part in np.meshgrid(np.linspace(80, 120, 81), np.linspace(90, 130, 81)))
    with world.lock:
        clear = clear_of_pieces(world, world.first_land, x, y)
    # Turned by 45°: across and along its own axes; 10.8 × 18.8 m and 1.5 m around.
    across, along = (x - 100 - (y - 110)) / np.sqrt(2), (x - 100 + y - 110) / np.sqrt(2)
    deep = np.hypot(np.maximum(abs(across) - 5, 0), np.maximum(abs(along) - 9, 0))
    assert not clear[deep < 1.4].any()
    assert clear[deep > 2.0].all()


def test_an_assembly_is_placed_as_one_followed_and_loosened(hill: OpenWorld) -> None:
    for key, kit, x, y in (("a", "stone_barn", 100, 100), ("b", "cairn", 120, 100)):
        hill.edit(put(THINGS, key, Piece(kit=kit, name=key, x=x, y=y)))
    shaped = ground(hill)
    key, _ = join_things(hill, Join(ids=("a", "b"), name="Yard"))
    (placed,) = [(k, t) for k, t in hill.each(THINGS) if isinstance(t, Assembled)]
    assert np.array_equal(ground(hill), shaped)
    hill.edit(put(THINGS, "two", Assembled(assembly=key, name="Two", x=200, y=200, turn_deg=90)))

    def stands() -> list[tuple[str, float, float]]:
        with hill.lock:
            stood = stood_in(hill, hill.first_land, (0, 0, 300, 300))
        return sorted((one.entry.name, round(one.pose.x, 3), round(one.pose.y, 3)) for one in stood)

    assert stands() == [("cairn", 120, 100), ("cairn", 200, 190), ("stone_barn", 100, 100), ("stone_barn", 200, 210)]
    for x, y in ((200, 210), (203, 205)):
        assert hill.first_tract.elevation(x, y) == pytest.approx(hill.row(THINGS, "two").levels[0], abs=1e-3)  # type: ignore[attr-defined]
    ways = Assembly.model_validate({"name": "Yard", "ways": [{"members": [{"kit": "beacon", "x": 0, "y": 5}]}]})
    hill.edit(put(ASSEMBLIES, key, ways))
    assert stands() == [("beacon", 110, 105), ("beacon", 205, 200)]
    _, made = loosen(hill, Loosen(ids=("two",)))
    hill.edit(put(ASSEMBLIES, key, ways.model_copy(update={"ways": (ways.ways[0].model_copy(update={"members": (
        ways.ways[0].members[0].model_copy(update={"kit": "cairn"}),)}),)})))  # fmt: skip
    assert stands() == [("beacon", 205, 200), ("cairn", 110, 105)]
    assert hill.row(THINGS, made[0]).turn_deg == 90
    assert placed[1].assembly == key


def test_undo_of_all_of_it_is_the_world_as_it_was(hill: OpenWorld) -> None:
    before = everything(hill)
    hill.edit(put(THINGS, "barn", barn(100, 110)))
    hill.edit(put(THINGS, "c", Piece(kit="cairn", name="C", x=160, y=110, on=None)))
    join_things(hill, Join(ids=("barn", "c"), name="Yard"))
    (one,) = [k for k, t in hill.each(THINGS) if isinstance(t, Assembled)]
    arrange(hill, [one], Arrange(turn_by_deg=33, dx_m=20, copied=True))
    loosen(hill, Loosen(ids=(one,)))
    for _ in range(5):
        hill.undo()
    assert everything(hill) == before


def test_a_decal_lies_where_it_says_in_the_picture(world: OpenWorld) -> None:
    part, show = Window(100, 100, 200, 200), Show(contour_m=0, water=False, growth=False, shadows=False)
    before = plan_pixels(world, world.first_land, 0, part, show).astype(int)
    row = Decal(
        name="X", picture="ring", x=150, y=150, width_m=40, depth_m=20, turn_deg=90, colour="#000000", strength=1
    )
    world.edit(put(DECALS_ROWS, "x", row))
    changed = np.abs(plan_pixels(world, world.first_land, 0, part, show).astype(int) - before).sum(axis=2) > 60
    rows, cols = np.nonzero(changed)
    # Turned by a quarter it is 40 m deep and 20 m wide: its ring reaches 0.91 of that.
    assert np.ptp(rows) == pytest.approx(36, abs=2)
    assert np.ptp(cols) == pytest.approx(18, abs=2)
    assert not changed[50, 50]
    world.edit(remove(DECALS_ROWS, "x"))
    assert np.array_equal(plan_pixels(world, world.first_land, 0, part, show).astype(int), before)


def test_a_decal_lies_on_what_can_be_stood_on(world: OpenWorld) -> None:
    """By Shapely: what of a deck lies under a mark, and where in the mark."""
    deck = np.array([[[-3, -2, 1.5], [3, -2, 1.5], [3, 2, 1.5]], [[-3, -2, 1.5], [3, 2, 1.5], [-3, 2, 1.5]]], float)
    under = deck[:, ::-1] - [0, 0, 1]
    found = draped(np.concatenate([deck, under]), (2.0, 1.0), (4.0, 1.5), 30.0)
    mark = rotate(box(0, 0.25, 4, 1.75), -30)
    shapes = [Polygon(one[:, :2]) for one in found]
    assert unary_union(shapes).symmetric_difference(mark.intersection(box(-3, -2, 3, 2))).area < 1e-9
    assert sum(one.area for one in shapes) == pytest.approx(mark.intersection(box(-3, -2, 3, 2)).area)
    assert (found[:, :, 2] == 1.5).all()
    right, ahead = np.moveaxis((found[:, :, 3:] - 0.5) * (4.0, 1.5), -1, 0)
    turn = np.radians(30)
    assert np.allclose(found[:, :, 0], 2 + right * np.cos(turn) + ahead * np.sin(turn))
    assert np.allclose(found[:, :, 1], 1 - right * np.sin(turn) + ahead * np.cos(turn))
    world.edit(put(THINGS, "b", Piece(kit="boardwalk", name="B", x=100, y=100, turn_deg=40)))
    world.edit(put(THINGS, "post", Piece(kit="lamp_post", name="P", x=120, y=100)))
    for key, tops, x in (("on", True, 100.5), ("not", False, 100), ("post", True, 120), ("off", True, 150)):
        world.edit(put(DECALS_ROWS, key, Decal(name=key, x=x, y=100, width_m=1, depth_m=1, tops=tops)))
    (top,) = decals_on_tops(world)
    assert (top["decal"], top["thing"], top["number"]) == ("on", "b", 0)
    corners = np.array(top["triangles"]).reshape(-1, 5)
    entry = kit_of(world)["boardwalk"]
    assert corners[:, 2].max() == pytest.approx(entry.size[2], abs=0.05)
    # Beams under its boards are marked too, and are not seen.
    assert 0.5 < unary_union([Polygon(one) for one in corners[:, :2].reshape(-1, 3, 2)]).area <= 1.0001


def test_every_decal_is_a_mark_and_turns_as_pillow_turns_it() -> None:
    for name in DECALS:
        image = decal(name)
        assert image.shape == (256, 256)
        assert 0.02 < image.mean() < 0.8
        assert (image.min(), image.max()) == (pytest.approx(0, abs=0.05), pytest.approx(1, abs=0.35))
    assert (lettering("B") != lettering("8")).any()
    paper = np.zeros((3, 256, 256), np.float32)
    laid_on(paper, decal("arrow"), (128.0, 128.0), (256.0, 256.0), 90.0, (255, 255, 255), 1.0, 1.0)
    turned = np.asarray(Image.fromarray((decal("arrow") * 255).astype(np.uint8)).rotate(-90))
    assert np.abs(paper[0] - turned).mean() < 4


FILES: tuple[tuple[str, str, list[str], str], ...] = (
    ("Easting,Northing,Object,id\n10,20,cairn,a\n30,40,beacon,b\n", "", ["a", "b"], ""),
    ("px;py\n1;2\n", "", [], "sort must be"),
    ("E,N,what,id\n1000,2000,cairn,a\n", '&unit=cm&columns={"E":"x","N":"y","what":"kit"}', ["a"], ""),
    ("x,y,kit,key\n10,20,cairn,a\n", "&axes=north-east", ["a"], ""),
    ("x,y,kit,key\n2026-11-30,20,cairn,a\n", "", [], "number"),
    ("x,y,kit,key\n10,20,tower,a\n", "", [], "tower"),
)


@pytest.mark.parametrize(("body", "query", "keys", "words"), FILES)
def test_positions_as_a_file(client: TestClient, body: str, query: str, keys: list[str], words: str) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}/things"

    def send(take: str) -> Any:
        return client.post(f"{at}/file?take={take}{query}", files={"file": ("t.csv", body.encode())})

    text = send("look")
    if words:
        assert words in text.text
        return
    assert text.status_code == 200, text.text
    assert text.json()["new"] == keys
    send("all")
    one = client.get(at).json()[0]
    assert (one["x"], one["y"], one["name"]) == ((20, 10, "Cairn 1") if "north-east" in query else (10, 20, "Cairn 1"))


def test_a_file_goes_out_comes_back_and_moves_what_is_there(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}/things"
    for k in range(4):
        client.post(at, json={"sort": "piece", "kit": "tool_cache", "x": 10.25 * k, "y": 7, "data": {"uses": k + 1}})
    client.post(at, json={"sort": "start", "x": 50, "y": 50})
    before = client.get(at).json()
    for end, name in ((".csv", "t.csv"), (".geojson", "t.json")):
        body = client.get(f"{at}{end}").content
        same = client.post(f"{at}/file?take=all", files={"file": (name, body)}).json()
        assert (same["new"], same["changed"], same["same"], same["unknown"]) == ([], [], 5, []), same
    keys = [one["key"] for one in before if one["sort"] == "piece"][:2]
    moved = client.get(f"{at}.csv?ids={','.join(keys)}").text.replace(",7.0,", ",9.5,")
    assert moved.count("\n") == 3
    told = client.post(f"{at}/file?take=all", files={"file": ("t.csv", moved.encode())}).json()
    assert sorted(told["changed"]) == sorted(keys)
    now = {one["key"]: one for one in client.get(at).json()}
    assert len(now) == 5
    assert {now[key]["y"] for key in keys} == {9.5}
    for count, most in ((100_001, "100,000"), (20_001, "20,000")):
        many = "x,y,kit,key\n" + "1,1,cairn,a\n" * count
        refused = client.post(f"{at}/file", files={"file": ("t.csv", many.encode())})
        assert (refused.status_code, most in refused.text) == (422, True)


def test_what_cannot_be_together_is_refused(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "W", "width_m": 100, "depth_m": 100, "spacing_m": 1}).json()
    at = f"/api/worlds/{made['id']}"
    client.put(f"{at}/assemblies/a", json={"name": "A", "ways": [{"members": [{"kit": "cairn"}]}]})
    client.put(f"{at}/assemblies/b", json={"name": "B", "ways": [{"members": [{"assembly": "a"}]}]})
    client.put(f"{at}/things/t", json={"sort": "piece", "kit": "block", "name": "T", "x": 50, "y": 50})
    client.put(f"{at}/things/u", json={"sort": "piece", "kit": "cairn", "name": "U", "x": 50, "y": 50, "on": "t"})
    inner = {"ways": [{"members": [{"assembly": "b"}]}]}
    for method, path, body, status, words in (
        ("PATCH", "assemblies/a", inner, 422, "cannot hold itself"),
        ("DELETE", "assemblies/a", None, 409, "named by the assembly B"),
        ("PATCH", "things/t", {"on": "u"}, 422, "cannot stand on itself"),
        ("PATCH", "things/t", {"data": {"uses": 3}}, 422, "no field 'uses'"),
        ("PATCH", "things/t", {"default": True}, 422, "default"),
        ("PUT", "things/v", {"sort": "tree", "name": "V", "x": 1, "y": 1}, 422, "piece"),
        ("PUT", "things/v", {"sort": "piece", "name": "V", "x": 1, "y": 1}, 422, "kit"),
        ("POST", "things", {"sort": "piece", "kit": "tower", "x": 1, "y": 1}, 422, "windpump"),
        ("POST", "things/join", {"ids": ["t"]}, 422, "name"),
        ("POST", "things/loosen", {"ids": ["t"]}, 409, "no assembly"),
        ("POST", "things/settle", {}, 422, "say which"),
        ("POST", "things/lay", {"of": [{"kit": "cairn"}], "by": "line"}, 422, "points"),
        ("POST", "things/lay?take=all", {"of": [{"kit": "cairn"}], "spots": [[50, 50]]}, 422, "would stand in"),
        ("PUT", "scatters/s", {"name": "S", "of": [{"kit": "cairn"}]}, 422, "count or per_ha"),
        ("PUT", "scatters/s", {"name": "S", "of": [{"kit": "tower"}], "count": 3}, 404, "tower"),
        ("PUT", "decals/d", {"name": "D", "picture": "letters", "x": 1, "y": 1}, 422, "text"),
    ):
        answer = client.request(method, f"{at}/{path}", json=body)
        assert (answer.status_code, words in answer.text) == (status, True), (path, answer.text)
    # What stood on a thing that goes stands on the ground.
    assert client.delete(f"{at}/things/t").status_code == 200
    (left,) = client.get(f"{at}/things").json()
    assert (left["on"], left["key"]) == (None, "u")
