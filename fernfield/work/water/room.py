"""The Water stage."""

from __future__ import annotations

from fernfield.work.kernel.rooms import Room
from fernfield.work.water.rows import WATER, sea_level, sea_of

ROOM = Room(
    "water",
    collections=(WATER,),
    sea_of=sea_of,
    manifest=lambda world: {"sea_level_m": sea_level(world)},
)
