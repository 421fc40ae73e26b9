"""Workers say by what their bulk work is held back"""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("workers", sa.Column("held_back", sa.Text, nullable=True))


def downgrade() -> None:
    op.drop_column("workers", "held_back")
