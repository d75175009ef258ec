"""The list of covers: added, moved, renamed, hidden, merged, deleted; each is one revision, and back to the byte."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fernfield.core.brush.pace import Sample
from fernfield.core.cover.rules import WHATS
from fernfield.core.errors import Conflict, FernError, InvalidInput, NotFound
from fernfield.core.grid import Window
from fernfield.work.asking.conditions import Condition
from fernfield.work.cover.removing import MergeCover, merge_cover, remove_cover
from fernfield.work.cover.rows import COVERS, Cover, covers_of
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.cover.shares import cover_shares
from fernfield.work.cover.sums import cover_areas, spread
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.strokes import StrokeStart
from tests.conftest import draw, everything
from tests.cover.test_rules import ruled


@pytest.fixture
def bare(world: OpenWorld) -> OpenWorld:
    """Grass (the base), earth, path, rock, without the default world's old rule."""
    world.edit(patch(COVERS, "rock", rule=None))
    return world


def order(world: OpenWorld) -> list[str]:
    assert [cover.position for _, cover in covers_of(world)] == list(range(len(covers_of(world))))
    return [key for key, _ in covers_of(world)]


def test_a_cover_comes_to_lie_where_it_is_put(bare: OpenWorld) -> None:
    assert order(bare) == ["grass", "earth", "path", "rock"]
    bare.edit(put(COVERS, "snow", Cover(name="Snow", colour="#ffffff")))
    assert order(bare)[-1] == "snow"
    bare.edit(put(COVERS, "mud", Cover(name="Mud", colour="#443322", position=1)))
    assert order(bare) == ["grass", "mud", "earth", "path", "rock", "snow"]
    bare.edit(patch(COVERS, "snow", position=2))
    assert order(bare) == ["grass", "mud", "snow", "earth", "path", "rock"]
    bare.edit(patch(COVERS, "mud", name="Wet mud", colour="#332211"))
    assert bare.row(COVERS, "mud").position == 1
    for _ in range(4):
        bare.undo()
    assert order(bare) == ["grass", "earth", "path", "rock"]


def test_what_lies_higher_hides_what_lies_under_it(bare: OpenWorld) -> None:
    for cover in ("rock", "earth"):
        draw(bare, "paint", cover=cover, path=[(100, 100, 0), (100, 100, 1)], strength=1000)
    # Painting earth lifted the rock; laid on again it lies over the earth.
    draw(bare, "paint", cover="rock", path=[(100, 100, 0), (100, 100, 1)], strength=1000)
    spot = Window(200, 100, 201, 101)
    assert cover_shares(bare, bare.first_land, spot)[3, 0, 0] > 0.99
    bare.edit(patch(COVERS, "rock", position=1))
    assert order(bare) == ["grass", "rock", "earth", "path"]
    assert cover_shares(bare, bare.first_land, spot)[2, 0, 0] > 0.99


@pytest.mark.parametrize(
    ("edit", "error", "words"),
    [
        (lambda: patch(COVERS, "grass", hidden=True), Conflict, "base"),
        (lambda: patch(COVERS, "grass", position=2), Conflict, "base"),
        (lambda: patch(COVERS, "rock", position=0), Conflict, "base"),
        (lambda: put(COVERS, "x", Cover(name="X", colour="#000000", position=0)), Conflict, "base"),
        (lambda: remove(COVERS, "rock"), Conflict, "DELETE"),
    ],
)
def test_the_base_stays_the_base(bare: OpenWorld, edit: Any, error: type[FernError], words: str) -> None:
    with pytest.raises(error, match=words):
        bare.edit(edit())
    assert order(bare) == ["grass", "earth", "path", "rock"]


def painted(bare: OpenWorld) -> None:
    draw(bare, "paint", cover="earth", path=[(60, 150, 0), (240, 150, 2)], strength=60)
    draw(bare, "paint", cover="path", path=[(150, 60, 0), (150, 240, 2)], strength=45)
    draw(bare, "paint", cover="rock", path=[(100, 100, 0), (200, 200, 2)], strength=30)


