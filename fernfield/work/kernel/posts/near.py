"""Where the rows of a collection with a place lie, by cells: what stands around a place costs by what stands there."""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Iterator

from fernfield.work.kernel.rows import Row

CELL_M = 64.0
Cell = tuple[str | None, int, int]


class PlacedRows:
    """The rows of one collection by the cell of their tract in which they lie; and how many there are of each sort."""

    def __init__(self, east: str, north: str) -> None:
        self._fields = east, north
        self._cells: defaultdict[Cell, dict[str, tuple[Row, float, float]]] = defaultdict(dict)
        self.sorts: Counter[str] = Counter()
        self._bulks: Counter[int] = Counter()

    def change(self, key: str, old: Row | None, new: Row | None) -> None:
        """A row was put, changed or removed (None)."""
        if old is not None:
            cell = self._cell_of(old)
            self._cells[cell].pop(key, None)
            if not self._cells[cell]:
                del self._cells[cell]
            self.sorts[old.sort_named] -= 1
            self._bulks[_step_of(old)] -= 1
        if new is not None:
            self._cells[self._cell_of(new)][key] = new, *self._place_of(new)
            self.sorts[new.sort_named] += 1
            self._bulks[_step_of(new)] += 1

    @property
    def bulkiest(self) -> float:
        """At most so many times as large as others of its sort is any of them, to the next power of two."""
        return 2.0 ** max((step for step, count in self._bulks.items() if count > 0), default=0)

    def within(
        self, tract: str | None, west: float, south: float, east: float, north: float
    ) -> Iterator[tuple[str, Row]]:
        """Key and row of those in a box of a tract (None: of those that name none), in no order. [m]"""
        cols = range(math.floor(west / CELL_M), math.floor(east / CELL_M) + 1)
        rows = range(math.floor(south / CELL_M), math.floor(north / CELL_M) + 1)
        if len(cols) * len(rows) > len(self._cells):
            some = [cell for cell in self._cells if cell[0] == tract and cell[1] in cols and cell[2] in rows]
        else:
            some = [cell for col in cols for row in rows if (cell := (tract, col, row)) in self._cells]
        for cell in some:
            for key, (row, x, y) in self._cells[cell].items():
                if west <= x <= east and south <= y <= north:
                    yield key, row

    def _place_of(self, row: Row) -> tuple[float, float]:
        return getattr(row, self._fields[0]), getattr(row, self._fields[1])

    def _cell_of(self, row: Row) -> Cell:
        x, y = self._place_of(row)
        return getattr(row, "tract", None), math.floor(x / CELL_M), math.floor(y / CELL_M)


def _step_of(row: Row) -> int:
    return max(0, math.ceil(math.log2(max(row.bulk, 1.0))))
