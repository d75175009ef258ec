"""What the plan shows: chosen by whoever looks at it, not a part of the world."""

from __future__ import annotations

from dataclasses import dataclass

from fernfield.core.drawing.contours import interval_for
from fernfield.core.drawing.overlays import tint_range
from fernfield.work.cover.ruling import Rule
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.plots.keep import KeepTo
from fernfield.work.water.rows import Tide


@dataclass(frozen=True, slots=True)
class Show:
    """What the plan shows.

    contour_m : the interval, 0 for none, None for what suits the zoom and the relief [m]
    overlays : by name; keep_to : of the stroke
    tide : at which the sea is shown, None: at its level
    cover : whose share is mapped; rule : for covers, which is tried out; guise : that is looked at before it is set
    """

    contour_m: float | None = 2.0
    water: bool = True
    growth: bool = True
    shadows: bool = True
    overlays: tuple[str, ...] = ()
    keep_to: KeepTo | None = None
    cover: str | None = None
    rule: Rule | None = None
    guise: str | None = None
    tide: Tide | None = None

    def interval(self, land: Land, level: int) -> float:
        """The interval of contours in a picture of a level, 0 for none. [m]"""
        if self.contour_m is not None:
            return self.contour_m
        # Rounded outwards, so that not every stroke changes the interval.
        low, high = tint_range(*land.all_heights())
        return interval_for(land.grid.spacing * 2.0**level, low, high, min(land.grid.width, land.grid.depth))
