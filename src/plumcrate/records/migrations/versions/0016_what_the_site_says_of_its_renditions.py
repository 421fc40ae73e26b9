"""What the site says of its renditions: which file was made of which"""

import sqlalchemy as sa
from alembic import op

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "mapped_renditions",
        sa.Column(
            "library_id", sa.BigInteger, sa.ForeignKey("libraries.id", ondelete="CASCADE"), primary_key=True
        ),
        sa.Column("path", sa.Text, primary_key=True),
        sa.Column("folder", sa.Text, nullable=False),
        sa.Column("original", sa.Text, nullable=False),
        sa.Column("home", sa.Text, nullable=False),
        sa.Column("made_by", sa.Text, nullable=False, server_default=""),
    )
    op.create_index("ix_mapped_renditions_folder", "mapped_renditions", ["library_id", "folder"])
    op.create_index("ix_mapped_renditions_home", "mapped_renditions", ["library_id", "home"])


def downgrade() -> None:
    op.drop_table("mapped_renditions")
