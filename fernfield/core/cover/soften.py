"""Soften: the borders between covers become so wide, and no wider however long one stroke is held."""

from __future__ import annotations

import math

import cv2
import numpy as np

from fernfield.core.brush.pressing import MaskPressing
from fernfield.core.settings import Values

TEN_TO_NINETY = 2.5631
"""How many standard deviations lie between 10 and 90 % of a border that was blurred by a Gaussian (twice the quantile
of the normal distribution at 0.9, 1.28155: any handbook table)."""

FURTHEST = 3.0
"""Standard deviations beyond which nothing is mixed in."""


def reach(radius: float, values: Values, spacing: float) -> int:
    """How far beyond the brush it reads. [posts]"""
    return math.ceil(FURTHEST * float(values["width_m"]) / TEN_TO_NINETY / spacing)


def soften(p: MaskPressing) -> None:
    """Bring every mask towards what it was before the stroke, blurred: a sharp border comes to be ``width_m`` wide.

    That is measured from a tenth to nine tenths of the cover.
    """
    sigma = float(p.values["width_m"]) / TEN_TO_NINETY / p.spacing
    size = 2 * reach(0, p.values, p.spacing) + 1
    part = np.clip(p.weights * np.float32(p.amount), 0, 1)
    for mask, before in zip(p.masks, p.before, strict=True):
        blurred = cv2.GaussianBlur(before.astype(np.float32), (size, size), sigma, borderType=cv2.BORDER_REPLICATE)
        step = (blurred - mask) * part
        # Rounded away from where it stands, so that it arrives.
        mask[...] = np.clip(np.where(step < 0, np.floor(mask + step), np.ceil(mask + step)), 0, 65_535)
