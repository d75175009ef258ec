"""A walk on an open world: the surface underfoot from the tract, growth and pieces around it."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

from fernfield.core.errors import InvalidInput, NotFound
from fernfield.core.grid import FloatArray, Window, bilinear
from fernfield.core.sites.kit import KIT
from fernfield.core.travel.walker import Intent, Obstacle, Walker, tick
from fernfield.work.checking import HOLE
from fernfield.work.layers import HEIGHT, OPENING
from fernfield.work.scene import elevation_at, standing_plants
from fernfield.work.world import OpenWorld, Tract

REACH_M = 24.0
"""How far around the walker ground and obstacles are kept at hand."""

MARGIN_M = 8.0


class Walk:
    """One walker in a world. `advance` is called at a steady rate; the ground may change meanwhile."""

    def __init__(self, world: OpenWorld, tract: Tract, x: float, y: float, facing: float = 0.0) -> None:
        grid = tract.grid
        if not grid.holds(x, y):
            raise InvalidInput(
                f"a walk must begin inside the tract (0 to {grid.width:g}, 0 to {grid.depth:g}), not {x:g}, {y:g}", "x"
            )
        self._world, self._tract = world, tract
        self._heights: FloatArray
        self._window: Window
        self._obstacles: list[Obstacle] = []
        self._stale = True
        self._centre = (x, y)
        self._sea = world.sea_of(tract.row.id)
        with world.lock:
            z = elevation_at(tract, x, y)
        self.walker = Walker(x, y, z, facing % 360)

    @classmethod
    def from_start(cls, world: OpenWorld, tract: Tract, key: str | None = None) -> Walk:
        """A walk from a start, the default one unless `key` says. Raises NotFound when there is none."""
        starts = [(k, t) for k, t in world.things(tract.row.id) if t.sort == "start"]
        for k, start in starts:
            if k == key or (key is None and start.default):
                walk = cls(world, tract, start.x, start.y, start.turn_deg)
                if start.over_m > 0:
                    walk.walker = replace(walk.walker, z=walk.walker.z + start.over_m)
                return walk
        raise NotFound(
            "this world has no default start: place one on the Sites stage"
            if key is None
            else f"there is no start {key!r}"
        )

    def forget(self) -> None:
        """The world changed: look at the ground afresh at the next tick."""
        self._stale = True

    def advance(self, intent: Intent, ticks: int = 1) -> Walker:
        """Go on for some ticks."""
        for _ in range(ticks):
            moved = math.hypot(self.walker.x - self._centre[0], self.walker.y - self._centre[1])
            if self._stale or moved > MARGIN_M:
                self._look_around()
            self.walker = tick(self.walker, intent, self)
        return self.walker

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
            "water": round(self.water(w.x, w.y), 3),
            "blocked": w.blocked_by,
        }

    def _look_around(self) -> None:
        grid = self._tract.grid
        x, y = self.walker.x, self.walker.y
        with self._world.lock:
            self._window = grid.clip(grid.around(x, y, REACH_M).pad(2))
            self._heights = self._tract.cache.read(HEIGHT, self._window)
            self._sea = self._world.sea_of(self._tract.row.id)
            self._obstacles = self._find_obstacles(x, y)
        self._centre = (x, y)
        self._stale = False

    def _find_obstacles(self, x: float, y: float) -> list[Obstacle]:
        found = []
        for growth in standing_plants(self._world, self._tract, self._tract.grid.around(x, y, REACH_M)):
            kind, plants = growth.kind, growth.plants
            if kind.blocks_m <= 0:
                continue
            for px, py, pz, size in zip(plants.x, plants.y, growth.z, plants.size, strict=True):
                top = float(pz) + kind.tall_m * float(size)
                found.append(
                    Obstacle(kind.name.lower(), float(px), float(py), kind.blocks_m * float(size), float(pz) - 1, top)
                )
        found.extend(self._openings())
        for _key, thing in self._world.things(self._tract.row.id):
            piece = KIT.get(thing.kit or "")
            if piece is None or math.hypot(thing.x - x, thing.y - y) > REACH_M + piece.width + piece.depth:
                continue
            ground = elevation_at(self._tract, thing.x, thing.y) + thing.over_m
            found.append(
                Obstacle(
                    thing.name,
                    thing.x,
                    thing.y,
                    math.hypot(piece.width, piece.depth) / 2,
                    ground - 2,
                    ground + piece.height,
                    piece.width / 2,
                    piece.depth / 2,
                    thing.turn_deg,
                )
            )
        return found

    def _openings(self) -> Iterator[Obstacle]:
        """Open posts near the walker: nobody walks over a hole."""
        grid = self._tract.grid
        if self._tract.cache.blank(OPENING, self._window):
            return
        holes = self._tract.cache.read(OPENING, self._window) >= HOLE
        for row, col in zip(*holes.nonzero(), strict=True):
            ground = float(self._heights[row, col])
            px, py = grid.x_of(self._window.col0 + int(col)), grid.y_of(self._window.row0 + int(row))
            yield Obstacle("an opening", px, py, grid.spacing * 0.6, ground - 2, ground + 2)

    # The surface that the walker asks (core.travel.walker.Surface)

    def height(self, x: float, y: float) -> float:
        grid = self._tract.grid
        return bilinear(self._heights, grid.row_of(y) - self._window.row0, grid.col_of(x) - self._window.col0)

    def water(self, x: float, y: float) -> float:
        if self._stale:
            self._look_around()
        return max(0.0, self._sea - self.height(x, y))

    def obstacles(self, x: float, y: float, reach: float) -> Sequence[Obstacle]:
        return [o for o in self._obstacles if math.hypot(o.x - x, o.y - y) <= o.radius + reach]

    def holds(self, x: float, y: float) -> bool:
        return self._tract.grid.holds(x, y)
