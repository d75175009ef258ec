"""Facts of the trade as check values, and closed forms for what a brush does.

Where nothing else is named the fact is common practice, without a published source.
"""

import math

import numpy as np
import pytest

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.grid import LARGEST_SIDE, Grid
from fernfield.core.ground.raise_lower import raise_in_place
from fernfield.core.light.relief import slope_degrees
from fernfield.core.water.level import depth
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.seen.plan import plan_pixels
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import spot
from fernfield.work.studio import Studio
from fernfield.work.water.rows import WATER, Water, sea_level
from fernfield.work.worlds.beginnings import WorldSpec
from tests.conftest import draw, ground


def test_the_hollow_of_7_m_in_ground_at_10_m() -> None:
    """Nothing shows at 7; a pool at 8 and 9; at 11 it floods (common practice)."""
    land = np.full((9, 9), 10, np.float32)
    land[3:6, 3:6] = 7
    wet = {level: (depth(land, level) > 0) for level in (7, 8, 9, 10, 11)}
    assert not wet[7].any()
    assert wet[8].sum() == wet[9].sum() == wet[10].sum() == 9
    assert wet[11].all()


def hollow(world: OpenWorld) -> None:
    """Ground at 10 m with a hollow cut to 7 m in it."""
    draw(world, "flatten", path=[(150, 150, 0), (150, 150, 2)], radius_m=40, strength=60, softness=0.5, target_m=7.0)
    assert ground(world).min() == 7


def wet(world: OpenWorld) -> float:
    """The part of the posts that lie under the sea."""
    return float((ground(world) < sea_level(world)).mean())


@pytest.mark.parametrize(
    ("level", "middle", "plain"),
    [(7, 0.0, 0.0), (8, 1.0, 0.0), (9, 2.0, 0.0), (10, 3.0, 0.0), (11, 4.0, 1.0)],
)
def test_a_hollow_of_7_m_in_ground_of_10_m_fills_and_then_floods(
    world: OpenWorld, level: float, middle: float, plain: float
) -> None:
    """At 7 nothing shows, at 8 and 9 there is a pool, at 10 it stands at the brim, at 11 it floods the map."""
    hollow(world)
    world.edit(put(WATER, "sea", Water(sea_level_m=level, inland=True)))
    assert spot(world, world.first_land, 150, 150)["water_depth_m"] == middle
    assert spot(world, world.first_land, 20, 20)["water_depth_m"] == plain
    most = math.pi * 40**2 / 301**2
    assert wet(world) == (1 if level > 10 else pytest.approx(0, abs=0) if level == 7 else pytest.approx(most, rel=0.65))


def test_the_plan_shows_the_pool_where_the_water_is(world: OpenWorld) -> None:
    hollow(world)
    window = world.first_tract.grid.window
    dry = plan_pixels(world, world.first_land, 0, window, Show(contour_m=0)).astype(int)
    world.edit(put(WATER, "sea", Water(sea_level_m=9, inland=True)))
    pool = plan_pixels(world, world.first_land, 0, window, Show(contour_m=0)).astype(int)
    bluer = (pool[..., 2] - pool[..., 0]) - (dry[..., 2] - dry[..., 0]) > 20
    under = ground(world) < 8.9
    assert bluer[under].all()
    # The drawn shoreline is a pixel wide; the plain beyond it is as it was.
    assert not bluer[ground(world) == 10].any()


def test_an_island_is_pulled_up_out_of_a_sea_of_500_m(studio: Studio) -> None:
    spec = WorldSpec(name="Isle", width_m=256, depth_m=256, spacing_m=1, elevation_m=-500, sea_level_m=0)
    world = studio.world(studio.create(spec))
    assert wet(world) == 1
    outcome = draw(world, path=[(128, 128, 0), (128, 128, 10)], radius_m=100, strength=52, softness=1)
    top = spot(world, world.first_land, 128, 128)
    assert top["elevation_m"] == pytest.approx(20, abs=0.5)
    assert 0.0 < 1 - wet(world) < 0.1
    # The volume of the brush's solid of revolution: 3/10 of the cylinder for the cubic t*t*(3 - 2t) with no flat top.
    assert outcome.fill_m3 == pytest.approx(0.3 * math.pi * 100**2 * 520, rel=2e-3)


@pytest.mark.parametrize("softness", [1.0, 0.6, 0.25])
def test_the_volume_of_a_dab_is_that_of_its_solid_of_revolution(softness: float) -> None:
    """Shells: 2 pi r w(r) dr over the flat top and the cubic shoulder, in closed form."""
    radius, flat = 60.0, 60.0 * (1 - softness)
    wide = radius - flat
    # The shoulder at u from the flat top: w = (1 - u)^2 (1 + 2u), r = flat + wide u.
    shoulder = 2 * math.pi * wide * (flat * 0.5 + wide * 0.15)
    exact = math.pi * flat**2 + shoulder
    heights = np.zeros((151, 151), np.float32)
    raise_in_place(heights, Touch(75, 75, radius, softness, 1.0))
    assert float(heights.sum(dtype=float)) == pytest.approx(exact, rel=2e-3)
    assert float(weight_window((151, 151), Touch(75, 75, radius, softness, 1.0)).sum(dtype=float)) == pytest.approx(
        exact, rel=2e-3
    )


def test_low_strength_with_a_large_radius_makes_hills_and_the_contrary_spikes(world: OpenWorld) -> None:
    draw(world, path=[(80, 150, 0), (80, 150, 2)], radius_m=70, strength=2, softness=1)
    draw(world, path=[(240, 150, 0), (240, 150, 2)], radius_m=4, strength=20, softness=1)
    slopes = slope_degrees(ground(world), 1.0)
    assert slopes[:, :160].max() < 10
    assert slopes[:, 200:].max() > 75


@pytest.mark.parametrize("cells", [16, 32, 64, 128, 256, 512, 1024, 4096, 16_384])
def test_grids_go_in_powers_of_two_and_hold_a_post_more(cells: int) -> None:
    grid = Grid.from_extent(cells * 2.0, cells * 2.0, 2.0)
    assert (grid.rows, grid.cols) == (cells + 1, cells + 1)
    assert grid.rows <= LARGEST_SIDE
    assert (grid.x_of(cells), grid.y_of(0)) == (cells * 2, cells * 2)


def test_a_stroke_and_its_opposite_leave_level_ground(world: OpenWorld) -> None:
    """What Raise puts up Lower takes down again: the cut is the fill."""
    up = draw(world, "raise")
    down = draw(world, "lower")
    assert down.cut_m3 == pytest.approx(up.fill_m3, rel=1e-6)
    assert np.abs(ground(world) - 10).max() < 1e-4
