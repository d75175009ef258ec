"""Rules for covers: against their definition, GDAL and formulas on paper; the hand lies over them."""

from __future__ import annotations

import math
import random
import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from fastapi.testclient import TestClient
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from pydantic import ValidationError

from fernfield.core.brush.mask import taken_over
from fernfield.core.cover.rules import WHATS, Condition, Rule, asked_of, mixed
from fernfield.core.cover.shares import SOLID, Under, compose_shares
from fernfield.core.errors import GridError, NotFound
from fernfield.core.grid import Window
from fernfield.core.wetness import wetness
from fernfield.work.asking.conditions import Condition as Asks
from fernfield.work.asking.fields import FIELDS
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.ruling import COVER_RULES
from fernfield.work.cover.ruling import Rule as RuleRow
from fernfield.work.cover.shares import cover_shares, share_planes
from fernfield.work.kernel.commands import patch, put, remove
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import LINES, PLOTS, Line, Plot
from fernfield.work.sites.rows import THINGS, Piece
from fernfield.work.studio import Studio
from fernfield.work.worlds.joining import JoinTracts, join
from fernfield.work.worlds.tracts import TractSpec
from tests.conftest import draw, everything
from tests.core.real_land import jacksboro

SPACING = 90.0
"""Of the real land's posts, about: 3 seconds of arc. [m]"""


def plainly(
    heights: np.ndarray, spacing: float, rule: Rule, shares: list[np.ndarray], fields: list[np.ndarray]
) -> np.ndarray:
    """How far every post meets a rule, from its definition, post by post in 64-bit numbers."""
    z = heights.astype(np.float64)
    out = np.zeros((z.shape[0] - 2, z.shape[1] - 2))
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            (z1, z2, z3), (z4, z5, z6), (z7, z8, z9) = z[r : r + 3, c : c + 3]
            east = ((z3 + 2 * z6 + z9) - (z1 + 2 * z4 + z7)) / (8 * spacing)
            north = ((z1 + 2 * z2 + z3) - (z7 + 2 * z8 + z9)) / (8 * spacing)
            met = rule.amount
            for one in rule.conditions:
                what = next(w for w in WHATS.values() if w.code == one.code)
                soft = max(one.soft, 1e-6)
                if what.around:
                    if east == 0 and north == 0:
                        met = 0.0
                        break
                    middle, half = one.low + (one.high - one.low) % 360 / 2, (one.high - one.low) % 360 / 2
                    bearing = math.degrees(math.atan2(-east, -north))
                    away = abs((bearing - middle + 180) % 360 - 180)
                    met *= min(max((half - away) / soft + 0.5, 0), 1)
                    continue
                value = {
                    "elevation": z5,
                    "slope": math.degrees(math.atan(math.hypot(east, north))),
                    # Zevenbergen and Thorne's D and E, as their paper has them.
                    "curvature": -200 * (((z4 + z6) / 2 - z5) + ((z2 + z8) / 2 - z5)) / spacing**2,
                    "cover": float(shares[one.field][r, c]) if one.field < len(shares) else 0.0,
                    "wetness": float(fields[one.field][r, c]) if one.field < len(fields) else 0.0,
                }[what.name]
                if one.low is not None:
                    met *= min(max((value - one.low) / soft + 0.5, 0), 1)
                if one.high is not None:
                    met *= min(max((one.high - value) / soft + 0.5, 0), 1)
            noise = float(fields[rule.field][r, c]) if rule.ragged else 0.0
            out[r, c] = min(max(met + 2 * rule.ragged * noise * (1 - abs(2 * met - 1)), 0), 1)
    return out


CODE = {name: what.code for name, what in WHATS.items()}
LISTS: dict[str, list[Rule]] = {
    "each alone": [
        Rule(1, 0.9, (Condition(CODE["elevation"], 350, 480, 40),)),
        Rule(2, 1.0, (Condition(CODE["slope"], 8, None, 6),)),
        Rule(3, 0.7, (Condition(CODE["aspect"], 300, 60, 30),)),
    ],
    "all together": [
        Rule(2, 1.0, (
            Condition(CODE["slope"], 3, 25, 4), Condition(CODE["elevation"], 300, None, 10),
            Condition(CODE["curvature"], -0.4, 0.2, 0.1), Condition(CODE["aspect"], 90, 250, 5),
        )),
        Rule(1, 0.5, (Condition(CODE["curvature"], None, 0, 0.05),)),
    ],
    "shares and fields": [
        Rule(1, 1.0, (Condition(CODE["slope"], 10, None, 10),), 0.6, 1),
        Rule(3, 1.0, (Condition(CODE["cover"], 0.1, 0.7, 0.2, 1),)),
        Rule(2, 0.8, (Condition(CODE["wetness"], 4, 9, 2, 0),)),
    ],
    "nothing asked": [Rule(2, 0.25, ()), Rule(0, 0.5, ()), Rule(1, 1.0, ())],
}  # fmt: skip


