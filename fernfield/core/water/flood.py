"""Rain, or a spring, that runs down a land and fills its hollows: where it stands, and what runs off.

Water goes the way that the drainage says. What comes to a hollow stays there until it is full to its brim; what is more
runs over. A hollow that is not full is filled from its lowest post up: brims inside of it are not looked at.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel
from fernfield.core.water.drainage import DC, DR, OUT, Drainage


@dataclass(frozen=True, slots=True)
class Flood:
    """Where water stands after it has run, shape (rows, cols) [m], what passed each post, and what left. [m³]"""

    depth: FloatArray
    passed: FloatArray
    off: float


def flooded(heights: FloatArray, drainage: Drainage, water: NDArray[np.float64], cell: float) -> Flood:
    """Let water run that fell on each post.

    heights, water : shape (rows, cols) [m, m³]; cell : area of a post [m²]
    """
    ground = np.asarray(heights, np.float32)
    deep = drainage.filled - ground
    count, label, stats, _ = cv2.connectedComponentsWithStats((deep > 0).astype(np.uint8), connectivity=8)
    holds = np.asarray(np.bincount(label.ravel(), deep.ravel().astype(np.float64), count) * cell, np.float64)
    left = np.bincount(label.ravel(), minlength=count).astype(np.int64)
    came = np.zeros(count)
    passed = np.ascontiguousarray(water, np.float64).copy()
    off = _run(drainage.order.astype(np.int64), drainage.to, label.astype(np.int64), holds, left, came, passed)
    # What fell where no land is, is gone at once.
    out = np.ones(ground.size, bool)
    out[drainage.order] = False
    off += float(water.ravel()[out].sum())
    depth = np.zeros(ground.shape, np.float32)
    stays = np.minimum(came, holds)
    for one, (west, north, wide, tall, _) in enumerate(stats.tolist()):
        if one == 0 or stays[one] <= 0:
            continue
        box = slice(north, north + tall), slice(west, west + wide)
        own = label[box] == one
        if came[one] >= holds[one]:
            depth[box][own] = deep[box][own]
        else:
            level = _level(ground[box][own], stays[one] / cell)
            depth[box][own] = np.maximum(level - ground[box][own], 0)
    return Flood(depth, np.asarray(passed, np.float32), float(off))


def _level(ground: FloatArray, stands: float) -> float:
    """How high so much water stands, in metres over one post, on ground that it fills from below."""
    low = np.sort(ground.astype(np.float64))
    # What is needed to reach each of them.
    needs = low * np.arange(len(low)) - np.concatenate([[0.0], np.cumsum(low)[:-1]])
    under = int(np.searchsorted(needs, stands, "right"))
    return float((stands + low[:under].sum()) / under)


@kernel
def _run(
    order: NDArray[np.int64], to: NDArray[np.uint8], label: NDArray[np.int64], holds: NDArray[np.float64],
    left: NDArray[np.int64], came: NDArray[np.float64], passed: NDArray[np.float64],
) -> float:  # fmt: skip
    """From the springs down; returns what left the land."""
    cols = to.shape[1]
    off = 0.0
    for i in range(len(order) - 1, -1, -1):
        r, c = order[i] // cols, order[i] % cols
        one = label[r, c]
        on = passed[r, c]
        if one > 0:
            came[one] += on
            left[one] -= 1
            if left[one] > 0:
                continue
            # The last of a hollow is the one that it runs over from.
            on = max(0.0, came[one] - holds[one])
            passed[r, c] = on
        k = to[r, c]
        if k == OUT:
            off += on
        elif on > 0:
            passed[r + DR[k], c + DC[k]] += on
    return off
