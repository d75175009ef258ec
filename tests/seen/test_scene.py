"""Windows of the open tract, and pictures from near and far."""

import numpy as np
import pytest

from fernfield.core.brush.pace import Sample
from fernfield.core.errors import InvalidInput
from fernfield.core.grid import Window
from fernfield.work.kernel.commands import put
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT, Light, Sun
from fernfield.work.seen.plan import plan_pixels, relit, shadow_window, sunlit_pixels, unlit
from fernfield.work.seen.sections import section
from fernfield.work.seen.show import Show
from fernfield.work.seen.spot import levels, spot
from fernfield.work.strokes import StrokeStart
from fernfield.work.water.rows import WATER, Water
from tests.conftest import draw, ground


@pytest.mark.parametrize("window", [Window(0, 0, 301, 301), Window(250, 240, 262, 270), Window(-5, -7, 20, 12)])
@pytest.mark.parametrize("step", [1, 3, 16])
def test_a_window_is_read_like_a_slice_of_the_whole(world: OpenWorld, window: Window, step: int) -> None:
    draw(world)
    padded = np.pad(ground(world), 10, mode="edge")
    rows, cols = window.pad(0).inside(Window(-10, -10, 311, 311))
    expected = padded[rows, cols][::step, ::step]
    assert np.array_equal(world.first_tract.cache.read(HEIGHT, window, step), expected)


def test_a_window_that_is_written_is_read_again(world: OpenWorld) -> None:
    cache = world.first_tract.cache
    window = Window(240, 250, 270, 262)
    values = np.arange(30 * 12, dtype=np.float32).reshape(30, 12)
    cache.write(HEIGHT, window, values)
    assert np.array_equal(cache.read(HEIGHT, window), values)
    assert cache.read(HEIGHT, Window(239, 250, 240, 251)) == 10


def test_near_and_far_pictures_agree(world: OpenWorld) -> None:
    """Every second pixel of a level is the next one's pixel, but for lines, which keep their width."""
    draw(world, strength=15)
    show = Show(contour_m=0, growth=False)
    fine = plan_pixels(world, world.first_land, 0, Window(0, 0, 300, 300), show).astype(int)
    coarse = plan_pixels(world, world.first_land, 1, Window(0, 0, 150, 150), show).astype(int)
    near = plan_pixels(world, world.first_land, -1, Window(0, 0, 600, 600), show).astype(int)
    assert np.abs(fine[::2, ::2] - coarse).mean() < 4
    assert np.abs(near[::2, ::2] - fine).mean() < 4


def test_growth_is_seen_from_near_as_plants_and_from_far_as_a_tint(world: OpenWorld) -> None:
    bare = {level: plan_pixels(world, world.first_land, level, Window(0, 0, 18, 18), Show()) for level in (0, 4)}
    draw(world, "sow", mix="mix", strength=1000, path=[(10, 290, 0), (290, 10, 1)], radius_m=300, softness=0)
    for level, before in bare.items():
        sown = plan_pixels(world, world.first_land, level, Window(0, 0, 18, 18), Show())
        assert np.abs(sown.astype(int) - before).sum() > 1000
        hidden = plan_pixels(world, world.first_land, level, Window(0, 0, 18, 18), Show(growth=False))
        assert np.array_equal(hidden, before)


@pytest.mark.parametrize("level", [-1, 0, 2])
def test_a_light_that_is_looked_at_is_the_one_that_would_be_set(world: OpenWorld, level: int) -> None:
    """Light put on what was drawn without any, and the picture under that sun once it is set."""
    draw(world, path=[(150, 150, 0), (150, 150, 1)], strength=30, radius_m=40)
    row, col = int(150 * 2.0**-level), int(128 * 2.0**-level)
    part = Window(row - 25, col - 30, row + 20, col + 25)
    sun = {"sun_bearing_deg": 250, "sun_height_deg": 14}
    show = Show(growth=False, contour_m=0, sun=Sun.model_validate(sun))
    turned = relit(world, world.first_land, unlit(world, world.first_land, level, part, show), show).astype(int)
    world.edit(put(LIGHT, "sun", Light.model_validate(sun)))
    kept = plan_pixels(world, world.first_land, level, part, Show(growth=False, contour_m=0)).astype(int)
    assert np.ptp(kept[..., 1]) > 40
    assert np.abs(turned - kept).max() <= 2


