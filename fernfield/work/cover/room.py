"""The Cover stage."""

from __future__ import annotations

from fernfield.core.cover.tools import COVER, COVER_TOOLS
from fernfield.work.cover.packing import COVERS_PART
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.shares import cover_share, touched
from fernfield.work.kernel.posts.layers import Layer
from fernfield.work.kernel.rooms import Room

ROOM = Room(
    "cover",
    collections=(COVERS,),
    layers=(Layer(COVER, seen=COVER, carried="covers", touched=touched),),
    tools=tuple(COVER_TOOLS.values()),
    parts=(COVERS_PART,),
    takes_up=cover_share,
    manifest=lambda world: {"cover_shares": "8-bit: 255 is the whole; the covers of a post add up to 255"},
)
