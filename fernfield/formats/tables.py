"""Growth as CSV (RFC 4180)."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
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
