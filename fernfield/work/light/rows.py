"""Light: the sun."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from fernfield.work.kernel.rows import Bearing, Collection, Row
from fernfield.work.kernel.says import Say


class Light(Row):
    """Collection "light", key "sun". Bearing clockwise from north, height above the horizon. [°]"""

    sun_bearing_deg: Annotated[Bearing, Say("Bearing", "°")] = 315.0
    sun_height_deg: Annotated[float, Field(ge=1, le=90), Say("Height", "°")] = 32.0


LIGHT = Collection(
    "light", Light, "sun", only="sun", first=Light(), pictured="shade",
    words=lambda sun: f"Sun at {sun.sun_bearing_deg:g}°, {sun.sun_height_deg:g}° high",
)  # fmt: skip
