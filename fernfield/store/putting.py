"""Writing a row in the place of one with the same key."""

from __future__ import annotations

from sqlalchemy import Table
from sqlalchemy.dialects.sqlite import Insert, insert


def put_into(table: Table) -> Insert:
    """A row into `table`, in the place of one with the same key. Built once: building costs more than running."""
    statement = insert(table)
    keys = [column.name for column in table.primary_key]
    others = {c.name: statement.excluded[c.name] for c in table.columns if c.name not in keys}
    return statement.on_conflict_do_update(index_elements=keys, set_=others)
