"""What water shows over the plan."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from fernfield.core.drawing.overlays import marked
from fernfield.core.grid import FloatArray, Window
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rooms import Laid
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.draining import drainage_of
from fernfield.work.water.flowing import wading
from fernfield.work.water.rows import tide_level
from fernfield.work.water.standing import between_tides

WIDEST_M2 = 1e6
"""What drains as much land as this or more has the full colour; a square metre has none, and it grows by tens."""
HIGHEST_ORDER = 6


def _catchment(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    area = drainage_of(world, land, "catchment_m2", window, step)
    return np.asarray(np.clip(np.log(np.maximum(area, 1)) / math.log(WIDEST_M2), 0, 1), np.float32)


def _order(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return np.minimum(drainage_of(world, land, "order", window, step) / HIGHEST_ORDER, 1)


def _tide(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return between_tides(world, land, window, step)


def _wading(world: OpenWorld, land: Land, window: Window, step: int, show: Any) -> FloatArray:
    return wading(world, land, window, step, sea_m=tide_level(world, show.tide))


OVERLAYS = (
    Laid(marked("catchment", "Catchments", "how much land drains through each place", "a square kilometre and more",
                "a thousand m²", "a square metre"), _catchment),
    Laid(marked("streams", "Where streams would run", "the order of the stream at each place",
                f"order {HIGHEST_ORDER} and more", f"order {HIGHEST_ORDER // 2}", "no stream"), _order),
    Laid(marked("tide", "Between the tides", "what the sea covers at high tide and not at low",
                "wet at high tide only"), _tide),
    Laid(marked("wading", "Depth for a walker", "where water is waded, and where it is swum", "swum", "waded", "dry"),
         _wading),
)  # fmt: skip
