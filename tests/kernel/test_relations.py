"""Rows that name each other: what is named is there, and what becomes of them when it goes, is copied or is missing."""

from __future__ import annotations

from typing import Any

import pytest
from fastapi.testclient import TestClient

from fernfield.core.errors import NotFound
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.ground.commands import MoveLand
from fernfield.work.ground.moving import move_land
from fernfield.work.house import HOUSE
from fernfield.work.kernel.commands import Remove, Together, patch, put
from fernfield.work.kernel.declared import lies_of, named_collections
from fernfield.work.kernel.relations import StillNamed
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import LINES, PLOTS, Line, Plot
from fernfield.work.water.rows import POOLS, Pool
from tests.conftest import draw, found_in

YARD = Plot(name="Yard", points=((40, 40), (80, 40), (80, 80), (40, 80)))
IN_YARD: Any = [{"cover": "rock", "conditions": [{"what": "plot", "plot": "yard"}]}, {"cover": "earth"}]


@pytest.fixture
def related(world: OpenWorld) -> OpenWorld:
    """A plot that a pool in a pit is kept to, and that a rule asks for; a line beside it."""
    draw(world, "lower", path=[(60, 60, 0), (60, 60, 2)], radius_m=15)
    world.edit(put(PLOTS, "yard", YARD))
    world.edit(put(LINES, "path", Line(name="Path", points=((45, 45), (75, 75)))))
    world.edit(put(POOLS, "tarn", Pool(name="Tarn", x=60, y=60, level_m=8, plot="yard")))
    world.edit(patch(COVER_RULES, "world", rules=IN_YARD))
    return world


def test_what_is_named_by_others_is_not_deleted_unasked(related: OpenWorld) -> None:
    with pytest.raises(StillNamed, match="The plot Yard is named by the rules for covers, the pool Tarn") as caught:
        related.edit(Remove(collection="plots", key="yard"))
    assert caught.value.more["choices"] == {"on_named": {"clear": ["the rules for covers", "the pool Tarn"]}}
    assert "yard" in related.rows["plots"]
    # Together with what names it it goes, in whatever order.
    edits = (
        Remove(collection="plots", key="yard"),
        patch(COVER_RULES, "world", rules=[]),
        patch(POOLS, "tarn", plot=None),
    )
    related.edit(Together(edits=edits))
    assert related.rows["plots"] == {}


@pytest.mark.parametrize(("how", "pools"), [("clear", {"tarn": None}), ("delete", {})])
def test_rows_are_without_what_has_gone_or_go_along(related: OpenWorld, how: Any, pools: dict[str, Any]) -> None:
    before = related.revision
    related.edit(Remove(collection="plots", key="yard", on_named=how))
    assert {key: pool.plot for key, pool in related.each(POOLS)} == pools
    # A rule that asked of the plot goes whole: it is not met everywhere. The rules are one row of the world, and stay.
    assert [rule.cover for rule in related.only(COVER_RULES).rules] == ["earth"]
    assert related.revision == before + 1
    related.undo()
    assert related.row(POOLS, "tarn").plot == "yard"


def test_what_is_not_there_cannot_be_named(related: OpenWorld) -> None:
    for edit in (patch(POOLS, "tarn", plot="gone"), patch(POOLS, "tarn", liquid="lava"),
                 patch(COVER_RULES, "world", rules=[{"cover": "moss"}])):  # fmt: skip
        with pytest.raises(NotFound, match=r"no '(gone|lava|moss)' among the (plots|liquids|covers)"):
            related.edit(edit)
    # A world of before may name what has gone: it is told, and what else is there of the row can be changed.
    related.rows["plots"].pop("yard")
    related.edit(patch(POOLS, "tarn", name="Mere"))
    told = [finding.words for finding in found_in(related) if finding.check == "names what has gone"]
    assert told == ["The rules for covers names the plot yard, which is no longer there.",
                    "The pool Mere names the plot yard, which is no longer there."]  # fmt: skip


@pytest.mark.parametrize("copied", [True, False])
def test_rows_on_land_that_is_carried_come_along_and_are_related_among_themselves(
    related: OpenWorld, copied: bool
) -> None:
    command = MoveLand(x=200, y=200, plot="yard", copy_land=copied, pieces=True, turn_deg=90)
    move_land(related, related.first_tract, command)
    assert [len(related.each(c)) for c in (PLOTS, LINES, POOLS)] == [1 + copied] * 3
    (key, pool), *_ = [(key, pool) for key, pool in related.each(POOLS) if pool.x > 100]
    assert (pool.x, pool.y, key == "tarn") == (pytest.approx(200), pytest.approx(200), not copied)
    plot = related.row(PLOTS, pool.plot or "")
    assert (plot.name, sorted(plot.points)[0]) == ("Yard copy" if copied else "Yard", pytest.approx((180, 180)))
    line = next(line for _, line in related.each(LINES) if line.points[0][0] > 100)
    assert [pytest.approx(spot) for spot in line.points] == [(185, 215), (215, 185)]


def test_by_the_api(client: TestClient) -> None:
    made = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()
    base = f"/api/worlds/{made['id']}"
    client.put(f"{base}/plots/yard", json={"name": "Yard", "points": [[1, 1], [9, 1], [9, 9]]})
    client.put(f"{base}/cover-rules", json={"rules": IN_YARD})
    refused = client.delete(f"{base}/plots/yard")
    assert refused.status_code == 409
    assert [one["collection"] for one in refused.json()["named_by"]] == ["cover-rules"]
    assert client.delete(f"{base}/plots/yard?on_named=forget").status_code == 422
    assert client.delete(f"{base}/plots/yard?on_named=clear").status_code == 200


def test_every_row_in_a_tract_says_where_it_lies() -> None:
    assert all(lies_of(collection.model) for collection in HOUSE.collections.values() if collection.in_tract)
    named = {name for one in HOUSE.collections.values() for model in one.models for name in named_collections(model)}
    assert named == {
        "plots", "lines", "things", "covers", "kinds", "liquids", "streams", "moods", "kit", "assemblies",
        "groups", "scatters", "teams", "objectives", "camps", "cues", "parts", "roads",
    }  # fmt: skip
