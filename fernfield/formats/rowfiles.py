"""Rows of a world as a file and back: GeoJSON (RFC 7946) with the geometry that says where they lie, or CSV (RFC 4180)
with a line of names."""

from __future__ import annotations

import csv
import io
import itertools
import json
from collections.abc import Container, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from fernfield.core.errors import FormatError

MOST_BYTES = 16 << 20
LONGEST_FIELD = 1 << 20
MOST_ROWS = 100_000


@dataclass(frozen=True)
class FileRow:
    """A row as a file says it: its key where it says one, and its fields."""

    key: str | None
    fields: dict[str, Any]


def rows_geojson(rows: Iterable[Mapping[str, Any]], lies: Mapping[str, str]) -> bytes:
    """Rows with a `key` as a FeatureCollection. lies : the fields that say where they lie, and how ("east", "path", …).

    The place, or the first path or outline, is the geometry, in metres from the tract's south-west corner: a local
    frame, not the longitudes and latitudes that RFC 7946 section 4 takes for granted. All other fields are properties.
    """
    features = [
        {
            "type": "Feature",
            "id": row["key"],
            "geometry": _geometry(row, lies),
            "properties": {k: v for k, v in row.items() if k not in {"key", "id", "z", *_as_geometry(lies)}},
        }
        for row in rows
    ]
    return json.dumps({"type": "FeatureCollection", "features": features}, indent=1).encode()


def _as_geometry(lies: Mapping[str, str]) -> list[str]:
    """The fields that a geometry says: both of a place, or the first path or outline."""
    place = [name for name, how in lies.items() if how in ("east", "north")]
    return place if len(place) == 2 else [name for name, how in lies.items() if how in ("path", "outline")][:1]


def _geometry(row: Mapping[str, Any], lies: Mapping[str, str]) -> dict[str, Any] | None:
    names = _as_geometry(lies)
    if len(names) == 2:
        east, north = sorted(names, key=lambda name: lies[name] != "east")
        return {"type": "Point", "coordinates": [row[east], row[north], *([row["z"]] if "z" in row else [])]}
    if not names or not row.get(names[0]):
        return None
    points = [list(point[:2]) for point in row[names[0]]]
    if lies[names[0]] == "outline":
        return {"type": "Polygon", "coordinates": [[*points, points[0]]]}
    return {"type": "LineString", "coordinates": points}


@dataclass(frozen=True)
class Columns:
    """How the columns of a file are meant.

    called : the field that each name of the file stands for, in small letters, where they differ; "" leaves it out
    metres : how long a unit of its places and heights is [m]
    south : whether norths are counted southwards; swapped : whether the first of two axes is the north
    """

    called: Mapping[str, str] = field(default_factory=dict)
    metres: float = 1.0
    south: bool = False
    swapped: bool = False

    def field_of(self, name: str, known: Container[str]) -> str:
        """The field that a name stands for: by what is said, else by common ways to call it."""
        small = name.strip().lower()
        if small in self.called:
            return self.called[small]
        return name if name in known else ALIASES.get(small.replace(" ", "_"), name)

    def placed(self, fields: dict[str, Any], lies: Mapping[str, str]) -> dict[str, Any]:
        """Fields with their places in metres, east and north."""
        if self.metres == 1.0 and not self.south and not self.swapped:
            return fields
        out = dict(fields)
        east, north = (next((name for name, how in lies.items() if how == way), None) for way in ("east", "north"))
        if east is not None and north is not None and all(_is_number(out.get(name)) for name in (east, north)):
            x, y = out[east], out[north]
            x, y = (y, x) if self.swapped else (x, y)
            out[east], out[north] = x * self.metres, y * self.metres * (-1 if self.south else 1)
        for name in ("over_m", "z"):
            if _is_number(out.get(name)):
                out[name] = out[name] * self.metres
        return out


ALIASES = {
    "easting": "x", "east": "x", "pos_x": "x", "x_m": "x", "northing": "y", "north": "y", "pos_y": "y", "y_m": "y",
    "id": "key", "heading": "turn_deg", "rotation": "turn_deg", "bearing": "turn_deg", "yaw": "turn_deg",
    "turn": "turn_deg",
    "scale": "size", "label": "name", "title": "name", "height_over_ground": "over_m", "over": "over_m", "type": "kit",
    "piece": "kit", "object": "kit",
}  # fmt: skip
"""Common ways to call a column (common practice), and the field that is meant."""


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and not isinstance(value, bool)


AS_IT_IS = Columns()


