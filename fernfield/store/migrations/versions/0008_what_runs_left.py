"""Where the bots of runs were"""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "run_tracks",
        sa.Column("world_id", sa.String, sa.ForeignKey("worlds.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("key", sa.String, primary_key=True),
        sa.Column("blob", sa.LargeBinary, nullable=False),
    )


def downgrade() -> None:
    op.drop_table("run_tracks")
