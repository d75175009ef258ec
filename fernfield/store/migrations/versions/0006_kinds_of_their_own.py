"""Kinds of plants and stones are rows of their own: those that stood inside of a mix are put beside it"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

entries = sa.table(
    "entries",
    sa.column("world_id", sa.String),
    sa.column("collection", sa.String),
    sa.column("key", sa.String),
    sa.column("body", sa.Text),
)
FORMS = {"tree": "broadleaf", "boulder": "boulder"}


def _kind(old: dict) -> dict:
    blocks = float(old.get("blocks_m", 0))
    return {
        "_v": 1, "name": old["name"], "form": FORMS.get(old["form"], "bush"), "tall_m": old["tall_m"],
        "crown_m": old["crown_m"], "trunk_m": min(blocks, 20.0), "leans": 1.0 if old["habit"] == "leaning" else 0.0,
        "blocks": "trunk" if blocks > 0 else "nothing", "colour": old["colour"],
    }  # fmt: skip


def upgrade() -> None:
    c = op.get_bind()
    known = set()
    for world_id, body in c.execute(
        sa.select(entries.c.world_id, entries.c.body).where(entries.c.collection == "mixes").order_by(entries.c.key)
    ).all():
        try:
            kinds = [(kind["key"], _kind(kind)) for kind in json.loads(body)["kinds"]]
        except (ValueError, KeyError, TypeError):
            continue  # what cannot be read is set aside and named when the world is opened
        for key, kind in kinds:
            # A world of that time has one mix, so no key is there twice.
            if (world_id, key) not in known:
                known.add((world_id, key))
                row = {"world_id": world_id, "collection": "kinds", "key": key, "body": json.dumps(kind)}
                c.execute(entries.insert().values(row))


def downgrade() -> None:
    op.get_bind().execute(entries.delete().where(entries.c.collection == "kinds"))
