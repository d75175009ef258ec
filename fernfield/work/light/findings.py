"""Lamps as the checks see them."""

from __future__ import annotations

import math
from collections.abc import Iterator

from fernfield.core.checks.light import Hung
from fernfield.core.grid import Window
from fernfield.core.travel.walker import Obstacle
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.rows import LAMPS


def hung_lamps(world: OpenWorld) -> Iterator[Hung]:
    """Every lamp, with what it hangs in and how many others reach it."""
    for tract in world.tracts.values():
        with world.lock:
            land = world.land_from(tract.row.id)
            own = world.each_in(LAMPS, tract.row.id)
            feet = land.elevations([lamp.x for _, lamp in own], [lamp.y for _, lamp in own]).tolist()
            found = []
            most = max((lamp.reach_m for _, lamp in own), default=0.0)
            for (key, lamp), foot in zip(own, feet, strict=True):
                z = foot + lamp.over_m
                row, col = round(land.grid.row_of(lamp.y)), round(land.grid.col_of(lamp.x))
                here = land.clip(Window(row, col, row + 1, col + 1))
                stands = (o for obstacles in world.house.obstacles for o in obstacles(world, land, here))
                inside = next((o.name for o in stands if _within(o, lamp.x, lamp.y, z)), "")
                near = world.near(LAMPS, tract.row.id, (lamp.x - most, lamp.y - most, lamp.x + most, lamp.y + most))
                others = sum(
                    k != key and math.hypot(other.x - lamp.x, other.y - lamp.y) < other.reach_m for k, other in near
                )
                found.append(Hung(lamp.name, lamp.x, lamp.y, inside, lamp.over_m < lamp.reach_m, others, tract.row.id))
        yield from found


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
