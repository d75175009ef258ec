"""What is read from and written to the database: plain rows in, plain rows out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from itertools import islice

from sqlalchemy import ColumnElement, Connection, Engine, Table, bindparam, delete, select, update

from fernfield.core.errors import NotFound, StorageError
from fernfield.store import staged
from fernfield.store.overviews import OverviewChange, put_overviews
from fernfield.store.putting import put_into
from fernfield.store.rows import Tile, TileAt, TileChange
from fernfield.store.schema import (
    entries,
    entry_changes,
    models,
    packages,
    pictures,
    revisions,
    run_tracks,
    tile_changes,
    tiles,
    tracts,
    worlds,
)

PUT_TILE, PUT_ENTRY, PUT_PACKAGE = put_into(tiles), put_into(entries), put_into(packages)
REMOVE_ENTRY = delete(entries).where(*(entries.c[n] == bindparam(n) for n in ("world_id", "collection", "key")))


UNFINISHED = -1
"""Revision of a world that is still being made."""

TILES_AT_ONCE = 64
"""Tiles in one transaction."""


def now() -> str:
    """The present time in UTC, ISO 8601."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


@dataclass(frozen=True, slots=True)
class TractRow:
    id: str
    world_id: str
    position: int
    name: str
    rows: int
    cols: int
    spacing_m: float
    base_m: float
    overviews: int = 0
    """Which version of the rules all its overviews follow; 0 while some are missing."""


@dataclass(frozen=True, slots=True)
class EntryChange:
    """A row that a revision changed: its JSON before and after, None where it is not there."""

    collection: str
    key: str
    before: str | None
    after: str | None


@dataclass(frozen=True, slots=True)
class RevisionRow:
    number: int
    made_at: str
    sort: str
    target: int | None
    words: str
    keepsake: str | None = None
    by: str = ""


@dataclass(frozen=True, slots=True)
class PictureRow:
    """A grey picture of the user's, without its pixels."""

    key: str
    name: str
    rows: int
    cols: int


@dataclass(frozen=True, slots=True)
class ModelRow:
    """A shape of the user's, without its file: its triangles, its height and the radius around its foot. [m]"""

    key: str
    name: str
    triangles: int
    tall_m: float
    wide_m: float


@dataclass(frozen=True, slots=True)
class Revision:
    """Everything that one step of the logbook writes, in one transaction."""

    world_id: str
    number: int
    sort: str
    target: int | None
    words: str
    command: str
    tile_changes: Sequence[TileChange] = ()
    entry_changes: Sequence[EntryChange] = ()
    overviews: Sequence[OverviewChange] = ()
    staged: str | None = None
    """An edit whose tiles stand aside and are the world's from now on."""
    by: str = ""
    """Who made it, where people sign in."""


@dataclass(frozen=True, slots=True)
class WorldRow:
    id: str
    created_at: str
    changed_at: str
    revision: int
    binned_at: str | None = None


@dataclass(frozen=True, slots=True)
class NewWorld:
    id: str
    tracts: Sequence[TractRow]
    entries: Sequence[tuple[str, str, str]]
    tiles: Iterable[tuple[TileAt, Tile]] = field(default=())
    pictures: Sequence[tuple[PictureRow, bytes]] = ()
    overviews: Iterable[OverviewChange] = ()
    models: Sequence[tuple[ModelRow, bytes]] = ()
    tracks: Iterable[tuple[str, bytes]] = ()


