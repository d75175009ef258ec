"""Coarser levels of the layers in the database: tiles that follow from those of the posts, written with them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict, dataclass

from sqlalchemy import Connection, Engine, bindparam, select, update

from fernfield.core.grid import Window
from fernfield.store.putting import put_into
from fernfield.store.schema import overviews, tracts


@dataclass(frozen=True, slots=True)
class OverviewAt:
    """Which tile of a coarser level: of a tract, a layer, by a rule."""

    tract_id: str
    layer: str
    rule: str
    level: int
    tile_row: int
    tile_col: int


OverviewChange = tuple[OverviewAt, bytes]
"""A tile of a coarser level as it is now."""

PUT = put_into(overviews)
_OF_LEVEL = [overviews.c[name] == bindparam(name) for name in OverviewAt.__slots__[:4]]
_BETWEEN = [
    overviews.c[name].between(bindparam(f"{name}0"), bindparam(f"{name}1")) for name in ("tile_row", "tile_col")
]
SOME = select(overviews.c.tile_row, overviews.c.tile_col, overviews.c.blob).where(*_OF_LEVEL, *_BETWEEN)


def put_overviews(c: Connection, changes: Sequence[OverviewChange]) -> None:
    """As part of a transaction: write tiles of coarser levels."""
    if changes:
        c.execute(PUT, [{**asdict(at), "blob": blob} for at, blob in changes])


class OverviewStore:
    """Reads and makes up overviews. Each method that writes is one transaction."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def some(
        self, tract_id: str, layer: str, rule: str, level: int, tiles: Window, connection: Connection | None = None
    ) -> list[tuple[int, int, bytes]]:
        """The stored tiles of a level in a window of tiles: row, column and bytes."""
        if connection is None:
            with self.engine.connect().execution_options(reading=True) as c, c.begin():
                return self.some(tract_id, layer, rule, level, tiles, c)
        place = {
            "tract_id": tract_id, "layer": layer, "rule": rule, "level": level, "tile_row0": tiles.row0,
            "tile_row1": tiles.row1 - 1, "tile_col0": tiles.col0, "tile_col1": tiles.col1 - 1,
        }  # fmt: skip
        return [(row[0], row[1], row[2]) for row in connection.execute(SOME, place)]

    def every(self, tract_id: str, connection: Connection | None = None) -> Iterator[OverviewChange]:
        """Every tile of every level of a tract."""
        if connection is None:
            with self.engine.connect().execution_options(reading=True) as c, c.begin():
                yield from self.every(tract_id, c)
            return
        for row in connection.execute(select(overviews).where(overviews.c.tract_id == tract_id)):
            yield OverviewAt(*row[:-1]), row[-1]

    def put(self, changes: Sequence[OverviewChange]) -> None:
        """Write what follows from the tiles that are stored: no revision."""
        with self.engine.begin() as c:
            put_overviews(c, changes)

    def done(self, tract_id: str, version: int) -> None:
        """A tract has all its overviews, by the rules of a version."""
        with self.engine.begin() as c:
            c.execute(update(tracts).where(tracts.c.id == tract_id).values(overviews=version))
