"""Allowances, messages to the outside, reports"""

from datetime import datetime

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def _library(*, key: bool = False) -> "sa.Column[int]":
    return sa.Column(
        "library_id",
        sa.BigInteger,
        sa.ForeignKey("libraries.id", ondelete="CASCADE"),
        nullable=False,
        primary_key=key,
    )


def _time(name: str, *, now: bool = False) -> "sa.Column[datetime]":
    return sa.Column(
        name, sa.DateTime(timezone=True), nullable=not now, server_default=sa.func.now() if now else None
    )


def _flag(name: str) -> "sa.Column[bool]":
    return sa.Column(name, sa.Boolean, nullable=False, server_default=sa.false())


def upgrade() -> None:
    for name in ("allowance", "report", "webhook"):
        op.add_column("libraries", sa.Column(name, JSONB, nullable=False, server_default="{}"))
    op.add_column("libraries", sa.Column("webhook_secret", sa.LargeBinary))
    op.add_column("libraries", _time("next_report_at"))
    op.create_table(
        "allowance_uses",
        _library(key=True),
        sa.Column("month", sa.Date, primary_key=True),
        sa.Column("file_id", sa.BigInteger, primary_key=True, autoincrement=False),
        sa.Column("pixels", sa.BigInteger, nullable=False),
        _flag("counted"),
        _time("at", now=True),
    )
    op.create_index(
        "ix_allowance_uses_open",
        "allowance_uses",
        ["library_id", "file_id"],
        postgresql_where=sa.text("NOT counted"),
    )
    op.create_table(
        "allowance_notices",
        _library(key=True),
        sa.Column("month", sa.Date, primary_key=True),
        sa.Column("mark", sa.Text, primary_key=True),
        _time("at", now=True),
    )
    op.create_table(
        "outgoing_messages",
        sa.Column("id", sa.BigInteger, sa.Identity(always=True), primary_key=True),
        _library(),
        sa.Column("mark", sa.Text, nullable=False, unique=True),
        sa.Column("type", sa.Text, nullable=False),
        sa.Column("data", JSONB, nullable=False),
        sa.Column("attempts", sa.BigInteger, nullable=False, server_default="0"),
        _time("created_at", now=True),
        _time("due_at", now=True),
        _time("sent_at"),
        _flag("given_up"),
        sa.Column("said", sa.Text),
    )
    op.create_index("ix_outgoing_messages_library_id_id", "outgoing_messages", ["library_id", "id"])
    op.create_index(
        "ix_outgoing_messages_due",
        "outgoing_messages",
        ["due_at"],
        postgresql_where=sa.text("sent_at IS NULL AND NOT given_up"),
    )
    op.create_table(
        "kept_reports",
        _library(key=True),
        sa.Column("month", sa.Text, primary_key=True),
        _time("made_at", now=True),
        sa.Column("pdf", sa.LargeBinary, nullable=False),
        sa.Column("csv", sa.LargeBinary, nullable=False),
    )
    op.add_column("run_items", _flag("admitted"))
    # What was begun before there were allowances goes to its end.
    op.execute(
        "UPDATE run_items SET admitted = true WHERE finished_at IS NULL"
        " AND (state <> 'waiting' OR attempts > 0 OR stage > 0)"
    )
    op.create_index(
        "ix_run_items_admitted",
        "run_items",
        ["run_id", "id"],
        postgresql_where=sa.text("state = 'waiting' AND admitted"),
    )


def downgrade() -> None:
    op.drop_index("ix_run_items_admitted", "run_items")
    op.drop_column("run_items", "admitted")
    for table in ("kept_reports", "outgoing_messages", "allowance_notices", "allowance_uses"):
        op.drop_table(table)
    for name in ("next_report_at", "webhook_secret", "webhook", "report", "allowance"):
        op.drop_column("libraries", name)
