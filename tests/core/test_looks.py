"""Pictures that were looked at and found good: what is drawn today is what was drawn then.

The pictures stand beside this file in `looks/`. After a change that is meant, `FERN_LOOKS=new pytest
tests/core/test_looks.py` draws them anew; open them before they are kept.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from fernfield.core.brush.tips import TIPS, tip
from fernfield.core.cover.shares import compose_colours
from fernfield.core.drawing.overlays import OVERLAYS, Seen, draw_openings, marked
from fernfield.core.drawing.plan import PlanLook, Stamp, draw_plan, draw_stamps
from fernfield.core.grid import ByteArray, FloatArray
from fernfield.core.landforms import LANDFORMS
from fernfield.core.light.daylight import Daylight, daylight
from fernfield.core.light.shadow import sunlit
from fernfield.core.noise import Octaves, fractal, plain_spots
from tests.core.landform_figures import made

LOOKS = Path(__file__).parent / "looks"
SIDE = 96
METRES = 2.0
ROUNDING = 2
"""What another processor's arithmetic may change of a value of 255."""


@dataclass(frozen=True)
class Scene:
    """Hills above and below the sea, with a spike and a terrace; one pixel more on every side."""

    heights: FloatArray

    @property
    def inner(self) -> FloatArray:
        return self.heights[1:-1, 1:-1]


@pytest.fixture(scope="module")
def scene() -> Scene:
    side = SIDE + 2
    heights = 9 * fractal((side, side), plain_spots(0, 0, 1), Octaves(48, 4, 0.5, 7), 1.0) + 1
    rows, cols = np.mgrid[0:side, 0:side]
    heights += np.clip((cols - 60) * 0.9, 0, 14) - np.clip((rows - 70) * 0.4, 0, 9)
    heights[20, 30] += 9
    return Scene(heights.astype(np.float32))


def agrees(name: str, picture: ByteArray) -> None:
    """Compare with the picture that is kept, or keep this one when new ones are asked for."""
    path = LOOKS / f"{name}.png"
    if os.environ.get("FERN_LOOKS") == "new":
        LOOKS.mkdir(exist_ok=True)
        Image.fromarray(picture).save(path, optimize=True)
    with Image.open(path) as kept:
        was = np.asarray(kept)
    assert was.shape == picture.shape
    away = np.abs(was.astype(int) - picture.astype(int))
    # A hard edge may fall to the other side of a pixel here and there.
    assert np.count_nonzero(away > ROUNDING) <= 0.0005 * away.size, f"{name}: up to {away.max()} of 255"


def plan_of(scene: Scene, day: Daylight, look: PlanLook, *, stamps: bool = False) -> ByteArray:
    mask = np.zeros((SIDE, SIDE), np.uint16)
    mask[:, 30:] = np.linspace(0, 65_535, SIDE - 30).astype(np.uint16)
    rule = np.clip(fractal((SIDE, SIDE), plain_spots(0, 0, 1), Octaves(20, 3, 0.5, 3), 1.0), 0, 1).astype(np.float32)
    colours = [(134, 150, 88), (163, 157, 146), (120, 82, 60)]
    ground = compose_colours([mask, None], [None, rule], colours, (SIDE, SIDE))
    lit = sunlit(scene.inner, METRES, day.bearing, day.height)
    drawn: tuple[Stamp, ...] = ()
    if stamps:
        rng = np.random.default_rng(4)
        x, y, size = (rng.uniform(low, high, 40).astype(np.float32) for low, high in ((0, 96), (0, 96), (0.3, 5)))
        drawn = (Stamp(x, y, size, (58, 92, 60)),)
    picture = draw_plan(scene.heights, METRES, ground, daylight(scene.heights, METRES, lit, day), look, (5, 9))
    draw_stamps(picture, drawn, day.bearing)
    return picture


@pytest.mark.parametrize(
    ("name", "day", "look"),
    [
        ("plan-dry", Daylight(315, 30), PlanLook(None, 0.0)),
        ("plan-sea", Daylight(315, 30), PlanLook(1.5, 0.0)),
        ("plan-contours", Daylight(120, 55), PlanLook(1.5, 2.0)),
        ("plan-low-sun", Daylight(250, 8), PlanLook(None, 5.0)),
    ],
)
def test_the_plan_looks_as_it_did(scene: Scene, name: str, day: Daylight, look: PlanLook) -> None:
    agrees(name, plan_of(scene, day, look)[..., :3])


def test_growth_looks_as_it_did(scene: Scene) -> None:
    agrees("plan-growth", plan_of(scene, Daylight(200, 40), PlanLook(1.5, 0.0), stamps=True)[..., :3])


LOOKED_AT = {**OVERLAYS, "mark": marked("mark", "A mark", "what a room knows")}


@pytest.mark.parametrize("name", LOOKED_AT)
def test_an_overlay_looks_as_it_did(scene: Scene, name: str) -> None:
    picture = plan_of(scene, Daylight(315, 30), PlanLook(None, 0.0))
    kept = np.tile(np.linspace(0, 1, SIDE, dtype=np.float32), (SIDE, 1))
    marks = dict.fromkeys(LOOKED_AT[name].needs - {"posts", "kept"}, kept)
    seen = Seen(scene.heights, METRES, -10.0, 25.0, 3, 5, scene.heights, (0.0, 0.0), 1.0, METRES, kept, marks)
    LOOKED_AT[name].draw(picture, seen)
    agrees(f"overlay-{name}", picture[..., :3])


def test_openings_look_as_they_did(scene: Scene) -> None:
    picture = plan_of(scene, Daylight(315, 30), PlanLook(None, 0.0))
    rows, cols = np.mgrid[0:SIDE, 0:SIDE]
    draw_openings(picture, np.clip(1.2 - np.hypot(rows - 40, cols - 55) / 20, 0, 1).astype(np.float32))
    agrees("openings", picture[..., :3])


@pytest.mark.parametrize("name", TIPS)
def test_a_tip_looks_as_it_did(name: str) -> None:
    agrees(f"tip-{name}", np.rint(tip(name) * 255).astype(np.uint8))


@pytest.mark.parametrize("name", LANDFORMS)
def test_a_landform_looks_as_it_did(name: str) -> None:
    """In greys, its own lowest black and its highest white."""
    heights = made(name, side=SIDE, spacing=16.0)
    low, high = float(heights.min()), float(heights.max())
    agrees(f"landform-{name}", np.rint((heights - low) / (high - low) * 255).astype(np.uint8))
