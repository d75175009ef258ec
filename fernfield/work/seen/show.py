"""What is shown of a world: chosen by whoever looks at it, not a part of the world.

One model for all who ask: a query, a page's socket, a picture made by a script. A new setting is a field here, and a
label where a person chooses it.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from fernfield.core.drawing.contours import interval_for
from fernfield.core.drawing.overlays import tint_range
from fernfield.work.cover.ruling import Rule
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Key
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.light.moment import Moment, moment_of
from fernfield.work.light.rows import Sun
from fernfield.work.plots.keep import KeepTo
from fernfield.work.water.rows import Tide

Interval = Annotated[float, Field(ge=0, le=1000, allow_inf_nan=False)] | Literal["auto"]
OverlayName = Annotated[str, Field(max_length=40)]


class Show(BaseModel):
    """What the plan shows."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    contour_m: Annotated[
        Interval, Field(description="the interval in metres, 0 for none; auto for what suits the zoom and the relief")
    ] = 2.0
    water: bool = True
    growth: bool = True
    shadows: bool = True
    overlays: Annotated[tuple[OverlayName, ...], Field(max_length=32, description="by name")] = ()
    keep_to: Annotated[KeepTo | None, Field(description="what a stroke keeps to")] = None
    cover: Annotated[Key | None, Field(description="whose share is mapped, for the overlay share")] = None
    rule: Annotated[Rule | None, Field(description="a rule for covers, for the overlay rule")] = None
    guise: Annotated[Key | None, Field(description="as which the covers are looked at")] = None
    tide: Annotated[Tide | None, Field(description="at which the sea is shown")] = None
    sun: Annotated[Sun | None, Field(description="where the sun stands, looked at before it is set")] = None
    mood: Annotated[Key | None, Field(description="whose light is looked at")] = None
    beside: Annotated[Key | None, Field(description="a mood whose light is seen east of the line that divides")] = None
    divide_m: Annotated[
        float | None, Field(ge=-1e6, le=1e6, description="where that line lies, east in the land's metres")
    ] = None
    walker: Annotated[Key | None, Field(description="who gets where, for the overlays that tell it")] = None
    plain: Annotated[
        bool,
        Field(description="colours without light, for whoever lights them; alpha says what of water is the bottom's"),
    ] = False

    def interval(self, land: Land, level: int) -> float:
        """The interval of contours in a picture of a level, 0 for none. [m]"""
        if self.contour_m != "auto":
            return self.contour_m
        # Rounded outwards, so that not every stroke changes the interval.
        low, high = tint_range(*land.all_heights())
        return interval_for(land.grid.spacing * 2.0**level, low, high, min(land.grid.width, land.grid.depth))

    def halves(self) -> tuple[Show, Show]:
        """What is seen west of the line that divides, and east of it."""
        whole = self.model_copy(update={"beside": None, "divide_m": None})
        return whole, whole.model_copy(update={"mood": self.beside, "sun": None})

    def moment(self, world: OpenWorld) -> Moment:
        """The light that the world is shown in."""
        return moment_of(world, self.mood, self.sun)
