"""Drag: what lies on the ground comes along with the hand, and so one cover into the next."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.settings import Values


def reach(radius: float, values: Values, spacing: float) -> int:
    """How far back it reads: as far as a hand comes from dab to dab. [posts]"""
    return math.ceil(radius / 2) + 2


def drag(p: MaskPressing) -> None:
    """Bring to every post what lay where the hand has come from, as far back as it came since its last dab: in the
    middle of the brush all of the way, towards its edge less, by how fast it holds (``p.values["hold"]``)."""
    down, right = p.pull
    if down == 0 and right == 0:
        return
    rows, cols = p.weights.shape
    part = p.weights * np.float32(p.values["hold"])
    back_rows = np.arange(rows, dtype=np.float32)[:, None] - part * np.float32(down)
    back_cols = np.arange(cols, dtype=np.float32)[None, :] - part * np.float32(right)
    for mask in p.masks:
        mask[...] = cv2.remap(mask, back_cols, back_rows, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
