"""Somebody who moves: how far one tick takes them, and what stops them.

The walker is a disc of its gait's radius that stands on a surface given as functions. The
ground ahead is probed half a metre out: a rise steeper than the limit and higher than a
step stops the walker, as do trunks, boulders, walls, deep water and the edge of the
tract. Stopped by something round or long, the walker slides along it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Protocol

from fernfield.core.travel.walkers import Gait

GRAVITY = 9.81
"""[m/s²], standard gravity rounded."""

TICK_S = 1 / 60
PROBE_M = 0.5
LEVEL_DEG = 1.0
"""Less than this is not going up."""


@dataclass(frozen=True, slots=True)
class Obstacle:
    """Something that blocks: a disc (`half_width` 0), a turned rectangle, or a convex polygon with `corners` about
    (x, y), counter-clockwise, within `radius`; from z0 up to z1. [m, °]"""

    name: str
    x: float
    y: float
    radius: float
    z0: float
    z1: float
    half_width: float = 0.0
    half_depth: float = 0.0
    turn_deg: float = 0.0
    corners: tuple[tuple[float, float], ...] = ()


class Surface(Protocol):
    """What the walker asks of the world; all in metres."""

    def height(self, x: float, y: float) -> float: ...

    def water(self, x: float, y: float) -> float:
        """Depth of the water."""
        ...

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]: ...

    def holds(self, x: float, y: float) -> bool: ...


@dataclass(frozen=True, slots=True)
class Walker:
    """Where a walker is: feet at (x, y, z) [m], `facing` clockwise from north [°], falling at `fall` [m/s], which is
    below 0 while it rises."""

    x: float
    y: float
    z: float
    facing: float = 0.0
    fall: float = 0.0
    speed: float = 0.0
    slope_ahead_deg: float = 0.0
    blocked_by: str = ""
    crouches: bool = False
    leaps: bool = False
    """It has jumped, and has not come down yet."""


@dataclass(frozen=True, slots=True)
class Intent:
    """What the walker wants: `ahead` and `aside` from -1 to 1, facing [°], and whether to run, jump, crouch."""

    ahead: float = 0.0
    aside: float = 0.0
    facing: float = 0.0
    run: bool = False
    jump: bool = False
    crouch: bool = False


def slope_ahead(surface: Surface, x: float, y: float, east: float, north: float) -> float:
    """Slope of the ground from (x, y) to `PROBE_M` along a unit direction; uphill is positive. [°]"""
    rise = surface.height(x + east * PROBE_M, y + north * PROBE_M) - surface.height(x, y)
    return math.degrees(math.atan2(rise, PROBE_M))


def steepness(surface: Surface, x: float, y: float, look: tuple[float, float]) -> float:
    """Slope of the ground underfoot along its fall line, where `look` goes up it; 0 where it goes down or along. [°]"""
    half = PROBE_M / 2
    east = surface.height(x + half, y) - surface.height(x - half, y)
    north = surface.height(x, y + half) - surface.height(x, y - half)
    if east * look[0] + north * look[1] <= PROBE_M * math.tan(math.radians(LEVEL_DEG)):
        return 0.0
    return math.degrees(math.atan(math.hypot(east, north) / PROBE_M))


def _nearest(obstacle: Obstacle, x: float, y: float) -> tuple[float, float, float]:
    """Distance from (x, y) to the obstacle's edge (negative inside), and the way out as a unit vector."""
    dx, dy = x - obstacle.x, y - obstacle.y
    if obstacle.corners:
        return _from_polygon(obstacle.corners, dx, dy)
    if obstacle.half_width <= 0:
        away = math.hypot(dx, dy)
        if away < 1e-9:
            return -obstacle.radius, 1.0, 0.0
        return away - obstacle.radius, dx / away, dy / away
    turn = math.radians(obstacle.turn_deg)
    sin, cos = math.sin(turn), math.cos(turn)
    across, along = dx * cos - dy * sin, dx * sin + dy * cos
    over_x, over_y = abs(across) - obstacle.half_width, abs(along) - obstacle.half_depth
    if over_x <= 0 and over_y <= 0:
        out = (math.copysign(1, across), 0.0) if over_x > over_y else (0.0, math.copysign(1, along))
        distance = max(over_x, over_y)
    else:
        px, py = max(over_x, 0.0), max(over_y, 0.0)
        distance = math.hypot(px, py)
        out = (math.copysign(px, across) / distance, math.copysign(py, along) / distance)
    return distance, out[0] * cos + out[1] * sin, -out[0] * sin + out[1] * cos


