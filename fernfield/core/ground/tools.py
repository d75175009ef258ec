"""The ground tools, in one list: the next one is a module beside this and a line here."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from fernfield.core.grid import FloatArray, Window
from fernfield.core.ground import flatten, grade, imprint, roughen, smooth, weather
from fernfield.core.ground.brush import Touch, weight_window
from fernfield.core.ground.pressing import Laying, Pressing
from fernfield.core.ground.raise_lower import lower_in_place, press_down, press_up, raise_in_place
from fernfield.core.settings import Setting, Values

Quick = Callable[[FloatArray, Touch, float, Values, float], None]
"""Changes heights in place; target elevation [m], the tool's settings, spacing [m]."""

NOTHING = np.zeros((0, 0), np.float32)


@dataclass(frozen=True, slots=True)
class GroundTool:
    """How a ground tool is named, measured and applied.

    name : as the API has it
    label, key : as the bench shows them
    unit : of its strength: "m/s" or "%/s"; "" for a tool that lays its work along a whole path
    opposite : the tool on the other mouse button
    words : what the bench says about it
    press : does one dab of any form
    quick : the same for a plain round brush, where speed calls for a kernel of its own
    reads : posts beyond the brush that it reads, by radius [posts], settings and spacing [m]
    settings : its own
    lay, area : for a tool without strength: its work, and the posts that it may change, by
        path [posts], settings, spacing, and the lowest and highest ground there [m]
    covers : whether it keeps account of how much it has done at each post
    """

    name: str
    label: str
    key: str
    unit: str
    opposite: str
    words: str
    press: Callable[[Pressing], None] | None = None
    quick: Quick | None = None
    reads: Callable[[float, Values, float], int] = lambda radius, values, spacing: 0
    settings: tuple[Setting, ...] = ()
    lay: Callable[[Laying], None] | None = None
    area: Callable[[FloatArray, Values, float, float, float], Window] | None = None
    covers: bool = False
    plain: Callable[[Values], bool] = field(default=lambda values: True)

    @property
    def first(self) -> dict[str, Any]:
        """Its settings as they are at first."""
        return {setting.name: setting.first for setting in self.settings}

    def amount(self, strength: float, seconds: float) -> float:
        """What a dab of `seconds` does in the middle: metres, or the share that is mixed in."""
        if self.unit == "m/s":
            return strength * seconds
        if self.name == "weather":
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


def _sigma(radius: float, values: Values, spacing: float) -> float:
    return smooth.detail_posts(radius, values["detail_m"], spacing)


def _press_smooth(p: Pressing) -> None:
    smooth.press_smooth(p, _sigma(p.radius, p.values, p.spacing))


GROUND_TOOLS = {
    tool.name: tool
    for tool in (
        GroundTool(
            "raise", "Raise", "R", "m/s", "lower", "Adds ground under the brush.",
            press_up, lambda h, t, target, values, spacing: raise_in_place(h, t),
        ),
        GroundTool(
            "lower", "Lower", "L", "m/s", "raise", "Takes ground away under the brush.",
            press_down, lambda h, t, target, values, spacing: lower_in_place(h, t),
        ),
        GroundTool(
            "smooth", "Smooth", "S", "%/s", "smooth", "Evens out humps and hollows up to the size of detail.",
            _press_smooth,
            lambda h, t, target, values, spacing: smooth.smooth_in_place(h, t, _sigma(t.radius, values, spacing)),
            lambda radius, values, spacing: smooth.halo_posts(radius, values["detail_m"], spacing),
            smooth.SETTINGS,
            plain=lambda values: values["keep_edges_deg"] is None,
        ),
        GroundTool(
            "flatten", "Flatten", "F", "m/s", "flatten", "Brings the ground to one elevation, and stops on it.",
            flatten.press_flat,
            lambda h, t, target, values, spacing: flatten.flatten_in_place(h, t, target, values["by"]),
            settings=flatten.SETTINGS,
        ),
        GroundTool(
            "roughen", "Roughen", "N", "m/s", "smooth", "Gives the ground a grain, up to the stated height.",
            roughen.roughen, settings=roughen.SETTINGS, covers=True,
        ),
        GroundTool(
            "weather", "Weather", "E", "%/s", "smooth", "Rain carves channels, frost brings steep ground to rest.",
            weather.weather, settings=weather.SETTINGS,
        ),
        GroundTool(
            "grade", "Grade", "G", "", "grade", "An even slope from where the drag begins to where it ends.",
            settings=grade.SETTINGS, lay=grade.lay_grade, area=grade.grade_area,
        ),
        GroundTool(
            "imprint", "Imprint", "I", "", "imprint", "Presses a grey image into the land; it is set when you let go.",
            settings=imprint.SETTINGS, lay=imprint.lay_imprint, area=imprint.imprint_area,
        ),
    )
}  # fmt: skip
