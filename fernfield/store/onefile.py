"""A world as one file: a SQLite database of the same tables with that world alone: logbook, pictures, models and runs.

What is worked out from the rest (overviews) comes along too, so that it is there at once where it is opened.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Mapping
from contextlib import closing
from pathlib import Path

from sqlalchemy import Engine, Table

from fernfield.core.errors import Conflict, FormatError, NotFound
from fernfield.store.database import meaning_of, open_database
from fernfield.store.keeping import is_sound
from fernfield.store.schema import metadata, packages, staged

LEFT = {staged.name, packages.name}
"""Work under way, and files that lie elsewhere."""
LOGBOOK = {"revisions", "tile_changes", "entry_changes"}
HEAD = b"SQLite format 3\x00"
ID = re.compile(r"[a-z0-9]{1,40}")
Checks = Mapping[str, Callable[[bytes], object]]
"""By table: what raises for a blob that cannot be read."""


def _tables() -> list[Table]:
    """Those of a world, each after the ones that it points into."""
    return [one for one in metadata.sorted_tables if one.name not in LEFT]


def _of_world(table: Table, schema: str) -> str:
    """Which rows of a table are of the world `:world`."""
    if table.name == "worlds":
        return "id = :world"
    if "world_id" in table.c:
        return "world_id = :world"
    return f"tract_id IN (SELECT id FROM {schema}.tracts WHERE world_id = :world)"


def _copied(c: sqlite3.Connection, table: Table, world_id: str, source: str, target: str) -> None:
    names = ", ".join(f'"{column.name}"' for column in table.columns)
    c.execute(
        f"INSERT INTO {target}.{table.name} ({names}) SELECT {names} FROM {source}.{table.name} "
        f"WHERE {_of_world(table, source)}",
        {"world": world_id},
    )


def write_world(engine: Engine, world_id: str, to: Path, *, logbook: bool) -> None:
    """A world as of one moment, as a file at `to`, with or without its logbook. Raises NotFound."""
    to.unlink(missing_ok=True)
    open_database(to).dispose()
    try:
        with closing(sqlite3.connect(to, timeout=30, isolation_level=None)) as c:
            c.execute("PRAGMA journal_mode=DELETE")
            c.execute("ATTACH ? AS source", (str(engine.url.database),))
            c.execute("BEGIN")
            for table in _tables():
                if logbook or table.name not in LOGBOOK:
                    _copied(c, table, world_id, "source", "main")
            c.execute("UPDATE main.worlds SET binned_at = NULL")
            found = c.execute("SELECT count(*) FROM main.worlds").fetchone()[0]
            c.execute("COMMIT")
            c.execute("DETACH source")
    except sqlite3.Error as error:
        to.unlink(missing_ok=True)
        raise meaning_of(error) or error from error
    if not found:
        to.unlink(missing_ok=True)
        raise NotFound(f"there is no world {world_id!r}")


def _known(path: Path, checks: Checks) -> str:
    """The id of the only world of a file, brought up to the newest schema. Raises FormatError for what is none."""
    with path.open("rb") as file:
        if file.read(len(HEAD)) != HEAD:
            raise FormatError("this is no world as one file", "file")
    tables = {one.name for one in metadata.sorted_tables} | {"alembic_version"}
    try:
        with closing(sqlite3.connect(path, isolation_level=None)) as c:
            c.execute("PRAGMA trusted_schema=OFF")
            every = c.execute("SELECT type, name, tbl_name FROM sqlite_master").fetchall()
        # A view or a trigger would do what it likes while the file is read.
        strange = [name for sort, name, of in every if sort not in ("table", "index") or of not in tables]
        if strange or not {"worlds", "tracts", "tiles"} <= {name for _, name, _ in every}:
            raise FormatError(f"this is no world as one file: it holds {', '.join(strange[:3]) or 'no world'}", "file")
        if wrong := is_sound(path):
            raise FormatError(f"the file is damaged: {wrong[0]}", "file")
        open_database(path).dispose()
        with closing(sqlite3.connect(path, isolation_level=None)) as c:
            found = [row[0] for row in c.execute("SELECT id FROM worlds")]
            if len(found) != 1:
                raise FormatError(f"a file holds one world, not {len(found)}", "file")
            # They become names of files.
            ids = [*found, *(row[0] for row in c.execute("SELECT id FROM tracts"))]
            if wrong := [one for one in ids if not ID.fullmatch(str(one))]:
                raise FormatError(f"a world or a tract may not be called {wrong[0]!r}", "file")
            for table, check in checks.items():
                for (blob,) in c.execute(f"SELECT blob FROM {table}"):
                    check(blob)
    except (sqlite3.Error, UnicodeDecodeError) as error:
        raise FormatError(f"the file is damaged: {error}", "file") from None
    return str(found[0])


def read_world(engine: Engine, path: Path, checks: Checks) -> str:
    """Take the world of a file into a database, all of it or nothing; its id. The file is brought up to date in place.

    checks : by table, what raises for a stored array that cannot be read

    Raises FormatError for what is no such file, StorageError for one of a newer version, Conflict where the world is
    there already.
    """
    world_id = _known(path, checks)
    try:
        with closing(sqlite3.connect(str(engine.url.database), timeout=30, isolation_level=None)) as c:
            c.execute("PRAGMA foreign_keys=ON")
            c.execute("PRAGMA synchronous=FULL")
            c.execute("ATTACH ? AS source", (str(path),))
            c.execute("PRAGMA trusted_schema=OFF")
            c.execute("BEGIN IMMEDIATE")
            try:
                there = """
                    SELECT (SELECT count(*) FROM main.worlds WHERE id = :world)
                    + (SELECT count(*) FROM main.tracts WHERE id IN (SELECT id FROM source.tracts))
                """
                if c.execute(there, {"world": world_id}).fetchone()[0]:
                    raise Conflict(
                        f"the world {world_id} is here already, perhaps in the bin: delete it for good first, or open "
                        "the file elsewhere"
                    )
                for table in _tables():
                    _copied(c, table, world_id, "source", "main")
                c.execute("COMMIT")
            except BaseException:
                c.execute("ROLLBACK")
                raise
    except sqlite3.Error as error:
        raise meaning_of(error) or FormatError(f"the file is damaged: {error}", "file") from error
    return world_id
