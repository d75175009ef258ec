"""How far apart contours lie in a picture."""

from __future__ import annotations

INTERVALS = (0.5, 1.0, 2.0, 5.0, 10.0, 25.0, 50.0, 100.0, 250.0, 500.0, 1000.0)
"""The intervals that are chosen from. [m]"""

APART_PIXELS = 12.0
"""Contours on ground of the mean steepness lie at least so far apart (our choice)."""


def interval_for(metres: float, low: float, high: float, extent: float) -> float:
    """The interval that suits a picture. [m]

    Parameters
    ----------
    metres : side of a pixel [m]
    low, high : the elevations of the land [m]
    extent : its shorter side [m]

    The land's steepness is taken to be its whole relief over a third of its shorter side: an island's
    or a mountain's flank.
    """
    steepness = max(high - low, 1.0) / max(extent / 3, 1.0)
    least = APART_PIXELS * metres * steepness
    return next((step for step in INTERVALS if step >= least), INTERVALS[-1])
