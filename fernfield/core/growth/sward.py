"""Ground cover: how dense grass and small plants are at every post, and what of it is drawn near an eye."""

from __future__ import annotations

import math

import numpy as np

from fernfield.core.grid import FloatArray

TUFT_TRIANGLES = 4
"""Of one drawn tuft: four blades."""
PATCH_EDGE = 0.25
"""Over so much of the noise (-1 to 1) a patch grows in."""


def patched(share: FloatArray, noise: FloatArray, patchy: float, middle: float) -> FloatArray:
    """A share that is thinner between patches: by `patchy` (0 to 1) where `noise` is under its `middle`.

    Half of the ground is wholly in patches when `middle` is the noise's median.
    """
    if patchy <= 0:
        return share
    inside = np.clip((noise - np.float32(middle)) / np.float32(PATCH_EDGE) + np.float32(0.5), 0, 1)
    return np.asarray(share * (1 - np.float32(patchy) * (1 - inside)), np.float32)


def tufts_drawn(share: FloatArray, spacing: float, per_m2: float, reach: float) -> float:
    """How many tufts are drawn where the most are: within `reach` of an eye. [m]

    share : of the full density at every post; spacing : from post to post [m]
    """
    radius = max(1, round(reach / spacing))
    disc = math.pi * reach * reach
    if 2 * radius + 1 >= min(share.shape):
        # The land is smaller than what is seen at once.
        return float(share.mean()) * per_m2 * min(disc, share.size * spacing * spacing)
    sums = np.pad(share.astype(np.float64), ((1, 0), (1, 0))).cumsum(axis=0).cumsum(axis=1)
    side = 2 * radius + 1
    boxes = sums[side:, side:] - sums[:-side, side:] - sums[side:, :-side] + sums[:-side, :-side]
    return float(boxes.max()) / side**2 * per_m2 * disc
