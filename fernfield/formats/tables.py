"""Growth as CSV (RFC 4180) and sites as GeoJSON (RFC 7946)."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

GROWTH_COLUMNS = (
    "mix", "kind", "x_m", "y_m", "z_m", "size_height", "size_width", "turn_deg", "lean_east", "lean_north", "tint",
    "sink_m", "variant", "by_hand",
)  # fmt: skip


def growth_rows(rows: Iterable[Sequence[Any]], *, header: bool = False) -> bytes:
    """Rows in the order of GROWTH_COLUMNS as CSV, after a line of names if asked for."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    if header:
        writer.writerow(GROWTH_COLUMNS)
    writer.writerows(rows)
    return out.getvalue().encode()


def places_geojson(rows: Iterable[Mapping[str, Any]]) -> bytes:
    """Rows with a place (`key`, `x`, `y`, in metres from the tract's south-west corner) as points; the rest of each
    become its properties."""
    return sites_geojson({**row, "id": row["key"]} for row in rows)


def sites_geojson(sites: Iterable[Mapping[str, Any]]) -> bytes:
    """Pieces and starts as a FeatureCollection of points.

    `x`, `y`, `z` of each site become the position, in metres from the tract's south-west
    corner: a local frame, not the longitudes and latitudes that RFC 7946 section 4 takes
    for granted. The rest become properties.
    """
    features = [
        {
            "type": "Feature",
            "id": site["id"],
            "geometry": {"type": "Point", "coordinates": [site[axis] for axis in ("x", "y", "z") if axis in site]},
            "properties": {k: v for k, v in site.items() if k not in ("id", "key", "x", "y", "z")},
        }
        for site in sites
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1).encode()
