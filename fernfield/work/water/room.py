"""The Water stage."""

from __future__ import annotations

from typing import Any

from fernfield.core.ground.openings import OPENING
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Gives, Room
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.findings import hollow_findings, stream_findings, water_findings
from fernfield.work.water.flowing import surface
from fernfield.work.water.overlays import OVERLAYS
from fernfield.work.water.rows import OWN_LIQUIDS, POOLS, STREAMS, WATER, liquids_of, sea_of
from fernfield.work.water.standing import tides


def _manifest(world: OpenWorld) -> dict[str, Any]:
    sea = world.only(WATER)
    used = {pool.liquid for _, pool in world.each(POOLS)}
    return {
        "sea_level_m": sea.sea_level_m, "tide_low_m": sea.tide_low_m, "tide_high_m": sea.tide_high_m,
        "pools": [POOLS.tell(world, key, pool) for key, pool in world.each(POOLS)],
        "streams": [STREAMS.tell(world, key, stream) for key, stream in world.each(STREAMS)],
        "liquids": [
            {"name": one.name, "colour": one.colour, "wade_m": one.wade_m, "tag": one.tag}
            for one in liquids_of(world).values() if one.name in used
        ],
    }  # fmt: skip


WATERS = Reads((POOLS.name, STREAMS.name, WATER.name, OWN_LIQUIDS.name, "plots"), (HEIGHT, OPENING))

ROOM = Room(
    "water",
    collections=(WATER, OWN_LIQUIDS, POOLS, STREAMS),
    overlays=OVERLAYS,
    gives=Gives(sea_of=sea_of, surface=surface, tides=tides),
    checks=(
        Check("water", water_findings, WATERS),
        Check("streams", stream_findings, WATERS),
        Check("hollows", hollow_findings, WATERS),
    ),
    manifest=_manifest,
)