@pytest.mark.parametrize("name", LISTS)
def test_rules_are_what_their_definition_says_on_real_land(name: str) -> None:
    """Against plain Python, post by post, on the USGS's land around the Jacksboro fault (matplotlib's sample data)."""
    land = jacksboro()[100:162, 60:124]
    rng = np.random.default_rng(3)
    fields = [rng.uniform(2, 12, (60, 62)).astype(np.float32), rng.uniform(-1, 1, (60, 62)).astype(np.float32)]
    rules = LISTS[name]
    found = mixed(land, SPACING, rules, fields, 4)
    shares = [np.zeros((60, 62)) for _ in range(4)]
    through = np.ones((60, 62))
    for rule in rules:
        part = through * plainly(land, SPACING, rule, shares, fields)
        shares[rule.cover] = shares[rule.cover] + part
        through = through - part
    shares[0] = shares[0] + through
    assert np.abs(found - np.stack(shares)).max() < 2e-4
    assert np.allclose(found.sum(axis=0), 1, atol=1e-5)
    if name != "nothing asked":
        assert (found[1:].max(axis=(1, 2)) > 0.3).sum() >= 2


@pytest.mark.skipif(shutil.which("gdaldem") is None, reason="GDAL's command line tools are not installed")
def test_slope_and_aspect_are_gdals(tmp_path: Path) -> None:
    """Horn's, as gdaldem works them out; aspect where the ground is not nearly level."""
    land = jacksboro()
    source = tmp_path / "land.asc"
    head = f"ncols {land.shape[1]}\nnrows {land.shape[0]}\nxllcorner 0\nyllcorner 0\ncellsize {SPACING}\n"
    source.write_text(head + "\n".join(" ".join(f"{v:.3f}" for v in row) for row in land))
    theirs = {}
    for what in ("slope", "aspect"):
        to = tmp_path / f"{what}.asc"
        subprocess.run(["gdaldem", what, source, to, "-alg", "Horn", "-q", "-of", "AAIGrid"], check=True, timeout=60)
        lines = [line for line in to.read_text().splitlines() if line.lstrip()[0] in "-0123456789"]
        theirs[what] = np.array([line.split() for line in lines], np.float64)[1:-1, 1:-1]
    slope, aspect = asked_of("slope", land, SPACING), asked_of("aspect", land, SPACING)
    assert slope is not None
    assert aspect is not None
    assert np.abs(slope - theirs["slope"]).max() < 0.01
    steep = theirs["slope"] > 1
    assert np.abs((aspect - theirs["aspect"] + 180) % 360 - 180)[steep].max() < 0.5


def test_curvature_of_a_bowl_is_that_of_its_formula() -> None:
    """z = a x² + b y²: D = a and E = b, so -2 (D + E) for 100 m is -200 (a + b); a bowl is hollow, so below 0."""
    x, y = np.meshgrid(np.arange(12) * 5.0, np.arange(10) * 5.0)
    bowl = (0.004 * x**2 + 0.001 * y**2).astype(np.float32)
    assert asked_of("curvature", bowl, 5.0) == pytest.approx(-200 * 0.005, abs=0.01)


def test_wetness_of_a_plane_is_its_length_over_its_slope() -> None:
    """Beven and Kirkby (1979): down a plane of slope s the area drained through a metre of contour is the distance
    L from the top, so the index is ln(L / s). Quinn's contour lengths (1991) give that to 0.1 %."""
    rows = 60
    plane = np.tile((np.arange(rows)[::-1] * 2.0 * 0.15)[:, None], (1, 301)).astype(np.float32)
    found = wetness(plane, 2.0)[5:-1, 150]
    along = (np.arange(rows) + 1)[5:-1] * 2.0
    assert found == pytest.approx(np.log(along / 0.15), abs=0.02)


