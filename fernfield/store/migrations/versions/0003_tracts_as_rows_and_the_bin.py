"""Tracts are rows that can be renamed, moved and taken away; what stands in a tract says in which; a bin for worlds"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None

entries = sa.table(
    "entries",
    sa.column("world_id", sa.String),
    sa.column("collection", sa.String),
    sa.column("key", sa.String),
    sa.column("body", sa.Text),
)


def upgrade() -> None:
    op.add_column("worlds", sa.Column("binned_at", sa.String(), nullable=True))
    c = op.get_bind()
    first: dict[str, str] = {}
    for tract_id, world_id, position, name in c.execute(
        sa.text("SELECT id, world_id, position, name FROM tracts ORDER BY world_id, position")
    ).all():
        first.setdefault(world_id, tract_id)
        body = {"name": name, "position": position, "x": 0.0, "y": 0.0, "kind": "open"}
        row = {"world_id": world_id, "collection": "tracts", "key": tract_id, "body": json.dumps(body)}
        c.execute(entries.insert().values(row))
    placed = sa.select(entries).where(entries.c.collection.in_(("things", "plots", "lines")))
    for world_id, collection, key, body in c.execute(placed).all():
        told = json.dumps({**json.loads(body), "tract": first[world_id]})
        here = sa.and_(entries.c.world_id == world_id, entries.c.collection == collection, entries.c.key == key)
        c.execute(entries.update().where(here).values(body=told))


def downgrade() -> None:
    c = op.get_bind()
    c.execute(entries.delete().where(entries.c.collection.in_(("tracts", "joins", "icon"))))
    placed = sa.select(entries).where(entries.c.collection.in_(("things", "plots", "lines")))
    for world_id, collection, key, body in c.execute(placed).all():
        told = json.dumps({name: value for name, value in json.loads(body).items() if name != "tract"})
        here = sa.and_(entries.c.world_id == world_id, entries.c.collection == collection, entries.c.key == key)
        c.execute(entries.update().where(here).values(body=told))
    op.drop_column("worlds", "binned_at")
