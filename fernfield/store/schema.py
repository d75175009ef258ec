"""The tables. A change here needs a migration beside it, and a test that an older database opens."""

from __future__ import annotations

from sqlalchemy import Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text

metadata = MetaData()


def _world() -> Column[str]:
    return Column("world_id", String, ForeignKey("worlds.id", ondelete="CASCADE"), primary_key=True)


def _tile_place() -> list[Column[int]]:
    return [Column("tile_row", Integer, primary_key=True), Column("tile_col", Integer, primary_key=True)]


worlds = Table(
    "worlds",
    metadata,
    Column("id", String, primary_key=True),
    Column("created_at", String, nullable=False),
    Column("changed_at", String, nullable=False),
    Column("revision", Integer, nullable=False),
    Column("binned_at", String),
)

tracts = Table(
    "tracts",
    metadata,
    Column("id", String, primary_key=True),
    Column("world_id", String, ForeignKey("worlds.id", ondelete="CASCADE"), nullable=False),
    Column("position", Integer, nullable=False),
    Column("name", String, nullable=False),
    Column("rows", Integer, nullable=False),
    Column("cols", Integer, nullable=False),
    Column("spacing_m", Float, nullable=False),
    Column("base_m", Float, nullable=False),
    Column("overviews", Integer, nullable=False, server_default="0"),
    Index("ix_tracts_world", "world_id"),
)

entries = Table(
    "entries",
    metadata,
    _world(),
    Column("collection", String, primary_key=True),
    Column("key", String, primary_key=True),
    Column("body", Text, nullable=False),
)

tiles = Table(
    "tiles",
    metadata,
    Column("tract_id", String, ForeignKey("tracts.id", ondelete="CASCADE"), primary_key=True),
    Column("layer", String, primary_key=True),
    *_tile_place(),
    Column("lowest", Float, nullable=False),
    Column("highest", Float, nullable=False),
    Column("blob", LargeBinary, nullable=False),
)

overviews = Table(
    "overviews",
    metadata,
    Column("tract_id", String, ForeignKey("tracts.id", ondelete="CASCADE"), primary_key=True),
    Column("layer", String, primary_key=True),
    Column("rule", String, primary_key=True),
    Column("level", Integer, primary_key=True),
    *_tile_place(),
    Column("blob", LargeBinary, nullable=False),
)

staged = Table(
    "staged",
    metadata,
    Column("edit", String, primary_key=True),
    Column("tract_id", String, ForeignKey("tracts.id", ondelete="CASCADE"), primary_key=True),
    Column("layer", String, primary_key=True),
    *_tile_place(),
    Column("lowest", Float, nullable=False),
    Column("highest", Float, nullable=False),
    Column("blob", LargeBinary, nullable=False),
    Column("row0", Integer, nullable=False),
    Column("col0", Integer, nullable=False),
    Column("diff", LargeBinary, nullable=False),
)

revisions = Table(
    "revisions",
    metadata,
    _world(),
    Column("number", Integer, primary_key=True),
    Column("made_at", String, nullable=False),
    Column("sort", String, nullable=False),
    Column("target", Integer),
    Column("words", String, nullable=False),
    Column("command", Text, nullable=False),
    Column("keepsake", String),
    Column("by", String, nullable=False, server_default=""),
)

tile_changes = Table(
    "tile_changes",
    metadata,
    _world(),
    Column("number", Integer, primary_key=True),
    Column("tract_id", String, primary_key=True),
    Column("layer", String, primary_key=True),
    *_tile_place(),
    Column("row0", Integer, nullable=False),
    Column("col0", Integer, nullable=False),
    Column("blob", LargeBinary, nullable=False),
)

entry_changes = Table(
    "entry_changes",
    metadata,
    _world(),
    Column("number", Integer, primary_key=True),
    Column("collection", String, primary_key=True),
    Column("key", String, primary_key=True),
    Column("before", Text),
    Column("after", Text),
)

packages = Table(
    "packages",
    metadata,
    _world(),
    Column("revision", Integer, nullable=False),
    Column("made_at", String, nullable=False),
    Column("file", String, nullable=False),
)

pictures = Table(
    "pictures",
    metadata,
    _world(),
    Column("key", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("rows", Integer, nullable=False),
    Column("cols", Integer, nullable=False),
    Column("blob", LargeBinary, nullable=False),
)

run_tracks = Table(
    "run_tracks",
    metadata,
    _world(),
    Column("key", String, primary_key=True),
    Column("blob", LargeBinary, nullable=False),
)
"""Where the bots of a run were: by the run's key, as the room of Trial writes it."""

models = Table(
    "models",
    metadata,
    _world(),
    Column("key", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("triangles", Integer, nullable=False),
    Column("tall_m", Float, nullable=False),
    Column("wide_m", Float, nullable=False),
    Column("blob", LargeBinary, nullable=False),
)