class WorldStore:
    """The database of worlds. Each method that writes is one transaction."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A transaction that only reads, and sees the database as it was when it began."""
        with self.engine.connect().execution_options(reading=True) as connection, connection.begin():
            yield connection

    # Worlds

    def create(self, world: NewWorld) -> None:
        """Make a world. Its tiles are written some at a time, so that others can write meanwhile.

        Until all are there its revision is below 0, and nobody sees it; what a killed process
        leaves of one is cleared away by `drop_unfinished`.
        """
        at = now()
        with self.engine.begin() as c:
            c.execute(worlds.insert().values(id=world.id, created_at=at, changed_at=at, revision=UNFINISHED))
            c.execute(tracts.insert(), [asdict(tract) for tract in world.tracts])
            c.execute(
                entries.insert(),
                [
                    {"world_id": world.id, "collection": collection, "key": key, "body": body}
                    for collection, key, body in world.entries
                ],
            )
            for picture, blob in world.pictures:
                c.execute(pictures.insert(), {"world_id": world.id, **asdict(picture), "blob": blob})
            for model, blob in world.models:
                c.execute(models.insert(), {"world_id": world.id, **asdict(model), "blob": blob})
        try:
            self._put_tiles(world.tiles)
            for key, blob in world.tracks:
                self.put_tracks(world.id, key, blob)
            coarser = iter(world.overviews)
            while few := list(islice(coarser, TILES_AT_ONCE)):
                with self.engine.begin() as c:
                    put_overviews(c, few)
            with self.engine.begin() as c:
                c.execute(update(worlds).where(worlds.c.id == world.id).values(revision=0))
        except BaseException:
            # On a full disk even that may fail: then the next start clears it away.
            with suppress(StorageError):
                self.delete(world.id)
            raise

    def _put_tiles(self, parts: Iterable[tuple[TileAt, Tile]]) -> None:
        """Write tiles, so many in each transaction; they are made outside of it."""
        rest = iter(parts)
        while some := [{**asdict(where), **asdict(tile)} for where, tile in islice(rest, TILES_AT_ONCE)]:
            with self.engine.begin() as c:
                c.execute(PUT_TILE, some)

    def drop_unfinished(self) -> None:
        """Delete worlds that were being made when a process was killed."""
        with self.engine.begin() as c:
            c.execute(delete(worlds).where(worlds.c.revision == UNFINISHED))

    def add_tract(self, tract: TractRow, parts: Iterable[tuple[TileAt, Tile]]) -> None:
        """A tract with its first ground; a row among the entries makes it part of its world afterwards."""
        with self.engine.begin() as c:
            c.execute(tracts.insert(), asdict(tract))
        try:
            self._put_tiles(parts)
        except BaseException:
            with self.engine.begin() as c:
                c.execute(delete(tracts).where(tracts.c.id == tract.id))
            raise

    def drop_stray_tracts(self, world_id: str) -> None:
        """Delete tracts that no row and no step of the logbook knows: left by work that was killed."""
        known = [
            select(table.c.key).where(table.c.world_id == world_id, table.c.collection == "tracts")
            for table in (entries, entry_changes)
        ]
        stray = tracts.c.world_id == world_id, *(tracts.c.id.not_in(keys) for keys in known)
        with self.reading() as reading:
            found = reading.execute(select(tracts.c.id).where(*stray)).all()
        if found:
            with self.engine.begin() as c:
                c.execute(delete(tracts).where(*stray))

    def put_in_bin(self, world_id: str, binned: bool) -> None:
        """Put a world into the bin, or take it out."""
        with self.engine.begin() as c:
            at = now() if binned else None
            if c.execute(update(worlds).where(worlds.c.id == world_id).values(binned_at=at)).rowcount == 0:
                raise NotFound(f"there is no world {world_id!r}")

    def delete(self, world_id: str) -> None:
        with self.engine.begin() as c:
            if c.execute(delete(worlds).where(worlds.c.id == world_id)).rowcount == 0:
                raise NotFound(f"there is no world {world_id!r}")

    def list_worlds(self, binned: bool = False) -> list[WorldRow]:
        """Worlds on the table, or in the bin; the one changed last first."""
        kept = worlds.c.binned_at.is_not(None) if binned else worlds.c.binned_at.is_(None)
        with self.reading() as c:
            rows = c.execute(
                select(worlds).where(kept, worlds.c.revision >= 0).order_by(worlds.c.changed_at.desc())
            ).all()
        return [WorldRow(**row._mapping) for row in rows]

    def world(self, world_id: str, connection: Connection | None = None) -> WorldRow:
        if connection is None:
            with self.reading() as c:
                return self.world(world_id, c)
        row = connection.execute(select(worlds).where(worlds.c.id == world_id, worlds.c.revision >= 0)).one_or_none()
        if row is None:
            raise NotFound(f"there is no world {world_id!r}")
        return WorldRow(**row._mapping)

    def tracts(self, world_id: str, connection: Connection | None = None) -> list[TractRow]:
        if connection is None:
            with self.reading() as c:
                return self.tracts(world_id, c)
        query = select(tracts).where(tracts.c.world_id == world_id).order_by(tracts.c.position)
        return [TractRow(**row._mapping) for row in connection.execute(query)]

    def world_of_tract(self, tract_id: str) -> str:
        with self.reading() as c:
            found = c.execute(select(tracts.c.world_id).where(tracts.c.id == tract_id)).scalar()
        if found is None:
            raise NotFound(f"there is no tract {tract_id!r}")
        return str(found)

    def entries(self, world_id: str, connection: Connection | None = None) -> list[tuple[str, str, str]]:
        """Collection, key and JSON body of every row of a world."""
        if connection is None:
            with self.reading() as c:
                return self.entries(world_id, c)
        query = select(entries.c.collection, entries.c.key, entries.c.body).where(entries.c.world_id == world_id)
        return [(row.collection, row.key, row.body) for row in connection.execute(query)]

    # Tiles

    def tile(self, at: TileAt, connection: Connection | None = None) -> bytes | None:
        if connection is None:
            with self.reading() as c:
                return self.tile(at, c)
        query = select(tiles.c.blob).where(*self._at(at))
        return connection.execute(query).scalar()

    def tile_ranges(
        self, tract_id: str, connection: Connection | None = None
    ) -> dict[tuple[str, int, int], tuple[float, float]]:
        """Lowest and highest value of every stored tile of a tract, by layer, row and column; the others are as the
        tract began."""
        if connection is None:
            with self.reading() as c:
                return self.tile_ranges(tract_id, c)
        columns = ("layer", "tile_row", "tile_col", "lowest", "highest")
        query = select(*(tiles.c[name] for name in columns)).where(tiles.c.tract_id == tract_id)
        return {(layer, row, col): (low, high) for layer, row, col, low, high in connection.execute(query)}

    @staticmethod
    def _at(at: TileAt) -> tuple[ColumnElement[bool], ...]:
        return (
            tiles.c.tract_id == at.tract_id,
            tiles.c.layer == at.layer,
            tiles.c.tile_row == at.tile_row,
            tiles.c.tile_col == at.tile_col,
        )

    # Revisions

    def write(self, revision: Revision) -> None:
        """Write a revision and all it changed; all of it or nothing."""
        at = now()
        step = {"world_id": revision.world_id, "number": revision.number}
        with self.engine.begin() as c:
            about = {n: getattr(revision, n) for n in ("sort", "target", "words", "command", "by")}
            c.execute(revisions.insert(), {**step, **about, "made_at": at})
            if revision.tile_changes:
                places = [asdict(change.at) for change in revision.tile_changes]
                changes = list(zip(places, revision.tile_changes, strict=True))
                c.execute(PUT_TILE, [{**place, **asdict(change.tile)} for place, change in changes])
                c.execute(
                    tile_changes.insert(),
                    [
                        {**step, **place, "row0": change.row0, "col0": change.col0, "blob": change.diff}
                        for place, change in changes
                    ],
                )
            if revision.staged is not None:
                staged.settle(c, revision.staged, revision.world_id, revision.number)
            put_overviews(c, revision.overviews)
            if revision.entry_changes:
                c.execute(entry_changes.insert(), [{**step, **asdict(entry)} for entry in revision.entry_changes])
            for entry in revision.entry_changes:
                place = {"world_id": revision.world_id, "collection": entry.collection, "key": entry.key}
                if entry.after is None:
                    c.execute(REMOVE_ENTRY, place)
                else:
                    c.execute(PUT_ENTRY, {**place, "body": entry.after})
            c.execute(
                update(worlds).where(worlds.c.id == revision.world_id).values(revision=revision.number, changed_at=at)
            )

    def revisions(self, world_id: str, before: int | None = None, most: int = 200) -> list[RevisionRow]:
        """Revisions, newest first, below number `before`."""
        query = select(*(revisions.c[name] for name in RevisionRow.__slots__)).where(revisions.c.world_id == world_id)
        if before is not None:
            query = query.where(revisions.c.number < before)
        with self.reading() as c:
            return [RevisionRow(*row) for row in c.execute(query.order_by(revisions.c.number.desc()).limit(most))]

    def revision(self, world_id: str, number: int) -> RevisionRow:
        """Raises NotFound for one that is not there, or was folded into a later one."""
        found = self.revisions(world_id, number + 1, 1)
        if found and found[0].number == number:
            return found[0]
        query = select(revisions.c.number).where(revisions.c.world_id == world_id, revisions.c.number > number)
        with self.reading() as c:
            later = c.execute(query.order_by(revisions.c.number).limit(1)).scalar()
        if number < 1 or later is None:
            raise NotFound(f"there is no revision r{number} in this world's logbook")
        raise NotFound(f"r{number} was folded together with others into r{later}")

    def revision_words(self, world_id: str, number: int) -> str:
        with self.reading() as c:
            query = select(revisions.c.words).where(revisions.c.world_id == world_id, revisions.c.number == number)
            return str(c.execute(query).scalar_one())

    def steps(self, world_id: str) -> list[tuple[int, str, int | None]]:
        """Number, sort and target of every revision, oldest first."""
        query = (
            select(revisions.c.number, revisions.c.sort, revisions.c.target)
            .where(revisions.c.world_id == world_id)
            .order_by(revisions.c.number)
        )
        with self.reading() as c:
            return [(row.number, row.sort, row.target) for row in c.execute(query)]

    def changes(self, world_id: str, number: int) -> tuple[list[tuple[TileAt, int, int, bytes]], list[EntryChange]]:
        """What a revision changed: tiles (place, first row and column in the tile, XOR) and rows."""
        with self.reading() as c:
            tile_rows = c.execute(
                select(tile_changes).where(tile_changes.c.world_id == world_id, tile_changes.c.number == number)
            ).all()
        return (
            [(TileAt(r.tract_id, r.layer, r.tile_row, r.tile_col), r.row0, r.col0, r.blob) for r in tile_rows],
            self.entry_changes(world_id, number),
        )

    def command(self, world_id: str, number: int) -> str:
        """The command of a revision, as JSON. Raises NotFound."""
        query = select(revisions.c.command).where(revisions.c.world_id == world_id, revisions.c.number == number)
        with self.reading() as c:
            found = c.execute(query).scalar()
        if found is None:
            raise NotFound(f"there is no revision r{number} in this world's logbook")
        return str(found)

    def changed(self, world_id: str, number: int) -> list[TileAt]:
        """The tiles that a revision changed."""
        names = ("tract_id", "layer", "tile_row", "tile_col")
        query = select(*(tile_changes.c[name] for name in names))
        with self.reading() as c:
            here = tile_changes.c.world_id == world_id, tile_changes.c.number == number
            return [TileAt(*row) for row in c.execute(query.where(*here))]

    def change(self, world_id: str, number: int, at: TileAt) -> tuple[int, int, bytes]:
        """What a revision changed of a tile: first row and column in the tile, XOR. Raises NotFound."""
        query = select(tile_changes.c.row0, tile_changes.c.col0, tile_changes.c.blob).where(
            tile_changes.c.world_id == world_id,
            tile_changes.c.number == number,
            *(tile_changes.c[name] == value for name, value in asdict(at).items()),
        )
        with self.reading() as c:
            found = c.execute(query).one_or_none()
        if found is None:
            raise NotFound(f"r{number} did not change this tile")
        return found.row0, found.col0, found.blob

    def entry_changes(self, world_id: str, number: int) -> list[EntryChange]:
        """What a revision changed of the rows."""
        query = select(entry_changes).where(entry_changes.c.world_id == world_id, entry_changes.c.number == number)
        with self.reading() as c:
            return [EntryChange(r.collection, r.key, r.before, r.after) for r in c.execute(query)]

    # What is kept of a world under keys

    def _blob(self, table: Table, world_id: str, key: str) -> bytes | None:
        with self.reading() as c:
            return c.execute(select(table.c.blob).where(table.c.world_id == world_id, table.c.key == key)).scalar()

    def pictures(self, world_id: str) -> list[PictureRow]:
        columns = (pictures.c[name] for name in PictureRow.__slots__)
        query = select(*columns).where(pictures.c.world_id == world_id).order_by(pictures.c.name, pictures.c.key)
        with self.reading() as c:
            return [PictureRow(*row) for row in c.execute(query)]

    def picture(self, world_id: str, key: str) -> bytes | None:
        """The pixels of a picture, as a tile is stored."""
        return self._blob(pictures, world_id, key)

    def put_picture(self, world_id: str, picture: PictureRow, blob: bytes) -> None:
        with self.engine.begin() as c:
            c.execute(pictures.insert(), {"world_id": world_id, **asdict(picture), "blob": blob})

    # Runs

    def runs(self, world_id: str) -> list[str]:
        """The keys of the runs of which it is known where the bots were."""
        with self.reading() as c:
            query = select(run_tracks.c.key).where(run_tracks.c.world_id == world_id).order_by(run_tracks.c.key)
            return list(c.execute(query).scalars())

    def tracks(self, world_id: str, key: str) -> bytes | None:
        """Where the bots of a run were."""
        return self._blob(run_tracks, world_id, key)

    def put_tracks(self, world_id: str, key: str, blob: bytes) -> None:
        with self.engine.begin() as c:
            c.execute(run_tracks.insert(), {"world_id": world_id, "key": key, "blob": blob})

    # Models

    def models(self, world_id: str) -> list[ModelRow]:
        columns = (models.c[name] for name in ModelRow.__slots__)
        query = select(*columns).where(models.c.world_id == world_id).order_by(models.c.name, models.c.key)
        with self.reading() as c:
            return [ModelRow(*row) for row in c.execute(query)]

    def model(self, world_id: str, key: str) -> bytes | None:
        """The file of a model, as it was brought."""
        return self._blob(models, world_id, key)

    def put_model(self, world_id: str, model: ModelRow, blob: bytes) -> None:
        with self.engine.begin() as c:
            c.execute(models.insert(), {"world_id": world_id, **asdict(model), "blob": blob})

    # Packages

    def package(self, world_id: str) -> tuple[int, str, str] | None:
        """Revision, time and file name of the newest package."""
        with self.reading() as c:
            row = c.execute(select(packages).where(packages.c.world_id == world_id)).one_or_none()
        return None if row is None else (row.revision, row.made_at, row.file)

    def set_package(self, world_id: str, revision: int, file: str) -> None:
        at = now()
        with self.engine.begin() as c:
            c.execute(PUT_PACKAGE, {"world_id": world_id, "revision": revision, "made_at": at, "file": file})
