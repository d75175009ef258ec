"""The walker against closed forms: slopes, steps, falls, water, trunks and walls."""

import math
import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fernfield.core.travel.walker import GRAVITY, TICK_S, Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import WALKER, WALKERS

NORTH = Intent(ahead=1, facing=0)


@dataclass
class Land:
    """A surface from formulae."""

    ground: Callable[[float, float], float] = lambda x, y: 0.0
    sea: float = -99.0
    things: list[Obstacle] = field(default_factory=list)
    edge: float = 1000.0

    def height(self, x: float, y: float) -> float:
        return self.ground(x, y)

    def water(self, x: float, y: float) -> float:
        return max(0.0, self.sea - self.ground(x, y))

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return [o for o in self.things if math.hypot(o.x - x, o.y - y) <= o.radius + reach]

    def holds(self, x: float, y: float) -> bool:
        return abs(x) <= self.edge and abs(y) <= self.edge


def walk(land: Land, seconds: float, intent: Intent = NORTH, start: Walker | None = None) -> Walker:
    walker = start or Walker(0, 0, land.height(0, 0))
    for _ in range(round(seconds / TICK_S)):
        walker = tick(walker, intent, land)
    return walker


def test_on_the_level_three_metres_a_second() -> None:
    end = walk(Land(), 2)
    assert (end.x, end.y) == pytest.approx((0, 6))
    assert end.speed == pytest.approx(3)
    assert walk(Land(), 1, Intent(ahead=1, facing=90, run=True)).x == pytest.approx(8)
    assert walk(Land(), 1, Intent(aside=1, facing=0)).x == pytest.approx(3)
    # Ahead and aside together are no faster.
    assert math.hypot(*(lambda w: (w.x, w.y))(walk(Land(), 1, Intent(1, 1, 30)))) == pytest.approx(3)


@pytest.mark.parametrize(("slope", "climbs"), [(20, True), (44, True), (46, False), (70, False)])
def test_the_greatest_slope_is_45_degrees(slope: float, climbs: bool) -> None:
    rise = math.tan(math.radians(slope))
    end = walk(Land(lambda x, y: rise * y), 1)
    assert (end.y > 2.5) == climbs
    assert end.slope_ahead_deg == pytest.approx(slope, abs=0.5)
    assert ("slope" in end.blocked_by) == (not climbs)
    if not climbs:
        assert f"{slope}°" in end.blocked_by
        assert "45°" in end.blocked_by


def test_a_steep_slope_can_be_walked_along() -> None:
    land = Land(lambda x, y: 2 * y)
    assert walk(land, 1, Intent(ahead=1, facing=90)).x == pytest.approx(3)


@pytest.mark.parametrize(("kerb", "climbs"), [(0.35, True), (0.6, False)])
def test_a_kerb_lower_than_a_step_is_no_obstacle(kerb: float, climbs: bool) -> None:
    end = walk(Land(lambda x, y: kerb if y > 2 else 0.0), 2)
    assert (end.y > 4) == climbs


def test_a_fall_follows_gravity() -> None:
    """From 20 m: z = 20 - g t² / 2, to what the steps of the tick make of it."""
    end = walk(Land(), 1, Intent(), Walker(0, 0, 20))
    assert end.z == pytest.approx(20 - GRAVITY / 2, abs=GRAVITY * TICK_S)
    assert end.fall == pytest.approx(GRAVITY)
    assert walk(Land(), 4, Intent(), Walker(0, 0, 20)).z == 0


def test_feet_stay_on_a_slope_going_down() -> None:
    land = Land(lambda x, y: -0.7 * y)
    end = walk(land, 2)
    assert end.z == pytest.approx(-0.7 * end.y)
    assert end.fall == 0


def test_water_slows_and_then_stops() -> None:
    gait = WALKERS[WALKER]
    shallow = walk(Land(sea=0.6), 1)
    expected = 3 * (1 - (1 - gait.slowest_share) * 0.5)
    assert shallow.speed == pytest.approx(expected)
    # Half of the depth that stops: 3 m/s less half of seven tenths of it.
    assert shallow.speed == pytest.approx(1.95)
    assert walk(Land(sea=0.3), 1).y == pytest.approx(3 * 0.825)
    beach = Land(lambda x, y: -0.2 * y, sea=0.0)
    end = walk(beach, 30)
    assert beach.water(end.x, end.y) == pytest.approx(gait.wade, abs=0.02)
    assert "water" in end.blocked_by
    # Back out again.
    assert walk(beach, 5, Intent(ahead=-1, facing=0), end).y < end.y - 1


