"""Walkers of a world: those that come with the application, and its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from pydantic import Field, model_validator
from typing_extensions import TypedDict

from fernfield.core.errors import InvalidInput, named
from fernfield.core.travel.walkers import CALLED_BEFORE, WALKERS, Gait
from fernfield.work.kernel.rows import Collection, Colour, Key, Name, Row
from fernfield.work.kernel.says import Say
from fernfield.work.kernel.world import OpenWorld

WalkerKey = Key
Length = Annotated[float, Field(ge=0.05, le=20, allow_inf_nan=False)]
Speed = Annotated[float, Field(ge=0.1, le=100, allow_inf_nan=False)]
BODY = "Its body"
STOPS = "What stops it"


class OwnWalker(Row):
    """Collection "walkers": somebody who moves through this world, beside those that come with the application.

    radius_m, height_m, eye_m : the standing cylinder that its body is taken for, and how high its eyes are
    drop_m : no fall further than this is gone over; None: any is
    draught_m : it floats, where the water is so deep at least; 0: it goes over the ground
    """

    name: Annotated[Name, Say("Name")]
    colour: Annotated[Colour, Say("Colour")] = "#5a6b2f"
    walk_ms: Annotated[Speed, Say("Walks at", "m/s")] = 3.0
    run_ms: Annotated[Speed, Say("Runs at", "m/s")] = 8.0
    radius_m: Annotated[Length, Say("Radius", "m", under=BODY)] = 0.3
    height_m: Annotated[Length, Say("Height", "m", under=BODY)] = 1.8
    eye_m: Annotated[Length, Say("Its eyes are at", "m", under=BODY)] = 1.65
    turns_deg_s: Annotated[float, Field(ge=5, le=720), Say("Turns at", "°/s", under=BODY)] = 360.0
    steepest_deg: Annotated[float, Field(ge=1, le=85), Say("Climbs up to", "°", under=STOPS)] = 45.0
    step_m: Annotated[float, Field(ge=0, le=3), Say("Steps up", "m", under=STOPS)] = 0.4
    drop_m: Annotated[float | None, Field(ge=0.05, le=1000), Say("Goes over a drop of", "m", under=STOPS)] = None
    jump_m: Annotated[float, Field(ge=0, le=10), Say("Jumps", "m", under=STOPS)] = 0.0
    wade_m: Annotated[float, Field(ge=0.05, le=20), Say("Wades to", "m", under=STOPS)] = 1.2
    swims: Annotated[bool, Say("It swims", under=STOPS)] = False
    draught_m: Annotated[float, Field(ge=0, le=20), Say("It floats, and draws", "m", under=STOPS)] = 0.0

    @model_validator(mode="after")
    def _is_a_body(self) -> OwnWalker:
        if self.eye_m > self.height_m:
            raise InvalidInput(
                f"its eyes are at most as high as it is, {self.height_m:g} m, not {self.eye_m:g} m", "eye_m"
            )
        return self


WALKER_ROWS = Collection(
    "walkers", OwnWalker, "walker", listed_by_room=True, most=100,
    shipped={key: gait.label for key, gait in WALKERS.items()},
)  # fmt: skip


def own_gait(row: OwnWalker) -> Gait:
    """A walker that people made, as the core knows it."""
    said = {name.rpartition("_")[0]: value for name, value in row.model_dump().items() if name.endswith(("_m", "_ms"))}
    drop = said.pop("drop")
    return Gait(
        label=row.name, who=row.name, colour=row.colour, steepest_deg=row.steepest_deg, turns_deg_s=row.turns_deg_s,
        swims=row.swims, **said, **({} if drop is None else {"drop": drop}),
    )  # fmt: skip


def walkers_of(world: OpenWorld) -> Mapping[str, Gait]:
    """Every walker of a world by its key: those that come with the application first."""
    return {**WALKERS, **{key: own_gait(row) for key, row in world.each(WALKER_ROWS)}}


def gait_of(world: OpenWorld, key: str) -> Gait:
    """A walker by its key. Raises NotFound naming all that there are."""
    key = CALLED_BEFORE.get(key, key)
    return WALKERS[key] if key in WALKERS else named(dict(walkers_of(world)), "walker", key)


class WalkerTold(TypedDict):
    """A walker: whether it comes with the application, its body, its speeds, and what stops it. [m, m/s, °]"""

    key: str
    shipped: bool
    name: str
    colour: str
    walk_ms: float
    run_ms: float
    radius_m: float
    height_m: float
    eye_m: float
    turns_deg_s: float
    steepest_deg: float
    step_m: float
    drop_m: float | None
    jump_m: float
    wade_m: float
    swims: bool
    draught_m: float


def walkers_told(world: OpenWorld) -> list[WalkerTold]:
    """Every walker as the API tells it."""
    return [
        {
            "key": key, "shipped": key in WALKERS, "name": gait.label, "colour": gait.colour, "walk_ms": gait.walk,
            "run_ms": gait.run, "radius_m": gait.radius, "height_m": gait.height, "eye_m": gait.eye,
            "turns_deg_s": gait.turns_deg_s, "steepest_deg": gait.steepest_deg, "step_m": gait.step,
            "drop_m": None if gait.drop == float("inf") else gait.drop, "jump_m": gait.jump, "wade_m": gait.wade,
            "swims": gait.swims, "draught_m": gait.draught,
        }
        for key, gait in walkers_of(world).items()
    ]  # fmt: skip
