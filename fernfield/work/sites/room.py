"""The Sites stage."""

from __future__ import annotations

from fernfield.core.checks import ground, light, play, sites, starts
from fernfield.core.ground.openings import OPENING
from fernfield.work.kernel.checking import Check, Reads
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Gives, Room
from fernfield.work.sites.assemblies import ASSEMBLIES
from fernfield.work.sites.decals import DECALS_ROWS
from fernfield.work.sites.findings import piece_troubles, scatters_off
from fernfield.work.sites.following import follow_scatters
from fernfield.work.sites.groups import GROUPS
from fernfield.work.sites.kit import KIT_ROWS
from fernfield.work.sites.notes import NOTES
from fernfield.work.sites.packing import SITES_PART, sites_manifest, whole_sites
from fernfield.work.sites.paving import clear_of_all, taken_by_all
from fernfield.work.sites.play.aims import CAMPS, OBJECTIVES, RESOURCES, worth_going_to
from fernfield.work.sites.play.cues import CUES
from fernfield.work.sites.play.doors import DOORS, leading
from fernfield.work.sites.play.findings import doors_found, images_found, play_of
from fernfield.work.sites.play.rounds import Round
from fernfield.work.sites.play.rules import RULES
from fernfield.work.sites.play.teams import RELATIONS, TEAMS
from fernfield.work.sites.roads import ROADS, roads_found
from fernfield.work.sites.rows import THINGS
from fernfield.work.sites.scatters import SCATTERS
from fernfield.work.sites.standing import (
    beginnings,
    box_of,
    holes,
    lights_in,
    near,
    piece_bodies,
    piece_obstacles,
    pieces_in,
    standing,
)

GROUND = Reads(layers=(HEIGHT,))

ROOM = Room(
    "sites",
    collections=(
        THINGS,
        NOTES,
        GROUPS,
        KIT_ROWS,
        ASSEMBLIES,
        SCATTERS,
        DECALS_ROWS,
        ROADS,
        TEAMS,
        RELATIONS,
        OBJECTIVES,
        RESOURCES,
        CAMPS,
        DOORS,
        RULES,
        CUES,
    ),
    checks=(
        Check("default start", lambda world: starts.default_start(list(standing(world))), GROUND),
        Check("start under water", lambda world: starts.drowned_starts(standing(world)), GROUND),
        Check("start on a cliff", lambda world: starts.steep_starts(standing(world)), GROUND),
        Check(
            "start into the sun",
            lambda world: light.into_the_sun(standing(world), *world.house.given.lit_from(world)),
            GROUND,
        ),
        Check("bare opening", lambda world: ground.bare_openings(holes(world)), Reads(layers=(HEIGHT, OPENING))),
        Check("pieces", lambda world: sites.pieces_troubled(list(piece_troubles(world)), world.id), GROUND),
        Check("roads", lambda world: sites.roads_troubled(roads_found(world), world.id), GROUND),
        Check("teams", lambda world: play.teams_troubled(play_of(world)), GROUND),
        Check("rules", lambda world: play.rules_troubled(play_of(world)), GROUND),
        Check("objectives", lambda world: play.objectives_troubled(play_of(world)), GROUND),
        Check("doors", lambda world: play.doors_troubled(doors_found(world)), Reads(layers=(HEIGHT, OPENING))),
        Check("images", lambda world: play.images_missing(images_found(world)), Reads(layers=())),
        Check("cues", lambda world: play.cues_troubled(play_of(world)), GROUND),
        Check("scatters", lambda world: sites.scatters_gone_by(scatters_off(world), world.id)),
    ),
    parts=(SITES_PART,),
    obstacles=piece_obstacles,
    manifest=sites_manifest,
    whole=whole_sites,
    gives=Gives(
        stands=pieces_in,
        stand_near=lambda world, land, window: near(world, land, box_of(land, window)),
        stands_clear=clear_of_all,
        taken=taken_by_all,
        shining=lights_in,
        bodies=piece_bodies,
        follows=follow_scatters,
        begins=beginnings,
        leads=leading,
        plays=Round,
        worth=worth_going_to,
    ),
)
