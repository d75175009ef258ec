"""The Cover stage."""

from __future__ import annotations

from fernfield.core.checks import covers
from fernfield.core.cover.tools import COVER, COVER_TOOLS
from fernfield.work.asking.conditions import SAID_ONLY
from fernfield.work.cover.guises import GUISES
from fernfield.work.cover.overlays import OVERLAYS
from fernfield.work.cover.packing import COVERS_PART, cover_facts, put_rules
from fernfield.work.cover.rows import COVERS
from fernfield.work.cover.ruling import COVER_RULES, RULE_SETS, drains
from fernfield.work.cover.shares import around_of, cover_share, paces, touched, under_of
from fernfield.work.cover.sums import FLECKS, meetings_of, tiles_of
from fernfield.work.cover.transitions import TRANSITIONS
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.posts.layers import HEIGHT, Layer
from fernfield.work.kernel.rooms import Gives, Room

COVERED = Reads(layers=(HEIGHT, COVER), but=SAID_ONLY)

ROOM = Room(
    "cover",
    collections=(COVERS, COVER_RULES, RULE_SETS, TRANSITIONS, GUISES),
    layers=(Layer(COVER, seen=COVER, carried="covers", touched=touched, under=under_of),),
    tools=tuple(COVER_TOOLS.values()),
    checks=(
        Check("flecks", FLECKS, COVERED),
        Check("covers meeting", lambda world: covers.meetings(list(meetings_of(world))), COVERED),
        Check("repetition", lambda world: covers.repetition(tiles_of(world)), Reads(layers=())),
    ),
    overlays=OVERLAYS,
    parts=(COVERS_PART,),
    gives=Gives(
        takes_up=cover_share, paces=paces, covers_rest_on=lambda world, land: (around_of(world, land), drains(world))
    ),
    manifest=lambda world: {
        "cover_shares": "8-bit: 255 is the whole; the covers of a post add up to 255",
        "covers": cover_facts(world),
        "textures": "8-bit relief, seamless; its mean is the cover's own colour",
    },
    whole=put_rules,
)
