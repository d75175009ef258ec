"""A walk on an open world: the surface underfoot from the tract, growth and pieces around it."""

from __future__ import annotations

import math
import threading
from collections.abc import Sequence
from dataclasses import replace
from weakref import WeakKeyDictionary, WeakSet

from fernfield.core.errors import Conflict
from fernfield.core.grid import FloatArray, Window, bilinear
from fernfield.core.sites.throwing import GRAVITY
from fernfield.core.travel.walker import TICK_S, Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import WALKER, WALKERS, Gait
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rooms import Leads, Plays
from fernfield.work.kernel.world import OpenWorld

REACH_M = 24.0
"""How far around the walker ground and obstacles are kept at hand."""

MARGIN_M = 8.0
FREELY = WALKERS[WALKER]
"""What a walker can do where nothing slows it."""

ROUND_TICKS, ROUND_TOLD_TICKS = 6, 30
"""A round goes on every so many ticks, and is told after so many."""
TOLD_TICKS = 15
"""The track has a place after so many ticks."""
MOST_TICKS = round(1_200 / TICK_S)
MOST_WISHES = 20_000
"""What is remembered of a walk: its first twenty minutes, or so many changes of mind."""
OTHERS_M = 300.0
"""Others who walk are told of within this distance."""

_WALKING: WeakKeyDictionary[OpenWorld, WeakSet[Walk]] = WeakKeyDictionary()
_LOCK = threading.Lock()


