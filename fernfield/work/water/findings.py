"""What the checks find of standing water: pools without depth, and pools that spill."""

from __future__ import annotations

from collections.abc import Iterator

from fernfield.core.checks.finding import Finding
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.water.rows import POOLS
from fernfield.work.water.standing import home_of, pool_extent

SHALLOW_M = 0.05
"""Water that is nowhere deeper than this does not show (our choice)."""


def water_findings(world: OpenWorld) -> Iterator[Finding]:
    """Every pool that is not as it was meant: it holds nothing any more, or runs over without being asked to."""
    for key, pool in world.each(POOLS):
        with world.lock:
            tract = home_of(world, pool)
            land = world.land_from(tract.row.id)
            extent = pool_extent(world, land, key, pool)
            deep = pool.level_m - land.elevation(pool.x, pool.y)
        if not extent.wet.any() or deep < SHALLOW_M:
            yield Finding("water", f"{pool.name} has no depth: its level is {pool.level_m:g} m, the ground there "
                          f"{pool.level_m - deep:.2f} m.", "Raise its level, dig its floor, or delete it.", False,
                          pool.x, pool.y, tract.row.id)  # fmt: skip
        elif (extent.runs_off or extent.too_large) and not pool.runs_over:
            where = "off the edge of the land" if extent.runs_off else "over more ground than a pool has"
            yield Finding("water", f"{pool.name} spills: at {pool.level_m:g} m it runs {where}.",
                          "Lower its level, raise its rim, or set it anew so that it floods.", False, pool.x, pool.y,
                          tract.row.id)  # fmt: skip
