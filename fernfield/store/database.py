"""Opening the database: SQLite with a write-ahead log, brought up to the newest schema."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from sqlalchemy import Engine, create_engine, event, inspect, text
from sqlalchemy.engine import ExceptionContext

from fernfield.core.errors import NO_ROOM, NOT_WRITABLE, NoRoom, StorageError

HERE = Path(__file__).parent


def open_database(path: Path) -> Engine:
    """The engine for the database file at `path`, made or migrated as needed.

    A transaction that is to write takes the write lock at once; each commit is on the
    disk when it returns (synchronous=FULL).
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    engine = create_engine(f"sqlite:///{path}", connect_args={"timeout": 30, "check_same_thread": False})

    @event.listens_for(engine, "connect")
    def _on_connect(connection: sqlite3.Connection, _record: object) -> None:
        connection.isolation_level = None
        for pragma in (
            # Heard by a new file only: what is deleted can be given back to the disk.
            "auto_vacuum=INCREMENTAL",
            "journal_mode=WAL",
            "synchronous=FULL",
            "foreign_keys=ON",
            "busy_timeout=30000",
            "wal_autocheckpoint=2000",
        ):
            connection.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def _on_begin(connection: object) -> None:
        options = connection.get_execution_options()  # type: ignore[attr-defined]
        connection.exec_driver_sql(  # type: ignore[attr-defined]
            "BEGIN" if options.get("reading") else "BEGIN IMMEDIATE"
        )

    @event.listens_for(engine, "handle_error")
    def _on_error(context: ExceptionContext) -> None:
        meant = meaning_of(context.original_exception)
        if meant is not None:
            raise meant from context.original_exception

    try:
        migrate(engine)
    except BaseException:
        engine.dispose()
        raise
    return engine


def meaning_of(error: BaseException | None) -> StorageError | None:
    """What an error of SQLite means to the person who asked, where it is the disk's or another program's."""
    code = getattr(error, "sqlite_errorcode", None)
    if code is None:
        return None
    match code & 0xFF:
        case sqlite3.SQLITE_FULL:
            return NoRoom(NO_ROOM)
        case sqlite3.SQLITE_READONLY | sqlite3.SQLITE_PERM:
            return NoRoom(NOT_WRITABLE)
        case sqlite3.SQLITE_BUSY | sqlite3.SQLITE_LOCKED:
            return StorageError("another program holds the database: nothing was changed; try again when it has ended")
        case sqlite3.SQLITE_IOERR | sqlite3.SQLITE_CANTOPEN:
            return NoRoom("the database cannot be read or written: nothing was changed; is the disk full, or gone?")
        case sqlite3.SQLITE_CORRUPT | sqlite3.SQLITE_NOTADB:
            return StorageError("the database is damaged, or is none: fernfield doctor says more")
    return None


def migrate(engine: Engine, to: str = "head") -> None:
    """Bring the schema up to the revision `to`."""
    if to == "head" and _newest(engine):
        return
    from alembic import command  # heavy, and most starts have nothing to migrate
    from alembic.config import Config
    from alembic.util import CommandError

    config = Config()
    config.set_main_option("script_location", str(HERE / "migrations"))
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        try:
            command.upgrade(config, to)
        except CommandError as error:
            raise StorageError(f"the data folder was made by a newer version of Fern Field ({error})") from error
        connection.commit()


def _newest(engine: Engine) -> bool:
    """Whether the schema is of the newest revision. The files of the revisions begin with their numbers."""
    newest = max(path.name for path in (HERE / "migrations" / "versions").glob("0*.py")).partition("_")[0]
    with engine.connect().execution_options(reading=True) as connection:
        if not inspect(connection).has_table("alembic_version"):
            return False
        return connection.execute(text("SELECT version_num FROM alembic_version")).scalar() == newest


def answers(engine: Engine) -> bool:
    """Whether the database answers a question."""
    with engine.connect().execution_options(reading=True) as connection:
        return connection.execute(text("SELECT 1")).scalar() == 1
