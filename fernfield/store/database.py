"""Opening the database: SQLite with a write-ahead log, brought up to the newest schema."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, event, text

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

    migrate(engine)
    return engine


def migrate(engine: Engine, to: str = "head") -> None:
    """Bring the schema up to the revision `to`."""
    config = Config()
    config.set_main_option("script_location", str(HERE / "migrations"))
    with engine.connect() as connection:
        config.attributes["connection"] = connection
        command.upgrade(config, to)
        connection.commit()


def answers(engine: Engine) -> bool:
    """Whether the database answers a question."""
    with engine.connect().execution_options(reading=True) as connection:
        return connection.execute(text("SELECT 1")).scalar() == 1
