"""What is seen from a place of a land: over its ground, what stands there, and through what grows."""

from __future__ import annotations

import math
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from fernfield.core.grid import ByteArray, FloatArray, Window
from fernfield.core.travel.sight import HIDDEN, Crowns, lay_crowns, lay_solid, seen_from
from fernfield.core.travel.walker import Obstacle
from fernfield.core.travel.walkers import WALKER, WALKERS
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.posts.layers import HEIGHT
from fernfield.work.kernel.rows import Coordinate
from fernfield.work.kernel.world import OpenWorld

FURTHEST_M = 4_000.0
HANGS_M = 0.5
"""What hangs higher than this over the ground hides nothing behind it (our choice)."""
ROUND = np.linspace(0, 2 * math.pi, 12, endpoint=False)
Over = Annotated[float, Field(ge=0, le=1_000)]


class AskSight(BaseModel):
    """From where, so high over the ground, to so high over the ground, within a distance [m]; whether growth hides"""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    x: Coordinate
    y: Coordinate
    over_m: Over = WALKERS[WALKER].eye
    target_over_m: Over = 0.0
    reach_m: Annotated[float, Field(ge=1, le=FURTHEST_M)] = 600.0
    growth: bool = True


def sight_posts(world: OpenWorld, land: Land, asked: AskSight, window: Window, step: int) -> ByteArray:
    """What is seen of every `step`-th post of a window: 255 all, 0 nothing, between through crowns. Raises InvalidInput
    off the land."""
    land.need(asked.x, asked.y, "the eye")
    with world.lock:
        near = land.clip(land.around(asked.x, asked.y, asked.reach_m).pad(1))
        # Of a lake its surface is seen, and hides.
        ground = np.maximum(land.read(HEIGHT, near), world.surface(land, near)).astype(np.float32)
        void = land.void(np.arange(near.row0, near.row1), np.arange(near.col0, near.col1))
        eye = land.elevation(asked.x, asked.y) + asked.over_m
        solids = list(world.house.given.bodies(world, land, near))
        canopies = list(world.house.given.canopies(world, land, near)) if asked.growth else []
    grid = land.grid
    x0, y0 = grid.x_of(near.col0), grid.y_of(near.row0)
    for one in solids:
        _raise(ground, one, x0, y0, grid.spacing)
    crowns = None
    if canopies:
        low, high, dense = (np.zeros(near.shape, np.float32) for _ in range(3))
        for some in canopies:
            if math.isinf(some.lost):
                for east, north, radius, top in zip(some.x, some.y, some.radius, some.high, strict=True):
                    around = np.column_stack([east + radius * np.sin(ROUND), north + radius * np.cos(ROUND)])
                    lay_solid(ground, x0, y0, grid.spacing, around, float(top))
            else:
                x, y, wide = (np.asarray(one, np.float32) for one in (some.x, some.y, some.radius))
                z0, z1 = np.asarray(some.low, np.float32), np.asarray(some.high, np.float32)
                lay_crowns(low, high, dense, x0, y0, grid.spacing, x, y, wide, z0, z1, some.lost)
        crowns = Crowns(low, high, dense)
    if void is not None:
        ground[void] = np.nan
    row, col = grid.row_of(asked.y) - near.row0, grid.col_of(asked.x) - near.col0
    seen = seen_from(
        ground, min(max(row, 0.0), near.rows - 1.0), min(max(col, 0.0), near.cols - 1.0), grid.spacing, eye=eye,
        over=asked.target_over_m, reach=asked.reach_m, crowns=crowns,
    )  # fmt: skip
    rows = np.arange(window.row0, window.row1, step) - near.row0
    cols = np.arange(window.col0, window.col1, step) - near.col0
    out = np.full((len(rows), len(cols)), HIDDEN, np.uint8)
    fits = (rows >= 0) & (rows < near.rows), (cols >= 0) & (cols < near.cols)
    out[np.ix_(*fits)] = seen[np.ix_(rows[fits[0]], cols[fits[1]])]
    return out


def _raise(ground: FloatArray, one: Obstacle, x0: float, y0: float, spacing: float) -> None:
    """Something that stands on the ground hides what is behind it."""
    row, col = round((y0 - one.y) / spacing), round((one.x - x0) / spacing)
    inside = 0 <= row < ground.shape[0] and 0 <= col < ground.shape[1]
    if inside and one.z0 > ground[row, col] + HANGS_M:
        return
    if one.corners:
        corners = np.array(one.corners) + np.array([one.x, one.y])
    elif one.half_width > 0:
        turn = math.radians(one.turn_deg)
        side = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * [one.half_width, one.half_depth]
        east = side[:, 0] * math.cos(turn) + side[:, 1] * math.sin(turn)
        north = -side[:, 0] * math.sin(turn) + side[:, 1] * math.cos(turn)
        corners = np.column_stack([east + one.x, north + one.y])
    else:
        corners = np.column_stack([one.x + one.radius * np.sin(ROUND), one.y + one.radius * np.cos(ROUND)])
    lay_solid(ground, x0, y0, spacing, corners, one.z1)