def test_what_a_deleted_cover_leaves_goes_to_those_under_it(bare: OpenWorld) -> None:
    """In their old proportions; what lay over it stays as it is; undo brings every byte back."""
    painted(bare)
    fringe = {"cover": "rock", "conditions": [{"what": "cover", "cover": "path", "from": 0.2}]}
    ruled(bare, {"cover": "path", "amount": 0.5}, fringe, {"cover": "earth", "amount": 0.5})
    whole, before = bare.first_land.grid.window, everything(bare)
    was = cover_shares(bare, bare.first_land, whole)
    remove_cover(bare, "path")
    assert order(bare) == ["grass", "earth", "rock"]
    assert [rule.cover for rule in bare.only(COVER_RULES).rules] == ["earth"]
    now = cover_shares(bare, bare.first_land, whole)
    hand = was[3] > 0.3
    assert np.allclose(now.sum(axis=0), 1, atol=1e-5)
    assert hand.any()
    bare.undo()
    assert everything(bare) == before
    # Without rules: the proportions of grass and earth are those of before.
    ruled(bare)
    was = cover_shares(bare, bare.first_land, whole).astype(np.float64)
    remove_cover(bare, "path")
    now = cover_shares(bare, bare.first_land, whole).astype(np.float64)
    assert np.allclose(now[2], was[3], atol=1e-6)
    rest = was[0] + was[1]
    some = rest > 0.01
    assert np.allclose((now[0] / (now[0] + now[1]))[some], (was[0] / rest)[some], atol=1e-4)
    # One with the same key begins bare.
    bare.edit(put(COVERS, "path", Cover(name="Path", colour="#cbb285")))
    assert cover_shares(bare, bare.first_land, whole)[3].max() == 0


def test_a_merged_cover_hands_over_all_of_its_share(bare: OpenWorld) -> None:
    painted(bare)
    ruled(bare, {"cover": "path", "amount": 0.25})
    whole, before = bare.first_land.grid.window, everything(bare)
    was = cover_shares(bare, bare.first_land, whole)
    merge_cover(bare, MergeCover(cover="path", into="earth"))
    now = cover_shares(bare, bare.first_land, whole)
    assert np.abs(now[1] - (was[1] + was[2])).max() < 1e-3
    assert np.abs(now[2] - was[3]).max() < 1e-3
    assert bare.only(COVER_RULES).rules[0].cover == "earth"
    bare.undo()
    assert everything(bare) == before
    for cover, into, error in (("grass", "rock", Conflict), ("rock", "rock", InvalidInput), ("rock", "tar", NotFound)):
        with pytest.raises(error):
            merge_cover(bare, MergeCover(cover=cover, into=into))


@pytest.mark.parametrize("drawn", [True, False])
def test_a_cover_is_deleted_while_somebody_paints_with_it(bare: OpenWorld, drawn: bool) -> None:
    """Nothing of it stays behind, whoever comes first; the one who comes last is told."""
    start = StrokeStart(tool="paint", cover="path", radius_m=20, softness=0.5, strength=500)
    if drawn:
        # Where something of it lies already, deleting waits for the stroke.
        draw(bare, "paint", cover="path", path=[(90, 100, 0), (110, 100, 1)])
    run = bare.begin_stroke(bare.first_tract.row.id, start)
    if drawn:
        bare.extend_stroke(run, [Sample(100 + 5 * k, 100, 0.1 * k) for k in range(6)])
    deleting = threading.Thread(target=remove_cover, args=(bare, "path"))
    deleting.start()
    if not drawn:
        deleting.join()
    bare.extend_stroke(run, [Sample(140 + 5 * k, 100, 0.7 + 0.1 * k) for k in range(4)])
    if drawn:
        bare.finish_stroke(run)
        deleting.join()
    else:
        with pytest.raises(NotFound, match="path"):
            bare.finish_stroke(run)
    cache = bare.first_tract.cache
    assert not [place for place in cache.ranges if place[0] == "cover:path" and not cache.blank_tile(place)]
    with pytest.raises(NotFound):
        draw(bare, "paint", cover="path")


