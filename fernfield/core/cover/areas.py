"""Covers over whole areas: one brought to a share, and one in the place of another."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.cover.shares import SOLID, OpacityArray, compose_shares
from fernfield.core.cover.veil import veil
from fernfield.core.grid import FloatArray


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
    would be left of it, all is, so that no flecks stay.
    """
    shares = compose_shares(list(masks), [None] * len(masks), masks.shape[1:]).astype(np.float64)
    own = shares[at]
    taken = own * weights
    taken = np.where((weights > 0) & (own - taken < least), own, taken)
    shares[at] -= taken
    shares[to] += taken
    return np.where(taken > 0, stacked(shares, masks), masks)


def stacked(shares: NDArray[np.float64], before: OpacityArray) -> OpacityArray:
    """Opacities that give these shares; where a cover is hidden whole its opacity stays as it was `before`.

    Parameters
    ----------
    shares : shape (covers, rows, cols), base first, adding up to 1
    before : shape (covers - 1, rows, cols)
    """
    out = before.copy()
    left = np.ones(shares.shape[1:], np.float64)
    for i in range(len(before) - 1, -1, -1):
        seen = left > 1 / SOLID
        part = np.divide(shares[i + 1], left, out=np.zeros_like(left), where=seen)
        out[i] = np.where(seen, np.rint(np.clip(part, 0, 1) * SOLID), before[i])
        left = left - shares[i + 1]
    return out
