"""Transitions: a strip of steps along the border between two covers, which follows when the border moves."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from fernfield.core.cover.flecks import foremost
from fernfield.core.grid import FloatArray

FAR = 1e6


@dataclass(frozen=True, slots=True)
class Strip:
    """first, second : covers by number; steps : from the first's side to the second's, each a cover and its width [m];
    ragged : how far its edges are torn, as a part of half its width, 0 to 1"""

    first: int
    second: int
    steps: tuple[tuple[int, float], ...]
    ragged: float = 0.0

    @property
    def width(self) -> float:
        """Of all steps together. [m]"""
        return sum(width for _, width in self.steps)


def reach(strips: Sequence[Strip], spacing: float) -> int:
    """How far around a post what lies there can matter, strip by strip one after the other. [posts]"""
    return sum(int(np.ceil(strip.width * (0.5 + 0.5 * strip.ragged) / spacing)) + 3 for strip in strips)


def _away(there: NDArray[np.bool_]) -> NDArray[np.float64]:
    """How far every post is from the nearest one that is there; `FAR` where none is. [posts]"""
    if not there.any():
        return np.full(there.shape, FAR)
    found = cv2.distanceTransform((~there).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE).astype(np.float64)
    # Their squares are whole numbers: every window finds the same, to the last bit.
    return np.asarray(np.sqrt(np.rint(found * found)))


def across(shares: FloatArray, strip: Strip, spacing: float) -> FloatArray:
    """How far every post lies from the border between two covers: below 0 where the first is foremost, above 0 where
    the second is, and `FAR` where neither is. [m]"""
    front = foremost(shares)
    first, second = front == strip.first, front == strip.second
    out = np.full(front.shape, FAR)
    out = np.where(first, 0.5 - _away(second), out)
    out = np.where(second, _away(first) - 0.5, out)
    return np.asarray(np.where(np.abs(out) < FAR / 2, out * spacing, FAR), np.float32)


def laid_along(shares: FloatArray, strip: Strip, noise: FloatArray, spacing: float) -> FloatArray:
    """The shares with a strip laid on them; they still add up to 1.

    Parameters
    ----------
    shares : shape (covers, rows, cols), base first
    noise : -1 to 1, shape (rows, cols), that tears the edges
    spacing : between posts [m]
    """
    side = across(shares, strip, spacing)
    side = np.where(side < FAR / 2, side + strip.ragged * strip.width / 2 * noise, side)
    out = shares.copy()
    begins, half = -strip.width / 2, max(spacing, 1e-6)
    # One step runs into the next over a post.
    over = [np.clip((side - begins) / half + 0.5, 0, 1)]
    for _, width in strip.steps:
        begins += width
        over.append(np.clip((side - begins) / half + 0.5, 0, 1))
    there = np.where(np.abs(side) < FAR / 2, over[0] - over[-1], 0).astype(np.float32)
    out *= 1 - there
    for (cover, _), (inside, beyond) in zip(strip.steps, pairwise(over), strict=True):
        out[cover] += np.where(np.abs(side) < FAR / 2, inside - beyond, 0).astype(np.float32)
    return np.asarray(out, np.float32)
