"""Covers over whole areas: one brought to a share, and one in the place of another."""

from __future__ import annotations

import numpy as np

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.cover.shares import OpacityArray
from fernfield.core.cover.veil import veil
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel


def filled(masks: OpacityArray, at: int, weights: FloatArray, share: float) -> OpacityArray:
    """The masks after a veil of the cover `at` (0 is the base) over an area.

    Parameters
    ----------
    masks : shape (covers - 1, rows, cols), what is painted of every cover above the base, lowest first
    weights : shape (rows, cols), how much of each post belongs to the area, 0 to 1
    share : that the cover is to have there, 0 to 1
    """
    out = masks.copy()
    first = max(at - 1, 0)
    own = np.ascontiguousarray(out[first:])
    veil(MaskPressing(own, at == 0, weights, 1.0, {"share": share}, 1.0, own))
    out[first:] = own
    return out


def swapped(masks: OpacityArray, at: int, to: int, weights: FloatArray, least: float) -> OpacityArray:
    """The masks after the cover `to` has taken over the share that the cover `at` has of what is painted.

    Arguments as in `filled`. In the soft edge of an area only a part of it is taken over; where less than `least`
    would be left of it, all is, so that no flecks stay. A cover that is hidden whole keeps its opacity.
    """
    out = masks.copy()
    _swap(out, at, to, np.ascontiguousarray(weights, np.float32), float(least))
    return out


@kernel
def _swap(masks: OpacityArray, at: int, to: int, weights: FloatArray, least: float) -> None:
    count, rows, cols = masks.shape
    solid = 65_535.0
    shares = np.empty(count + 1, np.float64)
    for r in range(rows):
        for c in range(cols):
            weight = weights[r, c]
            if weight <= 0:
                continue
            through = 1.0
            for i in range(count - 1, -1, -1):
                opacity = masks[i, r, c] / solid
                shares[i + 1] = through * opacity
                through *= 1 - opacity
            shares[0] = through
            own = shares[at]
            if own <= 0:
                continue
            taken = own * weight
            if own - taken < least:
                taken = own
            shares[at] = own - taken
            shares[to] += taken
            # Opacities that give these shares, from the top down.
            left = 1.0
            for i in range(count - 1, -1, -1):
                if left * solid <= 1:
                    break
                masks[i, r, c] = np.uint16(min(max(shares[i + 1] / left, 0.0), 1.0) * solid + 0.5)
                left -= shares[i + 1]
