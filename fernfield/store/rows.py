"""A tile as the database keeps it, and what a revision changes of one."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class TileAt:
    """Which tile: of a tract, a layer, at a tile row and column."""

    tract_id: str
    layer: str
    tile_row: int
    tile_col: int


@dataclass(frozen=True, slots=True)
class Tile:
    """A tile as it is stored: its bytes, and the lowest and highest value in them."""

    blob: bytes
    lowest: float
    highest: float


@dataclass(frozen=True, slots=True)
class TileChange:
    """A tile that a revision changed: where in the tile, what differs (XOR), and the tile afterwards."""

    at: TileAt
    row0: int
    col0: int
    diff: bytes
    tile: Tile
