"""What is done once, whatever is sent again: kept answers, uploads in pieces, the requests of messages"""

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
    op.create_table(
        "resumable_uploads",
        sa.Column("id", sa.Text, primary_key=True),
        sa.Column(
            "library_id",
            sa.BigInteger,
            sa.ForeignKey("libraries.id", ondelete="CASCADE"),
            nullable=False,
            index=True,
        ),
        sa.Column("path", sa.Text, nullable=False),
        sa.Column("length", sa.BigInteger, nullable=False),
        sa.Column("mode", sa.Text, nullable=False),
        sa.Column("sha256", sa.LargeBinary),
        sa.Column("by", sa.Text, nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("now()")),
        sa.Column("ended_at", sa.DateTime(timezone=True)),
        sa.Column("runs", JSONB, nullable=False, server_default="[]"),
    )
    op.add_column("outgoing_messages", sa.Column("trace", sa.Text))


def downgrade() -> None:
    op.drop_column("outgoing_messages", "trace")
    op.drop_table("resumable_uploads")
    op.drop_table("kept_answers")
