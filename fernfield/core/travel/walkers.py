"""Who moves through a world, as data: the next one is an entry in `WALKERS`."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

WALKER = "person"
"""Whoever walks where nobody is named."""

CROUCHED = 0.6
"""So much of its height somebody has who crouches, and half of its speed."""


@dataclass(frozen=True, slots=True)
class Gait:
    """What somebody who moves is and can do. Speeds in m/s, slopes in degrees, lengths in metres.

    label, who, colour : what a page calls it, of whom it says "… climbs it", and its colour
    radius, height, eye : of the body that it is taken for, a standing cylinder, and how high its eyes are
    walk, run : on firm level ground
    steepest_deg, step : a rise steeper than this is climbed only where it is no higher than a step
    drop : a fall lower than this is not gone over, where it is steeper than that too (infinite: any is)
    jump : how high it jumps; turns_deg_s : how quickly it turns
    draught : it floats, and goes where the water is at least as deep as this; 0: it goes over the ground
    wade : water this deep stops it, unless it swims; slowest_share : of its speed just before that, or while it swims
    graded : while a grade is drawn, it is told whether it climbs that
    """

    label: str = "A person"
    who: str = "only a walker"
    colour: str = "#7b580c"
    radius: float = 0.3
    height: float = 1.8
    eye: float = 1.65
    walk: float = 3.0
    run: float = 8.0
    steepest_deg: float = 45.0
    step: float = 0.4
    drop: float = math.inf
    jump: float = 0.0
    turns_deg_s: float = 360.0
    wade: float = 1.2
    swims: bool = False
    slowest_share: float = 0.3
    graded: bool = False
    draught: float = 0.0

    @property
    def crouched(self) -> Gait:
        """The same, crouching."""
        return replace(
            self, height=self.height * CROUCHED, eye=self.eye * CROUCHED, walk=self.walk / 2, run=self.walk / 2
        )

    def climbs(self, degrees: float) -> bool:
        """Whether a slope of so many degrees is climbed however long it is."""
        return degrees <= self.steepest_deg


WALKERS: dict[str, Gait] = {
    WALKER: Gait(graded=True, jump=0.5),
    "child": Gait("A child", "a child", "#8a6a2f", 0.2, 1.2, 1.1, 2.2, 5.0, 40.0, 0.3, jump=0.3, wade=0.7),
    "carrier": Gait("A laden carrier", "a carrier", "#6b5a42", 0.45, 1.9, 1.6, 1.6, 2.4, 30.0, 0.3, drop=1.0, wade=0.9),
    "cart": Gait("A cart", "a cart", "#2c6647", 0.9, 1.6, 1.4, 5.0, 12.0, 20.0, 0.15, drop=0.4, turns_deg_s=60.0,
                 wade=0.5, graded=True),
    "rider": Gait("A rider", "a rider", "#5b4a86", 0.5, 2.4, 2.3, 5.0, 11.0, 35.0, 0.5, drop=1.2, jump=0.8,
                  turns_deg_s=150.0, wade=1.4),
    "swimmer": Gait("A person who swims", "a swimmer", "#27637f", jump=0.5, swims=True),
    "boat": Gait("A boat", "a boat", "#3d5a6c", 0.8, 1.6, 1.3, 2.5, 5.0, turns_deg_s=45.0, draught=0.4),
}  # fmt: skip
"""The measures of the first are those that the application began with; all others are our choice."""

CALLED_BEFORE = {"walker": WALKER, "vehicle": "cart"}
"""Keys of earlier versions, which scripts may still say."""


def first_to_climb(degrees: float) -> str | None:
    """The walker that climbs the least of those that are told while a grade is drawn, and climbs this; None: nobody."""
    told = sorted((gait.steepest_deg, name) for name, gait in WALKERS.items() if gait.graded)
    return next((name for _, name in told if WALKERS[name].climbs(degrees)), None)
