"""Renditions that are proposed for what pictures show"""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "proposed_renditions",
        sa.Column(
            "library_id", sa.BigInteger, sa.ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("path", sa.Text, primary_key=True),
        sa.Column("folder", sa.Text, nullable=False),
        sa.Column("original", sa.Text, nullable=False),
    )
    op.create_index("ix_proposed_renditions_folder", "proposed_renditions", ["library_id", "folder"])


def downgrade() -> None:
    op.drop_table("proposed_renditions")
