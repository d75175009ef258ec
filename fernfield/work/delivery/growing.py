"""The plants of a piece of land, one by one: as a table, as Parquet, and as GeoJSON."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fernfield.core.errors import Conflict
from fernfield.core.grid import Window
from fernfield.core.growth.shapes import VARIANTS
from fernfield.formats.tables import GROWTH_COLUMNS, growth_rows
from fernfield.work.delivery.land import lies_on
from fernfield.work.delivery.pieces import Format, PieceOfLand
from fernfield.work.growth.standing import bed_of, stood

TEXT = ("mix", "kind", "variant")
Columns = dict[str, NDArray[Any]]


def columns_of(piece: PieceOfLand) -> Columns:
    """The plants of a piece, a column for each of `GROWTH_COLUMNS`. [m, °]"""
    grid = piece.tract.grid
    # The last posts of a tract own no ground of its own.
    inner = piece.window.meet(Window(0, 0, grid.rows - 1, grid.cols - 1))
    found: dict[str, list[Any]] = {name: [] for name in GROWTH_COLUMNS}
    for one in stood(bed_of(piece.world, piece.land, inner)):
        p = one.plants
        own = np.flatnonzero(lies_on(piece, p.x, p.y))
        looks = np.array([one.kind.variant, *VARIANTS[1:]])
        values = (
            np.full(len(own), one.mix), np.full(len(own), one.part.kind), p.x[own], p.y[own], one.z[own], p.height[own],
            p.width[own], p.turn[own], one.lean_east[own], one.lean_north[own], p.tint[own], p.sink[own],
            looks[p.variant[own]], p.by_hand[own].astype(bool),
        )  # fmt: skip
        for name, value in zip(GROWTH_COLUMNS, values, strict=True):
            found[name].append(value.astype(np.float64).round(4) if value.dtype.kind == "f" else value)
    return {name: np.concatenate(parts) if parts else np.empty(0) for name, parts in found.items()}


def _csv(piece: PieceOfLand) -> Iterator[bytes]:
    yield growth_rows([], header=True)
    yield growth_rows(zip(*(one.tolist() for one in columns_of(piece).values()), strict=True))


def _geojson(piece: PieceOfLand) -> Iterator[bytes]:
    columns = columns_of(piece)
    rows = zip(*(one.tolist() for one in columns.values()), strict=True)
    features = [
        {"type": "Feature", "properties": said, "geometry": {"type": "Point", "coordinates": place}}
        for said in (dict(zip(columns, row, strict=True)) for row in rows)
        for place in [[said.pop(name) for name in ("x_m", "y_m", "z_m")]]
    ]
    yield json.dumps({"type": "FeatureCollection", "features": features}, ensure_ascii=False).encode()


def _parquet(piece: PieceOfLand) -> Iterator[bytes]:
    try:
        import pyarrow as pa  # an extra: imported where it is used
        from pyarrow import parquet
    except ImportError:
        raise Conflict("Parquet needs pyarrow, which is not installed: pip install 'fernfield[parquet]'") from None
    kinds = dict.fromkeys(GROWTH_COLUMNS, pa.float64()) | dict.fromkeys(TEXT, pa.string()) | {"by_hand": pa.bool_()}
    own = columns_of(piece)
    table = pa.table({name: pa.array(own[name].tolist(), kinds[name]) for name in GROWTH_COLUMNS})
    out = io.BytesIO()
    parquet.write_table(table, out)
    yield out.getvalue()


GROWING = (
    Format("growth_csv", "Growth as CSV, a line for each plant", "csv", _csv, bytes_each=0.5),
    Format("growth_geojson", "Growth as GeoJSON", "geojson", _geojson, bytes_each=1.5,
           loses=lambda piece: "places are metres of the tract, not degrees as RFC 7946 has them"),
    Format("growth_parquet", "Growth as Parquet", "parquet", _parquet, bytes_each=0.2),
)  # fmt: skip
