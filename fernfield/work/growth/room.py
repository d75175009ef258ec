"""The Growth stage."""

from __future__ import annotations

from fernfield.core.checks import growth
from fernfield.core.cover.tools import COVER
from fernfield.core.ground.openings import OPENING
from fernfield.core.growth.tools import GLADE, GROWTH, GROWTH_TOOLS, SPARE
from fernfield.work.asking.conditions import SAID_ONLY
from fernfield.work.growth.findings import PLANTS, blocking
from fernfield.work.growth.hand import TOUCHED
from fernfield.work.growth.load import TARGET, switch_of
from fernfield.work.growth.overlays import OVERLAYS
from fernfield.work.growth.packing import GROWTH_PART, manifest, put_models
from fernfield.work.growth.rows import KINDS, MIXES
from fernfield.work.growth.sowing import told, touched
from fernfield.work.growth.standing import canopies_of, plant_obstacles
from fernfield.work.growth.swards import SWARDS, SWARDS_PART
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.posts.layers import HEIGHT, Layer
from fernfield.work.kernel.rooms import Gives, Room

POSTS = HEIGHT, OPENING, COVER, GROWTH, SPARE, GLADE

ROOM = Room(
    "growth",
    collections=(KINDS, MIXES, TOUCHED, TARGET, SWARDS),
    layers=(
        Layer(GROWTH, seen=GROWTH, carried="growth", touched=touched, told=told),
        Layer(SPARE, seen=GROWTH, carried="growth"),
        Layer(GLADE, seen=GROWTH, carried="growth", touched=lambda world, tool, subject: [(GLADE, tool.sign)]),
    ),
    tools=tuple(GROWTH_TOOLS.values()),
    overlays=OVERLAYS,
    parts=(GROWTH_PART, SWARDS_PART),
    checks=(
        Check("growth", PLANTS, Reads(layers=POSTS, but=("things", "walkers", *SAID_ONLY))),
        Check("only way", blocking, Reads(layers=POSTS, but=SAID_ONLY)),
        Check(
            "switches of detail",
            lambda world: growth.switched([switch_of(kind) for _, kind in world.each(KINDS)]),
            Reads((KINDS.name,), ()),
        ),
    ),
    obstacles=plant_obstacles,
    gives=Gives(canopies=canopies_of),
    manifest=manifest,
    whole=put_models,
)
