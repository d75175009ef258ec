"""The Light stage."""

from __future__ import annotations

from typing import Any

from fernfield.work.kernel.rooms import Room
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LIGHT


def _manifest(world: OpenWorld) -> dict[str, Any]:
    sun = world.only(LIGHT)
    return {"sun": {"bearing_deg": sun.sun_bearing_deg, "height_deg": sun.sun_height_deg}}


ROOM = Room("light", collections=(LIGHT,), manifest=_manifest)