def test_water_gathers_in_the_valley_and_nothing_is_lost() -> None:
    x = np.abs(np.arange(41) - 20.0)
    valley = (x[None, :] * 1.0 + (50 - np.arange(50))[:, None] * 0.5).astype(np.float32)
    found = wetness(valley, 1.0)
    assert (found[5:-1].argmax(axis=1) == 20).all()
    assert (np.diff(found[5:-2, 20]) > 0).all()
    for bad, spacing in ((np.zeros((1, 5), np.float32), 1.0), (np.zeros((5, 5), np.float32), 0.0)):
        with pytest.raises(GridError):
            wetness(bad, spacing)


@given(
    arrays(np.uint16, (4, 3, 4), elements=st.integers(0, SOLID)),
    arrays(np.float32, (4, 3, 4), elements=st.sampled_from([0.0, 0.1, 0.35, 1.0])),
)
@settings(max_examples=100, deadline=None)
def test_what_the_hand_takes_over_looks_the_same(masks: np.ndarray, under: np.ndarray) -> None:
    total = under.sum(axis=0)
    under = np.where(total > 0, under / np.maximum(total, 1e-6), np.array([1, 0, 0, 0], np.float32)[:, None, None])
    under = under.astype(np.float32)
    after = taken_over(masks, under)

    def seen(stack: np.ndarray) -> np.ndarray:
        return compose_shares(list(stack[1:]), [None] * 3, (3, 4), Under(under, stack[0]))

    assert np.abs(seen(after) - seen(masks)).max() < 6 / SOLID
    # And no rule is seen through it any more.
    plain = compose_shares(list(after[1:]), [None] * 3, (3, 4), Under(np.roll(under, 1, axis=0), after[0]))
    mixed_there = under[0] < 1
    assert np.abs(plain - seen(masks))[:, mixed_there].max(initial=0) < 6 / SOLID


# In a world


STEEP: dict[str, Any] = {"cover": "rock", "conditions": [{"what": "slope", "from": 20, "soft": 10}]}


def ruled(world: OpenWorld, *rules: dict[str, Any]) -> None:
    world.edit(put(COVER_RULES, "world", COVER_RULES.model.model_validate({"rules": rules})))


@pytest.fixture
def hilly(world: OpenWorld) -> OpenWorld:
    """With hills, a plot, a line, a piece, water in a hollow; the default world's own old rule is gone."""
    rng = random.Random(4)
    for k in range(14):
        x, y = rng.uniform(20, 280), rng.uniform(20, 280)
        draw(
            world, "raise" if k % 3 else "lower", path=[(x, y, 0), (x, y, 1)], radius_m=rng.uniform(20, 60), strength=22
        )
    world.edit(put(PLOTS, "yard", Plot(name="Yard", points=((100, 100), (200, 110), (180, 190)))))
    world.edit(put(LINES, "path", Line(name="Path", points=((20, 40), (150, 60), (280, 250)))))
    world.edit(put(THINGS, "barn", Piece(kit="stone_barn", name="Barn", x=220, y=90)))
    world.edit(patch(COVERS, "rock", rule=None))
    return world


EVERYTHING: tuple[dict[str, Any], ...] = (
    {"cover": "path", "conditions": [{"what": "line_distance", "line": "path", "to": 4, "soft": 4}]},
    {"cover": "path", "amount": 0.8, "conditions": [{"what": "piece_distance", "to": 12, "soft": 6}]},
    {"cover": "path", "amount": 0.3, "conditions": [{"what": "start_distance", "to": 9, "soft": 4}]},
    {"cover": "earth", "conditions": [
        {"what": "water_distance", "to": 20, "soft": 15}, {"what": "noise", "from": -0.2, "size_m": 30},
    ]},
    {"cover": "path", "amount": 0.5, "conditions": [{"what": "tide", "from": 0, "to": 150, "soft": 60}]},
    {"cover": "rock", "ragged": 0.7, "conditions": [
        {"what": "slope", "from": 18, "soft": 12}, {"what": "curvature", "from": -40},
        {"what": "shade", "to": 90, "soft": 60},
    ]},
    {"cover": "earth", "amount": 0.6, "conditions": [
        {"what": "wetness", "from": 8, "soft": 2}, {"what": "aspect", "from": 300, "to": 140, "soft": 40},
    ]},
    {"cover": "rock", "amount": 0.5, "conditions": [
        {"what": "plot", "plot": "yard", "soft": 20}, {"what": "above_water", "from": 4, "to": 30, "soft": 4},
    ]},
    {"cover": "path", "amount": 0.3, "conditions": [
        {"what": "cover", "cover": "rock", "from": 0.2, "to": 0.8, "soft": 0.2},
    ]},
)  # fmt: skip


