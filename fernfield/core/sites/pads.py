"""Level ground under what stands: cut and filled around an outline, and led to the land over a shoulder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fernfield.core.brush.keep import depths
from fernfield.core.grid import FloatArray
from fernfield.core.sites.kit import Corners


@dataclass(frozen=True, slots=True)
class Pad:
    """Level ground at an elevation: so wide around polygons, with a shoulder of so much. [m]"""

    polygons: tuple[Corners, ...]
    level: float
    wide: float
    shoulder: float

    @property
    def box(self) -> tuple[float, float, float, float]:
        """West, south, east and north end of all that it changes. [m]"""
        points, far = np.concatenate(self.polygons), self.wide + self.shoulder
        (x0, y0), (x1, y1) = points.min(axis=0), points.max(axis=0)
        return float(x0 - far), float(y0 - far), float(x1 + far), float(y1 + far)


def padded(ground: FloatArray, pads: Sequence[Pad], x0: float, y0: float, spacing: float) -> FloatArray:
    """The ground with pads cut and filled into it, the later over the earlier ones.

    ground : shape (rows, cols), row 0 north; not modified [m]
    x0, y0 : the place of its first post [m]; spacing : from post to post [m]
    """
    out = ground.astype(np.float32, copy=True)
    rows, cols = ground.shape
    for pad in pads:
        west, south, east, north = pad.box
        c0, c1 = max(0, int((west - x0) // spacing)), min(cols, int((east - x0) // spacing) + 2)
        r0, r1 = max(0, int((y0 - north) // spacing)), min(rows, int((y0 - south) // spacing) + 2)
        if c0 >= c1 or r0 >= r1:
            continue
        outline = [
            np.column_stack([(y0 - polygon[:, 1]) / spacing, (polygon[:, 0] - x0) / spacing])
            for polygon in pad.polygons
        ]
        away = -depths(outline, (r1 - r0, c1 - c0), r0, c0) * np.float32(spacing) - np.float32(pad.wide)
        if pad.shoulder > 0:
            share = np.clip(1 - away / np.float32(pad.shoulder), 0, 1)
        else:
            share = (away <= 0).astype(np.float32)
        part = out[r0:r1, c0:c1]
        level = np.float32(pad.level)
        out[r0:r1, c0:c1] = np.where(share >= 1, level, part + (level - part) * share)
    return out


def level_of(
    ground: FloatArray, polygons: Sequence[Corners], wide: float, x0: float, y0: float, spacing: float
) -> float:
    """The mean of the ground under a pad, so that as much is cut as is filled: of the posts that are to be level, or of
    the nearest where it is smaller than a post's square. [m]"""
    outline = [
        np.column_stack([(y0 - polygon[:, 1]) / spacing, (polygon[:, 0] - x0) / spacing]) for polygon in polygons
    ]
    deep = depths(outline, ground.shape, 0, 0) * np.float32(spacing) + np.float32(wide)
    inside = deep >= 0
    if not inside.any():
        inside = deep == deep.max()
    return float(np.mean(ground[inside], dtype=np.float64))
