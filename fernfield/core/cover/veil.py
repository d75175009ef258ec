"""A veil: a cover is brought to one stated share, at once and however often one passes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel


@kernel
def _veil(masks: NDArray[np.uint16], base: bool, weights: FloatArray, share: float) -> None:
    count, rows, cols = masks.shape
    solid = 65_535.0
    first = 0 if base else 1
    near = (count + 1) / solid
    for r in range(rows):
        for c in range(cols):
            weight = weights[r, c]
            if weight <= 0:
                continue
            through = 1.0
            for i in range(first, count):
                through *= 1 - masks[i, r, c] / solid
            old = through if base else through * (masks[0, r, c] / solid)
            new = min(max(old, share * weight), 1 - (1 - share) * weight)
            # What is as near as whole numbers come stays, byte for byte.
            if abs(new - old) <= near or (base and through >= 1):
                continue
            # The others keep their proportions: each gets the same part of what it had.
            part = (1 - new) / (1 - old) if old < 1 else 0.0
            above, left = 1.0, 1.0
            for i in range(count - 1, first - 1, -1):
                opacity = masks[i, r, c] / solid
                own = above * opacity * part
                above *= 1 - opacity
                masks[i, r, c] = np.uint16(min(own / left, 1.0) * solid + 0.5) if left > 0 else np.uint16(0)
                left -= own
            if not base:
                masks[0, r, c] = np.uint16(min(new / left, 1.0) * solid + 0.5)


def veil(p: MaskPressing) -> None:
    """Bring a cover to the share ``p.values["share"]`` (0 to 1) of what is painted.

    Where the weight is w the share comes to lie between ``share * w`` and ``1 - (1 - share) * w``, by the least
    change: in the middle that is the share itself, at the edge nothing. So dabs may come in any order and number, and a
    veil that is laid twice is the veil laid once. The other covers keep their proportions.

    The base is all that the others leave: where nothing lies on it its share is whole, and stays.
    """
    share = float(p.values["share"])
    if p.base:
        # The base's own mask keeps the rules away; what it shows is the same.
        held = np.rint(np.minimum(p.weights * np.float32(share), 1) * 65_535).astype(np.uint16)
        np.maximum(p.masks[0], held, out=p.masks[0])
    own = np.ascontiguousarray(p.masks[1:] if p.base else p.masks[p.at :])
    _veil(own, p.base, p.weights, share)
    p.masks[1 if p.base else p.at :] = own
