"""A tool of any stage: how it is named, measured, shown at first, and applied."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from fernfield.core.brush.brush import Touch, weight_window
from fernfield.core.brush.pressing import Laying, MaskPressing, Pressing
from fernfield.core.grid import FloatArray, Window
from fernfield.core.noise import Spots
from fernfield.core.settings import Setting, Values

Quick = Callable[[FloatArray, Touch, float, Values, float], None]
"""Changes heights in place; target elevation [m], the tool's settings, spacing [m]."""

NOTHING = np.zeros((0, 0), np.float32)

HEIGHT = "height"
"""The layer of the ground."""

STRENGTHS: dict[str, tuple[float, float]] = {"m/s": (0.1, 60.0), "%/s": (5.0, 1000.0)}
"""What a hand may set the strength of a tool to, by its unit."""


@dataclass(frozen=True, slots=True)
class FirstBrush:
    """A brush as it is before anybody has set it: radius [m], softness 0 to 1, strength in the tool's unit."""

    radius_m: float = 40.0
    softness: float = 0.7
    strength: float = 6.0


def _always(values: Values) -> bool:
    return True


def _nothing(radius: float, values: Values, spacing: float) -> int:
    return 0


@dataclass(frozen=True, slots=True)
class Tool:
    """How a tool is named, measured and applied.

    name : as the API has it
    label, key : as the bench shows them
    unit : of its strength: "m/s" or "%/s"; "" for a tool that lays its work along a whole path
    opposite : the tool on the other mouse button
    words, verb : what the bench says about it, and what its brush does each second
    begins : its brush as it is at first
    layer : the sort of layer that it works on
    subject : the field of a stroke that says which of them ("" where there is one only)
    sign : what it does to a mask: 1 adds, -1 takes away; 0 for a tool that works on heights
    sheeted : whether its work can go into a sheet
    steady : whether a share grows evenly with time (else it closes in on the whole)
    press : does one dab of any form
    quick : the same for a plain round brush, where speed calls for a kernel of its own
    reads : posts beyond the brush that it reads, by radius [posts], settings and spacing [m]
    settings : its own
    aims : the elevation that it works towards, by settings, the elevation where the stroke begins, and the mean
        under the brush there (asked for only when it is needed) [m]
    lay, area : for a tool without strength: its work, and the posts that it may change, by
        path [posts], settings, spacing, and the lowest and highest ground there [m]
    measures : what is told of a path that was laid, by the same path, settings, spacing and the elevations of its ends
    covers : whether it keeps account of how much it has done at each post
    plain : whether the quick way can do it with these settings
    pattern : for a mask, how much of a dab counts at each post, 0 to 1, by shape, places, settings and spacing [m]
    press_masks : for a mask, does one dab of any form on all the masks that it touches
    timeless : whether its work is the same however long and strongly it is done
    every_mask : whether it is given masks on which nothing lies yet as well
    looks_back : whether it is given the masks as they were before the stroke
    """

    name: str
    label: str
    key: str
    unit: str
    opposite: str
    words: str
    verb: str = ""
    begins: FirstBrush = FirstBrush()
    layer: str = HEIGHT
    subject: str = ""
    sign: int = 0
    sheeted: bool = False
    steady: bool = False
    press: Callable[[Pressing], None] | None = None
    quick: Quick | None = None
    reads: Callable[[float, Values, float], int] = _nothing
    settings: tuple[Setting, ...] = ()
    aims: Callable[[Values, float, Callable[[], float]], float] | None = None
    lay: Callable[[Laying], None] | None = None
    area: Callable[[FloatArray, Values, float, float, float], Window] | None = None
    measures: Callable[[FloatArray, Values, float, tuple[float, float]], Mapping[str, float]] | None = None
    covers: bool = False
    plain: Callable[[Values], bool] = _always
    pattern: Callable[[tuple[int, int], Spots, Values, float], FloatArray] | None = None
    press_masks: Callable[[MaskPressing], None] | None = None
    timeless: bool = False
    every_mask: bool = False
    looks_back: bool = False

    @property
    def first(self) -> dict[str, Any]:
        """Its settings as they are at first."""
        return {setting.name: setting.first for setting in self.settings}

    def amount(self, strength: float, seconds: float) -> float:
        """What a dab of `seconds` does in the middle: metres, or the share that is mixed in."""
        if self.unit == "m/s":
            return strength * seconds
        if self.steady:
            return strength / 100 * seconds
        return 1 - math.exp(-strength / 100 * seconds)

    def halo(self, radius: float, values: Values | None = None, spacing: float = 1.0) -> int:
        return self.reads(radius, self.first if values is None else values, spacing)

    def apply(
        self, heights: FloatArray, touch: Touch, target: float, values: Values | None = None, spacing: float = 1.0
    ) -> None:
        """One dab of a plain round brush on `heights` (modified), by the quickest way there is."""
        own = self.first if values is None else values
        if self.quick is not None and self.plain(own):
            self.quick(heights, touch, target, own, spacing)
        elif self.press is not None:
            weights = weight_window(heights.shape, touch)
            self.press(
                Pressing(heights, weights, touch.amount, spacing, own, target, radius=touch.radius,
                         covered=np.zeros_like(heights) if self.covers else NOTHING)
            )  # fmt: skip
