"""Who made each revision, where people sign in"""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("revisions", sa.Column("by", sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    op.drop_column("revisions", "by")
