"""Passability beside the walker's own steps, both ways, for every walker; and any split is the same."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter

from fernfield.core.drawing.overlays import SLOPE_CLASSES
from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray, bilinear
from fernfield.core.travel.climb import climbs
from fernfield.core.travel.passable import (
    DIRECTIONS,
    HALO,
    WHOLE_PACE,
    close_ways,
    obstacle_table,
    passable,
)
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import WALKERS, Gait

DRY_M = -1e4


@dataclass
class Posts:
    """Posts a metre apart as a walker asks them: y north from row 0 down."""

    heights: FloatArray
    water_at: FloatArray
    things: list[Obstacle] = field(default_factory=list)

    def height(self, x: float, y: float) -> float:
        return bilinear(self.heights, -y, x)

    def water(self, x: float, y: float) -> float:
        row, col = (min(max(round(v), 0), n - 1) for v, n in zip((-y, x), self.heights.shape, strict=True))
        return max(0.0, float(self.water_at[row, col]) - self.height(x, y))

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return self.things

    def holds(self, x: float, y: float) -> bool:
        return True

    def walks(self, gait: Gait, row: int, col: int, direction: int) -> bool:
        """Whether somebody gets from a post straight to the next one, by small steps."""
        down, right = DIRECTIONS[direction]
        facing, away = math.degrees(math.atan2(right, -down)), math.hypot(down, right)
        walker = Walker(col, -row, self.height(col, -row))
        for _ in range(900):
            walker = tick(walker, Intent(ahead=0.6 / gait.walk, facing=facing), self, gait)
            if walker.blocked_by:
                return False
            if math.hypot(walker.x - col, walker.y + row) >= away - 1e-9:
                return True
        raise AssertionError("never there")


def ways(gait: Gait, posts: Posts, looser: float = 0.0) -> ByteArray:
    """Passability, with limits that are so much looser: a degree, and a twenty-fifth of every length."""
    part = 1 + looser / 25
    own = replace(gait, steepest_deg=gait.steepest_deg + looser, step=gait.step * part, wade=gait.wade * part,
                  drop=gait.drop * part)  # fmt: skip
    return passable(posts.heights, 1.0, own, water=posts.water_at)


@pytest.mark.parametrize("name", WALKERS)
def test_it_is_what_the_walker_does_and_the_other_way_round(name: str) -> None:
    """On rolling land with kerbs, steep to every side, and a sea; to within a degree and four per cent."""
    gait, checked = WALKERS[name], [0, 0]
    for seed, steep in ((1, 2.0), (2, 4.0)):
        rng = np.random.default_rng(seed)
        heights = (gaussian_filter(rng.normal(0, 1, (20, 20)), 1.2) * steep).astype(np.float32)
        heights[:, 12:] += np.float32(0.28)
        sea = 1.0 if gait.draught else -0.2 if seed == 1 else DRY_M
        posts = Posts(heights, np.full_like(heights, sea))
        tight, loose = ways(gait, posts, -1), ways(gait, posts, 1)
        for row, col, direction in rng.integers(0, (16, 16, 8), (110, 3)):
            walked = posts.walks(gait, row + HALO, col + HALO, direction)
            at = direction, row, col
            assert walked or not tight[at], (name, seed, row, col, direction)
            assert loose[at] or not walked, (name, seed, row, col, direction)
            checked[walked] += 1
    assert min(checked) > 15, checked


def test_what_blocks_is_gone_around_and_not_touched() -> None:
    """A trunk, a turned wall and a kerb that is stepped on; whatever way is left open is walked."""
    things = [Obstacle("trunk", 8.3, -7.6, 0.4, 0, 5), Obstacle("wall", 5, -12, 3, 0, 2, 2.5, 0.3, 30),
              Obstacle("kerb", 14, -4, 1, 0, 0.3, 1, 1)]  # fmt: skip
    heights = np.zeros((20, 20), np.float32)
    posts, gait = Posts(heights, np.full_like(heights, DRY_M), things), WALKERS["person"]
    out = ways(gait, posts)
    close_ways(out, heights, HALO, -HALO, 1.0, gait, obstacle_table(things))
    assert 20 < (out == 0).sum() < 200
    for direction, row, col in np.argwhere(out[:, ::2, ::2]):
        assert posts.walks(gait, 2 * row + HALO, 2 * col + HALO, direction)
    # Shut is what a body of 0.3 m touches: straight past the trunk at 0.7 m is open, at 0.3 m it is not.
    east = out[2]
    assert (east[5, 5], east[6, 5], east[4, 5]) == (0, 0, WHOLE_PACE)
    assert out[:, 2, 12].all(), "a kerb of 0.3 m"


@pytest.mark.parametrize(
    ("name", "slope_deg", "open_"),
    [(name, gait.steepest_deg + more, more < 0) for name, gait in WALKERS.items() for more in (-1.0, 1.0)
     if not gait.draught and 2 * gait.step < math.tan(math.radians(gait.steepest_deg))],
)  # fmt: skip
def test_a_ramp_is_climbed_up_to_its_limit_and_always_walked_along(name: str, slope_deg: float, open_: bool) -> None:
    heights = np.tile(-np.arange(9, dtype=np.float32)[:, None] * math.tan(math.radians(slope_deg)), (1, 9))
    out = passable(heights, 1.0, WALKERS[name], water=np.full_like(heights, DRY_M))
    assert bool(out[0, 2, 2]) == open_
    assert out[2, 2, 2] == out[6, 2, 2] == WHOLE_PACE
    assert out[4, 2, 2] == WHOLE_PACE, "down"


def test_any_split_gives_the_same_bytes() -> None:
    rng = np.random.default_rng(4)
    heights = (gaussian_filter(rng.normal(0, 1, (84, 84)), 2) * 9).astype(np.float32)
    heights[30:34, 40:60] = np.nan
    water, paces = np.full_like(heights, -1), rng.uniform(0.2, 1, (80, 80)).astype(np.float32)
    whole = passable(heights, 1.0, WALKERS["rider"], water=water, paces=paces)
    for row, col, rows, cols in ((0, 0, 80, 33), (17, 9, 40, 71), (79, 0, 1, 80)):
        wide = slice(row, row + rows + 4), slice(col, col + cols + 4)
        part = slice(row, row + rows), slice(col, col + cols)
        own = passable(heights[wide], 1.0, WALKERS["rider"], water=water[wide], paces=paces[part])
        assert np.array_equal(own, whole[:, *part])
    assert not whole[:, 28:32, 38:58].any()
    assert not whole[4, 27, 38:58].any()
    with pytest.raises(GridError, match="one shape over 4"):
        passable(heights[:4], 1.0, WALKERS["rider"], water=water[:4])


def test_deeper_water_slows_and_who_swims_goes_on() -> None:
    heights = np.tile(np.linspace(0.5, -3.5, 41, dtype=np.float32), (9, 1))
    water = np.zeros_like(heights)
    for name, ends in (("person", 13), ("child", 9), ("swimmer", 36)):
        east = passable(heights, 1.0, WALKERS[name], water=water)[2, 2]
        assert int(np.flatnonzero(east)[-1]) == ends, name
        assert (np.diff(east[east > 0].astype(int)) <= 0).all()


def test_grades_are_told_by_whom_the_overlay_names() -> None:
    assert [climbs(percent) for percent in (0, -36, 37, 100, 101)] == [
        "cart", "cart", "person", "person", "nobody",
    ]  # fmt: skip
    assert {gait.steepest_deg for gait in WALKERS.values() if gait.graded} <= {upto for upto, *_ in SLOPE_CLASSES}