def trunk(x: float, y: float) -> Obstacle:
    return Obstacle("alder", x, y, 0.4, -1, 8)


def test_a_trunk_stops_and_is_named() -> None:
    end = walk(Land(things=[trunk(0, 3)]), 3)
    assert end.y == pytest.approx(3 - 0.4 - WALKERS[WALKER].radius, abs=0.01)
    assert end.blocked_by == "alder"


def test_a_trunk_hit_off_centre_is_slid_around() -> None:
    end = walk(Land(things=[trunk(0.25, 3)]), 4)
    assert end.y > 5
    assert end.blocked_by == ""


def test_nobody_walks_through_a_wood() -> None:
    """However the walker comes, it is never inside a trunk."""
    trees = [trunk(1.1 * i + 0.3 * (j % 2), 3 + 1.1 * j) for i in range(-4, 5) for j in range(5)]
    land = Land(things=trees)
    for facing in range(-40, 41, 8):
        walker = Walker(0, 0, 0)
        for _ in range(400):
            walker = tick(walker, Intent(ahead=1, facing=facing, run=True), land)
            nearest = min(math.hypot(t.x - walker.x, t.y - walker.y) - t.radius for t in trees)
            assert nearest > WALKERS[WALKER].radius - 0.01


def test_a_turned_wall_stops_and_a_low_one_is_stepped_on() -> None:
    wall = Obstacle("field wall", 0, 4, 6.1, -1, 1.3, 6, 0.35, 20)
    end = walk(Land(things=[wall]), 1.5)
    assert end.y < 4
    assert end.blocked_by == "field wall"
    deck = Obstacle("boardwalk", 0, 4, 3, -1, 0.3, 2, 2, 0)
    end = walk(Land(things=[deck]), 1.2)
    assert end.z == pytest.approx(0.3)


def test_the_edge_of_the_tract_stops() -> None:
    end = walk(Land(edge=3.0), 3)
    assert end.y <= 3
    assert end.blocked_by == "the edge of the tract"


@pytest.mark.parametrize(
    ("x", "y", "out"), [(0.9, 0.2, (1, 0)), (-0.9, -0.2, (-1, 0)), (0.1, 2.8, (0, 1)), (-0.2, -2.8, (0, -1))]
)
@pytest.mark.parametrize("turn", [0.0, 90.0])
def test_whoever_stands_in_a_wall_is_put_out_by_its_nearest_side(
    x: float, y: float, out: tuple[int, int], turn: float
) -> None:
    """A wall of 2 by 6 m that was placed on a walker; a turn clockwise carries the same place along."""
    if turn:
        x, y, out = y, -x, (out[1], -out[0])
    wall = Obstacle("the wall", 0, 0, 3.2, -1, 4, 1.0, 3.0, turn)
    walker = tick(Walker(x, y, 0.0, 0.0), Intent(ahead=1e-6), Land(things=[wall]))
    moved = walker.x - x, walker.y - y
    assert (round(moved[0] / max(map(abs, moved))), round(moved[1] / max(map(abs, moved)))) == out
    across, along = (walker.x, walker.y) if not turn else (-walker.y, walker.x)
    assert abs(across) >= 1.0 or abs(along) >= 3.0


@pytest.mark.parametrize("rate", [20, 60, 240])
def test_a_jump_is_as_high_as_it_is_said_at_any_rate(rate: int) -> None:
    """To a hundredth of a metre; as long in the air as sqrt(8 h / g) says (common practice)."""
    gait, land, walker, heights = WALKERS["rider"], Land(), Walker(0, 0, 0), [0.0]
    while len(heights) < 2 or walker.fall:
        walker = tick(walker, Intent(ahead=1, jump=len(heights) == 1), land, gait, 1 / rate)
        heights.append(walker.z)
    assert max(heights) == pytest.approx(gait.jump, abs=0.016 if rate == 20 else 0.01)
    assert (len(heights) - 1) / rate == pytest.approx(math.sqrt(8 * gait.jump / GRAVITY), abs=1.01 / rate)
    assert walker.z == 0


LEDGE = Land(lambda x, y: 0.7 if y > 2 else 0.0)
FACE = Land(lambda x, y: max(0.0, y - 2) * 2)
DITCH = Land(lambda x, y: -2.0 if 2 < y < 3 else 0.0, sea=-0.1)
LINTEL = Land(things=[Obstacle("lintel", 0, 3, 0.5, 1.2, 3.0)])
UNDER = Land(things=[Obstacle("roof", 0, 0, 3, 1.8, 3.0)])