def test_every_condition_has_a_field_or_is_the_grounds_own() -> None:
    own = {"elevation", "above_water", "slope", "aspect", "curvature", "cover"}
    assert own | set(FIELDS) == set(WHATS)
    assert {condition["what"] for rule in EVERYTHING for condition in rule["conditions"]} | {"elevation"} == set(WHATS)


def test_window_by_window_is_the_whole_byte_for_byte(hilly: OpenWorld) -> None:
    ruled(hilly, *EVERYTHING)
    land = hilly.first_land
    whole = cover_shares(hilly, land, land.grid.window)
    assert (whole.max(axis=(1, 2)) > 0.25).all()
    rng = random.Random(8)
    for _ in range(25):
        row, col = rng.randrange(0, 290), rng.randrange(0, 290)
        window = land.clip(Window(row, col, row + rng.randrange(1, 90), col + rng.randrange(1, 90)))
        assert np.array_equal(
            cover_shares(hilly, land, window), whole[:, window.row0 : window.row1, window.col0 : window.col1]
        )
    planes = share_planes(hilly, land, land.grid.window)
    assert (planes.astype(int).sum(axis=0) == 255).all()


def test_across_a_join_rules_are_those_of_one_land(studio: Studio, hilly: OpenWorld) -> None:
    spec = TractSpec(name="East", x=300, y=0, width_m=100, depth_m=300, spacing_m=1, elevation_m=12)
    east, _ = studio.add_tract(hilly.id, spec)
    join(hilly, JoinTracts(first=hilly.first_tract.row.id, second=east, blend_m=30))
    draw(hilly, "raise", path=[(300, 150, 0), (300, 150, 1)], radius_m=60, strength=25)
    ruled(hilly, *EVERYTHING)
    land = hilly.land_from(hilly.first_tract.row.id)
    whole = cover_shares(hilly, land, land.clip(Window(0, 0, 301, 401)))
    for col0, col1 in ((0, 301), (250, 350), (300, 401)):
        assert np.array_equal(cover_shares(hilly, land, Window(0, col0, 301, col1)), whole[:, :, col0:col1])
    assert whole[:, :, 302:].max(axis=(1, 2)).max() > 0.3


def test_rules_follow_the_ground(hilly: OpenWorld) -> None:
    ruled(hilly, STEEP)
    land = hilly.first_land
    before = cover_shares(hilly, land, land.grid.window)
    draw(hilly, "raise", path=[(60, 60, 0), (60, 60, 1)], radius_m=30, softness=0.3, strength=30)
    after = cover_shares(hilly, land, land.grid.window)
    changed = np.argwhere(np.abs(after - before).max(axis=0) > 0)
    rows, cols = changed[:, 0], changed[:, 1]
    # South-west, where it was drawn, a post further at most.
    assert rows.min() >= 240 - 31
    assert cols.max() <= 60 + 31
    assert after[3].sum() > before[3].sum() + 200
    hilly.undo()
    assert np.array_equal(cover_shares(hilly, land, land.grid.window), before)


@pytest.mark.parametrize("cover", ["grass", "earth"])
def test_what_the_hand_lays_stays_over_the_rules_until_it_is_given_back(hilly: OpenWorld, cover: str) -> None:
    ruled(hilly, {"cover": "rock", "amount": 0.75})
    land, at = hilly.first_land, 0 if cover == "grass" else 1
    spot = Window(150, 150, 151, 151)
    assert cover_shares(hilly, land, spot)[3, 0, 0] == pytest.approx(0.75, abs=1e-4)
    before = everything(hilly)
    draw(hilly, "paint", cover=cover, path=[(150, 150, 0), (150, 150, 1)], strength=1000)
    assert cover_shares(hilly, land, spot)[at, 0, 0] == pytest.approx(1, abs=1e-4)
    # Also over a rule that comes later.
    ruled(hilly, {"cover": "path", "amount": 1.0})
    assert cover_shares(hilly, land, spot)[at, 0, 0] == pytest.approx(1, abs=1e-4)
    draw(hilly, "give_back", path=[(150, 150, 0), (150, 150, 1)], strength=1000)
    assert cover_shares(hilly, land, spot)[2, 0, 0] == pytest.approx(1, abs=1e-4)
    for _ in range(3):
        hilly.undo()
    assert everything(hilly) == before