def test_where_the_sun_comes_past_hills_and_past_growth(world: OpenWorld) -> None:
    world.edit(put(LIGHT, "sun", Light(sun_bearing_deg=270, sun_height_deg=12)))
    draw(world, path=[(100, 150, 0), (100, 150, 1)], strength=14, radius_m=12)
    draw(world, "sow", mix="mix", strength=1000, path=[(10, 290, 0), (290, 10, 1)], radius_m=300, softness=0)
    land = world.first_land
    ground_only, grown = np.moveaxis(sunlit_pixels(world, land, land.bounds, 1, Show())[..., :2], 2, 0)
    # East of the hill, not west of it.
    assert ground_only[150, 120] == 0
    assert ground_only[150, 60] == 255
    assert (grown <= ground_only).all()
    assert (grown < ground_only).mean() > 0.01
    for show in (Show(growth=False), Show(sun=Sun(sun_bearing_deg=90, sun_height_deg=12))):
        other = sunlit_pixels(world, land, land.bounds, 1, show)
        assert np.array_equal(other[..., 1], other[..., 0]) == (not show.growth)
    assert other[150, 80, 0] == 0
    far = sunlit_pixels(world, land, land.bounds, 4, Show())
    assert far.shape == (76, 76, 3)
    assert np.array_equal(far[..., 0], far[..., 1])


def test_what_a_change_makes_stale_holds_its_shadow(world: OpenWorld) -> None:
    world.edit(put(LIGHT, "sun", Light(sun_bearing_deg=270, sun_height_deg=20)))
    before = plan_pixels(world, world.first_land, 0, Window(0, 0, 301, 301), Show(contour_m=0)).astype(int)
    outcome = draw(world, path=[(100, 150, 0), (100, 150, 1)], strength=14, radius_m=12)
    after = plan_pixels(world, world.first_land, 0, Window(0, 0, 301, 301), Show(contour_m=0)).astype(int)
    rows, cols = np.nonzero(np.abs(after - before).sum(axis=2))
    told = shadow_window(world, world.first_land, outcome.window.pad(2))
    assert cols.max() > outcome.window.col1 + 15
    assert told.row0 <= rows.min() <= rows.max() < told.row1
    assert told.col0 <= cols.min() <= cols.max() < told.col1


def test_the_range_of_the_whole_tract_is_kept_up(world: OpenWorld) -> None:
    """Without asking every tile after each stroke, and never narrower than the ground."""
    cache = world.first_tract.cache
    whole = world.first_tract.grid.window
    assert cache.all_heights() == (10, 10)
    for tool, x in (("raise", 60), ("lower", 280), ("raise", 280), ("lower", 60), ("lower", 60)):
        draw(world, tool, path=[(x, 100, 0), (x, 100, 1)], strength=9)
        land = ground(world)
        assert cache.all_heights() == cache.height_range(whole) == (land.min(), land.max())
    while world.can_undo:
        world.undo()
        land = ground(world)
        assert cache.all_heights() == (land.min(), land.max())
    run = world.begin_stroke(world.first_tract.row.id, StrokeStart(tool="raise", radius_m=9, softness=1, strength=9))
    world.extend_stroke(run, [Sample(150, 150, t) for t in (0, 1, 2)])
    low, high = cache.all_heights()
    assert low <= ground(world).min() < 20 < ground(world).max() <= high
    world.abandon_stroke(run)
    assert cache.all_heights() == (10, 10)


def test_levels_count_and_the_section_follows_the_ground(world: OpenWorld) -> None:
    draw(world, "flatten", path=[(100, 100, 0), (100, 100, 2)], radius_m=40, strength=60, softness=0, target_m=2.0)
    world.edit(put(WATER, "sea", Water(sea_level_m=5, inland=True)))
    found = levels(world, world.first_land, world.first_tract.grid.window)
    edges = np.linspace(found["bottom_m"], found["top_m"], len(found["counts"]) + 1)
    at_two = found["counts"][int(np.searchsorted(edges, 2.0, "right")) - 1]
    assert at_two / sum(found["counts"]) == pytest.approx(np.pi * 40**2 / 301**2, rel=0.05)
    line = section(world, world.first_land, 100, 0, 300)
    assert min(line["ground"]) == 2
    assert line["ground"][100] == 2
    assert line["before"][100] == 10
    assert line["sea_level_m"] == 5
    assert (line["water"][100], line["water"][200]) == (5, None)
    assert spot(world, world.first_land, 100, 100)["water_depth_m"] == 3


def test_a_level_that_is_not_there_is_refused(world: OpenWorld) -> None:
    with pytest.raises(InvalidInput, match="level must be -2 to 7, not 9"):
        plan_pixels(world, world.first_land, 9, Window(0, 0, 2, 2), Show())
