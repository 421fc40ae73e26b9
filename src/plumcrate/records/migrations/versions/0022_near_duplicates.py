"""Pictures that show the same, and those that are answered with another"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def _of(table: str, name: str, **more: Any) -> sa.Column[int]:
    key = sa.ForeignKey(f"{table}.id", ondelete="CASCADE")
    return sa.Column(name, sa.BigInteger, key, nullable=False, **more)


def _number(name: str) -> sa.Column[int]:
    return sa.Column(name, sa.BigInteger, nullable=False)


def _flag(name: str) -> sa.Column[bool]:
    return sa.Column(name, sa.Boolean, nullable=False, server_default=sa.false())


def upgrade() -> None:
    op.create_table(
        "visual_hashes",
        _of("pictures", "picture_id", primary_key=True),
        _of("libraries", "library_id"),
        _number("width"),
        _number("height"),
        sa.Column("hash", sa.LargeBinary, nullable=False),
        sa.Column("content", sa.LargeBinary, nullable=False),
        _number("mtime_ns"),
        _number("size"),
        _flag("compared"),
        _flag("apart"),
        sa.Column("group_id", sa.BigInteger),
        sa.Column("match", JSONB),
    )
    op.create_index("ix_visual_hashes_group", "visual_hashes", ["library_id", "group_id"])
    op.create_table(
        "near_duplicate_pairs",
        _of("pictures", "first_id", primary_key=True),
        _of("pictures", "second_id", primary_key=True, index=True),
        _of("libraries", "library_id", index=True),
    )
    op.create_table(
        "redirects",
        _of("pictures", "picture_id", primary_key=True),
        _of("pictures", "to_id", index=True),
        _of("libraries", "library_id", index=True),
        sa.Column("by", sa.Text, nullable=False, server_default=""),
        sa.Column("created_at", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("now()")),
    )


def downgrade() -> None:
    for table in ("redirects", "near_duplicate_pairs", "visual_hashes"):
        op.drop_table(table)