def test_a_ruled_cover_is_taken_away_by_hand(hilly: OpenWorld) -> None:
    ruled(hilly, {"cover": "rock", "amount": 0.5}, {"cover": "earth", "amount": 0.5})
    land, spot = hilly.first_land, Window(150, 150, 151, 151)
    assert cover_shares(hilly, land, spot)[:, 0, 0] == pytest.approx([0.25, 0.25, 0, 0.5], abs=1e-4)
    draw(hilly, "take_away", cover="rock", path=[(150, 150, 0), (150, 150, 1)], strength=1000)
    # What lay under it is there in its old proportions.
    assert cover_shares(hilly, land, spot)[:, 0, 0] == pytest.approx([0.5, 0.5, 0, 0], abs=1e-3)


def test_a_veil_over_rules_is_the_share_that_is_seen(hilly: OpenWorld) -> None:
    ruled(hilly, {"cover": "rock", "amount": 0.9})
    land, spot = hilly.first_land, Window(150, 150, 151, 151)
    draw(hilly, "veil", cover="rock", share=72 / 255, path=[(150, 150, 0), (150, 150, 1)])
    assert share_planes(hilly, land, spot)[3, 0, 0] == 72
    again = everything(hilly)
    draw(hilly, "veil", cover="rock", share=72 / 255, path=[(150, 150, 0), (150, 150, 1)])
    assert everything(hilly) == again


def test_drag_pulls_one_cover_into_the_next(hilly: OpenWorld) -> None:
    ruled(hilly, {"cover": "rock", "conditions": [{"what": "piece_distance", "to": 40}]})
    land, row = hilly.first_land, Window(210, 160, 211, 300)
    before = cover_shares(hilly, land, row)[3, 0]
    edge = int((before > 0.5).argmax())
    draw(hilly, "drag", path=[(230, 90, 0), (150, 90, 2)], radius_m=15)
    after = cover_shares(hilly, land, row)[3, 0]
    assert (after > 0.5).argmax() < edge - 12 or after[edge - 12 : edge].min() > 0.5
    # It is pulled along, not made: far from the path nothing changes.
    far = Window(150, 160, 151, 300)
    assert cover_shares(hilly, land, far).sum() == pytest.approx(140, abs=1e-3)


def test_shares_add_up_after_any_sequence_of_tools_over_rules(hilly: OpenWorld) -> None:
    ruled(hilly, *EVERYTHING)
    land, rng, start = hilly.first_land, random.Random(11), everything(hilly)
    strokes = 0
    for _ in range(24):
        tool = rng.choice(["paint", "take_away", "veil", "speckle", "blotch", "soften", "drag", "give_back"])
        said: dict[str, Any] = {"radius_m": rng.uniform(5, 50), "strength": rng.uniform(20, 900)}
        x, y = rng.uniform(0, 300), rng.uniform(0, 300)
        said["path"] = [(x, y, 0), (min(x + rng.uniform(0, 60), 299), y, 0.7)]
        if tool in ("paint", "take_away", "veil", "speckle", "blotch"):
            said["cover"] = rng.choice(["earth", "path", "rock"])
        if tool == "veil":
            said["share"] = rng.random()
        # One that changes nothing is no revision.
        was = hilly.revision
        strokes += draw(hilly, tool, **said).revision > was
    planes = share_planes(hilly, land, land.grid.window)
    assert (planes.astype(int).sum(axis=0) == 255).all()
    for _ in range(strokes):
        hilly.undo()
    assert everything(hilly) == start


def test_what_has_gone_is_met_nowhere_and_hidden_covers_are_not_there(hilly: OpenWorld) -> None:
    ruled(hilly, {"cover": "rock", "conditions": [{"what": "plot", "plot": "yard"}]}, {"cover": "earth", "amount": 0.5})
    land, spot = hilly.first_land, Window(160, 160, 161, 161)
    assert cover_shares(hilly, land, spot)[3, 0, 0] == 1
    hilly.edit(remove(PLOTS, "yard").model_copy(update={"on_named": "clear"}))
    assert cover_shares(hilly, land, spot)[:, 0, 0] == pytest.approx([0.5, 0.5, 0, 0])
    hilly.undo()
    hilly.edit(patch(COVERS, "rock", hidden=True))
    assert cover_shares(hilly, land, spot)[:, 0, 0] == pytest.approx([0.5, 0.5, 0, 0])
    draw(hilly, "veil", cover="earth", share=1.0, path=[(160, 140, 0), (160, 140, 1)])
    assert cover_shares(hilly, land, spot)[1, 0, 0] == pytest.approx(1, abs=1e-3)