def _from_polygon(corners: tuple[tuple[float, float], ...], x: float, y: float) -> tuple[float, float, float]:
    """The same for a convex polygon."""
    inside, deepest, out = True, -math.inf, (1.0, 0.0)
    nearest, away = math.inf, (1.0, 0.0)
    for (ax, ay), (bx, by) in zip(corners, (*corners[1:], corners[0]), strict=True):
        ex, ey = bx - ax, by - ay
        long = math.hypot(ex, ey)
        if long < 1e-9:
            continue
        # Outwards is to the right of a side that is gone along counter-clockwise.
        gap = ((x - ax) * ey - (y - ay) * ex) / long
        inside = inside and gap <= 0
        if gap > deepest:
            deepest, out = gap, (ey / long, -ex / long)
        t = min(max(((x - ax) * ex + (y - ay) * ey) / (long * long), 0.0), 1.0)
        px, py = x - ax - t * ex, y - ay - t * ey
        far = math.hypot(px, py)
        if far < nearest:
            nearest, away = far, (px / far, py / far) if far > 1e-9 else out
    return (deepest, *out) if inside else (nearest, *away)


def _floor(surface: Surface, x: float, y: float, z: float, gait: Gait) -> float:
    """Height underfoot: the ground, or the top of something low enough to stand on."""
    top = surface.height(x, y)
    for obstacle in surface.obstacles(x, y, gait.radius):
        if _nearest(obstacle, x, y)[0] <= 0 and obstacle.z1 <= z + gait.step:
            top = max(top, obstacle.z1)
    return top


@dataclass(frozen=True, slots=True)
class _Footing:
    """The world as who stands at some height has it underfoot: decks and steps that are low enough are ground, and
    what is wet under them is no deeper for it."""

    ground: Surface
    tops: Sequence[Obstacle]

    def height(self, x: float, y: float) -> float:
        top = self.ground.height(x, y)
        for one in self.tops:
            if one.z1 > top and _nearest(one, x, y)[0] <= 0:
                top = one.z1
        return top

    def water(self, x: float, y: float) -> float:
        return max(0.0, self.ground.water(x, y) - (self.height(x, y) - self.ground.height(x, y)))

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return self.ground.obstacles(x, y, reach)

    def holds(self, x: float, y: float) -> bool:
        return self.ground.holds(x, y)


def _underfoot(surface: Surface, walker: Walker, gait: Gait) -> Surface:
    near = surface.obstacles(walker.x, walker.y, gait.radius + PROBE_M)
    tops = [one for one in near if one.z1 <= walker.z + gait.step]
    return _Footing(surface, tops) if tops else surface


