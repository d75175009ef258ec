"""Pieces and starts of a tract in a package, as GeoJSON in local metres."""

from __future__ import annotations

from typing import Any

from fernfield.formats.rowfiles import rows_geojson
from fernfield.work.kernel.posts.tracts import Tract
from fernfield.work.kernel.rooms import Package, PackagePart, Step
from fernfield.work.kernel.world import OpenWorld
from fernfield.work.sites.rows import THINGS, things_of


def _put(package: Package, world: OpenWorld, tract: Tract, step: Step) -> dict[str, Any]:
    file = f"sites/{tract.row.id}.geojson"
    rows = [THINGS.tell(world, key, thing) for key, thing in things_of(world, tract.row.id)]
    package.put(file, iter([rows_geojson(rows, THINGS.lies)]))
    return {"sites": {"file": file}}


SITES_PART = PackagePart("pieces and starts as GeoJSON", _put, weight=0.2)
