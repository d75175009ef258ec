"""What is seen: against GDAL's viewshed on a real elevation grid and on random land, both ways, and through crowns."""

from __future__ import annotations

import math
import shutil
import subprocess
from pathlib import Path

import cv2
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin
from scipy.ndimage import gaussian_filter

from fernfield.core.errors import GridError
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.travel.sight import Crowns, lay_crowns, lay_solid, seen_from, sees
from tests.core.real_land import jacksboro

RNG = np.random.default_rng(5)


def hills(side: int, seed: int = 1) -> FloatArray:
    rng = np.random.default_rng(seed)
    return np.asarray(gaussian_filter(rng.normal(0, 1, (side, side)), 5) * 90, np.float32)


def viewshed(heights: FloatArray, row: int, col: int, spacing: float, eye: float, over: float, at: Path) -> FloatArray:
    """Where gdal_viewshed sees the ground, without the earth's curvature and the air's refraction."""
    source, to = at / "heights.tif", at / "seen.tif"
    with rasterio.open(
        source, "w", driver="GTiff", height=heights.shape[0], width=heights.shape[1], count=1, dtype="float32",
        transform=from_origin(1000, 5000, spacing, spacing),
    ) as file:  # fmt: skip
        file.write(heights, 1)
    place = ("-ox", 1000 + (col + 0.5) * spacing, "-oy", 5000 - (row + 0.5) * spacing, "-oz", eye, "-tz", over)
    ask = ["gdal_viewshed", "-q", *map(str, place), "-cc", "0", "-md", "0", str(source), str(to)]
    subprocess.run(ask, check=True, timeout=60)
    with rasterio.open(to) as file:
        return np.asarray(file.read(1) == 255)


@pytest.mark.skipif(shutil.which("gdal_viewshed") is None, reason="GDAL's command line tools are not installed")
@pytest.mark.filterwarnings("ignore::rasterio.errors.NotGeoreferencedWarning")
@pytest.mark.parametrize("land", ["random", "Jacksboro"])
@pytest.mark.parametrize("over", [0.0, 1.8])
def test_it_is_gdals_but_for_posts_at_the_horizon(land: str, over: float, tmp_path: Path) -> None:
    """Left aside are posts at the horizon: beside the border between seen and not, or that change as the eye moves by
    half a post. Of all others less than 0.5 % differ, from three places together: GDAL's way (Wang et al. 2000) mixes
    neighbours on its way out, and differs the more the further it is."""
    heights, spacing = (hills(220), 1.0) if land == "random" else (np.asarray(jacksboro(), np.float32), 90.0)
    differ = of = 0
    for row, col in ((heights.shape[0] // 2, heights.shape[1] // 2), (30, 60), (150, 20)):
        eye = float(heights[row, col]) + 2.0

        def ours(
            down: float = 0.0, right: float = 0.0, at: tuple[int, int] = (row, col), eye: float = eye
        ) -> ByteArray:
            return seen_from(heights, at[0] + down, at[1] + right, spacing, eye=eye, over=over)

        mark, ring = ours() // 255, np.ones((3, 3), np.uint8)
        clear = cv2.dilate(mark, ring) == cv2.erode(mark, ring)
        for down, right in ((0.5, 0.0), (-0.5, 0.0), (0.0, 0.5), (0.0, -0.5)):
            clear &= ours(down, right) // 255 == mark
        gdals = viewshed(heights, row, col, spacing, 2.0, over, tmp_path)
        differ += int((mark != gdals)[clear].sum())
        of += int(clear.sum())
        assert mark[clear].any()
    assert differ / of < 0.005


def test_two_places_see_each_other_both_or_neither() -> None:
    heights = hills(40)
    crowns = Crowns(heights + 1, heights + 4, (RNG.random(heights.shape) < 0.1).astype(np.float32) * 0.3)
    for ra, ca, rb, cb in RNG.integers(0, 40, (300, 4)):
        one, other = ((int(r), int(c), float(heights[r, c]) + 1.65) for r, c in ((ra, ca), (rb, cb)))
        assert sees(heights, one, other, 1.0, crowns) == sees(heights, other, one, 1.0, crowns)
        whole = seen_from(heights, ra, ca, 1.0, eye=one[2], over=1.65, crowns=crowns)[rb, cb]
        assert whole == pytest.approx(255 * sees(heights, one, other, 1.0, crowns), abs=1)


def test_a_wall_hides_what_is_lower_and_crowns_let_some_through() -> None:
    """Beer and Lambert: three posts of 0.2 in a metre leave exp(-0.6)."""
    flat = np.zeros((21, 41), np.float32)
    lay_solid(flat, 0.0, 20.0, 1.0, np.array([(20, 0), (20.2, 0), (20.2, 20), (20, 20)]), 3.0)
    assert flat[10].tolist() == [3.0 if c == 20 else 0.0 for c in range(41)]
    seen = seen_from(flat, 10, 10, 1.0, eye=1.65)
    assert (seen[:, :21] == 255).all()
    assert (seen[10, 21:] == 0).all()
    # Whoever looks at 5 m up sees it over the wall where the line passes: eye 1.65, wall 3 m after 10 m.
    over = seen_from(flat, 10, 10, 1.0, eye=1.65, over=5.0)
    assert [c for c in range(21, 41) if over[10, c]] == [c for c in range(21, 41) if 1.65 + 3.35 * 10 / (c - 10) >= 3]
    low, high, dense = (np.zeros((21, 41), np.float32) for _ in range(3))
    one = (np.array([20.0], np.float32), np.array([10.0], np.float32), np.array([1.2], np.float32))
    lay_crowns(low, high, dense, 0.0, 20.0, 1.0, *one, np.array([0.5], np.float32), np.array([9.0], np.float32), 0.2)
    assert int((dense > 0).sum()) == 5
    seen = seen_from(np.zeros_like(flat), 10, 10, 1.0, eye=1.65, over=1.65, crowns=Crowns(low, high, dense))
    assert seen[10, 30] == pytest.approx(255 * math.exp(-0.6), abs=1)
    assert (seen[10, 15], seen[2, 30]) == (255, 255)
    near = seen_from(np.zeros_like(flat), 10, 10, 1.0, eye=1.65, reach=5.0)
    assert (near[10, 15], near[10, 16]) == (255, 0)
    with pytest.raises(GridError, match="within"):
        seen_from(flat, 50, 0, 1.0, eye=1.0)
