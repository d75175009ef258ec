"""The ground tools, in one list: the next one is a module beside this and a line here."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from fernfield.core.grid import FloatArray
from fernfield.core.ground.brush import Touch
from fernfield.core.ground.flatten import flatten_in_place
from fernfield.core.ground.raise_lower import lower_in_place, raise_in_place
from fernfield.core.ground.smooth import halo_posts, smooth_in_place

Apply = Callable[[FloatArray, Touch, float], None]
"""Changes heights in place; the last argument is the target elevation. [m]"""


@dataclass(frozen=True, slots=True)
class GroundTool:
    """How a ground tool is named, measured and applied.

    name : as the API has it
    label, key : as the bench shows them
    unit : of its strength: "m/s" or "%/s"
    opposite : the tool on the other mouse button
    apply : changes an array of heights in place
    halo : posts beyond the brush that `apply` reads, by radius in posts
    """

    name: str
    label: str
    key: str
    unit: str
    opposite: str
    apply: Apply
    halo: Callable[[float], int] = lambda radius: 0

    def amount(self, strength: float, seconds: float) -> float:
        """What a dab of `seconds` does in the middle: metres, or the share that is mixed in."""
        if self.unit == "m/s":
            return strength * seconds
        return 1 - math.exp(-strength / 100 * seconds)


GROUND_TOOLS = {
    tool.name: tool
    for tool in (
        GroundTool("raise", "Raise", "R", "m/s", "lower", lambda h, t, target: raise_in_place(h, t)),
        GroundTool("lower", "Lower", "L", "m/s", "raise", lambda h, t, target: lower_in_place(h, t)),
        GroundTool("smooth", "Smooth", "S", "%/s", "smooth", lambda h, t, target: smooth_in_place(h, t), halo_posts),
        GroundTool("flatten", "Flatten", "F", "m/s", "flatten", flatten_in_place),
    )
}
