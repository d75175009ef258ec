"""The Sites stage."""

from __future__ import annotations

from fernfield.core.checks import ground, light, starts
from fernfield.work.kernel.rooms import Check, Gives, Room
from fernfield.work.sites.notes import NOTES
from fernfield.work.sites.packing import SITES_PART
from fernfield.work.sites.rows import THINGS
from fernfield.work.sites.standing import holes, piece_obstacles, pieces_in, standing

ROOM = Room(
    "sites",
    collections=(THINGS, NOTES),
    checks=(
        Check("default start", lambda world: starts.default_start(list(standing(world)))),
        Check("start under water", lambda world: starts.drowned_starts(standing(world))),
        Check("start on a cliff", lambda world: starts.steep_starts(standing(world))),
        Check(
            "start into the sun", lambda world: light.into_the_sun(standing(world), *world.house.given.lit_from(world))
        ),
        Check("bare opening", lambda world: ground.bare_openings(holes(world))),
    ),
    parts=(SITES_PART,),
    obstacles=piece_obstacles,
    gives=Gives(stands=pieces_in, bodies=piece_obstacles),
)
