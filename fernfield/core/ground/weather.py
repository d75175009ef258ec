"""Weather as a brush: rain or frost under it, for as long as it is held."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.brush.pressing import Pressing
from fernfield.core.ground.frost import SHARE, frost
from fernfield.core.ground.rain import Rain, rain_in_place
from fernfield.core.settings import Setting

PASSES_A_SECOND = 60
"""Passes of frost in a second at a strength of 100 %/s."""

GOLDEN = 0.6180339887
"""Multiples of it are spread evenly after the point."""

SETTINGS = (
    Setting("kind", "Kind", first="rain", choices=("rain", "frost")),
    Setting("repose_deg", "Angle of repose", "°", 1, 80, 34),
    Setting("seed", "Seed", "", 0, 2**31 - 1, 1, whole=True),
)


def weather(p: Pressing) -> None:
    """`amount` is strength times time: 1 lets a drop fall on every post of full weight, or frost pass 60 times."""
    if p.values["kind"] == "frost":
        passes = max(1, math.ceil(p.amount * PASSES_A_SECOND))
        share = SHARE * p.amount * PASSES_A_SECOND / passes
        p.heights[...] = frost(
            p.heights, p.spacing, float(p.values["repose_deg"]), passes, weights=p.weights, share=share
        )
        return
    held = p.weights > 0
    if min(p.heights.shape) < 3 or not held.any():
        return
    rows, cols = np.flatnonzero(held.any(axis=1)), np.flatnonzero(held.any(axis=0))
    box = int(rows[0]), int(rows[-1]) + 1, int(cols[0]), int(cols[-1]) + 1
    wanted = p.amount * (box[1] - box[0]) * (box[3] - box[2])
    # A part of a drop falls now and then: the dab's own number decides when.
    drops = int(wanted + (p.serial * GOLDEN) % 1)
    exact = p.heights.astype(np.float64)
    seed = int(p.values["seed"]) * 65_537 + p.serial
    rain_in_place(exact, p.spacing, drops, seed, Rain(steps=40), weights=p.weights, box=box)
    p.heights[held] = exact[held].astype(np.float32)