def read_rows(
    content: bytes, lies: Mapping[str, str], texts: Container[str] = (), columns: Columns = AS_IT_IS,
    known: Container[str] = (),
) -> list[FileRow]:  # fmt: skip
    """The rows of a GeoJSON or CSV file. Raises FormatError naming what came.

    texts : the fields that are text: a cell of theirs stays as it stands, whatever number it looks like
    columns : how columns are called and places are meant; known : the fields that there are
    """
    if len(content) > MOST_BYTES:
        raise FormatError(f"a file of rows has at most {MOST_BYTES >> 20} MiB, not {len(content) / (1 << 20):.1f}")
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(f"a file of rows is text in UTF-8; byte {error.start} is not") from error
    found = _of_geojson(text, lies) if text.lstrip()[:1] in ("{", "[") else _of_csv(text, texts, columns, known)
    if len(found) > MOST_ROWS:
        raise FormatError(f"a file has at most {MOST_ROWS:,} rows, not {len(found):,}")
    return [FileRow(row.key, columns.placed(row.fields, lies)) for row in found]


def _of_geojson(text: str, lies: Mapping[str, str]) -> list[FileRow]:
    try:
        said = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise FormatError(f"the file begins as JSON and cannot be read as it: {error}") from error
    features = said.get("features") if isinstance(said, dict) else None
    if not isinstance(features, list):
        raise FormatError("a GeoJSON file of rows is a FeatureCollection with a list of features")
    return [_feature(number, one, lies) for number, one in enumerate(features)]


def _feature(number: int, said: Any, lies: Mapping[str, str]) -> FileRow:
    if not isinstance(said, dict):
        raise FormatError(f"feature {number} is no object")
    properties = said.get("properties") or {}
    if not isinstance(properties, dict):
        raise FormatError(f"the properties of feature {number} are no object")
    fields = dict(properties)
    key = said.get("id", fields.pop("key", None))
    geometry, names = said.get("geometry"), _as_geometry(lies)
    if geometry is not None and names:
        wanted = "Point" if len(names) == 2 else "Polygon" if lies[names[0]] == "outline" else "LineString"
        if not isinstance(geometry, dict) or geometry.get("type") != wanted:
            came = geometry.get("type") if isinstance(geometry, dict) else geometry
            raise FormatError(f"the geometry of feature {number} must be a {wanted}, not {came!r}")
        try:
            fields |= _placed(geometry["coordinates"], names, lies)
        except (KeyError, TypeError, ValueError, IndexError) as error:
            raise FormatError(f"the coordinates of feature {number} cannot be read: {error}") from error
    return FileRow(None if key is None else str(key), fields)


def _placed(coordinates: Any, names: list[str], lies: Mapping[str, str]) -> dict[str, Any]:
    if len(names) == 2:
        east, north = sorted(names, key=lambda name: lies[name] != "east")
        return {east: coordinates[0], north: coordinates[1]}
    points = coordinates
    if lies[names[0]] == "outline":
        if len(coordinates) != 1:
            raise ValueError(f"an outline has one ring, not {len(coordinates)}")
        points = coordinates[0][:-1] if coordinates[0][0] == coordinates[0][-1] else coordinates[0]
    return {names[0]: [[x, y] for x, y, *_ in points]}


def _of_csv(text: str, texts: Container[str], columns: Columns, known: Container[str]) -> list[FileRow]:
    csv.field_size_limit(LONGEST_FIELD)
    try:
        # A few more than are taken: a file of millions is not read to its end.
        rows = list(itertools.islice(csv.reader(io.StringIO(text, newline=""), strict=True), MOST_ROWS + 2))
    except csv.Error as error:
        raise FormatError(f"the file cannot be read as CSV: {error}") from error
    if not rows or not any(name.strip() for name in rows[0]):
        raise FormatError("a CSV file of rows begins with a line of names")
    names = [columns.field_of(name.strip(), known) for name in rows[0]]
    said = [name for name in names if name]
    if len(set(said)) < len(said):
        raise FormatError(f"a name stands twice in the first line: {', '.join(names)}")
    found = []
    for line, cells in enumerate(rows[1:], 2):
        if not cells:
            continue
        if len(cells) != len(names):
            raise FormatError(f"line {line} has {len(cells)} cells, the first line {len(names)} names")
        told = [(name, cell) for name, cell in zip(names, cells, strict=True) if name and cell != ""]
        # Keys are text as well: "12e4567890" is one of ours, and would be infinite as a number.
        fields = {name: cell if name in ("key", "id") or name in texts else _cell(cell) for name, cell in told}
        found.append(FileRow(fields.pop("key", fields.pop("id", None)), fields))
    return found


def _cell(text: str) -> Any:
    """A cell as JSON where it is JSON (a number, true, a list), else as the text that it is."""
    try:
        return json.loads(text)
    except (ValueError, RecursionError):
        return text
