"""The backups that are being deleted are found without looking at all of them"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_index(
        "ix_backups_pruned", "backups", ["library_id"], postgresql_where=sa.text("pruned_at IS NOT NULL")
    )


def downgrade() -> None:
    op.drop_index("ix_backups_pruned", table_name="backups")
