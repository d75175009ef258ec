"""Shares that add up, a rule that follows, and what painting shows."""

from collections.abc import Callable
from contextlib import suppress

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from fernfield.core.brush.pace import Sample
from fernfield.core.cover.shares import SOLID, SlopeRule, compose_colours, compose_shares, rule_opacity, shares_as_bytes
from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.grid import Window
from fernfield.work.cover.removing import remove_cover
from fernfield.work.cover.rows import COVERS, Cover, CoverRule, covers_of
from fernfield.work.cover.ruling import COVER_RULES, CoverRules, Rule
from fernfield.work.cover.shares import cover_share, cover_shares, share_planes
from fernfield.work.cover.sums import cover_areas
from fernfield.work.kernel.commands import patch, put
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import spot
from fernfield.work.strokes import StrokeStart
from tests.conftest import draw

MASKS = arrays(np.uint16, (3, 4, 5), elements=st.integers(0, SOLID))
RULES = arrays(np.float32, (4, 5), elements=st.floats(0, 1, width=32))


@given(MASKS, RULES)
@settings(max_examples=60, deadline=None)
def test_shares_always_add_up_to_one(masks: np.ndarray, rule: np.ndarray) -> None:
    shares = compose_shares(list(masks), [None, rule, None], (4, 5))
    assert (shares >= 0).all()
    assert np.allclose(shares.sum(axis=0), 1, atol=1e-6)
    assert (shares_as_bytes(shares).astype(int).sum(axis=0) == 255).all()


@given(MASKS, RULES)
@settings(max_examples=60, deadline=None)
def test_the_colour_of_the_ground_is_that_of_the_covers_by_their_shares(masks: np.ndarray, rule: np.ndarray) -> None:
    """The kernel against the shares mixed in plain NumPy."""
    colours = [(10, 20, 30), (200, 0, 5), (0, 120, 240), (255, 255, 255)]
    covers = [masks[0], None, masks[2]], [None, rule, rule]
    mixed = np.tensordot(np.array(colours, float).T, compose_shares(*covers, (4, 5)).astype(float), axes=1)
    assert np.allclose(compose_colours(*covers, colours, (4, 5)), mixed, atol=0.01)


def test_covers_that_do_not_go_together_are_refused() -> None:
    with pytest.raises(InvalidInput, match="not 2 and 1"):
        compose_shares([None, None], [None], (1, 1))
    with pytest.raises(InvalidInput, match="colours one longer, not 1, 1 and 1"):
        compose_colours([None], [None], [(1, 2, 3)], (1, 1))


