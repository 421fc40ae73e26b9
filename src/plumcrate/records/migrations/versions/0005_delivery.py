"""How a library's files are served"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("libraries", sa.Column("delivery", JSONB, server_default="{}", nullable=False))
    op.alter_column("libraries", "delivery", server_default=None)


def downgrade() -> None:
    op.drop_column("libraries", "delivery")