def test_areas_in_hectares_and_parts(bare: OpenWorld) -> None:
    """300 m square is 9 ha."""
    ruled(
        bare, {"cover": "rock", "conditions": [{"what": "elevation", "from": 12}]}, {"cover": "earth", "amount": 0.25}
    )
    found = {area["key"]: area for area in cover_areas(bare, bare.first_land)}
    assert found["earth"]["ha"] == pytest.approx(9 * 0.25, abs=0.01)
    assert sum(area["part"] for area in found.values()) == pytest.approx(1, abs=1e-4)
    assert found["rock"]["ha"] == 0


def test_how_a_condition_is_spread_over_the_land(bare: OpenWorld) -> None:
    draw(bare, "raise", path=[(150, 150, 0), (150, 150, 1)], radius_m=60, strength=30)
    found = spread(bare, bare.first_land, Condition.model_validate({"what": "elevation", "from": 0}))
    assert (found["low"], found["high"]) == pytest.approx((10, float(bare.first_land.all_heights()[1])))
    assert sum(found["counts"]) == 301 * 301
    for what in WHATS:
        if what in ("plot", "line_distance"):
            continue
        more = {"cover": "rock"} if what == "cover" else {}
        told = spread(bare, bare.first_land, Condition.model_validate({"what": what, "from": 0.5, **more}))
        assert len(told["counts"]) == 48
        assert told["low"] < told["high"]


def test_the_list_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url, land = f"/api/worlds/{world['id']}/covers", f"/api/tracts/{world['tracts'][0]['id']}"
    assert client.put(f"{url}/snow", json={"name": "Snow", "colour": "#ffffff"}).status_code == 200
    assert client.patch(f"{url}/snow", json={"name": "Firn", "position": 1}).status_code == 200
    assert [cover["name"] for cover in client.get(url).json()][:2] == ["Grass", "Firn"]
    assert client.post(f"{url}/snow/merge", json={"into": "rock"}).status_code == 200
    assert client.delete(f"{url}/path").status_code == 200
    assert [cover["key"] for cover in client.get(url).json()] == ["grass", "earth", "rock"]
    assert client.delete(f"{url}/grass").status_code == 409
    assert client.delete(f"{url}/gone").status_code == 404
    assert client.post(f"{url}/rock/merge", json={"into": "gone"}).status_code == 404
    for k in range(29):
        assert client.put(f"{url}/c{k}", json={"name": f"C {k}", "colour": "#000000"}).status_code == 200
    answer = client.put(f"{url}/one-more", json={"name": "One more", "colour": "#000000"})
    assert answer.status_code == 409
    assert "at most 32" in answer.text
    assert len(client.get(f"{land}/cover-areas").json()) == 32
    told = client.post(f"{land}/cover-rules/values", json={"what": "slope", "from": 1})
    assert sum(told.json()["counts"]) == 65 * 65


def test_the_pictures_of_a_share_and_of_a_rule(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    url = f"/api/tracts/{world['tracts'][0]['id']}/plan.png?width=64&contour_m=0"
    plain = client.get(url).content
    share = client.get(f"{url}&overlays=share&cover=grass").content
    rule = client.get(url, params={"overlays": "rule", "rule": '{"cover":"rock","amount":0.5}'}).content
    assert len({plain, share, rule}) == 3
    # What has gone is drawn without a mark, and what is no rule is refused.
    assert client.get(f"{url}&overlays=share&cover=gone").status_code == 200
    answer = client.get(url, params={"overlays": "rule", "rule": '{"cover":"rock","amount":7}'})
    assert answer.status_code == 422
    assert "Amount must be" in answer.text