def tick(
    walker: Walker, intent: Intent, surface: Surface, gait: Gait | None = None, seconds: float = TICK_S
) -> Walker:  # fmt: skip
    """The walker so many seconds later.

    Parameters
    ----------
    walker : where the walker is now
    intent : what is wanted; directions longer than 1 are shortened
    surface : the world, see `Surface`
    gait : who it is; the default climbs 45°, steps 0.4 m and wades 1.2 m
    seconds : how long a tick is, from 1/240 to 1/20 [s]

    Returns
    -------
    Walker, with `blocked_by` in words ("" when nothing does).
    """
    gait = gait or Gait()
    crouches = not gait.draught and (intent.crouch or (walker.crouches and not _can_rise(surface, walker, gait)))
    gait = gait.crouched if crouches else gait
    facing = math.radians(intent.facing)
    east = intent.ahead * math.sin(facing) + intent.aside * math.cos(facing)
    north = intent.ahead * math.cos(facing) - intent.aside * math.sin(facing)
    length = math.hypot(east, north)
    look = (math.sin(facing), math.cos(facing)) if length < 1e-9 else (east / length, north / length)
    surface = _Afloat(surface) if gait.draught else _underfoot(surface, walker, gait)
    slope = 0.0 if gait.draught else slope_ahead(surface, walker.x, walker.y, *look)
    if intent.jump and not crouches and _can_jump(surface, walker, gait):
        walker = replace(walker, fall=-math.sqrt(2 * GRAVITY * gait.jump), leaps=True)
    x, y, blocked = walker.x, walker.y, ""
    if length >= 1e-9:
        pace = (gait.run if intent.run else gait.walk) * min(length, 1.0)
        if not gait.draught:
            depth = surface.water(walker.x, walker.y)
            pace *= 1 - (1 - gait.slowest_share) * min(depth / gait.wade, 1.0)
        x, y, blocked = _move(walker, look, pace * seconds, slope, surface, gait)
    moved = math.hypot(x - walker.x, y - walker.y)
    z, fall = _settle(walker, x, y, surface, gait, seconds)
    return replace(
        walker, x=x, y=y, z=z, facing=intent.facing % 360, fall=fall, speed=moved / seconds, slope_ahead_deg=slope,
        blocked_by=blocked, crouches=crouches, leaps=walker.leaps and fall != 0,
    )  # fmt: skip


def _can_rise(surface: Surface, walker: Walker, gait: Gait) -> bool:
    """Whether nothing hangs over who crouches that is too low to stand under."""
    low, high = walker.z + gait.crouched.eye, walker.z + gait.eye
    return not any(
        low <= one.z0 < high and _nearest(one, walker.x, walker.y)[0] < gait.radius
        for one in surface.obstacles(walker.x, walker.y, gait.radius)
    )


def _can_jump(surface: Surface, walker: Walker, gait: Gait) -> bool:
    """Nobody jumps in the air, in water to the hips, or off a face that is too steep to be climbed."""
    if gait.jump <= 0 or walker.fall != 0 or surface.water(walker.x, walker.y) > gait.wade / 2:
        return False
    half = PROBE_M / 2
    east = surface.height(walker.x + half, walker.y) - surface.height(walker.x - half, walker.y)
    north = surface.height(walker.x, walker.y + half) - surface.height(walker.x, walker.y - half)
    return gait.climbs(math.degrees(math.atan(math.hypot(east, north) / PROBE_M)))


@dataclass(frozen=True, slots=True)
class _Afloat:
    """The world as what floats has it: the water is what carries it."""

    ground: Surface

    def height(self, x: float, y: float) -> float:
        return self.ground.height(x, y) + self.ground.water(x, y)

    def water(self, x: float, y: float) -> float:
        return self.ground.water(x, y)

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return self.ground.obstacles(x, y, reach)

    def holds(self, x: float, y: float) -> bool:
        return self.ground.holds(x, y)


def _move(
    walker: Walker,
    look: tuple[float, float],
    distance: float,
    slope: float,
    surface: Surface,
    gait: Gait,
) -> tuple[float, float, str]:
    """New (x, y) and what blocked the way there, if anything."""
    here = walker.x, walker.y
    x, y = walker.x + look[0] * distance, walker.y + look[1] * distance
    if gait.draught or walker.leaps:
        return _move_freely(walker, x, y, distance, surface, gait)
    rise = PROBE_M * math.tan(math.radians(slope))
    if slope > gait.steepest_deg and rise > gait.step:
        return *here, f"a slope of {slope:.0f}° (the limit is {gait.steepest_deg:.0f}°)"
    # Nobody goes up a face aslant that is too steep to be gone up straight; at its foot they have come down it.
    if slope > LEVEL_DEG:
        face = steepness(surface, *here, look)
        if face > gait.steepest_deg and PROBE_M * math.tan(math.radians(face)) > gait.step:
            return *here, f"a slope of {face:.0f}° (the limit is {gait.steepest_deg:.0f}°)"
    if not surface.holds(x, y):
        return *here, "the edge of the tract"
    if -rise > gait.drop and -slope > gait.steepest_deg:
        return *here, f"a drop of {-rise:.1f} m (the limit is {gait.drop:.1f} m)"
    ahead = surface.water(x, y)
    if not gait.swims and ahead >= gait.wade and ahead > surface.water(*here):
        return *here, f"water {ahead:.1f} m deep (the limit is {gait.wade:.1f} m)"
    return _past_obstacles(walker, x, y, distance, surface, gait)


