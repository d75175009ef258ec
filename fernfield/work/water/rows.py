"""Water: the level of the sea with its tides, and standing pools."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fernfield.core.errors import Conflict, InvalidInput
from fernfield.core.water.liquids import LIQUIDS
from fernfield.work.kernel.edits import plainly
from fernfield.work.kernel.rows import (
    Change,
    Collection,
    Elevation,
    Key,
    Look,
    Name,
    Plan,
    Row,
    TractId,
    carried_place,
    moved_place,
)
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.rows import PLOTS

DRY_M = -20_000.0
"""A level of water that no ground lies under. [m]"""

LiquidName = Literal["water", "mud", "brine", "hot", "ice"]


class Water(Row):
    """Collection "water", key "sea".

    tide_low_m, tide_high_m : between which levels the sea goes; None: it stands still
    inland : land under its level that it does not reach is flooded too
    """

    sea_level_m: Annotated[Elevation, Say("Sea level", "m")]
    tide_low_m: Annotated[Elevation | None, Say("Low tide", "m", left_out="none")] = None
    tide_high_m: Annotated[Elevation | None, Say("High tide", "m", left_out="none")] = None
    inland: Annotated[bool, Say("Also where the sea does not reach")] = False

    @model_validator(mode="after")
    def _in_their_order(self) -> Water:
        low, high = self.tide_low_m, self.tide_high_m
        if (low is None) != (high is None):
            raise InvalidInput("low and high tide go together: say both, or neither", "tide_low_m")
        if low is not None and high is not None and not low <= high:
            raise InvalidInput(f"low tide must not be above high tide, not {low:g} and {high:g} m", "tide_low_m")
        return self


class Pool(Row):
    """Collection "pools": standing water around its deepest place (x, y), up to a level. [m]

    liquid : what it holds; plot : it is kept to this plot; runs_over : it was asked to run over its brim
    """

    name: Annotated[Name, Say("Name")]
    x: Annotated[float, Field(ge=-1e6, le=1e6), UNASKED]
    y: Annotated[float, Field(ge=-1e6, le=1e6), UNASKED]
    level_m: Annotated[Elevation, Say("Level", "m")]
    liquid: Annotated[LiquidName, Say("Holds", called={name: one.label for name, one in LIQUIDS.items()})] = "water"
    plot: Annotated[Key | None, UNASKED] = None
    runs_over: Annotated[bool, UNASKED] = False
    tract: Annotated[TractId | None, UNASKED] = None


def _upgrade(body: dict[str, Any], version: int) -> dict[str, Any]:
    # Until then all land under the level of the sea was under water.
    return {**body, "inland": True}


def _sea_words(row: Water) -> str:
    tide = "" if row.tide_low_m is None else f", tide {row.tide_low_m:g} to {row.tide_high_m:g} m"
    return f"Sea level {row.sea_level_m:g} m{tide}"


def _shown(world: OpenWorld, key: str, row: Pool) -> dict[str, Any]:
    return {"key": key, **row.model_dump(mode="json"), "colour": LIQUIDS[row.liquid].colour}


def _plan_pool(change: Change[Pool], look: Look) -> Plan:
    """Raises NotFound for a plot that is not there, Conflict for a place outside of its tract."""
    new = change.new
    if new is not None:
        if new.plot is not None and (change.old is None or change.old.plot != new.plot):
            look.need(PLOTS, new.plot)
        grid = look.grid(look.tract_or_first(new.tract))
        if not grid.holds(new.x, new.y):
            raise Conflict(f"{new.name} would lie outside of its tract, at {new.x:g}, {new.y:g}")
    return plainly(POOLS, change)


WATER = Collection(
    "water", Water, "sea", only="sea", first=Water(sea_level_m=0.0), pictured=True, words=_sea_words,
    version=2, upgrade=_upgrade,
)  # fmt: skip
POOLS = Collection(
    "pools", Pool, "pool", in_tract=True, pictured=True, plain=False, most=500, plan=_plan_pool, moved=moved_place,
    carried=lambda row, journey: carried_place(row, journey), shown=_shown,
)  # fmt: skip


def sea_level(world: OpenWorld) -> float:
    """The level of the sea, under which open land that it reaches is flooded. [m]"""
    return world.only(WATER).sea_level_m


def sea_of(world: OpenWorld, tract_id: str) -> float:
    """The level of the sea in a tract: underground it is dry, however deep. [m]"""
    return DRY_M if world.place_of(tract_id).kind == "underground" else sea_level(world)
