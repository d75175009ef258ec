"""Coarser levels of the layers, which tracts have all of theirs, and edits that are being worked out"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("tracts", sa.Column("overviews", sa.Integer(), nullable=False, server_default="0"))
    op.create_table(
        "overviews",
        sa.Column("tract_id", sa.String(), nullable=False),
        sa.Column("layer", sa.String(), nullable=False),
        sa.Column("rule", sa.String(), nullable=False),
        sa.Column("level", sa.Integer(), nullable=False),
        sa.Column("tile_row", sa.Integer(), nullable=False),
        sa.Column("tile_col", sa.Integer(), nullable=False),
        sa.Column("blob", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["tract_id"], ["tracts.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("tract_id", "layer", "rule", "level", "tile_row", "tile_col"),
    )
    op.create_table(
        "staged",
        sa.Column("edit", sa.String(), nullable=False),
        sa.Column("tract_id", sa.String(), nullable=False),
        sa.Column("layer", sa.String(), nullable=False),
        sa.Column("tile_row", sa.Integer(), nullable=False),
        sa.Column("tile_col", sa.Integer(), nullable=False),
        sa.Column("lowest", sa.Float(), nullable=False),
        sa.Column("highest", sa.Float(), nullable=False),
        sa.Column("blob", sa.LargeBinary(), nullable=False),
        sa.Column("row0", sa.Integer(), nullable=False),
        sa.Column("col0", sa.Integer(), nullable=False),
        sa.Column("diff", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(["tract_id"], ["tracts.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("edit", "tract_id", "layer", "tile_row", "tile_col"),
    )


def downgrade() -> None:
    op.drop_table("staged")
    op.drop_table("overviews")
    op.drop_column("tracts", "overviews")
