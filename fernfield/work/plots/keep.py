"""What a stroke keeps to."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from fernfield.core.brush.keep import Limits as Kept
from fernfield.core.errors import InvalidInput
from fernfield.work.kernel.commands import Command
from fernfield.work.kernel.posts.lands import Land
from fernfield.work.kernel.rows import Elevation, Key
from fernfield.work.kernel.says import UNASKED, Say
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.plots.areas import Feather, plot_corners
from fernfield.work.plots.rows import PLOTS, Plot

Degrees = Annotated[float, Field(ge=0, le=90)]


class KeepTo(Command):
    """Where a stroke may work: inside or outside plots (coming in over `feather_m` from their edge), between two
    elevations, between two slopes, on wet or dry ground; all as the ground was before the stroke."""

    plots: Annotated[tuple[Key, ...], Field(max_length=32), UNASKED] = ()
    outside: Annotated[bool, Say("outside of the ticked plots")] = False
    feather_m: Feather = 0.0
    from_m: Annotated[Elevation | None, Say("From", "m", left_out="any")] = None
    to_m: Annotated[Elevation | None, Say("Up to", "m", left_out="any")] = None
    from_deg: Annotated[Degrees | None, Say("Slopes from", "°", left_out="any")] = None
    to_deg: Annotated[Degrees | None, Say("Slopes to", "°", left_out="any")] = None
    water: Annotated[
        Literal["wet", "dry"] | None,
        Say("Water", called={"wet": "wet ground only", "dry": "dry ground only"}, left_out="wet and dry"),
    ] = None

    @model_validator(mode="after")
    def _smaller_first(self) -> KeepTo:
        for low, high in (("from_m", "to_m"), ("from_deg", "to_deg")):
            a, b = getattr(self, low), getattr(self, high)
            if a is not None and b is not None and a > b:
                raise InvalidInput(f"{low} must not be above {high}, not {a:g} and {b:g}", low)
        return self


def outline_of(world: OpenWorld, land: Land, plot: Plot) -> NDArray[np.float64]:
    """A plot's corners in posts of the land, (row, col)."""
    grid = land.grid
    return np.array([grid.post_of(x, y) for x, y in plot_corners(world, land, plot)], np.float64)


def kept_by(world: OpenWorld, land: Land, keep: KeepTo | None) -> Kept | None:
    """What a stroke keeps to, in posts. Raises NotFound for a plot that is not there."""
    if keep is None:
        return None
    plots = tuple(outline_of(world, land, world.row(PLOTS, key)) for key in keep.plots)
    sea = world.sea_of(land.id)
    kept = Kept(
        plots, keep.outside, keep.feather_m / land.grid.spacing, keep.from_m, keep.to_m, keep.from_deg, keep.to_deg,
        None if keep.water is None else keep.water == "wet", sea,
    )  # fmt: skip
    return None if kept == Kept(sea=sea) and not plots else kept
