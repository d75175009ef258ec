"""The Light stage."""

from __future__ import annotations

import json
from typing import Any

from fernfield.core.checks import light
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Gives, Package, Room
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.findings import hung_lamps
from fernfield.work.light.moment import moment_of, sun_of
from fernfield.work.light.overlays import OVERLAYS
from fernfield.work.light.packing import LIGHT_PART
from fernfield.work.light.rows import LAMPS, LIGHT, MISTS, MOODS


def _manifest(world: OpenWorld) -> dict[str, Any]:
    own = world.only(LIGHT)
    mood = world.get(MOODS, own.mood or "")
    sun = sun_of(own, mood)
    told: dict[str, Any] = {"sun": {"bearing_deg": sun.sun_bearing_deg, "height_deg": sun.sun_height_deg}}
    if mood is not None:
        told["mood"] = {"key": own.mood, **mood.model_dump(mode="json")}
    return told


def _sun(world: OpenWorld) -> tuple[float, float]:
    sun = moment_of(world).sun
    return sun.sun_bearing_deg, sun.sun_height_deg


def _moods(package: Package, world: OpenWorld) -> None:
    """All moods by their keys; the manifest has the world's own."""
    moods = {key: mood.model_dump(mode="json") for key, mood in world.each(MOODS)}
    if moods:
        package.put("light/moods.json", iter([json.dumps(moods, indent=1).encode()]))


ROOM = Room(
    "light",
    collections=(LIGHT, MOODS, LAMPS, MISTS),
    overlays=OVERLAYS,
    checks=(Check("lamps", lambda world: light.lamps(hung_lamps(world)), Reads(layers=(HEIGHT,))),),
    parts=(LIGHT_PART,),
    gives=Gives(lit_from=_sun),
    manifest=_manifest,
    whole=_moods,
)