@pytest.mark.parametrize(
    ("land", "wish", "least", "most", "highest"),
    [
        (LEDGE, Intent(ahead=1), 1, 2.2, 0.4), (LEDGE, Intent(ahead=1, jump=True), 4, 99, 1.6),
        # A face too steep is not climbed by jumping up it again and again.
        (DITCH, Intent(ahead=1, jump=True), 1, 2.1, 0.9),
        (FACE, Intent(ahead=1, jump=True), 1.9, 3.0, 1.6),
        (LINTEL, Intent(ahead=1), 1, 2.3, 0.1), (LINTEL, Intent(ahead=1, crouch=True), 4, 99, 0.1),
        (UNDER, Intent(jump=True), -1, 1, 0.16),
    ],
)  # fmt: skip
def test_jumping_and_crouching(land: Land, wish: Intent, least: float, most: float, highest: float) -> None:
    gait, walker, top = replace(WALKERS["rider"], eye=1.65, steepest_deg=45.0), Walker(0, 0, 0), 0.0
    for _ in range(300):
        walker = tick(walker, wish, land, gait)
        top = max(top, walker.z)
    assert least < walker.y < most
    assert top <= highest


def test_who_crouches_under_something_stays_low_until_it_is_past() -> None:
    walker = Walker(0, 3, 0)
    walker = tick(walker, Intent(crouch=True), LINTEL)
    assert walker.crouches
    assert tick(walker, Intent(), LINTEL).crouches
    assert not tick(replace(walker, y=5), Intent(), LINTEL).crouches


def test_a_boat_keeps_to_water_that_is_deep_enough() -> None:
    beach, boat = Land(lambda x, y: 0.1 * y - 2, sea=0.0, things=[Obstacle("bridge", 5, 0, 4, 3, 4)]), WALKERS["boat"]
    walker = Walker(0, 0, 0)
    for _ in range(900):
        walker = tick(walker, Intent(ahead=1, facing=20), beach, boat)
    assert beach.water(walker.x, walker.y) == pytest.approx(boat.draught, abs=0.01)
    assert (walker.z, "draws 0.4 m" in walker.blocked_by) == (0, True)


WISHES = st.lists(
    st.tuples(st.floats(-1, 1), st.floats(-1, 1), st.floats(0, 360), st.booleans(), st.booleans(), st.booleans()),
    min_size=1, max_size=6,
)  # fmt: skip


@settings(max_examples=int(os.environ.get("FERN_WALKS", "40")), deadline=None)
@given(WISHES, st.sampled_from(sorted(WALKERS)), st.sampled_from([20, 60, 240]), st.integers(0, 5))
def test_nobody_is_ever_under_the_ground_or_within_what_blocks(
    wishes: list[tuple[float, float, float, bool, bool, bool]], name: str, rate: int, seed: int
) -> None:
    """At any rate of ticks, by random wishes on random land. More by hand: FERN_WALKS=20000."""
    rng, gait = np.random.default_rng(seed), WALKERS[name]
    a, b, tall = rng.uniform(0.1, 0.5, 3), rng.uniform(0, 6, 3), rng.uniform(0.5, 2.5)
    land = Land(
        lambda x, y: tall * sum(math.sin(k * x + s) * math.cos(k * y - s) for k, s in zip(a, b, strict=True)), sea=0.0,
        things=[Obstacle("post", *rng.uniform(-9, 9, 2), rng.uniform(0.2, 1), -20, 20) for _ in range(8)], edge=12,
    )  # fmt: skip
    walker = Walker(0, 0, land.height(0, 0) + (land.water(0, 0) if gait.draught else 0))
    if any(math.hypot(o.x, o.y) < o.radius + gait.radius for o in land.things):
        return
    for ahead, aside, facing, run, jump, crouch in wishes:
        for _ in range(rate):
            walker = tick(walker, Intent(ahead, aside, facing, run, jump, crouch), land, gait, 1 / rate)
            assert walker.z >= land.height(walker.x, walker.y) - 1e-9
            assert land.holds(walker.x, walker.y)
            gaps = [math.hypot(o.x - walker.x, o.y - walker.y) - o.radius - gait.radius for o in land.things]
            assert min(gaps) > -2e-3, (walker, min(gaps))