def test_a_cover_hides_what_is_under_it_and_shows_it_again_when_taken_away() -> None:
    half = np.full((1, 1), SOLID // 2 + 1, np.uint16)
    full = np.full((1, 1), SOLID, np.uint16)
    assert compose_shares([half, full], [None, None], (1, 1))[:, 0, 0] == pytest.approx([0, 0, 1], abs=1e-4)
    assert compose_shares([half, None], [None, None], (1, 1))[:, 0, 0] == pytest.approx([0.5, 0.5, 0], abs=1e-4)


def test_an_opacity_of_72_of_255_is_a_veil_of_28_percent() -> None:
    """A fact of the trade, common practice."""
    veil = np.full((1, 1), round(72 / 255 * SOLID), np.uint16)
    assert compose_shares([veil], [None], (1, 1))[1, 0, 0] == pytest.approx(0.28, abs=0.005)


def test_the_slope_rule_grows_in_over_its_blend() -> None:
    slope = np.array([[20.0, 33.0, 36.0, 39.0, 60.0]], np.float32)
    assert rule_opacity(slope, SlopeRule(36, 6))[0] == pytest.approx([0, 0, 0.5, 1, 1])
    assert rule_opacity(slope, SlopeRule(36, 0))[0] == pytest.approx([0, 0, 0.5, 1, 1])
    with pytest.raises(InvalidInput, match="0 to 90 degrees, not 95"):
        SlopeRule(95, 3)


def shares_at(world: OpenWorld, x: float, y: float) -> dict[str, float]:
    return spot(world, world.first_land, x, y)["covers"]  # type: ignore[no-any-return]


def test_painting_shows_a_cover_and_taking_it_away_shows_what_was_under_it(world: OpenWorld) -> None:
    here = {"path": [(100, 100, 0), (100, 100, 1)], "softness": 0}
    draw(world, "paint", cover="earth", strength=60, **here)
    assert shares_at(world, 100, 100)["Earth"] == pytest.approx(0.6, abs=0.01)
    draw(world, "paint", cover="path", strength=200, **here)
    assert shares_at(world, 100, 100)["Path"] == 1
    draw(world, "take_away", cover="path", strength=200, **here)
    assert shares_at(world, 100, 100)["Earth"] == pytest.approx(0.6, abs=0.01)
    draw(world, "paint", cover="grass", strength=200, **here)
    assert shares_at(world, 100, 100)["Grass"] == 1
    total = cover_shares(world, world.first_land, Window(150, 60, 260, 160)).sum(axis=0)
    assert np.allclose(total, 1, atol=1e-6)


def test_painting_a_lower_cover_uncovers_it(world: OpenWorld) -> None:
    here = {"path": [(100, 100, 0), (100, 100, 1)], "softness": 0, "strength": 150}
    draw(world, "paint", cover="path", **here)
    draw(world, "paint", cover="earth", **here)
    assert shares_at(world, 100, 100)["Earth"] == 1


def test_rock_follows_the_slope_when_the_ground_changes(world: OpenWorld) -> None:
    assert shares_at(world, 118, 100)["Rock"] == 0
    draw(world, path=[(100, 100, 0), (100, 100, 2)], strength=15, softness=0.3)
    steep = spot(world, world.first_land, 117, 100)
    assert steep["slope_deg"] > 60
    assert steep["covers"]["Rock"] == 1
    world.edit(put(COVER_RULES, "world", CoverRules(rules=())))
    assert shares_at(world, 117, 100)["Rock"] == 0


def test_a_rule_of_an_older_world_lies_where_it_lay(world: OpenWorld) -> None:
    """In the stack, over what is painted under its cover; and a row of that time is read as it is."""
    world.edit(put(COVER_RULES, "world", CoverRules(rules=())))
    stored = '{"_v":1,"name":"Rock","colour":"#a39d92","position":3,"rule":{"above_deg":38.0,"blend_deg":6.0}}'
    world.edit(put(COVERS, "rock", COVERS.parse("rock", stored)))
    draw(world, path=[(100, 100, 0), (100, 100, 2)], strength=15, softness=0.3)
    draw(world, "paint", cover="earth", path=[(117, 100, 0), (117, 100, 2)], strength=500)
    assert shares_at(world, 117, 100)["Rock"] == 1
    world.edit(
        put(COVERS, "rock", world.row(COVERS, "rock").model_copy(update={"rule": CoverRule(above_deg=90, blend_deg=0)}))
    )
    assert shares_at(world, 117, 100)["Earth"] == pytest.approx(1, abs=0.01)


@pytest.mark.parametrize("ruled", [False, True])
@pytest.mark.parametrize("change", ["a new one", "another order", "one goes that was not drawn on", "one is hidden"])
def test_covers_that_come_and_go_while_a_stroke_is_drawn_on_all_of_them(
    world: OpenWorld, change: str, ruled: bool
) -> None:
    """Covers are known by their keys: a stroke ends on those that it began on, or says which has gone."""
    for key in ("sand", "clay"):
        world.edit(put(COVERS, key, Cover(name=key, colour="#ccbb99")))
    if ruled:
        world.edit(put(COVER_RULES, "world", CoverRules(rules=(Rule(cover="sand"),))))
    draw(world, "paint", cover="sand", strength=100, path=[(200, 60, 0), (240, 60, 1)])
    start = StrokeStart(tool="drag", radius_m=20, softness=0.5, strength=100)
    run = world.begin_stroke(world.first_tract.row.id, start)
    world.extend_stroke(run, [Sample(230 + 2 * t, 60, t / 10) for t in range(4)])
    if change == "a new one":
        world.edit(put(COVERS, "peat", Cover(name="Peat", colour="#885533", position=1)))
    elif change == "another order":
        world.edit(patch(COVERS, "sand", position=len(covers_of(world)) - 1))
    elif change == "one is hidden":
        world.edit(patch(COVERS, "sand", hidden=True))
    else:
        remove_cover(world, "clay")
    world.extend_stroke(run, [Sample(238 + 2 * t, 60, 0.4 + t / 10) for t in range(8)])
    if change == "one is hidden":
        with pytest.raises(Conflict, match="sand went, or was hidden"):
            world.finish_stroke(run)
    else:
        assert world.finish_stroke(run).revision == world.revision
        assert cover_share(world, world.first_land, "sand", Window(240, 262, 241, 263))[0, 0] > 0.2
    shares = cover_shares(world, world.first_land, Window(0, 0, 300, 300))
    assert np.allclose(shares.sum(axis=0), 1, atol=1e-5)


class Breaks:
    """A lock in whose first pause another takes a cover away."""

    def __init__(self, world: OpenWorld) -> None:
        self._world, self._lock, self._deep = world, world.lock, 0

    def __enter__(self) -> None:
        self._lock.__enter__()
        self._deep += 1

    def __exit__(self, *error: object) -> None:
        self._deep -= 1
        self._lock.__exit__(*error)
        if not self._deep and len(covers_of(self._world)) > 3:
            world, self._world.lock = self._world, self._lock
            remove_cover(world, covers_of(world)[-1][0])


@pytest.mark.parametrize("read", [
    lambda world, land: spot(world, land, 50, 50),
    lambda world, land: cover_areas(world, land),
    lambda world, land: plan_pixels(world, land, -2, Window(0, 0, 64, 64), Show()),
    lambda world, land: share_planes(world, land, Window(0, 0, 50, 50)),
], ids=["spot", "areas", "plan", "planes"])  # fmt: skip
def test_a_cover_that_goes_meanwhile_is_no_fault(world: OpenWorld, read: Callable[[OpenWorld, Land], object]) -> None:
    count = len(covers_of(world))
    world.edit(put(COVERS, "more", Cover(name="More", colour="#808080", texture="turf")))
    land = world.first_land
    world.lock = Breaks(world)  # type: ignore[assignment]
    with suppress(Conflict):
        read(world, land)
    assert len(covers_of(world)) == count
