"""The growth of a tract in a package: a line of CSV for each plant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from fernfield.core.grid import Window
from fernfield.core.growth.shapes import VARIANTS
from fernfield.formats.mesh import kind_of_gltf
from fernfield.formats.tables import GROWTH_COLUMNS, growth_rows
from fernfield.work.growth.rows import KINDS, MIXES
from fernfield.work.growth.standing import Bed, bed_of, stood
from fernfield.work.growth.swards import SWARDS
from fernfield.work.kernel.crew import Crew
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.windows import bands, over
from fernfield.work.kernel.world import OpenWorld


def lines_of(bed: Bed | None) -> bytes:
    """A line of CSV for each plant of a bed."""
    lines = []
    for found in stood(bed):
        p = found.plants
        columns = (p.x, p.y, found.z, p.height, p.width, p.turn, found.lean_east, found.lean_north, p.tint, p.sink)
        rounded = np.round(np.stack(columns, axis=1).astype(np.float64), 4).tolist()
        looks = [VARIANTS[v] if v else found.kind.variant for v in p.variant.tolist()]
        rows = zip(rounded, looks, p.by_hand.astype(int).tolist(), strict=True)
        lines.append(growth_rows([[found.mix, found.part.kind, *row, *rest] for row, *rest in rows]))
    return b"".join(lines)


def _lines(world: OpenWorld, tract: Tract, step: Step, crew: Crew) -> Iterator[bytes]:
    land, grid = world.land_from(tract.row.id), tract.grid
    # The last posts of a tract own no ground of its own.
    inner = Window(0, 0, grid.rows - 1, grid.cols - 1)

    def give(window: Window) -> tuple[Bed | None]:
        return (bed_of(world, land, window.meet(inner)),)

    yield growth_rows([], header=True)
    for _, lines in over(list(bands(grid)), give, lines_of, crew=crew, say=step):
        yield lines


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    file = f"growth/{tract.row.id}.csv"
    package.put(file, _lines(world, tract, step, package.crew))
    return {"growth": {"file": file, "columns": list(GROWTH_COLUMNS)}}


def manifest(world: OpenWorld) -> dict[str, Any]:
    """What a package's manifest says of the kinds and mixes."""
    return {
        "kinds": [KINDS.tell(world, key, row) for key, row in world.each(KINDS)],
        "swards": [SWARDS.tell(world, key, row) for key, row in world.each(SWARDS)],
        "mixes": [MIXES.tell(world, key, row) for key, row in world.each(MIXES)],
    }


def put_models(package: Package, world: OpenWorld) -> None:
    """The shapes that kinds name, as they were brought."""
    for key in sorted({kind.model for _, kind in world.each(KINDS) if kind.model is not None}):
        body = world.store.model(world.id, key)
        if body is not None:
            package.put(f"models/{key}.{kind_of_gltf(body)}", iter([body]))


GROWTH_PART = PackagePart("growth as CSV", _put, weight=2.5)
