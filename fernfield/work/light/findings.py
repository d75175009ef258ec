"""Lamps as the checks see them."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from fernfield.core.checks.light import Hung
from fernfield.core.travel.walker import Obstacle
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LAMPS


def hung_lamps(world: OpenWorld) -> Iterator[Hung]:
    """Every lamp, with the piece that it hangs in and how many others reach it."""
    # Heavy, and seldom wanted.
    from scipy.spatial import cKDTree

    for tract in world.tracts.values():
        with world.lock:
            own = world.each_in(LAMPS, tract.row.id)
            if not own:
                continue
            land = world.land_from(tract.row.id)
            bodies = list(world.house.given.bodies(world, land, land.bounds))
            feet = land.elevations([lamp.x for _, lamp in own], [lamp.y for _, lamp in own]).tolist()
        places = np.array([(lamp.x, lamp.y) for _, lamp in own])
        reached = cKDTree(places).query_ball_point(places, [lamp.reach_m for _, lamp in own])
        count = np.bincount(np.concatenate(reached).astype(np.int64), minlength=len(own))
        standing = cKDTree([(body.x, body.y) for body in bodies]) if bodies else None
        widest = max((body.radius for body in bodies), default=0.0)
        for k, ((_, lamp), foot) in enumerate(zip(own, feet, strict=True)):
            near = [] if standing is None else standing.query_ball_point(places[k], widest)
            z = foot + lamp.over_m
            inside = next((bodies[i].name for i in near if _within(bodies[i], lamp.x, lamp.y, z)), "")
            others = int(count[k]) - 1
            yield Hung(lamp.name, lamp.x, lamp.y, inside, lamp.over_m < lamp.reach_m, others, tract.row.id)


def _within(stands: Obstacle, x: float, y: float, z: float) -> bool:
    """Whether a place is inside of what stands there."""
    if not stands.z0 <= z <= stands.z1:
        return False
    east, north = x - stands.x, y - stands.y
    if stands.half_width <= 0:
        return math.hypot(east, north) < stands.radius
    turn = math.radians(stands.turn_deg)
    across, along = east * math.cos(turn) - north * math.sin(turn), east * math.sin(turn) + north * math.cos(turn)
    return abs(across) < stands.half_width and abs(along) < stands.half_depth
