"""Shapes that people bring"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "models",
        sa.Column("world_id", sa.String, sa.ForeignKey("worlds.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("key", sa.String, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("triangles", sa.Integer, nullable=False),
        sa.Column("tall_m", sa.Float, nullable=False),
        sa.Column("wide_m", sa.Float, nullable=False),
        sa.Column("blob", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("models")
