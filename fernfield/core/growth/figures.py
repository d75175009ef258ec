"""Whether plants stand by chance, in clumps, or evenly."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


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
    from scipy.spatial import cKDTree  # heavy: imported where it is used

    nearest = float(cKDTree(points).query(points, k=2)[0][:, 1].mean())
    area, edge = width * depth, 2 * (width + depth)
    expected = 0.5 * math.sqrt(area / n) + (0.0514 + 0.041 / math.sqrt(n)) * edge / n
    error = math.sqrt(0.0703 * area / n**2 + 0.037 * edge * math.sqrt(area / n**5))
    return Neighbours(nearest / expected, (nearest - expected) / error, n, nearest)


SQUARES_SURE = 3.0
"""So many standard errors the counts of squares must differ by, to be called clumps."""


def clumps_sure(x: NDArray[np.floating], y: NDArray[np.floating], width: float, depth: float, side: float) -> float:
    """How many standard errors the counts of squares of `side` [m] differ more than by chance: the index of dispersion,
    variance by mean, which by chance is 1 with a variance of 2 / (squares - 1) [1]_. 0 where there are too few squares.

    References
    ----------
    .. [1] R. A. Fisher, H. G. Thornton, W. A. Mackenzie (1922), The accuracy of the plating method of estimating the
       density of bacterial populations, Annals of Applied Biology 9, 325-359 (from memory)
    """
    across, down = int(width // side), int(depth // side)
    if across * down < 9 or len(x) == 0:
        return 0.0
    box = [[0, across * side], [0, down * side]]
    counts = np.histogram2d(x, y, bins=(across, down), range=box)[0].ravel()
    if counts.mean() == 0:
        return 0.0
    return float((counts.var(ddof=1) / counts.mean() - 1) / math.sqrt(2 / (len(counts) - 1)))


def standing_words(x: NDArray[np.floating], y: NDArray[np.floating], width: float, depth: float, side: float) -> str:
    """How plants stand: nearest neighbours tell how they keep apart, squares of `side` [m] whether they stand in
    clumps; nothing for fewer than 8."""
    near = neighbours(x, y, width, depth)
    if near is None:
        return ""
    if clumps_sure(x, y, width, depth, side) < SQUARES_SURE:
        return near.words
    return "in clumps, apart within them" if near.sure > 2 else "in clumps"
