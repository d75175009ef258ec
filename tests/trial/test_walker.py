"""The walker against closed forms: slopes, steps, falls, water, trunks and walls."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import pytest

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
