"""The Growth stage."""

from __future__ import annotations

from fernfield.core.growth.tools import GROWTH, GROWTH_TOOLS
from fernfield.work.growth.packing import GROWTH_PART
from fernfield.work.growth.rows import MIXES
from fernfield.work.growth.standing import plant_obstacles, touched
from fernfield.work.kernel.posts.layers import Layer
from fernfield.work.kernel.rooms import Room

ROOM = Room(
    "growth",
    collections=(MIXES,),
    layers=(Layer(GROWTH, seen=GROWTH, carried="growth", touched=touched),),
    tools=tuple(GROWTH_TOOLS.values()),
    parts=(GROWTH_PART,),
    obstacles=plant_obstacles,
)
