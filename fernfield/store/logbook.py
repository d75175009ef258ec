"""The logbook in the database: earlier states of tiles and rows, keepsakes, and folding the oldest revisions."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict
from typing import NamedTuple

from sqlalchemy import Connection, Engine, delete, func, select, update

from fernfield.core.errors import NotFound
from fernfield.store.rows import TileAt
from fernfield.store.schema import entry_changes, revisions, tile_changes, tiles
from fernfield.store.worlds import EntryChange

Part = tuple[int, int, bytes]
"""What differs in a part of a tile: its first row and column in the tile, and the XOR."""


class _Step(NamedTuple):
    number: int
    sort: str
    target: int | None
    keepsake: str | None


class LogbookStore:
    """Reads and tends the revisions of worlds. Each method that writes is one transaction."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def _reading(self) -> Connection:
        return self.engine.connect().execution_options(reading=True)

    # Looking back

    def tiles_changed_after(self, world_id: str, number: int) -> list[TileAt]:
        """Every tile that a later revision changed."""
        columns = [tile_changes.c[name] for name in ("tract_id", "layer", "tile_row", "tile_col")]
        query = select(*columns).where(tile_changes.c.world_id == world_id, tile_changes.c.number > number).distinct()
        with self._reading() as c:
            return [TileAt(*row) for row in c.execute(query)]

    def tile_and_later(self, world_id: str, number: int, at: TileAt) -> tuple[bytes | None, list[Part]]:
        """A tile as it is stored, and what revisions after `number` changed of it: both of one moment."""
        key = asdict(at)
        tile = select(tiles.c.blob).where(*(tiles.c[name] == value for name, value in key.items()))
        later = select(tile_changes.c.row0, tile_changes.c.col0, tile_changes.c.blob).where(
            tile_changes.c.world_id == world_id,
            tile_changes.c.number > number,
            *(tile_changes.c[name] == value for name, value in key.items()),
        )
        with self._reading() as c, c.begin():
            return c.execute(tile).scalar(), [(row.row0, row.col0, row.blob) for row in c.execute(later)]

    def entries_after(self, world_id: str, number: int) -> list[EntryChange]:
        """What later revisions changed of the rows, newest first."""
        query = (
            select(entry_changes)
            .where(entry_changes.c.world_id == world_id, entry_changes.c.number > number)
            .order_by(entry_changes.c.number.desc())
        )
        with self._reading() as c:
            return [EntryChange(r.collection, r.key, r.before, r.after) for r in c.execute(query)]

    def where(self, world_id: str, number: int) -> list[tuple[TileAt, Part]]:
        """The parts of tiles that a revision changed."""
        query = select(tile_changes).where(tile_changes.c.world_id == world_id, tile_changes.c.number == number)
        with self._reading() as c:
            return [
                (TileAt(r.tract_id, r.layer, r.tile_row, r.tile_col), (r.row0, r.col0, r.blob))
                for r in c.execute(query)
            ]

    def oldest(self, world_id: str) -> int | None:
        """Number of the oldest revision that is there."""
        with self._reading() as c:
            return c.execute(select(func.min(revisions.c.number)).where(revisions.c.world_id == world_id)).scalar()

    def size(self, world_id: str) -> int:
        """Bytes that the revisions of a world take."""
        diffs = select(func.sum(func.length(tile_changes.c.blob))).where(tile_changes.c.world_id == world_id)
        rows = select(
            func.sum(
                func.length(func.coalesce(entry_changes.c.before, ""))
                + func.length(func.coalesce(entry_changes.c.after, ""))
            )
        ).where(entry_changes.c.world_id == world_id)
        commands = select(func.sum(func.length(revisions.c.command))).where(revisions.c.world_id == world_id)
        with self._reading() as c:
            return sum(c.execute(query).scalar() or 0 for query in (diffs, rows, commands))

    # Keepsakes

    def name(self, world_id: str, number: int, keepsake: str | None) -> None:
        """Name a revision as a keepsake, or take its name away. Raises NotFound."""
        with self.engine.begin() as c:
            done = c.execute(
                update(revisions)
                .where(revisions.c.world_id == world_id, revisions.c.number == number)
                .values(keepsake=keepsake)
            )
            if done.rowcount == 0:
                raise NotFound(f"there is no revision r{number} in this world's logbook")

    # Folding

    def foldable(self, world_id: str, keep: int, most: int) -> tuple[int, int] | None:
        """The oldest run of revisions that can be folded together, first and last; the newest `keep` stay.

        A run holds at most `most` numbers where that can be; it has no keepsake in it but at
        its end, no revision in it takes back or makes again one outside it, none after it one
        inside it, and nothing in it is left undone that could still be made again.
        """
        names = ("number", "sort", "target", "keepsake")
        query = select(*(revisions.c[name] for name in names)).where(revisions.c.world_id == world_id)
        with self._reading() as c:
            rows = [_Step(*row) for row in c.execute(query.order_by(revisions.c.number))]
        # The last revision that takes each one back or makes it again.
        reaches = {row.target: row.number for row in rows if row.target is not None}
        last = len(rows) - keep
        first = 0
        while first < last:
            near = sum(row.number < rows[first].number + most for row in rows[:last])
            end = self._run(rows, reaches, first, near)
            if end - first < 2:
                end = self._run(rows, reaches, first, last)
            if end - first >= 2:
                return rows[first].number, rows[end - 1].number
            first = max(end, first + 1)
        return None

    @staticmethod
    def _run(rows: Sequence[_Step], reaches: dict[int, int], first: int, last: int) -> int:
        """One past the last row of the longest run from `first` on that ends before `last`."""
        best, furthest = first, -1
        undone: set[int] = set()
        for i in range(first, last):
            row = rows[i]
            if row.target is not None and row.target < rows[first].number:
                break
            if row.target is None:
                undone.clear()
            elif row.sort == "undo":
                undone.add(row.target)
            else:
                undone.discard(row.target)
            furthest = max(furthest, reaches.get(row.number, -1))
            if furthest <= row.number and not undone:
                best = i + 1
            if row.keepsake is not None:
                break
        return best

    def fold(self, world_id: str, first: int, last: int, join: Callable[[Sequence[Part]], Part | None]) -> None:
        """Make one revision, `last`, of all from `first` to it: what they changed together, and no state between.

        `join` makes one XOR of several of the same tile, or None when they cancel out.
        """
        span = (tile_changes.c.world_id == world_id, tile_changes.c.number.between(first, last))
        rows_span = (entry_changes.c.world_id == world_id, entry_changes.c.number.between(first, last))
        about = (revisions.c.world_id == world_id, revisions.c.number.between(first, last))
        with self.engine.begin() as c:
            places = c.execute(
                select(tile_changes.c.tract_id, tile_changes.c.layer, tile_changes.c.tile_row, tile_changes.c.tile_col)
                .where(*span)
                .distinct()
            ).all()
            for place in places:
                own = (*span, *(tile_changes.c[name] == value for name, value in place._mapping.items()))
                diffs = [(r.row0, r.col0, r.blob) for r in c.execute(select(tile_changes).where(*own))]
                c.execute(delete(tile_changes).where(*own))
                together = join(diffs)
                if together is not None:
                    row0, col0, blob = together
                    c.execute(
                        tile_changes.insert(),
                        {"world_id": world_id, "number": last, **place._mapping, "row0": row0, "col0": col0,
                         "blob": blob},
                    )  # fmt: skip
            entries: dict[tuple[str, str], tuple[str | None, str | None]] = {}
            for r in c.execute(select(entry_changes).where(*rows_span).order_by(entry_changes.c.number)):
                before = entries[r.collection, r.key][0] if (r.collection, r.key) in entries else r.before
                entries[r.collection, r.key] = before, r.after
            c.execute(delete(entry_changes).where(*rows_span))
            left = [
                {"world_id": world_id, "number": last, "collection": k[0], "key": k[1], "before": b, "after": a}
                for k, (b, a) in entries.items()
                if b != a
            ]
            if left:
                c.execute(entry_changes.insert(), left)
            c.execute(delete(revisions).where(*about, revisions.c.number != last))
            words = f"Folded together: r{first} to r{last}"
            c.execute(
                update(revisions).where(*about).values(sort="edit", target=None, words=words, command='{"do": "fold"}')
            )
