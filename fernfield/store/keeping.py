"""Keeping a database: a consistent copy while others write, its checks, its sizes, and giving its space back."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from sqlalchemy import Engine, func, select, text

from fernfield.store.database import meaning_of
from fernfield.store.schema import overviews, tile_changes, tiles, tracts, worlds

PAGES_AT_ONCE = 2_000
"""Pages that are given back to the disk in one transaction."""

LOOK_S = 0.2


def copy_database(path: Path, to: Path, say: Callable[[float], None]) -> None:
    """A whole copy as of one moment; nobody who writes meanwhile is stopped. `say` hears how far it is."""
    failed: list[BaseException] = []

    def copy() -> None:
        try:
            with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=30)) as source:
                with closing(sqlite3.connect(to)) as target:
                    # In one step: in several, whoever writes between two of them would make it begin anew.
                    source.backup(target, pages=-1)
                    target.execute("PRAGMA journal_mode=DELETE")
        except BaseException as error:
            failed.append(error)

    whole = max(path.stat().st_size, 1)
    copying = threading.Thread(target=copy, name="backup")
    copying.start()
    while copying.is_alive():
        copying.join(LOOK_S)
        say(min(to.stat().st_size / whole if to.exists() else 0.0, 1.0))
    if failed:
        raise meaning_of(failed[0]) or failed[0] from failed[0]


def is_sound(path: Path) -> list[str]:
    """What SQLite finds wrong with a database file, and rows that point nowhere; empty for a sound one."""
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as c:
            found = [str(row[0]) for row in c.execute("PRAGMA integrity_check(100)")]
            stray = [f"a row of {row[0]} points nowhere" for row in c.execute("PRAGMA foreign_key_check")]
    except sqlite3.DatabaseError as error:
        return [str(error)]
    return [words for words in found if words != "ok"] + stray


class KeepingStore:
    """What is asked of a database as a whole."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def sizes(self) -> list[tuple[str, str, int, int]]:
        """World, what of it, how many, and bytes: tiles by layer, coarser levels, and the logbook."""
        found: list[tuple[str, str, int, int]] = []
        with self.engine.connect().execution_options(reading=True) as c, c.begin():
            for table, name in ((tiles, tiles.c.layer), (overviews, None)):
                of = [tracts.c.world_id] if name is None else [tracts.c.world_id, name]
                query = (
                    select(*of, func.count(), func.sum(func.length(table.c.blob)))
                    .join(tracts, tracts.c.id == table.c.tract_id)
                    .group_by(*of)
                )
                for row in c.execute(query):
                    found.append((row[0], "coarser levels" if name is None else row[1], int(row[-2]), int(row[-1])))
            query = select(tile_changes.c.world_id, func.count(), func.sum(func.length(tile_changes.c.blob)))
            for row in c.execute(query.group_by(tile_changes.c.world_id)):
                found.append((row[0], "logbook", int(row[1]), int(row[2])))
        return sorted(found)

    def unfinished(self) -> int:
        """Worlds that were being made when a process was killed."""
        with self.engine.connect().execution_options(reading=True) as c:
            return int(c.execute(select(func.count()).where(worlds.c.revision < 0)).scalar() or 0)

    def free_pages(self) -> int:
        """Pages of the file that hold nothing."""
        with self.engine.connect().execution_options(reading=True) as c:
            return int(c.execute(text("PRAGMA freelist_count")).scalar() or 0)

    def gives_back(self) -> bool:
        """Whether the file shrinks by `give_back`; one of an older version does after `pack` only."""
        with self.engine.connect().execution_options(reading=True) as c:
            return c.execute(text("PRAGMA auto_vacuum")).scalar() == 2

    def give_back(self, say: Callable[[float], None]) -> int:
        """Give the space of what is gone back to the disk, some of it at a time; returns how many pages."""
        first = left = self.free_pages()
        while left > 0 and self.gives_back():
            say(1 - left / max(first, 1))
            with self.engine.begin() as c:
                raw = c.connection.driver_connection
                assert raw is not None
                # A row for each page, without columns: they have to be asked for, one after the other.
                raw.execute(f"PRAGMA incremental_vacuum({PAGES_AT_ONCE})").fetchall()
            now = self.free_pages()
            if now >= left:
                break
            left = now
        return first - left

    def pack(self) -> None:
        """Write the file anew without its empty pages, so that it shrinks by itself from now on. Nobody else may have
        it open."""
        with self.engine.connect() as c:
            raw = c.connection.driver_connection
            assert raw is not None
            raw.execute("PRAGMA journal_mode=DELETE")
            raw.execute("PRAGMA auto_vacuum=INCREMENTAL")
            raw.execute("VACUUM")
            raw.execute("PRAGMA journal_mode=WAL")
