"""A walk on an open world: the surface underfoot from the tract, growth and pieces around it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from fernfield.core.grid import FloatArray, Window, bilinear
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from fernfield.core.travel.walkers import WALKER, WALKERS, Gait
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.world import OpenWorld

REACH_M = 24.0
"""How far around the walker ground and obstacles are kept at hand."""

MARGIN_M = 8.0
FREELY = WALKERS[WALKER]
"""What a walker can do where nothing slows it."""


class Walk:
    """One walker in a world. `advance` is called at a steady rate; the ground may change meanwhile."""

    def __init__(
        self, world: OpenWorld, land: Land, x: float, y: float, facing: float = 0.0, over_m: float = 0.0,
        sea_m: float | None = None,
    ) -> None:  # fmt: skip
        """A walk from a place, with a facing [°], and so high over the ground there; the sea as if at `sea_m`. [m]"""
        land.need(x, y, "a walk's beginning")
        self._world, self._land, self._sea_m = world, land, sea_m
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
            self.walker = tick(self.walker, intent, self, self._gait())
        return self.walker

    def _gait(self) -> Gait:
        """What the walker can do on the ground where it stands."""
        if self._paces is None:
            return FREELY
        grid, window = self._land.grid, self._window
        row = min(max(round(grid.row_of(self.walker.y)) - window.row0, 0), self._paces.shape[0] - 1)
        col = min(max(round(grid.col_of(self.walker.x)) - window.col0, 0), self._paces.shape[1] - 1)
        left = float(self._paces[row, col])
        return replace(FREELY, walk=FREELY.walk * left, run=FREELY.run * left)

    def state(self) -> dict[str, object]:
        """The walker as the page needs it: place, speed, slope ahead, water, and what blocks, in words."""
        w = self.walker
        return {
            "x": round(w.x, 4),
            "y": round(w.y, 4),
            "z": round(w.z, 4),
            "facing": round(w.facing, 2),
            "speed": round(w.speed, 3),
            "slope": round(w.slope_ahead_deg, 2),
            "water": round(max(0.0, self.water(w.x, w.y) - (w.z - self.height(w.x, w.y))), 3),
            "blocked": w.blocked_by,
        }

    def _look_around(self) -> None:
        x, y = self.walker.x, self.walker.y
        with self._world.lock:
            around = self._land.around(x, y, REACH_M)
            self._window = self._land.clip(around.pad(2))
            self._heights = self._land.read(HEIGHT, self._window)
            self._water = self._world.surface(self._land, self._window, sea_m=self._sea_m)
            self._firm = self._world.surface(self._land, self._window, firm=True)
            self._paces = self._world.house.given.paces(self._world, self._land, self._window)
            self._obstacles = [
                obstacle for found in self._world.house.obstacles for obstacle in found(self._world, self._land, around)
            ]
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