def _move_freely(
    walker: Walker, x: float, y: float, distance: float, surface: Surface, gait: Gait
) -> tuple[float, float, str]:  # fmt: skip
    """The same for who leaps or floats: no slope stops it, but ground that is higher than it is does, and water that it
    would not wade: nobody leaps over that."""
    here = walker.x, walker.y
    if not surface.holds(x, y):
        return *here, "the edge of the tract"
    if gait.draught:
        if surface.water(x, y) < gait.draught:
            return *here, f"water {surface.water(x, y):.1f} m deep (it draws {gait.draught:.1f} m)"
    elif surface.height(x, y) > walker.z:
        return *here, "the ground ahead"
    elif not gait.swims and (ahead := surface.water(x, y)) >= gait.wade and ahead > surface.water(*here):
        return *here, f"water {ahead:.1f} m deep (the limit is {gait.wade:.1f} m)"
    x, y, blocked = _past_obstacles(walker, x, y, distance, surface, gait)
    # What it slid along may have pushed it onto the shore, or into a bank.
    if blocked and (surface.water(x, y) < gait.draught or (not gait.draught and surface.height(x, y) > walker.z)):
        return *here, blocked
    return x, y, blocked


def _past_obstacles(
    walker: Walker, x: float, y: float, distance: float, surface: Surface, gait: Gait
) -> tuple[float, float, str]:  # fmt: skip
    """The place that was gone to, out of what blocks, and what that is."""
    here, blocked = (walker.x, walker.y), ""
    for obstacle in surface.obstacles(x, y, gait.radius + distance):
        if obstacle.z1 <= walker.z + gait.step or obstacle.z0 >= walker.z + gait.eye:
            continue
        gap, out_east, out_north = _nearest(obstacle, x, y)
        if gap < gait.radius:
            blocked = obstacle.name
            x += out_east * (gait.radius - gap)
            y += out_north * (gait.radius - gap)
    # Pushed out of one thing and into another: stay, rather than slip through a gap.
    if blocked:
        for obstacle in surface.obstacles(x, y, gait.radius):
            if obstacle.z1 <= walker.z + gait.step or obstacle.z0 >= walker.z + gait.eye:
                continue
            if _nearest(obstacle, x, y)[0] < gait.radius - 1e-3:
                return *here, blocked
        if not surface.holds(x, y) or surface.height(x, y) > walker.z + gait.step:
            return *here, blocked
    return x, y, blocked


def _settle(
    walker: Walker, x: float, y: float, surface: Surface, gait: Gait, seconds: float
) -> tuple[float, float]:  # fmt: skip
    """Height of the feet and speed of the fall after the move to (x, y)."""
    if gait.draught:
        return surface.height(x, y), 0.0
    floor = _floor(surface, x, y, walker.z, gait)
    run = math.hypot(x - walker.x, y - walker.y)
    # Going down a slope that could be climbed the feet stay on it; past that they fall.
    clings = walker.fall == 0 and walker.z - floor <= run * math.tan(math.radians(gait.steepest_deg)) + 0.05
    rises = walker.fall < 0
    if (floor >= walker.z and not rises) or clings:
        return floor, 0.0
    # Half of what it gains on the way: the height of a jump is the same at any length of a tick.
    fall = walker.fall + GRAVITY * seconds
    z = walker.z - (walker.fall + fall) / 2 * seconds
    if rises and _strikes(surface, x, y, walker.z, z, gait):
        return walker.z, GRAVITY * seconds
    return (floor, 0.0) if z <= floor else (z, fall)


def _strikes(surface: Surface, x: float, y: float, before: float, z: float, gait: Gait) -> bool:
    """Whether the head comes against what hangs above."""
    return any(
        before + gait.eye <= one.z0 < z + gait.eye and _nearest(one, x, y)[0] < gait.radius
        for one in surface.obstacles(x, y, gait.radius)
    )
