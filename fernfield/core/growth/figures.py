"""Whether plants stand by chance, in clumps, or evenly."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree


@dataclass(frozen=True, slots=True)
class Neighbours:
    """How plants stand to each other.

    index : of Clark and Evans: 1 by chance, below in clumps, above even (2.149 at most, a lattice of triangles)
    sure : how many standard errors that is from 1; beyond 2 either way it is no chance
    count, nearest_m : how many there are, and the mean distance to the nearest neighbour [m]
    """

    index: float
    sure: float
    count: int
    nearest_m: float

    @property
    def words(self) -> str:
        if abs(self.sure) < 2:
            return "as by chance"
        return "in clumps" if self.index < 1 else "evenly apart"


def neighbours(x: NDArray[np.floating], y: NDArray[np.floating], width: float, depth: float) -> Neighbours | None:
    """The index of Clark and Evans [1]_ of points on a rectangle [m], its edge allowed for after Donnelly [2]_; None
    for fewer than 8 points.

    References
    ----------
    .. [1] P. J. Clark and F. C. Evans (1954), doi:10.2307/1931034
    .. [2] K. P. Donnelly (1978), Simulations to determine the variance and edge effect of total nearest-neighbour
       distance, in I. Hodder (ed.), Simulation studies in archaeology (constants from memory)
    """
    n = len(x)
    if n < 8:
        return None
    points = np.stack([x, y], axis=1).astype(np.float64)
    nearest = float(cKDTree(points).query(points, k=2)[0][:, 1].mean())
    area, edge = width * depth, 2 * (width + depth)
    expected = 0.5 * math.sqrt(area / n) + (0.0514 + 0.041 / math.sqrt(n)) * edge / n
    error = math.sqrt(0.0703 * area / n**2 + 0.037 * edge * math.sqrt(area / n**5))
    return Neighbours(nearest / expected, (nearest - expected) / error, n, nearest)
