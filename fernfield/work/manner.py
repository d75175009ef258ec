"""What a stroke asks for by name, found in the world: pictures, plots, sheets, symmetry, limits."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from fernfield.core.grid import FloatArray, Grid
from fernfield.core.ground.keep import Limits as Kept
from fernfield.core.ground.tools import GROUND_TOOLS
from fernfield.work.commands import KeepTo, StrokeStart
from fernfield.work.entries import Cover, Limits, Mix, Plot, Row, Sheet, Symmetry
from fernfield.work.sheeting import check_open
from fernfield.work.sides import Joined, beside
from fernfield.work.strokes import Manner, mask_layers


class Known(Joined, Protocol):
    """What a stroke asks of the world that it is drawn in."""

    rows: dict[str, dict[str, Row]]

    def sea_of(self, tract_id: str) -> float: ...

    @property
    def symmetry(self) -> Symmetry: ...

    @property
    def limits(self) -> Limits: ...

    def covers(self) -> list[tuple[str, Cover]]: ...

    def mixes(self) -> list[tuple[str, Mix]]: ...

    def sheets(self) -> list[tuple[str, Sheet]]: ...

    def picture(self, key: str) -> FloatArray: ...

    def row(self, model: type[Plot], collection: str, key: str) -> Plot: ...


def outline_of(plot: Plot, grid: Grid) -> np.ndarray:
    """A plot's corners in posts, (row, col)."""
    return np.array([(grid.row_of(y), grid.col_of(x)) for x, y in plot.points], np.float64)


def kept_by(world: Known, tract_id: str, grid: Grid, keep: KeepTo | None) -> Kept | None:
    """What a stroke keeps to, in posts. Raises NotFound for a plot that is not there."""
    if keep is None:
        return None
    plots = tuple(outline_of(world.row(Plot, "plots", key), grid) for key in keep.plots)
    kept = Kept(
        plots,
        keep.outside,
        keep.feather_m / grid.spacing,
        keep.from_m,
        keep.to_m,
        keep.from_deg,
        keep.to_deg,
        None if keep.water is None else keep.water == "wet",
        world.sea_of(tract_id),
    )
    return None if kept == Kept(sea=world.sea_of(tract_id)) and not plots else kept


def manner_of(world: Known, tract_id: str, grid: Grid, start: StrokeStart) -> Manner:
    """Everything about a stroke that is settled before its first sample."""
    if start.on_ground:
        check_open(world.sheets(), start.sheet)
    values = dict(start.own)
    for setting in GROUND_TOOLS[start.tool].settings if start.on_ground else ():
        if setting.picture:
            values[setting.name] = world.picture(values[setting.name])
    bounds = world.limits
    return Manner(
        start,
        {**values, "turn_deg": start.turn_deg},
        mask_layers(start, [k for k, _ in world.covers()], [k for k, _ in world.mixes()]),
        None if start.tip is None else world.picture(start.tip),
        kept_by(world, tract_id, grid, start.keep_to),
        world.symmetry.images(),
        bounds.lowest_m,
        bounds.highest_m,
        beside(world, tract_id),
    )
