"""Edits of many tiles that are being worked out: their tiles stand aside, and become part of the world at once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from sqlalchemy import Connection, Engine, bindparam, delete, insert, literal, select

from fernfield.store.putting import put_into
from fernfield.store.rows import TileAt, TileChange
from fernfield.store.schema import staged, tile_changes, tiles

PLACE = ("tract_id", "layer", "tile_row", "tile_col")
PUT = put_into(staged)
DROP = delete(staged).where(*(staged.c[name] == bindparam(f"the_{name}") for name in ("edit", *PLACE)))
ONE = select(staged.c.blob).where(*(staged.c[name] == bindparam(f"the_{name}") for name in ("edit", *PLACE)))


class StagedStore:
    """Tiles that stand aside. Each method that writes is one transaction."""

    def __init__(self, engine: Engine) -> None:
        self.engine = engine

    def put(self, edit: str, changes: Sequence[TileChange], gone: Sequence[TileAt] = ()) -> None:
        """Put tiles aside for an edit, in the place of those that stood there; `gone` no longer differ."""
        with self.engine.begin() as c:
            if gone:
                c.execute(DROP, [_place(edit, at) for at in gone])
            if changes:
                c.execute(
                    PUT,
                    [
                        {"edit": edit, **asdict(change.at), **asdict(change.tile), "row0": change.row0,
                         "col0": change.col0, "diff": change.diff}
                        for change in changes
                    ],
                )  # fmt: skip

    def tile(self, edit: str, at: TileAt) -> bytes | None:
        with self.engine.connect().execution_options(reading=True) as c, c.begin():
            return c.execute(ONE, _place(edit, at)).scalar()

    def drop(self, edit: str | None) -> None:
        """Forget an edit, or all of them: what a killed process was working out."""
        with self.engine.begin() as c:
            c.execute(delete(staged) if edit is None else delete(staged).where(staged.c.edit == edit))


def _place(edit: str, at: TileAt) -> dict[str, object]:
    return {"the_edit": edit, **{f"the_{name}": value for name, value in asdict(at).items()}}


def settle(c: Connection, edit: str, world_id: str, number: int) -> None:
    """As part of a transaction: what was put aside becomes the world's, as a revision with this number."""
    own = staged.c.edit == edit
    about = [staged.c[name] for name in PLACE]
    now = ("lowest", "highest", "blob")
    put = insert(tiles).prefix_with("OR REPLACE")
    c.execute(put.from_select([*PLACE, *now], select(*about, *(staged.c[n] for n in now)).where(own)))
    diffs = select(literal(world_id), literal(number), *about, staged.c.row0, staged.c.col0, staged.c.diff).where(own)
    names = ["world_id", "number", *PLACE, "row0", "col0", "blob"]
    c.execute(insert(tile_changes).from_select(names, diffs))
    c.execute(delete(staged).where(own))
