"""Relief, slope and shadows: closed forms, a plain twin, and GDAL on a real elevation grid."""

import math
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from fernfield.core.errors import GridError, InvalidInput
from fernfield.core.grid import FloatArray, Window
from fernfield.core.light.relief import aspect_degrees, gradients, relief, slope_degrees
from fernfield.core.light.shadow import casters, reach_posts, shaded_by, sunlit
from fernfield.formats.asc import asc_lines
from tests.core.real_land import jacksboro

SPACING = 90.0
"""3 arc-seconds are about 90 m; the same number goes to both sides of the comparison."""

needs_gdal = pytest.mark.skipif(shutil.which("gdaldem") is None, reason="GDAL's command line tools are not installed")


def gdaldem(tmp_path: Path, *options: str) -> np.ndarray:
    heights = jacksboro()
    source, result = tmp_path / "land.asc", tmp_path / "out.tif"
    source.write_bytes(b"".join(asc_lines(iter([heights]), *heights.shape, SPACING)))
    subprocess.run(["gdaldem", *options[:1], str(source), str(result), *options[1:], "-q"], check=True, timeout=60)
    return np.asarray(Image.open(result)).astype(float)


@needs_gdal
def test_slope_agrees_with_gdal_on_real_land(tmp_path: Path) -> None:
    """Horn (1981), doi:10.1109/PROC.1981.11918, as GDAL's gdaldem computes it; its frame is nodata."""
    theirs = gdaldem(tmp_path, "slope", "-alg", "Horn")
    ours = slope_degrees(jacksboro(), SPACING)
    assert np.abs(ours - theirs)[1:-1, 1:-1].max() < 2e-3
    assert theirs[1:-1, 1:-1].max() > 20


@needs_gdal
@pytest.mark.parametrize(("bearing", "height"), [(315, 45), (120, 20)])
def test_relief_agrees_with_gdal_on_real_land(tmp_path: Path, bearing: int, height: int) -> None:
    """gdaldem writes grey 1 + trunc(0.5 + 254 v) for a brightness v."""
    theirs = gdaldem(tmp_path, "hillshade", "-az", str(bearing), "-alt", str(height))
    grey = np.trunc(1.5 + 254 * relief(jacksboro(), SPACING, bearing, height).astype(float))
    away = np.abs(grey - theirs)[1:-1, 1:-1]
    assert away.max() <= 1
    assert (away == 0).mean() > 0.99


def test_a_tilted_plane_is_exact_up_to_its_edges() -> None:
    rows, cols = np.mgrid[0:20, 0:30]
    plane = (0.5 * cols - 0.25 * rows).astype(np.float32)
    east, north = gradients(plane, 2.0)
    assert np.allclose(east, 0.25, atol=1e-6)
    assert np.allclose(north, 0.125, atol=1e-6)
    assert np.allclose(slope_degrees(plane, 2.0), math.degrees(math.atan(math.hypot(0.25, 0.125))), atol=1e-4)
    # It falls to the west and a little to the south.
    assert np.allclose(aspect_degrees(plane, 2.0), math.degrees(math.atan2(-0.25, -0.125)) % 360, atol=1e-3)


def test_level_ground_shines_by_the_sine_of_the_suns_height() -> None:
    flat = np.full((5, 5), 7, np.float32)
    assert np.allclose(relief(flat, 1, 123, 30), 0.5, atol=1e-6)
    assert np.isnan(aspect_degrees(flat, 1)).all()


def relief_twin(heights: FloatArray, spacing: float, bearing: float, height: float) -> np.ndarray:
    """Horn's formula in plain NumPy, heights carried on in a straight line beyond the border."""
    z = np.pad(heights.astype(float), 1)
    z[0], z[-1] = 2 * z[1] - z[2], 2 * z[-2] - z[-3]
    z[:, 0], z[:, -1] = 2 * z[:, 1] - z[:, 2], 2 * z[:, -2] - z[:, -3]
    east = ((z[:-2, 2:] - z[:-2, :-2]) + 2 * (z[1:-1, 2:] - z[1:-1, :-2]) + (z[2:, 2:] - z[2:, :-2])) / 8 / spacing
    north = ((z[:-2, :-2] - z[2:, :-2]) + 2 * (z[:-2, 1:-1] - z[2:, 1:-1]) + (z[:-2, 2:] - z[2:, 2:])) / 8 / spacing
    b, h = math.radians(bearing), math.radians(height)
    light = math.sin(h) - math.cos(h) * (east * math.sin(b) + north * math.cos(b))
    return np.maximum(light / np.sqrt(1 + east**2 + north**2), 0)


@pytest.mark.parametrize("shape", [(2, 2), (7, 31), (1100, 1030)])
def test_relief_agrees_with_the_twin(shape: tuple[int, int]) -> None:
    heights = np.random.default_rng(4).normal(0, 2, shape).astype(np.float32)
    kept = heights.copy()
    assert np.allclose(relief(heights, 1.5, 290, 25), relief_twin(heights, 1.5, 290, 25), atol=2e-5)
    assert (heights == kept).all()


def test_grids_that_cannot_be_are_refused() -> None:
    with pytest.raises(GridError, match="at least"):
        relief(np.zeros((1, 5), np.float32), 1, 0, 45)
    with pytest.raises(GridError, match="above 0 m, not 0"):
        slope_degrees(np.zeros((5, 5), np.float32), 0)


