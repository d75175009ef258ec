"""Water: the level of the sea."""

from __future__ import annotations

from typing import Annotated

from fernfield.work.kernel.rows import Collection, Elevation, Row
from fernfield.work.kernel.says import Say
from fernfield.work.kernel.world import OpenWorld

DRY_M = -20_000.0
"""A sea level that no ground lies under. [m]"""


class Water(Row):
    """Collection "water", key "sea"."""

    sea_level_m: Annotated[Elevation, Say("Sea level", "m")]


WATER = Collection(
    "water", Water, "sea", only="sea", first=Water(sea_level_m=0.0), pictured=True,
    words=lambda row: f"Sea level {row.sea_level_m:g} m",
)  # fmt: skip


def sea_level(world: OpenWorld) -> float:
    """The level of the sea, under which open land is flooded. [m]"""
    return world.only(WATER).sea_level_m


def sea_of(world: OpenWorld, tract_id: str) -> float:
    """The level of the sea in a tract: underground it is dry, however deep. [m]"""
    return DRY_M if world.place_of(tract_id).kind == "underground" else sea_level(world)
