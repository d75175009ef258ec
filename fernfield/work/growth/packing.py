"""The growth of a tract in a package: a line of CSV for each plant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from fernfield.core.grid import Window
from fernfield.formats.tables import GROWTH_COLUMNS, growth_rows
from fernfield.work.growth.standing import standing_plants
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands
from fernfield.work.kernel.world import OpenWorld


def _lines(world: OpenWorld, tract: Tract, step: Step) -> Iterator[bytes]:
    land, grid = world.land_from(tract.row.id), tract.grid
    inner = Window(0, 0, grid.rows - 1, grid.cols - 1)
    yield growth_rows([], header=True)
    for window in bands(tract.grid):
        step(window.row0 / tract.grid.rows, "")
        # The last posts of a tract own no ground of its own.
        for found in standing_plants(world, land, window.meet(inner)):
            p = found.plants
            columns = (p.x, p.y, found.z, p.size, p.turn, found.lean_east, found.lean_north)
            rounded = np.round(np.stack(columns, axis=1).astype(np.float64), 4).tolist()
            yield growth_rows([[found.kind.key, *row] for row in rounded])


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    file = f"growth/{tract.row.id}.csv"
    package.put(file, _lines(world, tract, step))
    return {"growth": {"file": file, "columns": list(GROWTH_COLUMNS)}}


GROWTH_PART = PackagePart("growth as CSV", _put, weight=2.5)
