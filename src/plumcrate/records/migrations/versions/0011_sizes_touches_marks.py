"""Sizes, touch-ups, marks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def _named(table: str, *more: "sa.Column[object]") -> None:
    op.create_table(
        table,
        sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True),
        sa.Column(
            "library_id", sa.BigInteger, sa.ForeignKey("libraries.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("name", sa.Text, nullable=False),
        sa.Column("settings", JSONB, nullable=False),
        *more,
        sa.Column("by", sa.Text, nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.func.now()),
        sa.UniqueConstraint("library_id", "name"),
    )


def upgrade() -> None:
    _named("sizes")
    _named(
        "marks",
        sa.Column("picture", sa.LargeBinary),
        sa.Column("sha256", sa.Text, nullable=False, server_default=""),
        sa.Column("width", sa.BigInteger, nullable=False, server_default="0"),
        sa.Column("height", sa.BigInteger, nullable=False, server_default="0"),
    )
    op.create_table(
        "asked_files",
        sa.Column(
            "file_id",
            sa.BigInteger,
            sa.ForeignKey("files.id", ondelete="CASCADE"),
            primary_key=True,
            autoincrement=False,
        ),
        sa.Column("day", sa.Date, nullable=False, server_default=sa.func.current_date()),
    )
    op.add_column("pictures", sa.Column("touches", JSONB))
    op.add_column("pictures", sa.Column("touched_by", sa.Text, nullable=False, server_default=""))
    op.add_column("pictures", sa.Column("touched_at", sa.DateTime(timezone=True)))
    op.add_column("pictures", sa.Column("focus", JSONB))
    op.add_column("files", sa.Column("shown_width", sa.BigInteger))
    op.add_column("files", sa.Column("shown_height", sa.BigInteger))
    op.add_column("files", sa.Column("size", sa.Text))
    op.add_column("files", sa.Column("slot", sa.Text, nullable=False, server_default=""))
    op.add_column("files", sa.Column("unwanted", sa.Boolean, nullable=False, server_default=sa.false()))
    op.create_index(
        "ix_files_size", "files", ["library_id", "size"], postgresql_where=sa.text("size IS NOT NULL")
    )


def downgrade() -> None:
    op.drop_index("ix_files_size", "files")
    for column in ("unwanted", "slot", "size", "shown_height", "shown_width"):
        op.drop_column("files", column)
    for column in ("focus", "touched_at", "touched_by", "touches"):
        op.drop_column("pictures", column)
    op.drop_table("asked_files")
    op.drop_table("marks")
    op.drop_table("sizes")
