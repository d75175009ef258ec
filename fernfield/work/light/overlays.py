"""What light shows over the plan."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from fernfield.core.drawing.overlays import marked
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Laid
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.falling import lux_posts, share_posts, sun_hours
from fernfield.work.light.moment import moment_of

LONGEST_H = 16.0
LEAST_LUX, MOST_LUX = 0.001, 100_000.0


def _hours(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return np.asarray(np.clip(sun_hours(world, land, window, step) / np.float32(LONGEST_H), 0, 1), np.float32)


def _share(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return 1 - share_posts(world, land, window, step)


def _lux(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    lux = lux_posts(world, land, window, step, moment_of(world, show.mood, show.sun))
    spread = math.log10(MOST_LUX / LEAST_LUX)
    return np.asarray(np.clip(np.log10(np.maximum(lux, LEAST_LUX) / LEAST_LUX) / spread, 0, 1), np.float32)


OVERLAYS = (
    Laid(marked("sun_hours", "Hours of sun", "for how long of the world's day the sun comes past the ground",
                f"{LONGEST_H:g} h", f"{LONGEST_H / 2:g} h", "none"), _hours),
    Laid(marked("sky_share", "Hidden sky", "how much of the sky the ground around each place hides",
                "all of it", "half of it", "none"), _share),
    Laid(marked("lux", "Light on the ground", "how much light level and sloping ground gets in the mood that is shown",
                "100,000 lx", "10 lx", "0.001 lx"), _lux),
)  # fmt: skip