# By the API


def test_rules_by_the_api(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    url = f"/api/worlds/{world}/cover-rules"
    assert [rule["name"] for rule in client.get(url).json()["rules"]] == ["Steep ground"]
    assert client.put(url, json={"rules": [STEEP]}).status_code == 200
    told = client.get(url).json()["rules"][0]
    assert told["cover"] == "rock"
    assert told["amount"] == 1
    assert {k: v for k, v in told["conditions"][0].items() if v is not None} == {
        "what": "slope",
        "from": 20,
        "soft": 10,
    }
    # What was told can be put as it is; and sets are kept and put by name.
    assert client.put(url, json={"rules": [told]}).status_code == 200
    sets = f"/api/worlds/{world}/rule-sets/steep"
    assert client.put(sets, json={"name": "Steep", "rules": [told]}).status_code == 200
    assert client.get(f"/api/worlds/{world}/rule-sets").json()[0]["rules"] == [told]


@pytest.mark.parametrize(
    ("rule", "words"),
    [
        ({"cover": "tarmac"}, "tarmac"),
        ({"cover": "rock", "amount": 2}, "at most 1"),
        ({"cover": "rock", "conditions": [{"what": "moonlight", "from": 1}]}, "wetness"),
        ({"cover": "rock", "conditions": [{"what": "slope"}]}, "slope needs from, to or both"),
        ({"cover": "rock", "conditions": [{"what": "slope", "from": 40, "to": 20}]}, "smaller number comes first"),
        ({"cover": "rock", "conditions": [{"what": "slope", "from": 95}]}, "0 to 90"),
        ({"cover": "rock", "conditions": [{"what": "plot"}]}, "plot needs plot"),
        ({"cover": "rock", "conditions": [{"what": "plot", "plot": "gone"}]}, "gone"),
        ({"cover": "rock", "conditions": [{"what": "cover", "cover": "tar", "from": 0.5}]}, "tar"),
        ({"cover": "rock", "conditions": [{"what": "slope", "from": 1, "plot": "x"}]}, "does not go with slope"),
        (
            {"cover": "rock", "conditions": [{"what": "elevation", "to": 10}, {"what": "elevation", "from": 20}]},
            "contradicts itself",
        ),
    ],
)  # fmt: skip
def test_a_rule_that_cannot_be_is_refused_in_words(client: TestClient, rule: dict[str, Any], words: str) -> None:
    world = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    url = f"/api/worlds/{world}/cover-rules"
    client.put(url, json={"rules": [STEEP]})
    answer = client.put(url, json={"rules": [rule]})
    assert answer.status_code in (404, 422)
    assert words in answer.text
    assert client.get(url).json()["rules"][0]["cover"] == "rock"
    assert len(client.get(url).json()["rules"][0]["conditions"]) == 1


def test_no_more_rules_and_conditions_than_allowed(client: TestClient) -> None:
    world = client.post("/api/worlds", json={"name": "R", "width_m": 64, "depth_m": 64, "spacing_m": 1}).json()["id"]
    url = f"/api/worlds/{world}/cover-rules"
    assert client.put(url, json={"rules": [STEEP] * 32}).status_code == 200
    assert client.put(url, json={"rules": [STEEP] * 33}).status_code == 422
    many = {"cover": "rock", "conditions": [{"what": "elevation", "from": k} for k in range(9)]}
    assert client.put(url, json={"rules": [many]}).status_code == 422


def test_conditions_say_what_they_ask() -> None:
    with pytest.raises(ValidationError, match="from of noise must be -1 to 1, not 2"):
        Asks.model_validate({"what": "noise", "from": 2})
    assert Asks(what="plot", plot="yard").from_ is None
    assert RuleRow(cover="rock").conditions == ()


def test_a_rule_for_a_cover_that_is_not_there_is_not_found(world: OpenWorld) -> None:
    with pytest.raises(NotFound, match="tarmac"):
        ruled(world, {"cover": "tarmac"})
    assert HEIGHT
