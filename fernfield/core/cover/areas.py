"""Covers over whole areas: one brought to a share, and one in the place of another."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.cover.shares import OpacityArray
from fernfield.core.cover.soften import soften
from fernfield.core.cover.veil import veil
from fernfield.core.grid import FloatArray
from fernfield.core.kernels import kernel

BAND = 128
_BANDS = ThreadPoolExecutor(max_workers=2, thread_name_prefix="covers")


def filled(masks: OpacityArray, at: int, weights: FloatArray, share: float) -> OpacityArray:
    """The masks after a veil of the cover `at` (0 is the base) over an area.

    Parameters
    ----------
    masks : shape (covers, rows, cols), what is painted of every cover, the base first
    weights : shape (rows, cols), how much of each post belongs to the area, 0 to 1
    share : that the cover is to have there, 0 to 1
    """
    out = masks.copy()
    veil(MaskPressing(out, at == 0, weights, 1.0, {"share": share}, 1.0, masks, at))
    return out


def swapped(masks: OpacityArray, at: int, to: int, weights: FloatArray, least: float) -> OpacityArray:
    """The masks after the cover `to` has taken over the share that the cover `at` has of what is painted.

    Arguments as in `filled`. In the soft edge of an area only a part of it is taken over; where less than `least`
    would be left of it, all is, so that no flecks stay. A cover that is hidden whole keeps its opacity.
    """
    out = masks.copy()
    own, held = out[1:], np.ascontiguousarray(weights, np.float32)
    rows = weights.shape[0]

    def band(first: int) -> None:
        _swap(own, at, to, held, float(least), first, min(first + BAND, rows))

    if rows * weights.shape[1] < BAND * BAND:
        _swap(own, at, to, held, float(least), 0, rows)
    else:
        list(_BANDS.map(band, range(0, rows, BAND)))
    if to == 0:
        # What is the base by hand stays so over the rules.
        held = np.rint((weights > 0) * np.float32(65_535)).astype(np.uint16)
        np.maximum(out[0], held, out=out[0])
    return out


def exchanged(masks: OpacityArray, to: NDArray[np.int64], weights: FloatArray) -> OpacityArray:
    """The masks after every cover has handed its share to another, all at once; arguments as in `filled`.

    to : for every cover the number of the one that stands for it, its own where it stays
    """
    out = masks.copy()
    if (to == np.arange(len(to))).all():
        return out
    own = out[1:]
    _exchange(own, to, np.ascontiguousarray(weights, np.float32))
    if any(other == 0 for cover, other in enumerate(to) if cover):
        # What is the base by hand stays so over the rules.
        held = np.rint((weights > 0) * np.float32(65_535)).astype(np.uint16)
        np.maximum(out[0], held, out=out[0])
    return out


def softened(masks: OpacityArray, weights: FloatArray, width: float, spacing: float) -> OpacityArray:
    """The masks after their borders were made `width` metres wide, by the weight; arguments as in `filled`. [m]

    What lies on the rim of the array is taken to go on beyond it: give it with `soften.reach` posts more on every side.
    """
    out = masks.copy()
    soften(MaskPressing(out, False, weights, 1.0, {"width_m": width}, spacing, masks))
    return out


def sharpened(masks: OpacityArray, weights: FloatArray, times: float) -> OpacityArray:
    """The masks after the larger shares have taken from the smaller ones: each is raised to the power `times`, and all
    are brought to add up again. So a border that ran over ten metres runs over about ten by `times`; equal shares stay
    equal. Arguments as in `filled`."""
    out = masks.copy()
    own = out[1:].copy()
    _sharpen(own, np.ascontiguousarray(weights, np.float32), float(times))
    out[1:] = own
    return out


def given_back(masks: OpacityArray, weights: FloatArray) -> OpacityArray:
    """The masks after what was laid by hand was lifted, by the weight."""
    left = masks * (1 - np.clip(weights, 0, 1).astype(np.float64))
    return np.asarray(np.rint(left), np.uint16)


@kernel
def _shares_at(masks: OpacityArray, r: int, c: int, shares: NDArray[np.float64]) -> None:
    """The share of every cover at a post, the base first, into `shares`."""
    through = 1.0
    for i in range(masks.shape[0] - 1, -1, -1):
        opacity = masks[i, r, c] / 65_535.0
        shares[i + 1] = through * opacity
        through *= 1 - opacity
    shares[0] = through


@kernel
def _exchange(masks: OpacityArray, to: NDArray[np.int64], weights: FloatArray) -> None:
    count, rows, cols = masks.shape
    solid = 65_535.0
    shares, new = np.empty(count + 1, np.float64), np.empty(count + 1, np.float64)
    for r in range(rows):
        for c in range(cols):
            weight = min(max(weights[r, c], np.float32(0)), np.float32(1))
            if weight <= 0:
                continue
            _shares_at(masks, r, c, shares)
            moved = 0.0
            new[:] = shares
            for i in range(count + 1):
                if to[i] != i:
                    part = shares[i] * weight
                    new[i] -= part
                    new[to[i]] += part
                    moved += part
            if moved <= 0:
                continue
            left = 1.0
            for i in range(count - 1, -1, -1):
                if left * solid <= 1:
                    # Hidden whole: nothing of what was there may come up again.
                    masks[i, r, c] = 0
                    continue
                masks[i, r, c] = np.uint16(min(max(new[i + 1] / left, 0.0), 1.0) * solid + 0.5)
                left -= new[i + 1]


@kernel
def _sharpen(masks: OpacityArray, weights: FloatArray, times: float) -> None:
    count, rows, cols = masks.shape
    solid = 65_535.0
    shares = np.empty(count + 1, np.float64)
    for r in range(rows):
        for c in range(cols):
            weight = weights[r, c]
            if weight <= 0:
                continue
            _shares_at(masks, r, c, shares)
            total = 0.0
            for i in range(count + 1):
                total += shares[i] ** times
            if total <= 0:
                continue
            left = 1.0
            for i in range(count - 1, -1, -1):
                sharp = shares[i + 1] ** times / total
                own = shares[i + 1] + (sharp - shares[i + 1]) * weight
                if left * solid <= 1:
                    break
                masks[i, r, c] = np.uint16(min(max(own / left, 0.0), 1.0) * solid + 0.5)
                left -= own


@kernel
def _swap(masks: OpacityArray, at: int, to: int, weights: FloatArray, least: float, first: int, last: int) -> None:
    count, cols = masks.shape[0], masks.shape[2]
    solid = 65_535.0
    shares = np.empty((count + 1, cols), np.float64)
    through, left = np.empty(cols, np.float64), np.empty(cols, np.float64)
    for r in range(first, last):
        touched = False
        for c in range(cols):
            if weights[r, c] > 0:
                touched = True
                break
        if not touched:
            continue
        # Short loops over one row each, which compilers turn into vector code.
        through[:] = 1.0
        for i in range(count - 1, -1, -1):
            ink, share = masks[i, r], shares[i + 1]
            for c in range(cols):
                opacity = ink[c] / solid
                share[c] = through[c] * opacity
                through[c] *= 1 - opacity
        shares[0, :] = through
        own, other = shares[at], shares[to]
        for c in range(cols):
            weight = min(max(weights[r, c], np.float32(0)), np.float32(1))
            taken = own[c] * weight
            if weight > 0 and own[c] - taken < least:
                taken = own[c]
            own[c] -= taken
            other[c] += taken
            # Where nothing is taken every mask stays as it is, to the bit.
            left[c] = 1.0 if taken > 0 else 0.0
        # Opacities that give these shares, from the top down.
        for i in range(count - 1, -1, -1):
            ink, share = masks[i, r], shares[i + 1]
            for c in range(cols):
                if left[c] * solid > 1:
                    ink[c] = np.uint16(min(max(share[c] / left[c], 0.0), 1.0) * solid + 0.5)
                    left[c] -= share[c]