# Shadows


def wall(height: float = 10.0) -> FloatArray:
    land = np.zeros((61, 61), np.float32)
    land[30, 30] = height
    return land


@pytest.mark.parametrize(("bearing", "way"), [(0, (1, 0)), (90, (0, -1)), (180, (-1, 0)), (270, (0, 1))])
def test_a_post_throws_its_shadow_away_from_the_sun(bearing: float, way: tuple[int, int]) -> None:
    """A post of 10 m under a sun at 45° throws a shadow of 10 m."""
    lit = sunlit(wall(), 1.0, bearing, 45, soft=0.01)
    for k in range(1, 20):
        inside = lit[30 + k * way[0], 30 + k * way[1]] < 128
        assert inside == (k < 10), k
    assert lit[30 - 3 * way[0], 30 - 3 * way[1]] == 255
    assert lit[30, 30] == 255


def ridge_shadow(bearing: float, height: float) -> float:
    """How far the shadow of a straight ridge of 12 m across the sun reaches, in metres along the sun's bearing."""
    b = math.radians(bearing)
    rows, cols = np.mgrid[0:201, 0:201]
    toward = (cols - 100) * math.sin(b) - (rows - 100) * math.cos(b)
    land = np.where(np.abs(toward - 20) < 1.0, 12.0, 0.0).astype(np.float32)
    lit = sunlit(land, 1.0, bearing, height, soft=0.01)
    near = np.hypot(rows - 100, cols - 100) < 60
    return 20 - float(toward[near & (lit < 128)].min())


@pytest.mark.parametrize("bearing", [0, 17, 45, 63, 90, 134, 200, 299, 330])
def test_the_length_of_a_shadow_follows_the_suns_height(bearing: float) -> None:
    """Height / tan(sun), at any bearing, to a post and the half width of the ridge."""
    for height in (20, 35):
        assert ridge_shadow(bearing, height) == pytest.approx(12 / math.tan(math.radians(height)), abs=2.0)


@pytest.mark.parametrize(("sun", "wall"), [(20, 60.0), (12, 30.0), (45, 120.0)])
def test_a_long_shadow_is_as_long_as_the_tangent_says(sun: float, wall: float) -> None:
    """To a post in a hundred: a wall across a sun in the west."""
    land = np.zeros((9, 400), np.float32)
    land[:, 20] = wall
    dark = np.flatnonzero(sunlit(land, 1.0, 270, sun, soft=0.01)[4] < 128)
    assert dark.max() - 20 == pytest.approx(wall / math.tan(math.radians(sun)), abs=1.01)


def sunlit_twin(heights: FloatArray, bearing: float, height: float, reach: int) -> np.ndarray:
    """Walks from each post towards the sun, a quarter post at a time, between the posts; slow and plain."""
    from scipy.ndimage import map_coordinates

    rows, cols = np.mgrid[0 : heights.shape[0], 0 : heights.shape[1]].astype(float)
    b, rise = math.radians(bearing), math.tan(math.radians(height))
    lit = np.ones(heights.shape, bool)
    for k in range(4, reach * 4):
        r, c = rows - math.cos(b) * k / 4, cols + math.sin(b) * k / 4
        inside = (r >= 0) & (c >= 0) & (r <= heights.shape[0] - 1) & (c <= heights.shape[1] - 1)
        there = map_coordinates(heights.astype(float), [r, c], order=1, mode="nearest")
        lit &= ~(inside & (there > heights + rise * k / 4))
    return lit


@pytest.mark.parametrize("bearing", [15, 75, 160, 250, 340])
def test_shadows_agree_with_a_walk_towards_the_sun_on_real_land(bearing: float) -> None:
    land = jacksboro()[100:220, 150:290] / SPACING * 3
    swept = sunlit(land, 1.0, bearing, 12, soft=0.001) >= 128
    walked = sunlit_twin(land, bearing, 12, 140)
    assert 0.05 < (~walked).mean() < 0.9
    # Measured 96.8 to 98 %: the two differ in how they read between the posts, at edges of shadows.
    assert (swept == walked).mean() > 0.96


@pytest.mark.parametrize("bearing", [20, 100, 160, 250, 340])
def test_a_window_drawn_with_its_casters_is_part_of_the_whole(bearing: float) -> None:
    land = jacksboro()[:200, :200] / SPACING * 3
    whole = sunlit(land, 1.0, bearing, 14)
    part = Window(80, 90, 120, 130)
    wide = casters(part, bearing, reach_posts(float(land.max() - land.min()), 1.0, 14)).meet(Window(0, 0, 200, 200))
    rows, cols = wide.inside(Window(0, 0, 200, 200))
    own = sunlit(land[rows, cols], 1.0, bearing, 14, origin=(wide.row0, wide.col0))[part.inside(wide)]
    assert np.abs(own.astype(int) - whole[part.inside(Window(0, 0, 200, 200))]).max() <= 3


def test_shadows_fall_on_the_side_away_from_the_sun() -> None:
    part = Window(50, 50, 60, 60)
    assert shaded_by(part, 0, 20).row1 >= 80
    assert shaded_by(part, 0, 20).row0 >= 48
    assert casters(part, 90, 20).col1 >= 80


def test_a_sun_below_the_horizon_is_refused() -> None:
    with pytest.raises(InvalidInput, match="above 0 and at most 90"):
        sunlit(wall(), 1.0, 0, 0)