class Walk:
    """One walker in a world. `advance` is called at a steady rate; the ground may change meanwhile."""

    def __init__(
        self, world: OpenWorld, land: Land, x: float, y: float, facing: float = 0.0, over_m: float = 0.0,
        sea_m: float | None = None, gait: Gait = FREELY, speed_ms: float = 0.0, name: str = "",
        plays: Plays | None = None, team: int | None = None, walker: str = WALKER,
    ) -> None:  # fmt: skip
        """A walk from a place, with a facing [°], and so high over the ground there; the sea as if at `sea_m` [m].

        gait : who walks; speed_ms : how fast one comes in, over the ground until the feet are on it [m/s]
        name : the person whose walk it is
        plays : the round in which it is, of a team, as a walker
        """
        land.need(x, y, "a walk's beginning")
        self.name, self.team = name, team
        self.plays, self._told, self._heard = plays, -1, 0
        self.began = x, y, over_m, speed_ms, facing % 360
        self.ticks, self.far_m = 0, 0.0
        self.wishes: list[tuple[int, Intent]] = []
        """What was wished so far, each for so many ticks."""
        self.track: list[tuple[float, float, float, float]] = []
        """Where it was: seconds, east, north, elevation. [s, m]"""
        self.blocked: list[tuple[float, str]] = []
        """When something began to stand in the way, and what. [s]"""
        self._world, self._land, self.sea_m, self._who = world, land, sea_m, gait
        self._leads: list[Leads] = []
        self._within: set[str] = set()
        """What brings elsewhere and was come into: it does so again when it was left."""
        self._flight: tuple[Leads, float, float] | None = None
        """What one is thrown by, from how high, and since when. [m, s]"""
        self._glide = speed_ms if over_m > 0 else 0.0
        self._heights: FloatArray
        self._window: Window
        self._obstacles: list[Obstacle] = []
        self._paces: FloatArray | None = None
        self._stale = True
        self._centre = (x, y)
        self._water: FloatArray
        self._firm: FloatArray
        with world.lock:
            z = land.elevation(x, y) + max(0.0, over_m)
        self.walker = Walker(x, y, z, facing % 360)
        if gait.draught and (deep := self.water(x, y)) < gait.draught:
            raise Conflict(f"{gait.label} begins on water {gait.draught:g} m deep or more, and here it is {deep:.1f} m")
        self.track.append(self._place())
        if plays is not None:
            plays.join(name, team, walker, x, y)

    def join(self) -> None:
        """Be seen by others who walk in this world, until it is let go of."""
        with _LOCK:
            _WALKING.setdefault(self._world, WeakSet()).add(self)

    def leave(self) -> None:
        """Be seen by nobody."""
        with _LOCK:
            _WALKING.get(self._world, WeakSet()).discard(self)

    @property
    def gait(self) -> Gait:
        """Who walks."""
        return self._who

    @property
    def land(self) -> Land:
        return self._land

    def _place(self) -> tuple[float, float, float, float]:
        w = self.walker
        return round(self.ticks * TICK_S, 4), round(w.x, 4), round(w.y, 4), round(w.z, 4)

    def mark(self) -> None:
        """Have where it is now in the track."""
        if self.track[-1][0] != (place := self._place())[0]:
            self.track.append(place)

    def forget(self) -> None:
        """The world changed: look at the ground afresh at the next tick."""
        self._stale = True

    def sees(self, tract_id: str, window: Window) -> bool:
        """Whether the walker has looked at posts of a tract's window, which it would have to look at again."""
        here = self._land.of(tract_id, window)
        return self._stale or (here is not None and not self._window.meet(here).empty)

    def advance(self, intent: Intent, ticks: int = 1) -> Walker:
        """Go on for some ticks."""
        for _ in range(ticks):
            moved = math.hypot(self.walker.x - self._centre[0], self.walker.y - self._centre[1])
            if self._stale or moved > MARGIN_M:
                self._look_around()
            before = self.walker
            if self._flight is not None:
                self._fly()
            else:
                self.walker = tick(self.walker, intent, self, self._gait())
                if self._glide:
                    self._come_in()
                self.far_m += math.hypot(self.walker.x - before.x, self.walker.y - before.y)
                self._be_led()
            self._remember(intent, before.blocked_by)
            if self.plays is not None and self.ticks % ROUND_TICKS == 0:
                self._play(self.plays)
        return self.walker

    def _play(self, plays: Plays) -> None:
        """A step of the round: who walks may be brought elsewhere, and what stood in the way may be gone."""
        gone = plays.gone
        moved = plays.step(ROUND_TICKS * TICK_S, {self.name: (self.walker.x, self.walker.y)})
        self._stale = self._stale or plays.gone != gone
        if self.name in moved:
            self._stand_at(*moved[self.name], self.walker.facing)

    def _remember(self, intent: Intent, blocked_before: str) -> None:
        self.ticks += 1
        if self.forgets:
            return
        if self.wishes and self.wishes[-1][1] == intent:
            self.wishes[-1] = self.wishes[-1][0] + 1, intent
        else:
            self.wishes.append((1, intent))
        now = self.walker.blocked_by
        if now and now != blocked_before:
            self.blocked.append((round(self.ticks * TICK_S, 4), now))
        if self.ticks % TOLD_TICKS == 0:
            self.track.append(self._place())

    @property
    def forgets(self) -> bool:
        """It goes on for longer than is remembered."""
        return self.ticks > MOST_TICKS or len(self.wishes) >= MOST_WISHES

    def _be_led(self) -> None:
        """Whoever has come to what leads elsewhere is there, or on the way."""
        w = self.walker
        inside = {one.key: one for one in self._leads if math.hypot(w.x - one.x, w.y - one.y) <= one.reach}
        new = [one for key, one in inside.items() if key not in self._within]
        self._within = set(inside)
        if not new:
            return
        (led, *_) = new
        if led.seconds:
            self._flight = led, w.z, 0.0
            return
        self._stand_at(led.to_x, led.to_y, led.facing)

    def _stand_at(self, x: float, y: float, facing: float) -> None:
        with self._world.lock:
            z = self._land.elevation(x, y)
        self.walker = Walker(x, y, z, facing)
        self._stale = True
        self._look_around()
        # Where one comes to stand may lead back: only when it was left.
        self._within = {one.key for one in self._leads if math.hypot(x - one.x, y - one.y) <= one.reach}

    def _fly(self) -> None:
        """A tick of a throw: along its parabola."""
        assert self._flight is not None
        led, z0, since = self._flight
        since += TICK_S
        if since >= led.seconds:
            self._flight = None
            self._stand_at(led.to_x, led.to_y, led.facing)
            return
        part, slope = since / led.seconds, math.radians(led.steep_deg)
        z = z0 + led.speed * math.sin(slope) * since - GRAVITY / 2 * since * since
        facing = math.degrees(math.atan2(led.to_x - led.x, led.to_y - led.y)) % 360
        self.walker = Walker(
            led.x + (led.to_x - led.x) * part, led.y + (led.to_y - led.y) * part, z, facing,
            speed=led.speed * math.cos(slope),
        )  # fmt: skip
        self._flight = led, z0, since

    def _come_in(self) -> None:
        """Who begins in the air goes on ahead until the feet are on the ground."""
        w, facing = self.walker, math.radians(self.walker.facing)
        x, y = w.x + math.sin(facing) * self._glide * TICK_S, w.y + math.cos(facing) * self._glide * TICK_S
        if w.fall == 0 or not self.holds(x, y):
            self._glide = 0.0
            return
        self.walker = replace(w, x=x, y=y)

    def _gait(self) -> Gait:
        """What the walker can do on the ground where it stands."""
        if self._paces is None:
            return self._who
        grid, window = self._land.grid, self._window
        row = min(max(round(grid.row_of(self.walker.y)) - window.row0, 0), self._paces.shape[0] - 1)
        col = min(max(round(grid.col_of(self.walker.x)) - window.col0, 0), self._paces.shape[1] - 1)
        left = float(self._paces[row, col])
        return replace(self._who, walk=self._who.walk * left, run=self._who.run * left)

    def state(self) -> dict[str, object]:
        """The walker as the page needs it: place, speed, slope ahead, water, and what blocks, in words."""
        w = self.walker
        return {
            "x": round(w.x, 4), "y": round(w.y, 4), "z": round(w.z, 4), "facing": round(w.facing, 2),
            "speed": round(w.speed, 3), "slope": round(w.slope_ahead_deg, 2),
            "water": round(max(0.0, self.water(w.x, w.y) - (w.z - self.height(w.x, w.y))), 3), "blocked": w.blocked_by,
            "who": self._who.label, "eye": round((self._who.crouched if w.crouches else self._who).eye, 3),
            "crouches": w.crouches, "over": round(max(0.0, w.z - self.height(w.x, w.y)), 3),
            "air": w.fall != 0 or self._flight is not None,
            "seconds": round(self.ticks * TICK_S, 2), "far": round(self.far_m, 2), "others": self._others(),
            **self._round(),
        }  # fmt: skip

    def _round(self) -> dict[str, object]:
        """How the round stands, twice a second; and what has happened since it was last told."""
        plays, now = self.plays, self.ticks // ROUND_TOLD_TICKS
        if plays is None:
            return {}
        new, self._heard = plays.said[self._heard :], len(plays.said)
        if now == self._told and not new:
            return {}
        self._told = now
        told = plays.told(self.name)
        own = [one.words for one in new if one.team in (None, told["team"])]
        return {"round": told, "happened": own}

    def _others(self) -> list[dict[str, object]]:
        """Who else walks near, in this land's metres."""
        with _LOCK:
            others = [one for one in _WALKING.get(self._world, ()) if one is not self]
        found = []
        for one in others:
            w, part = one.walker, one.land.part_at(one.walker.x, one.walker.y)
            mine = None if part is None else next((p for p in self._land.parts if p.tract is part.tract), None)
            if part is None or mine is None:
                continue
            x, y = w.x - part.x + mine.x, w.y - part.y + mine.y
            if math.hypot(x - self.walker.x, y - self.walker.y) <= OTHERS_M:
                found.append({"name": one.name, "x": round(x, 3), "y": round(y, 3), "z": round(w.z, 3),
                              "facing": round(w.facing, 1)})  # fmt: skip
        return found

    def _look_around(self) -> None:
        x, y = self.walker.x, self.walker.y
        with self._world.lock:
            around = self._land.around(x, y, REACH_M)
            self._window = self._land.clip(around.pad(2))
            self._heights = self._land.read(HEIGHT, self._window)
            self._water = self._world.surface(self._land, self._window, sea_m=self.sea_m)
            self._firm = self._world.surface(self._land, self._window, firm=True)
            self._paces = self._world.house.given.paces(self._world, self._land, self._window)
            self._leads = list(self._world.house.given.leads(self._world, self._land))
            self._obstacles = [
                obstacle for found in self._world.house.obstacles for obstacle in found(self._world, self._land, around)
            ]
            if self.plays is not None and (hidden := self.plays.hidden(around)):
                self._obstacles = [one for one in self._obstacles if one not in hidden]
        self._centre = (x, y)
        self._stale = False

    # The surface that the walker asks (core.travel.walker.Surface)

    def height(self, x: float, y: float) -> float:
        grid = self._land.grid
        ground = bilinear(self._heights, grid.row_of(y) - self._window.row0, grid.col_of(x) - self._window.col0)
        return max(ground, float(self._firm[self._post(x, y)]))

    def water(self, x: float, y: float) -> float:
        if self._stale:
            self._look_around()
        return max(0.0, float(self._water[self._post(x, y)]) - self.height(x, y))

    def _post(self, x: float, y: float) -> tuple[int, int]:
        """The post of the window nearest to a place."""
        row = round(self._land.grid.row_of(y)) - self._window.row0
        col = round(self._land.grid.col_of(x)) - self._window.col0
        return min(max(row, 0), self._water.shape[0] - 1), min(max(col, 0), self._water.shape[1] - 1)

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return [o for o in self._obstacles if math.hypot(o.x - x, o.y - y) <= o.radius + reach]

    def holds(self, x: float, y: float) -> bool:
        return self._land.holds(x, y)
