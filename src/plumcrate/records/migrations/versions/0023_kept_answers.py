"""Answers to requests with an Idempotency-Key, and the requests that messages come from"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "kept_answers",
        sa.Column("actor", sa.Text, primary_key=True),
        sa.Column("key", sa.Text, primary_key=True),
        sa.Column("asked_sha256", sa.LargeBinary, nullable=False),
        sa.Column("status", sa.Integer, nullable=False),
        sa.Column("headers", JSONB, nullable=False),
        sa.Column("body", sa.LargeBinary, nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, index=True),
    )
    op.add_column("outgoing_messages", sa.Column("trace", sa.Text))


def downgrade() -> None:
    op.drop_column("outgoing_messages", "trace")
    op.drop_table("kept_answers")
